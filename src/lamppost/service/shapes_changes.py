"""What the API gives and takes about changes: rollouts, reviews, the trail, the declared state."""

from __future__ import annotations

from datetime import datetime
from typing import Any, Literal

from pydantic import Field as Described

from lamppost.core.fields import Value
from lamppost.core.rollout import Plan, State
from lamppost.core.setup import Setup
from lamppost.core.shares import Sticky
from lamppost.service.shapes import EndpointShape, FieldShape, PastSplit, Shape


class Insisting(Shape):
    """What a change insists on. break_callers : go on although callers would be refused. override : an admin's reason to skip review."""

    break_callers: bool = False
    override: str | None = Described(default=None, max_length=1_000)


class Point(Insisting):
    """Which version an endpoint shall serve."""

    version: str = Described(examples=["outage-risk@2"])


class NewSetup(Insisting):
    """What an endpoint shall serve and how."""

    setup: Setup = Described(description="exactly one of version, shares, choose and together; shadows; look-ups; lenient; lane; rollout")
    after: int | None = Described(default=None, description="the revision that this was thought out against; refused if it is not in force")


class NewRollout(Insisting):
    """A rollout to a version. plan : null for the endpoint's own, or the usual one. sticky : what keeps a caller with its version."""

    version: str = Described(examples=["outage-risk@2"])
    plan: Plan | None = None
    sticky: Sticky | None = None


class GoBack(Shape):
    """Going back to what was served before. note : why, for the trail."""

    note: str | None = Described(default=None, max_length=1_000)


class WentBack(Shape):
    """What going back did. stored : false while the database has not taken it; this node serves it already, the others follow."""

    endpoint: str
    version: str
    before: str
    revision: int
    stored: bool
    says: str
    undo: str


class ReadingShape(Shape):
    """A guard now. value beside its limit; evidence from 0 to 1, where 1 takes the rollout back."""

    guard: str
    value: float | None
    limit: float
    evidence: float
    says: str


class RolloutShape(Shape):
    """A rollout and where it stands. step : index of the present one. calls : what old and new version answered at each step so far."""

    number: int
    endpoint: str
    old: str
    new: str
    plan: Plan
    sticky: Sticky | None
    step: int
    state: State
    why: str
    readings: list[ReadingShape]
    calls: list[list[int]]
    begun_by: str
    begun_at: datetime
    step_since: datetime
    ended_at: datetime | None


class ShadowShape(Shape):
    """A shadow on this node. why : it is not open. left_out : copies that found no room."""

    version: str
    share: float
    open: bool
    why: str | None
    answered: int
    failed: int
    left_out: int


class BackShape(Shape):
    """What going back would return to."""

    revision: int
    says: str
    version: str
    since: datetime


class Demand(Shape):
    """How many approvals by others a version needs before it serves."""

    approvals: int = Described(ge=0, le=9)


class NewReview(Shape):
    """A version that somebody wants an endpoint to serve."""

    endpoint: str
    version: str
    note: str = Described(min_length=1, max_length=4_000)


class NewVerdict(Shape):
    """What a reviewer says."""

    approves: bool
    reason: str = Described(min_length=1, max_length=4_000)


class VerdictShape(Shape):
    """What a reviewer said."""

    token: str
    approves: bool
    reason: str
    at: datetime


class ReviewShape(Shape):
    """A review. needed : approvals that the endpoint demands."""

    number: int
    endpoint: str
    version: str
    note: str
    asked_by: str
    asked_at: datetime
    state: Literal["open", "approved", "refused", "withdrawn"]
    needed: int
    verdicts: list[VerdictShape]


class EndpointPage(EndpointShape):
    """An endpoint with all that its page shows. example, json_schema : of a body with one row, options beside its fields.

    setup : as `PUT …/setup` takes it.
    """

    inputs: list[FieldShape]
    options: list[FieldShape]
    answers: list[FieldShape]
    example: dict[str, Value]
    json_schema: dict[str, Any]
    setup: Setup
    history: list[PastSplit]
    approvals: int = Described(description="how many others must approve a version before it serves")
    back: BackShape | None = Described(description="what going back would return to")
    rollout: RolloutShape | None = Described(description="the last one, whether it goes on or is over")
    shadows: list[ShadowShape]
    reviews: list[ReviewShape] = Described(description="open and approved ones")


class EntryShape(Shape):
    """One entry of the trail: who did what to which endpoint, model, version or token."""

    number: int
    at: datetime
    token: str
    address: str | None
    action: str
    subject: str
    before: Any
    after: Any
    note: str | None


class Document(Shape):
    """The state of endpoints, as values or as TOML. against : refused unless this is the fingerprint of the present state; null for any."""

    endpoints: dict[str, Any] | None = None
    toml: str | None = Described(default=None, max_length=1_000_000)
    against: str | None = None
    break_callers: bool = False
    override: str | None = None


class Stated(Shape):
    """The present state as a document, with its fingerprint."""

    endpoints: dict[str, Any]
    toml: str
    fingerprint: str


class DifferenceShape(Shape):
    """One key that would change; the key is empty for an endpoint that is new."""

    endpoint: str
    key: str
    before: Any
    after: Any
    says: str


class Planned(Shape):
    """What applying a document would change. left : endpoints that it does not name, and that stay as they are."""

    differences: list[DifferenceShape]
    fingerprint: str
    left: list[str]


class ModelShape(Shape):
    """Who answers for a model, and what it is for."""

    name: str
    owner: str | None
    purpose: str | None


class NewModel(Shape):
    """What to say about a model; null leaves it as it is."""

    owner: str | None = Described(default=None, max_length=200)
    purpose: str | None = Described(default=None, max_length=2_000)


class Retire(Shape):
    """undo : take it out of retirement."""

    undo: bool = False


class Replay(Shape):
    """On which rows two versions are compared: exactly one of proof, rows, and endpoint with its last calls."""

    before: str = Described(examples=["outage-risk@1"])
    after: str = Described(examples=["outage-risk@2"])
    endpoint: str | None = None
    last: int = Described(default=500, ge=1, le=5_000)
    proof: bool = False
    rows: list[dict[str, Any]] | None = Described(default=None, max_length=10_000)
    tolerance: float = Described(default=0.1, ge=0, description="standard deviations that two numbers may lie apart and agree")


class FlipShape(Shape):
    """So many answers were one label and are another."""

    before: str
    after: str
    rows: int


class SliceShape(Shape):
    """Rows in which a field has a value, and how many of them agree."""

    field: str
    value: str
    rows: int
    agree: int


class ApartShape(Shape):
    """A row on which two versions differ, with both answers."""

    distance: float
    row: dict[str, Any]
    before: dict[str, Any]
    after: dict[str, Any]


class AgreementShape(Shape):
    """How far two versions agree. on : which rows. mean, p95, most : of the difference of a number, or of the label's score.

    refused : rows that one of them does not take, which are left out. before_ms, after_ms : for all rows in batches of 64.
    """

    before: str
    after: str
    on: str
    by: str
    rows: int
    agree: int
    refused: int
    flips: list[FlipShape]
    mean: float | None
    p95: float | None
    most: float | None
    scale: float | None
    slices: list[SliceShape]
    worst: list[ApartShape]
    before_ms: float
    after_ms: float
    says: str
