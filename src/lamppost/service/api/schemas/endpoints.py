"""API schemas of endpoints: what they serve, and changing that."""

from __future__ import annotations

from datetime import datetime
from typing import Any

from pydantic import Field as Described

from lamppost.core.endpoint.setup import EndpointSetup
from lamppost.core.endpoint.states import EndpointState
from lamppost.core.schema.fields import Value
from lamppost.service.api.schemas.base import ApiModel, FieldAnswer, OverridableRequest
from lamppost.service.api.schemas.reviews import ReviewAnswer
from lamppost.service.api.schemas.rollouts import RolloutAnswer
from lamppost.service.monitoring.endpoint_summaries import LastHour, MonitoringSummary


class EndpointAnswer(ApiModel):
    """An endpoint in a list."""

    name: str
    state: EndpointState
    reasons: list[str] = Described(description="why it is degraded or down, or what opening waits for; else empty")
    version: str = Described(description="the one that stands for the endpoint, where several serve")
    versions: list[str]
    summary: str = Described(description="what it serves, in a few words", examples=["north@1 or south@2 by district"])
    since: datetime
    changed_by: str
    revision: int
    last_hour: LastHour
    monitoring: MonitoringSummary


class OverviewAnswer(ApiModel):
    """All endpoints in figures, and some of them. calls : in the last hour. alerts : open ones. found : how many the search finds.

    states : how many endpoints are in each state; states without endpoints are left out. down : names of the first that are down.
    """

    endpoints: int
    states: dict[EndpointState, int]
    down: list[str]
    calls: int
    alerts: int
    found: int
    shown: list[EndpointAnswer]


class RevisionAnswer(ApiModel):
    """A revision: what an endpoint served, and since when."""

    revision: int
    version: str
    summary: str
    setup: EndpointSetup
    since: datetime
    changed_by: str
    restores: int | None = Described(description="the earlier revision that it puts back")
    rollout: int | None = Described(description="the rollout that it is a step of")


class PointAnswer(ApiModel):
    """The result of pointing an endpoint at a version."""

    endpoint: str
    version: str
    before: str | None
    revision: int
    summary: str
    undo: str | None = Described(description="the command that takes it back")


class PointRequest(OverridableRequest):
    """The version that an endpoint is to serve."""

    version: str = Described(examples=["outage-risk@2"])


class SetupRequest(OverridableRequest):
    """The setup of an endpoint."""

    setup: EndpointSetup = Described(
        description="exactly one of version, shares, choose and together; shadows; look-ups; lenient; lane; rollout"
    )
    after: int | None = Described(
        default=None, ge=0, le=2**31 - 1, description="the revision that this was thought out against; refused if it is not in force"
    )


class RollbackRequest(ApiModel):
    """A rollback. note : the reason, for the trail."""

    note: str | None = Described(default=None, max_length=1_000)


class RollbackAnswer(ApiModel):
    """The result of a rollback. stored : false while the database does not have it yet; this node serves the restored revision already,
    other nodes follow.
    """

    endpoint: str
    version: str
    before: str
    revision: int
    stored: bool
    summary: str
    undo: str


class RollbackTargetAnswer(ApiModel):
    """The revision that a rollback would restore."""

    revision: int
    summary: str
    version: str
    since: datetime


class ApprovalsRequest(ApiModel):
    """How many approvals by others a version needs before it serves."""

    approvals: int = Described(ge=0, le=9)


class ShadowAnswer(ApiModel):
    """A shadow on this node. reason : why it is not open. left_out : copies that found no room in its queue."""

    version: str
    share: float
    open: bool
    reason: str | None
    answered: int
    failed: int
    left_out: int


class GoingLoadAnswer(ApiModel):
    """A load that goes on at an endpoint. Its calls are recorded, and count as no traffic."""

    name: str
    made_by: str
    ends_at: datetime


class EndpointDetailAnswer(EndpointAnswer):
    """An endpoint with everything that its page shows. example, json_schema : of a body with one row, options beside its fields.

    setup : as `PUT …/setup` takes it.
    """

    inputs: list[FieldAnswer]
    options: list[FieldAnswer]
    answers: list[FieldAnswer]
    example: dict[str, Value]
    json_schema: dict[str, Any]
    setup: EndpointSetup
    history: list[RevisionAnswer]
    approvals: int = Described(description="how many others must approve a version before it serves")
    back: RollbackTargetAnswer | None = Described(description="what going back would return to")
    rollout: RolloutAnswer | None = Described(description="the last one, whether it goes on or is over")
    load: GoingLoadAnswer | None
    shadows: list[ShadowAnswer]
    reviews: list[ReviewAnswer] = Described(description="open and approved ones")
