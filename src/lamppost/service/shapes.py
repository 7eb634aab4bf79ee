"""What the API gives and takes, as Pydantic models; the OpenAPI document and the console's types come from these."""

from __future__ import annotations

from collections.abc import Iterable
from datetime import datetime
from typing import Any, Literal
from uuid import UUID

from pydantic import AwareDatetime, BaseModel, ConfigDict
from pydantic import Field as Described

from lamppost.core.difference import Part
from lamppost.core.fields import Field, Kind, Value
from lamppost.core.manifest import Story
from lamppost.core.reference import Profile
from lamppost.core.roles import Role
from lamppost.core.setup import Setup
from lamppost.service.routes import State


class Shape(BaseModel):
    """Root of all shapes."""

    model_config = ConfigDict(extra="forbid")


class FieldShape(Shape):
    """One field of a schema; ``wanted`` says in words what a value must be."""

    name: str
    kind: Kind
    unit: str | None
    low: float | None
    high: float | None
    seen: list[float] | None
    choices: list[str]
    unseen: Literal["refuse", "accept"]
    missing: bool
    default: Value
    example: Value
    meaning: str | None
    private: bool = Described(description="kept out of records and messages")
    shape: list[int] = Described(description="lengths of a tensor's axes, 0 for any length")
    elements: Literal["number", "integer"]
    size: list[int] | None = Described(description="width and height of an image in pixels")
    channels: int
    wanted: str

    @classmethod
    def of(cls, field: Field) -> FieldShape:
        """The shape of a core field."""
        return cls(
            name=field.name,
            kind=field.kind,
            unit=field.unit,
            low=field.low,
            high=field.high,
            seen=None if field.seen is None else list(field.seen),
            choices=list(field.choices),
            unseen=field.unseen,
            missing=field.missing,
            default=field.default,
            example=field.example,
            meaning=field.meaning,
            private=field.private,
            shape=list(field.shape),
            elements=field.elements,
            size=None if field.size is None else list(field.size),
            channels=field.channels,
            wanted=field.wanted(),
        )


def field_shapes(schema: Iterable[Field]) -> list[FieldShape]:
    """The shapes of all fields, in order."""
    return [FieldShape.of(field) for field in schema]


class Hour(Shape):
    """The last hour of an endpoint; milliseconds are of answered calls, null when there were none."""

    calls: int = 0
    refused: int = Described(default=0, description="calls answered with a status from 400 to 499")
    failed: int = Described(default=0, description="calls answered with a status of 500 or more")
    p50_ms: float | None = None
    p95_ms: float | None = None
    p99_ms: float | None = None


class Known(Shape):
    """Right answers among those of the last 30 days whose truth is known, with a 95 % interval."""

    right: int
    of: int
    low: float
    high: float


class Looks(Shape):
    """How an endpoint looks against training by its newest judged window, what is known of its answers, and what is wrong.

    drift : null where nothing was judged yet. alerts : open ones. muted : until when nothing goes out.
    """

    drift: Literal["steady", "shifting", "drifted", "too few"] | None = None
    drift_says: str | None = None
    drift_until: datetime | None = None
    quality: Known | None = None
    alerts: int = 0
    alert_says: str | None = None
    muted: datetime | None = None


class EndpointShape(Shape):
    """An endpoint at a glance."""

    name: str
    state: State
    why: str | None = Described(description="why it is not lit")
    version: str = Described(description="the one that stands for the endpoint, where several serve")
    versions: list[str]
    says: str = Described(description="what it serves, in a few words", examples=["north@1 or south@2 by district"])
    since: datetime
    changed_by: str
    revision: int
    hour: Hour
    looks: Looks


class Overview(Shape):
    """All endpoints in figures, and some of them. calls : in the last hour. alerts : open ones. found : how many the search finds.

    flickering : whose workers are being replaced. outs : how many cannot answer; out : the names of the first of those.
    """

    endpoints: int
    flickering: int
    outs: int
    out: list[str]
    calls: int
    alerts: int
    found: int
    shown: list[EndpointShape]


class PastSplit(Shape):
    """What an endpoint served from a time on."""

    revision: int
    version: str
    says: str
    setup: Setup
    since: datetime
    changed_by: str
    restores: int | None = Described(description="the earlier revision that it puts back")
    rollout: int | None = Described(description="the rollout that it is a step of")


class Pointed(Shape):
    """What pointing changed."""

    endpoint: str
    version: str
    before: str | None
    revision: int
    says: str
    undo: str | None = Described(description="the command that takes it back")


class MeasuredShape(Shape):
    """What the first opening of a version measured on the node that did it; see `lamppost.core.measured`."""

    open_s: float
    memory_bytes: int
    row_ms: float = Described(description="milliseconds there and back for one row")
    batch_ms: float = Described(description="milliseconds there and back for 64 rows together")


class VersionShape(Shape):
    """A version at a glance. measured : null until it was first opened."""

    name: str
    model: str
    number: int
    digest: str
    size_bytes: int
    pushed_by: str
    pushed_at: datetime
    proof: Literal["not yet", "passed", "failed"]
    proof_says: str | None
    serves: list[str]
    tags: dict[str, str]
    metrics: dict[str, float]
    measured: MeasuredShape | None
    retired_at: datetime | None


class FileShape(Shape):
    """One file of a package."""

    path: str
    size_bytes: int
    sha256: str


class VersionPage(VersionShape):
    """A version with what is in it. steps : each in one line. reference : what training looked like, null in packages without one."""

    inputs: list[FieldShape]
    options: list[FieldShape]
    answers: list[FieldShape]
    steps: list[str]
    story: Story
    formats: list[str] = Described(description="what runs code when it is opened")
    signers: list[str] = Described(description="public keys that signed the package, Ed25519, base64")
    proof_rows: int
    served: list[str] = Described(description="endpoints that it ever served")
    owner: str | None
    purpose: str | None
    files: list[FileShape]
    reference_rows: int | None
    reference_inputs: list[Profile]
    reference_answers: list[Profile]


class Said(Shape):
    """What a version says to some rows."""

    version: str
    answers: list[dict[str, Any]]
    took_ms: float


class ChangeShape(Shape):
    """One thing that is not the same in two versions. breaks : whether a caller that was fine before may fail now."""

    part: Part
    says: str
    breaks: bool


class Comparison(Shape):
    """Two versions, and all that changed from one to the other."""

    before: VersionPage
    after: VersionPage
    breaks: bool
    changes: list[ChangeShape]


class Pushed(Shape):
    """What a push made. new : false when the same package had been pushed before."""

    version: str
    digest: str
    new: bool


class CallShape(Shape):
    """One recorded call. phases_us : microseconds by phase. odd : its oddness, where it was looked at (at 3, one row of a thousand is
    as odd by chance); odd_why where that is more than training's own rows. brought_by : who brought in a call that was answered elsewhere.
    trace : id of the trace that it belongs to.
    """

    at: datetime
    request_id: UUID
    endpoint: str
    version: str | None
    token: str | None
    status: int
    rows: int
    batch_rows: int | None
    total_us: int
    phases_us: dict[str, int]
    input: Any
    answer: Any
    odd: float | None = None
    odd_why: str | None = None
    brought_by: str | None = None
    trace: str | None = None


class CallPage(CallShape):
    """One call with what shadows answered to it, each under its own version."""

    shadows: list[CallShape]


class SignIn(Shape):
    """How a browser signs in: with a token, or with the secret of a one-time link."""

    token: str | None = Described(default=None, max_length=500)
    link: str | None = Described(default=None, max_length=500)


class Link(Shape):
    """An address that signs a browser in, once; its secret stands after the #, so that it is in no log."""

    link: str


class Session(Shape):
    """Who is signed in."""

    token: str
    role: Role


class NewToken(Shape):
    """A token to be made. endpoints : for a caller, the only ones it may ask; null for all."""

    name: str
    role: Role
    endpoints: list[str] | None = None
    expires_at: AwareDatetime | None = Described(default=None, description="when it ends by itself; null for never")
    rate_per_s: float | None = Described(default=None, gt=0, le=1e6, description="requests a second on each node; null for any number")


class MadeToken(NewToken):
    """A token that was made; the secret is shown this once."""

    secret: str


class TokenShape(NewToken):
    """A token as it may be shown."""

    made_at: datetime
    made_by: str | None
    revoked_at: datetime | None
    last_used_at: datetime | None = Described(description="within ten seconds; null until it was used")


class BatchSize(Shape):
    """How often a batch had more than half of so many rows, and at most so many."""

    rows: int
    batches: int


class CopyCount(Shape):
    """How many copies there were, from so many seconds ago on."""

    seconds_ago: float
    copies: int


class LaneShape(Shape):
    """A version that is open on this node. pids : of the workers that it is open in; shared : whether others sit in them too."""

    version: str
    endpoints: list[str]
    state: Literal["opening", "lit", "restarting", "out", "closed"]
    why: str | None
    copies: int
    copies_most: int
    pids: list[int]
    shared: bool
    waiting: int = Described(description="requests in its queue")
    waiting_rows: int
    max_rows: int = Described(description="rows that a batch may have now")
    target_ms: float | None
    rows_s: float = Described(description="rows a second while it worked, of late; 0 where it was idle")
    memory_bytes: int = Described(description="what it adds to a shared worker, or all that its own worker holds")
    keep_warm: bool
    requests: int = Described(description="since it was opened")
    used_s_ago: float
    batches: list[BatchSize]
    copies_past: list[CopyCount]


class LanesShape(Shape):
    """What is open on this node, against what it may hold. asleep : endpoints that are opened with their next request."""

    memory_bytes: int
    budget_bytes: int
    workers: int
    asleep: int
    open: int = Described(description="how many lanes are open, of which those in ``lanes`` are the busiest")
    lanes: list[LaneShape]


class NodeShape(Shape):
    """This node. records_waiting : calls not in the database yet. records_dropped : lost, because neither disk nor database took them.

    spool_bytes, spool_most_bytes : what waiting records take on disk, and may take. payloads_given_up, calls_given_up : calls that
    the spool's bound has cost their inputs and answers, and all but their counts.
    """

    version: str
    records_waiting: int
    records_dropped: int
    spool_bytes: int
    spool_most_bytes: int
    payloads_given_up: int
    calls_given_up: int
    formats: list[str]


class Problem(BaseModel):
    """An error as RFC 9457 has it; InvalidRows adds ``faults``, each with row, field, given, expected, hint, and an ``example``."""

    model_config = ConfigDict(extra="allow")

    type: str = Described(examples=["urn:lamppost:invalid-rows"])
    title: str
    status: int
    detail: str
