"""API schemas of outposts."""

from __future__ import annotations

from datetime import datetime
from typing import Annotated, Any, Literal

from pydantic import Field as Described

from lamppost.core.drift.window_verdict import WindowState
from lamppost.core.endpoint.outpost_rollout import OutpostRolloutPlan
from lamppost.core.endpoint.rollout_steering import RolloutState
from lamppost.service.api.schemas.base import ApiModel, OverridableRequest
from lamppost.service.api.schemas.drift import FeatureDriftAnswer
from lamppost.service.api.schemas.outcomes import OutcomesRequest
from lamppost.service.api.schemas.rollouts import GuardReadingAnswer

OutpostState = Literal["serving", "degraded", "down", "barred", "not joined"]


class OutpostRequest(ApiModel):
    """An outpost to be added."""

    name: str = Described(examples=["harbour-substation"])
    labels: list[str] = Described(default=[], examples=[["region=coast"]])
    payload_bytes_per_day: int | None = Described(
        default=None, ge=0, description="most bytes of inputs and answers that it sends in a day; without it, any"
    )
    may_report: list[str] = Described(
        default=[], max_length=1_000, description="endpoints of which it may bring records though it serves files of its own"
    )


class OutpostLabelsRequest(ApiModel):
    """Other labels of an outpost."""

    labels: list[str]


class OutpostVersionRequest(OverridableRequest):
    """What outposts are to serve for an endpoint; null ends it."""

    at: str = Described(description="name of an outpost, or a label", examples=["harbour-substation", "region=coast"])
    version: str | None = Described(examples=["outage-risk@6"])


class OutpostEndpointAnswer(ApiModel):
    """An endpoint at one outpost. wanted : the version that is to answer, or most calls. served : the version that does, null for none.
    rollout_percent : calls that the new version of a rollout has there, null out of its turn. refused : why it does not serve what it
    should.
    """

    endpoint: str
    at: str | None = Described(description="what the version was set for: its name, or one of its labels")
    wanted: str | None
    served: str | None
    rollout_percent: float | None
    state: str | None
    refused: str | None


class OutpostDriftAnswer(ApiModel):
    """The rows of one endpoint that an outpost answered within some hours, held against training. rows, odd : how many came, and how many
    of them look odd. state : null where the version was packed without a reference. figures : the watched figures, the most changed first.
    """

    endpoint: str
    version: str
    since: datetime
    rows: int
    odd: int
    state: WindowState | None
    summary: str
    figures: list[FeatureDriftAnswer]


class OutpostAnswer(ApiModel):
    """An outpost. reasons : why it is degraded or down. heard_at : when it last reported, null before it has joined.

    records_waiting : calls whose records have not come. records_at : time of the latest call whose record came.
    """

    name: str
    state: OutpostState
    reasons: list[str]
    labels: list[str]
    payload_bytes_per_day: int | None
    endpoints: list[OutpostEndpointAnswer]
    heard_at: datetime | None
    records_at: datetime | None
    records_waiting: int | None
    payloads_left_out: int | None = Described(description="calls of this day whose inputs and answers the budget did not allow")
    clock_ahead_s: float | None
    disk_free_bytes: int | None
    software: str | None = Described(description="version of Lamp Post that it runs")
    address: str | None = Described(description="where it answers, as it says")
    own_files: bool = Described(description="whether it serves lamp files of its own, and not what is set here")
    made_by: str
    made_at: datetime
    barred_at: datetime | None


class NewOutpostAnswer(ApiModel):
    """An outpost that was added. secret : of its token, shown this once. command : that starts it."""

    outpost: OutpostAnswer
    secret: str
    command: str


class OutpostRolloutRequest(OverridableRequest):
    """A rollout of a version over the outposts that serve what is set for a target, one after the other."""

    at: str = Described(description="name of an outpost, or a label", examples=["region=coast"])
    version: str = Described(examples=["outage-risk@6"])
    plan: OutpostRolloutPlan = Described(default_factory=OutpostRolloutPlan)


class OutpostTurnAnswer(ApiModel):
    """The turn of an outpost in a rollout. since, until : while it gave both versions calls, null before its turn and while it goes on.
    calls : that the old and the new version answered in this time, as far as their records came.
    """

    outpost: str
    state: Literal["waits", "has its turn", "done"]
    since: datetime | None
    until: datetime | None
    calls: list[int]


class OutpostRolloutAnswer(ApiModel):
    """A rollout over outposts and its progress. turns : of its outposts, in their order."""

    number: int
    endpoint: str
    target: str
    old: str
    new: str
    plan: OutpostRolloutPlan
    state: RolloutState
    reason: str
    readings: list[GuardReadingAnswer]
    turns: list[OutpostTurnAnswer]
    begun_by: str
    begun_at: datetime
    ended_at: datetime | None


class OutpostVersionAnswer(ApiModel):
    """What outposts are to serve for an endpoint now. outposts : those that it is meant for. undo : the command that takes it back."""

    endpoint: str
    at: str
    version: str | None
    before: str | None
    outposts: list[str]
    undo: str


class ServedAtOutpost(ApiModel):
    """What an outpost serves for an endpoint. version : that answers most calls. versions : all that answer."""

    version: str | None
    state: str
    versions: list[Annotated[str, Described(max_length=200)]] = Described(default=[], max_length=100)
    digest: Annotated[str | None, Described(pattern="^[0-9a-f]{64}$")] = Described(default=None, description="of a package of its own")


class RefusedAtOutpost(ApiModel):
    """A version that an outpost does not serve, and why."""

    version: str
    reason: str = Described(max_length=2_000)


class OutpostReportRequest(ApiModel):
    """What an outpost says of itself. known : digest of the state that it has. wait_s : how long it waits for another state."""

    instance: str = Described(max_length=100)
    known: str = Described(default="", max_length=64)
    wait_s: float = Described(default=0.0, ge=0, le=60)
    clock: datetime
    software: str = Described(max_length=100)
    address: str = Described(max_length=300)
    served: dict[str, ServedAtOutpost] = Described(max_length=10_000)
    refused: dict[str, RefusedAtOutpost] = Described(max_length=10_000)
    records_waiting: int = Described(ge=0)
    payloads_left_out: int = Described(ge=0)
    disk_free_bytes: int = Described(ge=0)
    own_files: bool = Described(default=False, description="whether it serves lamp files of its own, and not what is set here")
    sealed: bool = Described(default=False, description="whether it keeps its packages in cipher, and asks for its key")


class OutpostStateAnswer(ApiModel):
    """What an outpost is to have: endpoints, packages of versions, tokens by the hash of their secret, and its budget."""

    digest: str
    state: dict[str, Any]


class ChunkAnswer(ApiModel):
    """A chunk of a package."""

    sha256: str
    size_bytes: int


class OutcomesOfOutpostRequest(ApiModel):
    """Outcomes that were reported at an outpost. by : the token that reported them there."""

    endpoint: str = Described(max_length=200)
    by: str = Described(max_length=200)
    reported: OutcomesRequest


class StoredRecordsAnswer(ApiModel):
    """Records that were stored. lost : calls that the database could not hold."""

    lost: int
