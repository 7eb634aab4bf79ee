"""The document about what a model has learned, which travels with its package."""

from __future__ import annotations

from dataclasses import dataclass
from functools import cache
from typing import Any, ClassVar, Literal

import orjson
from pydantic import TypeAdapter, ValidationError

from lamppost.core.artifact.documents import check_document
from lamppost.core.errors import PackageRefused
from lamppost.core.monitoring.quality import Estimate, estimate_as_json

_CLOSED: dict[str, Any] = {"extra": "forbid", "allow_inf_nan": False}
Value = str | float | int | bool | None


@dataclass(frozen=True, slots=True)
class Figure:
    """A figure with its 95 % interval, from so many rows; an interval without end is None."""

    value: float
    low: float | None
    high: float | None
    of: int

    __pydantic_config__: ClassVar = _CLOSED


@dataclass(frozen=True, slots=True)
class FieldImportance:
    """How much worse the answers get when the values of one field are those of other rows. worse : the part that is lost of what the model
    does better than always saying the same; 1 for all of it.
    """

    field: str
    worse: Figure

    __pydantic_config__: ClassVar = _CLOSED

    @property
    def clear(self) -> bool:
        """Whether the interval lies above 0."""
        return self.worse.low is not None and self.worse.low > 0


@dataclass(frozen=True, slots=True)
class Dependence:
    """The answer as one field goes through values while the other fields stay as they are in rows of the frame (Friedman, *Annals of
    Statistics* 29(5), 2001). mean : over rows. low, high : a quarter of the rows lies below, and above. rows : of the frame at each value.
    """

    field: str
    values: tuple[Value, ...]
    mean: tuple[float, ...]
    low: tuple[float, ...]
    high: tuple[float, ...]
    rows: tuple[int, ...]

    __pydantic_config__: ClassVar = _CLOSED


@dataclass(frozen=True, slots=True)
class Interaction:
    """The pair of fields that changes the answer most together. strength : the part of their joint effect that is no sum of one of each
    (H squared: Friedman and Popescu, *Annals of Applied Statistics* 2(3), 2008). mean : the answer, for each value of the first a row.
    """

    first: str
    second: str
    strength: float
    first_values: tuple[Value, ...]
    second_values: tuple[Value, ...]
    mean: tuple[tuple[float, ...], ...]

    __pydantic_config__: ClassVar = _CLOSED


@dataclass(frozen=True, slots=True)
class SliceQuality:
    """The quality in the rows that have one value of a field."""

    by: str
    value: str
    figure: Figure

    __pydantic_config__: ClassVar = _CLOSED


@dataclass(frozen=True, slots=True)
class Confusion:
    """How often each label was answered where each was true. counts : for each true label a row, in the order of ``labels``."""

    labels: tuple[str, ...]
    counts: tuple[tuple[int, ...], ...]

    __pydantic_config__: ClassVar = _CLOSED


@dataclass(frozen=True, slots=True)
class Residuals:
    """Answers less the truth. counts : between neighbouring edges. bias : their mean. root_mean_square : in the answer's unit."""

    edges: tuple[float, ...]
    counts: tuple[int, ...]
    bias: Figure
    root_mean_square: float

    __pydantic_config__: ClassVar = _CLOSED


@dataclass(frozen=True, slots=True)
class CalibrationBin:
    """Scores near ``expected``, and how often what they were given to came."""

    expected: float
    came: Figure

    __pydantic_config__: ClassVar = _CLOSED


@dataclass(frozen=True, slots=True)
class Calibration:
    """Whether scores are probabilities. error : mean distance between both, weighted by rows. brier : mean squared error of scores."""

    error: float
    brier: float
    bins: tuple[CalibrationBin, ...]

    __pydantic_config__: ClassVar = _CLOSED


@dataclass(frozen=True, slots=True)
class ModelInsight:
    """What a model has learned.

    answer : what it is about. kind : labels, of which the part is counted that is right, or numbers, whose mean absolute error is. rows :
    that were looked at. held_out : whether the model was not fitted on these. quality, by_chance : of the model, and of always giving the
    commonest label or the median. curve_of : what curves are of: a score of a label, the part of a label, or the number itself.
    importance : the most important field first. left_out : why something is missing.
    """

    answer: str
    kind: Literal["labels", "numbers"]
    rows: int
    held_out: bool
    quality: Figure
    by_chance: float
    curve_of: str
    importance: tuple[FieldImportance, ...] = ()
    curves: tuple[Dependence, ...] = ()
    interaction: Interaction | None = None
    slices: tuple[SliceQuality, ...] = ()
    confusion: Confusion | None = None
    residuals: Residuals | None = None
    calibration: Calibration | None = None
    unit: str | None = None
    left_out: str | None = None

    __pydantic_config__: ClassVar = _CLOSED


def as_figure(estimate: Estimate) -> Figure:
    """An estimate as documents have it."""
    return Figure(**estimate_as_json(estimate) or {})


@cache
def _adapter() -> TypeAdapter[ModelInsight]:
    return TypeAdapter(ModelInsight)


def write_insight(insight: ModelInsight) -> bytes:
    """Canonical JSON bytes."""
    return orjson.dumps(_adapter().dump_python(insight, mode="json", exclude_defaults=True), option=orjson.OPT_SORT_KEYS)


def read_insight(data: bytes) -> ModelInsight:
    """Read what `write_insight` wrote; raise PackageRefused for anything else."""
    try:
        raw = orjson.loads(data)
    except ValueError as error:
        raise PackageRefused(f"the insight is not JSON ({error}); pack the model again") from error
    check_document(raw, data, "the insight")
    try:
        insight = _adapter().validate_json(data)
    except ValidationError as error:
        first = error.errors(include_url=False)[0]
        raise PackageRefused(f"the insight cannot be read at {'.'.join(map(str, first['loc']))}: {first['msg'].lower()}") from error
    _check_lengths(insight)
    return insight


def _check_lengths(insight: ModelInsight) -> None:
    """Raise PackageRefused where lists that belong together are of different lengths."""
    alike = [
        *((curve.values, curve.mean, curve.low, curve.high, curve.rows) for curve in insight.curves),
        *([(insight.confusion.labels, insight.confusion.counts, *insight.confusion.counts)] if insight.confusion else []),
        *([(insight.interaction.first_values, insight.interaction.mean)] if insight.interaction else []),
        *([(insight.interaction.second_values, *insight.interaction.mean)] if insight.interaction else []),
        *([(insight.residuals.edges[1:], insight.residuals.counts)] if insight.residuals else []),
    ]
    if any(len({len(part) for part in parts}) > 1 for parts in alike):
        raise PackageRefused("the insight has lists of different lengths that belong together; pack the model again")
