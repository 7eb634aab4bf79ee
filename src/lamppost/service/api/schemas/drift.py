"""API schemas of drift: windows, their verdicts and explanations."""

from __future__ import annotations

from datetime import datetime
from typing import Literal

from pydantic import Field as Described

from lamppost.core.drift.window_verdict import WindowState
from lamppost.service.api.schemas.base import ApiModel


class WindowAnswer(ApiModel):
    """A judged window; ``over`` is false while more rows may come. odd : rows of it that are odder than training's own.

    bulk_rows : rows of it that bulk runs brought.
    """

    version: str
    at: datetime
    until: datetime
    over: bool
    rows: int
    bulk_rows: int
    odd: int
    state: WindowState
    summary: str


class DriftFindingAnswer(ApiModel):
    """One way in which a figure differs. p : the chance of as much in an unchanged stream. size : sd, or parts of rows.

    where : the values whose part of the rows changed most, for a finding about shape; before and after are theirs.
    """

    what: Literal["location", "spread", "shape", "missing", "outside", "far", "unseen", "correlation"]
    p: float
    size: float
    signed: float
    before: float | None
    after: float | None
    where: str | None


class FeatureDriftAnswer(ApiModel):
    """One watched figure of a window."""

    name: str
    state: WindowState
    summary: str
    rows: int
    findings: list[DriftFindingAnswer]


class PairDriftAnswer(ApiModel):
    """Two numbers whose correlation was ``before`` and is ``after``."""

    first: str
    second: str
    state: WindowState
    p: float
    before: float
    after: float


class ChangeSliceAnswer(ApiModel):
    """Where a change sits. part : of the whole change. before, after : mean, or part of rows, in training and now."""

    by: str
    value: str
    rows: int
    before: float
    after: float
    part: float


class FieldReasonAnswer(ApiModel):
    """Why of one figure. explains : the part of the change in the answers that it accounts for, null where that cannot be told."""

    name: str
    state: WindowState
    summary: str
    slices: list[ChangeSliceAnswer]
    new: list[str] = Described(description="new words of a text, with the part of rows that have them")
    explains: float | None
    follows: str | None = Described(description="the field whose mix this one follows, without having changed by itself")


class AnswerShift(ApiModel):
    """How far an answer moved: a number by so much, a label by so many parts of rows."""

    value: str | None
    by: float


class AnswerShifts(ApiModel):
    """The main answer and what moved of it."""

    answer: str
    moved: list[AnswerShift]


class ChangeNearby(ApiModel):
    """What else changed at that time."""

    at: datetime
    summary: str


class CallerChange(ApiModel):
    """A caller whose part of the calls changed at that time."""

    token: str
    before: float
    after: float
    summary: str


class DriftExplanationAnswer(ApiModel):
    """Why a window is not steady, as far as can be found out. rows : recorded rows that were looked at."""

    since: datetime
    summary: str
    rows: int
    fields: list[FieldReasonAnswer]
    answers: AnswerShifts | None
    changes: list[ChangeNearby]
    callers: list[CallerChange]


class DriftAnswer(ApiModel):
    """How an endpoint's rows and answers look against training: the newest window, its figures and reasons, and the windows before.

    window : null where nothing was counted yet. pooled : windows that were looked at together for the verdict.
    against : ``training``, or the start of the earlier window that it is held against.
    """

    endpoint: str
    version: str
    summary: str
    state: WindowState | None
    against: str
    window: WindowAnswer | None
    pooled: int
    figures: list[FeatureDriftAnswer]
    pairs: list[PairDriftAnswer]
    explanation: DriftExplanationAnswer | None
    windows: list[WindowAnswer]
    watched: bool = Described(description="false for a package that carries nothing to hold rows against")


class FeatureBinsAnswer(ApiModel):
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
    history: list[FeatureStep]


class FeatureStep(ApiModel):
    """A figure in one window: its size by the leading finding, 0 where it is as in training."""

    at: datetime
    state: WindowState
    size: float
    summary: str
