"""API schemas of outcomes and of the quality of answers."""

from __future__ import annotations

from datetime import datetime
from typing import Literal
from uuid import UUID

from pydantic import Field as Described
from pydantic import JsonValue

from lamppost.core.errors import BadRequest
from lamppost.service.api.schemas.base import ApiModel, Instant


class OutcomeRequest(ApiModel):
    """The truth about one answer: by the id of its call and the row in it, or by a key."""

    truth: JsonValue
    request_id: UUID | None = None
    row: int = Described(default=0, ge=0, le=1_000_000)
    key: str | int | None = None


class OutcomesRequest(ApiModel):
    """Outcomes. key : the input field that identifies answers; the latest answer in the span with that value is meant. since, until : the
    span, by default the last 30 days.
    """

    outcomes: list[OutcomeRequest] = Described(min_length=1, max_length=10_000)
    key: str | None = Described(default=None, max_length=200)
    since: Instant | None = None
    until: Instant | None = None


def check_identified(body: OutcomesRequest) -> None:
    """Raise BadRequest unless each outcome names its answer as its list says: by a request id, or by a key."""
    for at, outcome in enumerate(body.outcomes):
        if (outcome.key is None) == (body.key is not None) or (outcome.request_id is None) == (body.key is None):
            raise BadRequest(f"outcome {at} needs {'a key' if body.key is not None else 'a request_id'}, as all others of its list")


class KeptOutcomesAnswer(ApiModel):
    """Outcomes that an outpost keeps until its hub has them. kept : how many."""

    kept: int
    summary: str


class OutcomesAnswer(ApiModel):
    """The result of reporting outcomes. new : stored or changed. known : matched with an answer. unknown : indices of outcomes that match
    no answer.
    """

    new: int
    known: int
    unknown: list[int]
    summary: str


class EstimateAnswer(ApiModel):
    """A figure with its 95 % interval, from so many rows."""

    value: float
    low: float | None
    high: float | None
    of: int


class LabelQuality(ApiModel):
    """One label. true : rows whose truth it is."""

    label: str
    precision: EstimateAnswer | None
    recall: EstimateAnswer | None
    true: int


class CalibrationBin(ApiModel):
    """Scores of one tenth: their mean, and the observed share."""

    expected: float
    came: EstimateAnswer


class Calibration(ApiModel):
    """error : mean distance of the two, weighted by rows (expected calibration error). brier : mean squared error of scores."""

    error: float
    brier: float
    bins: list[CalibrationBin]


class QualitySlice(ApiModel):
    """Accuracy, or absolute error, where a choice has one value."""

    by: str
    value: str
    figure: EstimateAnswer


class QualityStep(ApiModel):
    """Accuracy, or absolute error, of answers given at a time."""

    at: datetime
    figure: EstimateAnswer | None


class ToldOtherwise(ApiModel):
    """Outcomes are told of other answers than were given: ``label`` is the part ``told`` of the known answers, and ``answered`` of all.

    weighted : the part of right answers, each label weighing as much as it was answered. unknown : the part of answers whose label no
    outcome is known of; these are left out of it.
    """

    label: str
    told: float
    answered: float
    weighted: float | None
    unknown: float


class VersionQuality(ApiModel):
    """The quality of one version. known : rows whose truth is known. answered : all answered rows. late_s : median delay of the outcomes in
    seconds. callers : whose answers these are; intervals allow for answers to one caller being alike.
    """

    version: str
    shadow: bool
    answer: str
    kind: Literal["labels", "numbers"]
    known: int
    answered: int
    late_s: float
    callers: int
    told_otherwise: ToldOtherwise | None = None
    accuracy: EstimateAnswer | None = None
    labels: list[LabelQuality]
    calibration: Calibration | None = None
    absolute_error: EstimateAnswer | None = None
    root_mean_square: float | None = None
    bias: EstimateAnswer | None = None
    near: EstimateAnswer | None = Described(default=None, description="within a tenth of the answer's spread in training")
    slices: list[QualitySlice]
    over_time: list[QualityStep]


class QualityAnswer(ApiModel):
    """How good answers were, as far as the truth is known."""

    endpoint: str
    since: datetime
    until: datetime
    summary: str
    versions: list[VersionQuality]
