"""What the API takes and gives about watching: windows, load, outcomes, alerts, channels."""

from __future__ import annotations

from datetime import datetime
from typing import Annotated, Any, Literal
from uuid import UUID

from pydantic import Field as Described
from pydantic import JsonValue

from lamppost.service.shapes import Shape

WindowState = Literal["steady", "shifting", "drifted", "too few"]
Text = Annotated[str, Described(min_length=1, max_length=200)]


class WindowShape(Shape):
    """A judged window; ``over`` is false while more rows may come. odd : rows of it that are odder than training's own."""

    version: str
    at: datetime
    until: datetime
    over: bool
    rows: int
    odd: int
    state: WindowState
    says: str


class FindingShape(Shape):
    """One way in which a figure differs. p : the chance of as much in an unchanged stream. size : sd, or parts of rows."""

    what: Literal["location", "spread", "shape", "missing", "outside", "unseen", "correlation"]
    p: float
    size: float
    signed: float
    before: float | None
    after: float | None


class FigureShape(Shape):
    """One watched figure of a window."""

    name: str
    state: WindowState
    says: str
    rows: int
    findings: list[FindingShape]


class PairShape(Shape):
    """Two numbers whose correlation was ``before`` and is ``after``."""

    one: str
    other: str
    state: WindowState
    p: float
    before: float
    after: float


class SliceOfChange(Shape):
    """Where a change sits. part : of the whole change. before, after : mean, or part of rows, in training and now."""

    by: str
    value: str
    rows: int
    before: float
    after: float
    part: float


class FieldReason(Shape):
    """Why of one figure. explains : the part of the change in the answers that it accounts for, null where that cannot be told."""

    name: str
    state: WindowState
    says: str
    slices: list[SliceOfChange]
    new: list[str] = Described(description="new words of a text, with the part of rows that have them")
    explains: float | None


class MovedAnswer(Shape):
    """How far an answer moved: a number by so much, a label by so many parts of rows."""

    value: str | None
    by: float


class MovedAnswers(Shape):
    """The main answer and what moved of it."""

    answer: str
    moved: list[MovedAnswer]


class ChangeThen(Shape):
    """What else changed at that time."""

    at: datetime
    says: str


class CallerThen(Shape):
    """A caller whose part of the calls changed at that time."""

    token: str
    before: float
    after: float
    says: str


class Reason(Shape):
    """Why a window is not steady, as far as can be found out. rows : recorded rows that were looked at."""

    since: datetime
    says: str
    rows: int
    fields: list[FieldReason]
    answers: MovedAnswers | None
    changes: list[ChangeThen]
    callers: list[CallerThen]


class DriftPage(Shape):
    """How an endpoint's rows and answers look against training: the newest window, its figures and reasons, and the windows before.

    window : null where nothing was counted yet. pooled : windows that were looked at together for the verdict.
    against : ``training``, or the start of the earlier window that it is held against.
    """

    endpoint: str
    version: str
    says: str
    state: WindowState | None
    against: str
    window: WindowShape | None
    pooled: int
    figures: list[FigureShape]
    pairs: list[PairShape]
    why: Reason | None
    windows: list[WindowShape]
    watched: bool = Described(description="false for a package that carries nothing to hold rows against")


class CellsPage(Shape):
    """One figure, reference and window cell by cell, as parts of the rows that have a value. history : over the windows before."""

    name: str
    numbers: bool
    edges: list[float]
    range: list[float] | None
    choices: list[str]
    reference: list[float]
    window: list[float]
    reference_rows: int
    window_rows: int
    reference_missing: float
    window_missing: float | None
    history: list[CellsThen]


class CellsThen(Shape):
    """A figure in one window: its size by the leading finding, 0 where it is as in training."""

    at: datetime
    state: WindowState
    size: float
    says: str


class Percentiles(Shape):
    """Milliseconds, or rows, of answered calls; null when there were none."""

    p50: float | None
    p90: float | None
    p95: float | None
    p99: float | None


class Moment(Shape):
    """A step of time. rate : calls a second."""

    at: datetime
    calls: int
    refused: int
    failed: int
    rows: int
    rate: float
    p50: float | None
    p90: float | None
    p95: float | None
    p99: float | None
    versions: dict[str, int]


class PhaseShape(Shape):
    """Where the time goes."""

    phase: str
    calls: int
    ms: Percentiles


class BudgetShape(Shape):
    """An error budget: what is promised, what was bad, how much of the budget is spent, and how many times too fast it burns."""

    name: Literal["available", "fast"]
    objective: float
    calls: int
    bad: int
    spent: float
    burn: float


class LanesThen(Shape):
    """The lanes behind an endpoint at one time: workers, waiting rows, megabytes."""

    at: datetime
    copies: int
    waiting: int
    memory_mb: float


class ChangeTick(Shape):
    """What was served otherwise from then on."""

    at: datetime
    says: str
    by: str


class TrafficPage(Shape):
    """The load of an endpoint over a span."""

    endpoint: str
    since: datetime
    until: datetime
    step_s: int
    says: str
    moments: list[Moment]
    phases: list[PhaseShape]
    batch_rows: Percentiles
    statuses: dict[str, int]
    lanes: list[LanesThen]
    changes: list[ChangeTick]
    budgets: list[BudgetShape]


class OutcomeTold(Shape):
    """The truth about one answer: by the id of its call and the row in it, or by a key."""

    truth: JsonValue
    request_id: UUID | None = None
    row: int = Described(default=0, ge=0, le=1_000_000)
    key: str | int | None = None


class OutcomesTold(Shape):
    """Outcomes. key : the input field whose value tells which answer is meant; the latest answer of the span that had it.

    since, until : that span, by default the last 30 days.
    """

    outcomes: list[OutcomeTold] = Described(min_length=1, max_length=10_000)
    key: str | None = Described(default=None, max_length=200)
    since: datetime | None = None
    until: datetime | None = None


class OutcomesTaken(Shape):
    """new : stored or changed. known : that belong to an answer. unknown : places in the list of those that belong to none."""

    new: int
    known: int
    unknown: list[int]
    says: str


class QualityFigure(Shape):
    """A figure with its 95 % interval, from so many rows."""

    value: float
    low: float | None
    high: float | None
    of: int


class LabelQuality(Shape):
    """One label. true : rows whose truth it is."""

    label: str
    precision: QualityFigure | None
    recall: QualityFigure | None
    true: int


class CalibrationBin(Shape):
    """Scores of one tenth: what they said on average, and how often it came."""

    expected: float
    came: QualityFigure


class Calibration(Shape):
    """error : mean distance of the two, weighted by rows (expected calibration error). brier : mean squared error of scores."""

    error: float
    brier: float
    bins: list[CalibrationBin]


class QualitySlice(Shape):
    """Accuracy, or absolute error, where a choice has one value."""

    by: str
    value: str
    figure: QualityFigure


class QualityThen(Shape):
    """Accuracy, or absolute error, of answers given at a time."""

    at: datetime
    figure: QualityFigure | None


class VersionQuality(Shape):
    """The quality of one version. known, answered : rows whose truth is told, of those that were answered. late_s : median of how late."""

    version: str
    shadow: bool
    answer: str
    kind: Literal["labels", "numbers"]
    known: int
    answered: int
    late_s: float
    accuracy: QualityFigure | None = None
    labels: list[LabelQuality]
    calibration: Calibration | None = None
    absolute_error: QualityFigure | None = None
    root_mean_square: float | None = None
    bias: QualityFigure | None = None
    near: QualityFigure | None = Described(default=None, description="within a tenth of the answer's spread in training")
    slices: list[QualitySlice]
    over_time: list[QualityThen]


class QualityPage(Shape):
    """How good answers were, as far as the truth is known."""

    endpoint: str
    since: datetime
    until: datetime
    says: str
    versions: list[VersionQuality]


class BroughtCall(Shape):
    """A call that was answered elsewhere, or is made up. input, answer : as a request and an answer of this service have them."""

    at: datetime
    version: Text
    input: JsonValue
    answer: JsonValue
    status: int = Described(default=200, ge=200, le=599)
    total_us: int = Described(default=0, ge=0, le=2_000_000_000)
    phases_us: dict[str, int] = Described(default_factory=dict)
    token: str | None = Described(default=None, max_length=200)


class BroughtCalls(Shape):
    """Calls to an endpoint. source : where they come from, shown with each. batch : an id under which they are stored once only."""

    source: Text
    batch: UUID
    calls: list[BroughtCall] = Described(min_length=1, max_length=5_000)


class Brought(Shape):
    """Their request ids, in their order."""

    request_ids: list[UUID]


class AlertShape(Shape):
    """An alert. sure : how sure it is. why : the probable reason. next : the command to look further."""

    number: int
    endpoint: str
    rule: str
    state: Literal["firing", "acknowledged", "resolved"]
    cause: str
    since: datetime
    seen_at: datetime
    resolved_at: datetime | None
    says: str
    sure: str
    why: str | None
    acknowledged_by: str | None
    note: str | None
    next: str


class Acknowledge(Shape):
    """note : what is being done about it."""

    note: str | None = Described(default=None, max_length=1_000)


class MuteWanted(Shape):
    """minutes : for how long nothing goes out; 0 ends a mute."""

    minutes: float = Described(ge=0, le=43_200)
    note: str | None = Described(default=None, max_length=1_000)


class MuteShape(Shape):
    """Nothing goes out about an endpoint until then."""

    endpoint: str
    until: datetime
    muted_by: str
    note: str | None


class NewChannel(Shape):
    """Where notices go. target : a URL, or an address of mail. endpoints : null for all."""

    kind: Literal["webhook", "mail"]
    target: str = Described(min_length=3, max_length=1_000)
    endpoints: list[str] | None = None
    reports: Literal["none", "daily", "weekly"] = "none"


class ChannelShape(Shape):
    """A channel. secret : what webhooks are signed with; told once, when it is made."""

    name: str
    kind: Literal["webhook", "mail"]
    target: str
    endpoints: list[str] | None
    reports: Literal["none", "daily", "weekly"]
    made_by: str
    secret: str | None = None


class NoticeShape(Shape):
    """A notice and how it fared."""

    id: UUID
    channel: str
    made_at: datetime
    tries: int
    done_at: datetime | None
    given_up: bool
    error: str | None
    body: dict[str, Any]


CellsPage.model_rebuild()
