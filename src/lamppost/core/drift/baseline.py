"""What windows are compared with, and what is counted of a window."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass, field

import numpy as np
from numpy.typing import NDArray

from lamppost.core.drift.bins import FieldBins, bin_scores
from lamppost.core.drift.dependence import field_depends

_MOST_DEPENDENT = 0.25


@dataclass(slots=True)
class FieldSketch:
    """The counts of a field over a window. bins : rows in each bin of the reference. odd : rows outside its range, or with unseen
    choices. far : of a number, rows beyond the range by each of `lamppost.core.drift.bins.FAR` of its widths.
    """

    bins: NDArray[np.int64]
    missing: int = 0
    odd: int = 0
    far: tuple[int, ...] = ()

    @property
    def rows(self) -> int:
        """Rows with and without a value."""
        return int(self.bins.sum()) + self.missing

    def __add__(self, other: FieldSketch) -> FieldSketch:
        far = tuple(mine + theirs for mine, theirs in zip(self.far, other.far, strict=True)) if len(self.far) == len(other.far) else ()
        return FieldSketch(self.bins + other.bins, self.missing + other.missing, self.odd + other.odd, far)


@dataclass(frozen=True, slots=True)
class ReferenceField:
    """A field of the reference. numbers : whether its bins are in order. rows, missing : of the reference.

    fitted : of an answer to rows that the model was fitted on: how far such answers lie from those to other rows, in location, spread
    and shape, as far as that is known. None for anything else.
    """

    name: str
    numbers: bool
    bins: FieldBins
    rows: int
    missing: int
    fitted: tuple[float, ...] | None = None

    def as_sketch(self) -> FieldSketch:
        """The counts of the reference as those of a window. odd : of a choice, how many values are to be expected that it has not seen."""
        odd = self.bins.outside if self.numbers else self.bins.once
        return FieldSketch(np.asarray(self.bins.counts, dtype=np.int64), self.missing, odd, self.bins.far)


@dataclass(slots=True)
class JointMoments:
    """Sums of location scores and of their products over a window, in the order of the numeric fields."""

    rows: int
    sums: NDArray[np.float64]
    products: NDArray[np.float64] = field(default_factory=lambda: np.zeros((0, 0)))

    def __add__(self, other: JointMoments) -> JointMoments:
        return JointMoments(self.rows + other.rows, self.sums + other.sums, self.products + other.products)

    def covariances(self) -> NDArray[np.float64]:
        """Covariances of the scores over the window."""
        if not self.rows:
            return np.zeros_like(self.products)
        means = self.sums / self.rows
        covariance: NDArray[np.float64] = self.products / self.rows - np.outer(means, means)
        return covariance

    def correlations(self) -> NDArray[np.float64]:
        """Correlations of the scores; 0 with a field that does not vary."""
        covariance = self.covariances()
        spread = np.sqrt(np.maximum(np.diag(covariance), 1e-12))
        r: NDArray[np.float64] = np.clip(covariance / np.outer(spread, spread), -0.9999, 0.9999)
        return r


@dataclass(slots=True)
class WindowSketch:
    """The counts of all fields over a span of time."""

    fields: dict[str, FieldSketch]
    moments: JointMoments | None = None

    @property
    def rows(self) -> int:
        """The most rows that any field was counted in."""
        return max((sketch.rows for sketch in self.fields.values()), default=0)

    def __add__(self, other: WindowSketch) -> WindowSketch:
        moments = self.moments + other.moments if self.moments is not None and other.moments is not None else self.moments or other.moments
        both = {name: self.fields[name] + other.fields[name] for name in self.fields.keys() & other.fields.keys()}
        return WindowSketch({**other.fields, **self.fields, **both}, moments)


def pool_sketches(windows: Sequence[WindowSketch]) -> WindowSketch:
    """The sum of one or more windows."""
    pooled = windows[0]
    for window in windows[1:]:
        pooled = pooled + window
    return pooled


@dataclass(frozen=True, slots=True)
class PairBaseline:
    """Correlations of the location scores of some numeric fields, as square arrays in the order of ``names``.

    most_apart : the largest difference between blocks of the reference, where blocks differ by more than chance. variances, kurtoses : mean
    square and standardised mean fourth power of what a row adds to a correlation (see `lamppost.core.drift.pair_tests`). peaks : the
    largest score of each field.
    """

    names: tuple[str, ...]
    correlations: NDArray[np.float64]
    variances: NDArray[np.float64]
    kurtoses: NDArray[np.float64]
    peaks: NDArray[np.float64]
    most_apart: NDArray[np.float64] | None = None


@dataclass(frozen=True, slots=True)
class DriftBaseline:
    """The baseline that windows are compared with. paired : the fields whose location scores are summed up together.

    dependent : the fields of which consecutive rows of the reference depend on each other; all, where that holds for over a quarter.
    """

    known: tuple[ReferenceField, ...]
    rows: int
    paired: tuple[str, ...] = ()
    pairs: PairBaseline | None = None
    dependent: frozenset[str] = field(init=False)

    def __post_init__(self) -> None:
        found = {known.name for known in self.known if field_depends(known.bins, known.numbers)}
        everywhere = len(found) > _MOST_DEPENDENT * len(self.known)
        object.__setattr__(self, "dependent", frozenset(known.name for known in self.known) if everywhere else frozenset(found))


def location_scores_of_bins(known: ReferenceField) -> NDArray[np.float64]:
    """Location scores of all bins, 0 for those that the reference left empty."""
    counts = np.asarray(known.bins.counts, dtype=np.float64)
    scores = np.zeros(len(counts))
    if (counts > 0).any():
        scores[counts > 0] = bin_scores(counts[counts > 0])[0]
    return scores
