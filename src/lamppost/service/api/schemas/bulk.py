"""API schemas of bulk runs and uploads."""

from __future__ import annotations

from datetime import datetime
from typing import Any
from uuid import UUID

from pydantic import Field as Described

from lamppost.core.bulk.order import MOST_QUESTIONS, USUAL_MOST_REJECTS, BulkOrder, Format, read_order
from lamppost.core.drift.window_verdict import WindowState
from lamppost.service.api.schemas.base import ApiModel, Text
from lamppost.store.bulk.bulk_runs import RunState


class QuestionRequest(ApiModel):
    """One set of answers. of : an endpoint, or a version such as ``outage-risk@2``. name : begins its columns, where there are several."""

    of: Text
    name: str = Described(default="", max_length=63)
    options: dict[str, Any] = Described(default_factory=dict)


class RunReportRequest(ApiModel):
    """A report about the finished run. to : mail channels. where : conditions on the rows that it lists, ``label = fails``.

    sort : columns, ``-scores.fails`` for the largest first. rows : how many are listed. text : a template of its first paragraph (Jinja)
    with ``endpoint``, ``run``, ``source``, ``rows``, ``answered``, ``rejects``, ``answers``, ``answers_before``, ``run_before``, ``chosen``
    and ``date``; left out, the usual one.
    """

    to: list[str] = Described(default_factory=list, max_length=20)
    where: list[str] = Described(default_factory=list, max_length=20)
    sort: list[str] = Described(default_factory=list, max_length=10)
    rows: int = Described(default=20, ge=0, le=200)
    text: str | None = Described(default=None, max_length=10_000)


class ReasonTermsRequest(ApiModel):
    """Reasons of each answer as further columns. fields : how many. rows : most rows that are asked for them, for each row."""

    fields: int = Described(default=3, ge=1, le=20)
    rows: int = Described(default=64, ge=1, le=2_000)


class BulkOrderRequest(ApiModel):
    """What to score, and where to.

    source : ``folder:path``, ``source:table``, ``source:SELECT …``, a URL, or ``upload:id``. target : ``folder:path``, ``target:table``,
    or a URL; left out, the service keeps the output for ``GET …/output``. columns : by field, its column. most_rejects : a share.
    on : a cluster that answers, by its name or the address of its scheduler; left out, the node itself.
    """

    questions: list[QuestionRequest] = Described(min_length=1, max_length=MOST_QUESTIONS)
    source: str = Described(min_length=1, max_length=20_000)
    target: str | None = Described(default=None, max_length=2_000)
    source_format: Format | None = None
    target_format: Format | None = None
    delimiter: str = Described(default=",", min_length=1, max_length=1)
    sheet: str | None = Described(default=None, max_length=200)
    columns: dict[str, str] = Described(default_factory=dict)
    keep: list[str] = Described(default_factory=list, max_length=2_000)
    most_rejects: float = Described(default=USUAL_MOST_REJECTS, ge=0, le=1)
    rows_per_second: float | None = Described(default=None, gt=0)
    replace: bool = False
    key: list[str] = Described(default_factory=list, max_length=20)
    report: RunReportRequest | None = None
    reasons: ReasonTermsRequest | None = None
    on: str | None = Described(default=None, max_length=300)

    def to_order(self) -> BulkOrder:
        """The order; raise BadRequest for one that contradicts itself."""
        return read_order(self.model_dump(include=set(BulkOrderRequest.model_fields)))


class BulkStartRequest(BulkOrderRequest):
    """name : of the run; left out, the next free one."""

    name: str | None = Described(default=None, max_length=63)


class BulkCheckRequest(BulkOrderRequest):
    """rows : how many of the source's first rows are wanted."""

    rows: int = Described(default=5, ge=0, le=100)


class MatchedColumnsAnswer(ApiModel):
    """columns : by field, its column. defaults : fields that no column holds, and that have a default or may be missing."""

    columns: dict[str, str]
    defaults: list[str]


class BulkCheckAnswer(ApiModel):
    """What a run would read and write. matches : for each question. unused : columns that do nothing. first : rows as text.

    reason_rows : how many rows are asked for the reasons of each row, beside the row itself; None where no reasons are wanted.
    """

    columns: list[str]
    rows: int | None
    matches: list[MatchedColumnsAnswer]
    unused: list[str]
    output: list[str]
    first: list[dict[str, Any]]
    reason_rows: int | None


class BulkResultAnswer(ApiModel):
    """Where the output is. path, format, size_bytes : of a file; fetchable : whether ``GET …/output`` gives it. rejects : their file."""

    path: str | None = None
    table: str | None = None
    format: Format | None = None
    size_bytes: int | None = None
    rejects: str | None = None
    fetchable: bool = False
    rejects_fetchable: bool = False


class SentReportAnswer(ApiModel):
    """Whether the report of a run has gone out. fault : why it has not; it is tried again for a day."""

    to: list[str]
    sent_at: datetime | None
    fault: str | None


class BulkRunAnswer(ApiModel):
    """A run and how far it is.

    rows : that were read, rejected ones too. row_total : None while nobody knows. rows_per_second : of late, or of the whole run.
    seconds_left : None where that cannot be told. versions : all that answer, fixed at the start.
    """

    name: str
    number: int
    state: RunState
    reason: str | None
    questions: list[QuestionRequest]
    versions: list[str]
    source: str
    target: str | None
    node: str
    made_by: str
    made_at: datetime
    started_at: datetime | None
    ended_at: datetime | None
    rows: int
    rejects: int
    row_total: int | None
    rows_per_second: float | None
    seconds_left: float | None
    most_rejects: float
    busy_s: float
    digest: str | None
    result: BulkResultAnswer | None
    report: SentReportAnswer | None


class ChangedFieldAnswer(ApiModel):
    """A watched field that is not steady, and in a few words how it has changed."""

    name: str
    state: WindowState
    summary: str


class QuestionDriftAnswer(ApiModel):
    """How the rows of a run differ. against : training, or the name of another run."""

    version: str
    against: str
    state: WindowState
    summary: str
    fields: list[ChangedFieldAnswer]


class AnswerSpreadAnswer(ApiModel):
    """How an answer that is a number is spread over the rows of a run, beside training: parts of the rows in each bin.

    edges : upper ends of all bins but the last. quantiles : by their percentage, ``"50"`` for the median.
    """

    name: str
    version: str
    edges: list[float]
    range: list[float]
    reference: list[float]
    window: list[float]
    quantiles: dict[str, float]


class BulkRunDetailAnswer(BulkRunAnswer):
    """answers : by column, how often each label was given. before : the run that it is compared with. first_rejects : some of them."""

    answers: dict[str, dict[str, int]]
    answers_before: dict[str, dict[str, int]] | None
    before: str | None
    drift: list[QuestionDriftAnswer]
    spreads: list[AnswerSpreadAnswer]
    keep: list[str]
    columns: dict[str, str]
    first_rejects: list[dict[str, Any]]


class BulkResumeRequest(ApiModel):
    """most_rejects : another bound than the run had."""

    most_rejects: float | None = Described(default=None, ge=0, le=1)


class BulkRepeatRequest(ApiModel):
    """source, target : instead of those of the run. replace : whether a target that exists is replaced."""

    source: str | None = Described(default=None, max_length=20_000)
    target: str | None = Described(default=None, max_length=2_000)
    replace: bool | None = None
    name: str | None = Described(default=None, max_length=63)


class UploadRequest(ApiModel):
    """file_name : says the format, ``lamps.csv.gz``."""

    file_name: str = Described(min_length=1, max_length=200)


class UploadAnswer(ApiModel):
    """source : how an order names it. size_bytes : how much of it is there."""

    id: UUID
    source: str
    file_name: str
    node: str
    size_bytes: int


class BulkPlacesAnswer(ApiModel):
    """What the operator named. folders, sources, targets : their names."""

    folders: list[str]
    sources: list[str]
    targets: list[str]
