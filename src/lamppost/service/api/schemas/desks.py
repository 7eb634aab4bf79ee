"""API schemas of desks: for their owners, and for those who ask there."""

from __future__ import annotations

from datetime import date, datetime
from typing import Any
from uuid import UUID

from pydantic import Field as Described

from lamppost.core.desk.settings import MOST_KEEP_DAYS, USUAL_KEEP_DAYS, AnswerState, DeskSettings, read_settings
from lamppost.service.api.schemas.base import ApiModel, FieldAnswer
from lamppost.store.bulk.bulk_runs import RunState


class FieldWordsRequest(ApiModel):
    """A field or option as people read it. shown : whether it is asked for; value : as text, of one that is not."""

    label: str | None = Described(default=None, max_length=200)
    hint: str | None = Described(default=None, max_length=500)
    shown: bool = True
    value: str | None = Described(default=None, max_length=10_000)


class AnswerWordsRequest(ApiModel):
    """What an answer is called, and what it asks for."""

    text: str = Described(min_length=1, max_length=500)
    state: AnswerState | None = None


class NumberRangeRequest(ApiModel):
    """What a number means from ``least`` upwards."""

    least: float = Described(allow_inf_nan=False)
    text: str = Described(max_length=500)
    state: AnswerState | None = None


class DeskSettingsRequest(ApiModel):
    """What a desk shows. use : what it may be used for. answer : the main one, the first unless it is named. keep_days : of results."""

    title: str = Described(min_length=1, max_length=200)
    introduction: str = Described(default="", max_length=5_000)
    use: str = Described(default="", max_length=5_000)
    answer: str | None = None
    fields: dict[str, FieldWordsRequest] = Described(default_factory=dict)
    options: dict[str, FieldWordsRequest] = Described(default_factory=dict)
    answers: dict[str, AnswerWordsRequest] = Described(default_factory=dict)
    ranges: list[NumberRangeRequest] = Described(default_factory=list, max_length=50)
    keep_days: int = Described(default=USUAL_KEEP_DAYS, ge=1, le=MOST_KEEP_DAYS)

    def to_settings(self) -> DeskSettings:
        """The settings; raise BadRequest for some that contradict themselves."""
        return read_settings(self.model_dump())


class DeskLinkRequest(ApiModel):
    """name : of the link, by which it is listed and revoked; left out, the next free one. for_s : seconds that it is in force."""

    name: str | None = Described(default=None, max_length=63)
    for_s: float = Described(default=30 * 86_400.0, gt=0, le=10 * 366 * 86_400)


class DeskLinkAnswer(ApiModel):
    """A link that opens a desk, without its secret. revoked_at : None while it is in force."""

    name: str
    made_by: str | None
    made_at: datetime
    expires_at: datetime | None
    revoked_at: datetime | None
    last_used_at: datetime | None


class NewDeskLinkAnswer(DeskLinkAnswer):
    """link : shown only in this answer."""

    link: str


class DeskUseAnswer(ApiModel):
    """How often a link was used on a day. rows : of files."""

    link: str
    day: date
    questions: int
    files: int
    rows: int


class DeskAnswer(ApiModel):
    """A desk as its owner sees it."""

    endpoint: str
    settings: DeskSettingsRequest
    made_by: str
    changed_at: datetime
    links: list[DeskLinkAnswer]
    uses: list[DeskUseAnswer]


class DeskPageAnswer(ApiModel):
    """A desk as those see it who ask there. fields, options : that are asked for; each has its words in ``words``.

    answers : what each answer is called, by label. takes_files : whether files can be brought. guest : whether the session is of a link.
    """

    title: str
    introduction: str
    use: str
    fields: list[FieldAnswer]
    options: list[FieldAnswer]
    words: dict[str, FieldWordsRequest]
    answers: dict[str, AnswerWordsRequest]
    is_number: bool
    example: dict[str, Any]
    takes_files: bool
    keep_days: int
    guest: bool
    available: bool


class DeskSignInRequest(ApiModel):
    """link : the secret behind the # of the link."""

    link: str = Described(min_length=1, max_length=500)


class DeskQuestionRequest(ApiModel):
    """One row."""

    row: dict[str, Any]
    options: dict[str, Any] = Described(default_factory=dict)


class DeskScoreAnswer(ApiModel):
    """How sure the model is of an answer, 0 to 1."""

    text: str
    share: float


class DeskReplyAnswer(ApiModel):
    """The answer to a question in the words of the desk."""

    text: str
    state: AnswerState | None
    scores: list[DeskScoreAnswer]


class DeskReasonAnswer(ApiModel):
    """What a field did to the answer. share : of the largest reason, -1 to 1; below 0 it spoke against the answer."""

    label: str
    value: Any
    share: float


class DeskFileRequest(ApiModel):
    """A file that is to be brought: CSV or XLSX."""

    file_name: str = Described(min_length=1, max_length=200)


class DeskFileAnswer(ApiModel):
    """A file, and how much of it is there."""

    id: UUID
    file_name: str
    size_bytes: int


class DeskMatchRequest(ApiModel):
    """columns : by field, its column; left out, what the desk proposes. An empty column stands for none."""

    columns: dict[str, str] | None = None
    sheet: str | None = Described(default=None, max_length=200)
    options: dict[str, Any] = Described(default_factory=dict)


class DeskMatchAnswer(ApiModel):
    """How a file would be understood. sheets : of a file that has several, of which none was chosen; nothing else is known then.

    first : rows as text. problem : why it cannot be answered as it is matched. rows : that were tried, all where ``whole``.
    rejects : how many of them would stay without an answer; first_rejects : some of them.
    """

    columns: list[str]
    matched: dict[str, str | None]
    first: list[dict[str, Any]]
    sheets: list[str]
    problem: str | None
    rows: int | None
    rejects: int
    first_rejects: list[dict[str, Any]]
    whole: bool


class DeskResultRequest(DeskMatchRequest):
    """Answer a file. file : its id."""

    file: UUID


class DeskCountAnswer(ApiModel):
    """How often an answer was given. label : by which rows are chosen."""

    label: str
    text: str
    state: AnswerState | None
    rows: int


class DeskResultAnswer(ApiModel):
    """A file and what came of it. rows : that were read; rejects : without an answer. keep_until : when it is deleted."""

    name: str
    file_name: str
    state: RunState
    reason: str | None
    made_at: datetime
    ended_at: datetime | None
    keep_until: datetime | None
    rows: int
    row_total: int | None
    rejects: int
    seconds_left: float | None
    counts: list[DeskCountAnswer]
    first_rejects: list[dict[str, Any]]
    mine: bool


class DeskRowAnswer(ApiModel):
    """A row of a result. place : in the result, from 0. sure : of its answer, 0 to 1."""

    place: int
    cells: list[str]
    text: str
    state: AnswerState | None
    sure: float | None


class DeskRowsAnswer(ApiModel):
    """A page of rows. columns : of the file that was brought. sorts : names by which rows are sorted, of columns, answer and certainty."""

    matching: int
    columns: list[str]
    rows: list[DeskRowAnswer]
    sort_answer: str
    sort_sure: str | None
