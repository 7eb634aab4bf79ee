"""API schemas of explanations."""

from __future__ import annotations

from typing import Any, Literal
from uuid import UUID

from pydantic import Field as Described

from lamppost.core.explanation.costs import ROWS, SECONDS
from lamppost.service.api.schemas.base import ApiModel, Instant


class ExplainedRowRequest(ApiModel):
    """The row whose answer is explained: one that is sent, or one of a recorded call. version : asked instead of what is served."""

    row: dict[str, Any] | None = None
    options: dict[str, Any] = Described(default={}, description="of a row that is sent")
    call: UUID | None = Described(default=None, description="id of a recorded call; its own version is asked unless another one is named")
    at_row: int = Described(default=0, ge=0, le=100_000, description="which row of the call, from 0")
    version: str | None = Described(default=None, examples=["outage-risk@1"])


class ExplainRequest(ExplainedRowRequest):
    """What is to be explained, and what that may cost."""

    wanted: list[Literal["contributions", "changes", "rule"]] = Described(default=["contributions", "changes", "rule"], min_length=1)
    together: bool = Described(default=False, description="take fields that move together (correlation over 0.8) as one")
    limit: float | None = Described(default=None, description="that changes should move a number past", allow_inf_nan=False)
    label: str | None = Described(default=None, description="that changes should give; any other one unless it is named")
    rows: int = Described(default=ROWS, ge=1, le=50_000, description="that the model may be asked about")
    seconds: float = Described(default=SECONDS, gt=0, le=30)
    cases: int = Described(default=0, ge=0, le=2_000, description="how many of the rows that were asked are listed, the nearest first")


class CurveRequest(ExplainedRowRequest):
    """The field that goes through its range."""

    field: str
    rows: int = Described(default=200, ge=1, le=2_000)


class ContributionAnswer(ApiModel):
    """What a part contributed. fields : that it consists of. values : of the row. amount : to the main figure, with its standard error.
    amounts : to each figure.
    """

    fields: list[str]
    values: dict[str, Any]
    amount: float | None
    error: float | None
    amounts: dict[str, float | None]


class PieceAnswer(ApiModel):
    """What a part of one field's value contributed to the main figure. name : words of a text, a region, elements, or indices.

    place : characters from and to, pixels (left, top, right, bottom), or indices from and to.
    """

    name: str
    place: list[int]
    amount: float | None
    error: float | None


class WithinFieldAnswer(ApiModel):
    """The parts of one field's value. typical : the main figure without any of them."""

    field: str
    typical: float | None
    pieces: list[PieceAnswer]
    stopped: str


class ChangedFieldAnswer(ApiModel):
    """A field of a change, with both values."""

    field: str
    before: Any
    after: Any


class SmallestChangeAnswer(ApiModel):
    """A change that turns the answer. distance : in quantiles of the reference, summed over fields. answer : what the model says then."""

    fields: list[ChangedFieldAnswer]
    distance: float
    answer: dict[str, Any]
    summary: str


class ChangesAnswer(ApiModel):
    """The smallest changes that turn the answer, the smallest first. searched : ``found``, ``none``, or what was used up first."""

    changes: list[SmallestChangeAnswer]
    searched: Literal["found", "none", "budget", "time"]


class ConditionAnswer(ApiModel):
    """A condition of a rule."""

    field: str
    comparison: Literal["is", "at least", "at most", "missing"]
    value: Any
    summary: str


class RuleAnswer(ApiModel):
    """A rule that the answer follows. precision : part of cases in which the model says the same, with its 95 % interval. coverage : part
    of training's rows that fulfil it. usual : part of all rows of training to which it says the same. reached : whether the precision is
    95 % or more.
    """

    conditions: list[ConditionAnswer]
    precision: float
    low: float
    high: float
    cases: int
    coverage: float
    usual: float
    reached: bool
    summary: str


class TriedCaseAnswer(ApiModel):
    """A row that was asked. differs : in how many fields it is other than the explained row."""

    differs: int
    row: dict[str, Any]
    answer: dict[str, Any]


class ExplanationAnswer(ApiModel):
    """An explanation of one answer.

    figure : the main figure of the answer, which amounts are of. is_score : whether it is about a label, from 0 to 1. value, typical : of
    that figure. stopped : why no more orders of fields
    were asked: ``exact`` when all were, ``certain`` when the order of the first three is, ``budget`` or ``time``. asked : rows that the
    model was asked about. failed : those that it failed on, which are left out. left_out : fields that stayed as they are.
    """

    request_id: UUID
    endpoint: str | None
    version: str
    row: dict[str, Any]
    answer: dict[str, Any]
    figure: str
    is_score: bool
    value: float | None
    typical: float | None
    contributions: list[ContributionAnswer]
    stopped: Literal["exact", "certain", "budget", "time", "not asked"]
    within: list[WithinFieldAnswer]
    changes: ChangesAnswer | None
    rule: RuleAnswer | None
    cases: list[TriedCaseAnswer]
    asked: int
    failed: int
    left_out: list[str]
    took_ms: float
    summary: str


class CurveAnswer(ApiModel):
    """The answer as one field goes through its range. figures : of each, a value for each of ``values``, null where the model failed.

    own : index of the row's own value. counts : rows of training at each value, or nearest to it.
    """

    version: str
    field: str
    values: list[Any]
    figures: dict[str, list[float | None]]
    figure: str
    is_score: bool
    own: int
    counts: list[int]
    answer: dict[str, Any]


class MadeExplanationAnswer(ApiModel):
    """An explanation that was made; what it said is not kept."""

    request_id: UUID
    at: Instant
    version: str
    token: str
    call: UUID | None
    asked: int
    took_ms: float
    stopped: str
