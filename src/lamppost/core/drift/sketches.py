"""Counts the rows of a window into the bins of a reference."""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from typing import Any

import numpy as np
from numpy.typing import NDArray

from lamppost.core.drift.baseline import (
    DriftBaseline,
    FieldSketch,
    JointMoments,
    PairBaseline,
    ReferenceField,
    WindowSketch,
    location_scores_of_bins,
)
from lamppost.core.drift.bins import BINS, BLOCKS, FAR, beyond_range, checksums, seen_values
from lamppost.core.drift.coded_texts import CodedTexts
from lamppost.core.drift.pair_tests import pair_moments

Values = Sequence[Any] | NDArray[np.float64]
_PHI = 1.2


class Sketcher:
    """Counts windows against a reference."""

    def __init__(self, against: DriftBaseline) -> None:
        self.against = against
        self._index = {
            feature.name: {choice: at for at, choice in enumerate(feature.bins.choices)} for feature in against.known if not feature.numbers
        }
        self._seen = {feature.name: seen_values(feature.bins) for feature in against.known if feature.bins.seen}
        self._scores = {
            feature.name: (feature, location_scores_of_bins(feature))
            for feature in against.known
            if feature.numbers and any(feature.bins.counts)
        }

    def sketch_window(self, columns: Mapping[str, Values], rows: int) -> WindowSketch:
        """The counts of a window. columns : of equal length; None and NaN are missing values. Fields that are not among the columns are
        left out.
        """
        fields = {
            known.name: _numbers(known, columns[known.name]) if known.numbers else self._choices(known, columns[known.name])
            for known in self.against.known
            if known.name in columns
        }
        if not self.against.paired or not rows:
            return WindowSketch(fields)
        matrix = self.location_scores(columns, rows)
        return WindowSketch(fields, JointMoments(rows, matrix.sum(axis=0), matrix.T @ matrix))

    def as_arrays(self, columns: Mapping[str, Values]) -> dict[str, Values]:
        """The same columns with numbers as arrays, for callers that read them more than once."""
        numbers = {known.name for known in self.against.known if known.numbers}
        return {name: number_array(values) if name in numbers else values for name, values in columns.items()}

    def location_scores(self, columns: Mapping[str, Values], rows: int) -> NDArray[np.float64]:
        """Location scores of shape (rows, paired numbers); 0 for what is missing."""
        scores = np.zeros((rows, len(self.against.paired)))
        for at, name in enumerate(self.against.paired):
            if name in columns and name in self._scores:
                known, score = self._scores[name]
                given = number_array(columns[name])
                places = np.searchsorted(np.asarray(known.bins.edges), given, side="left").clip(0, len(score) - 1)
                scores[:, at] = np.where(np.isfinite(given), score[places], 0.0)
        return scores

    def _choices(self, known: ReferenceField, values: Values) -> FieldSketch:
        index, rest = self._index.get(known.name, {}), len(known.bins.counts) - 1
        if isinstance(values, CodedTexts):
            counts = values.count_places(lambda text: index.get(text, rest), rest + 1)
            return FieldSketch(counts, len(values) - int(counts.sum()), self._unseen(known, values, int(counts[-1])))
        places = [index.get(value, rest) for value in values if value is not None]
        bins = np.bincount(np.asarray(places, dtype=np.int64), minlength=rest + 1) if places else np.zeros(rest + 1, dtype=np.int64)
        return FieldSketch(bins, len(values) - len(places), self._unseen(known, values, int(bins[-1])))

    def _unseen(self, known: ReferenceField, values: Values, rest: int) -> int:
        """How many of the values without a bin of their own the reference has not seen."""
        if known.name not in self._seen:
            return 0 if known.bins.counts[-1] else rest  # what has no bin was seen too, where it was not written down
        index, seen = self._index[known.name], self._seen[known.name]
        others = checksums([value for value in values if value is not None and value not in index])
        return int((~np.isin(others, seen)).sum())


def number_array(values: Values) -> NDArray[np.float64]:
    """Values as an array, with NaN for missing ones; an array is returned as it is."""
    if isinstance(values, np.ndarray):
        return values
    return np.asarray([np.nan if value is None else value for value in values], dtype=np.float64)


def _numbers(known: ReferenceField, values: Values) -> FieldSketch:
    given = number_array(values)
    there = np.isfinite(given)
    numbers = given[there]
    bins = np.bincount(np.searchsorted(np.asarray(known.bins.edges), numbers, side="left"), minlength=len(known.bins.counts))
    beyond = beyond_range(numbers, known.bins.low, known.bins.high)
    far = tuple(int((beyond > widths).sum()) for widths in FAR)
    return FieldSketch(bins, int((~there).sum()), int((beyond > 0).sum()), far)


def pair_baseline(sketcher: Sketcher, columns: Mapping[str, Any], rows: int) -> PairBaseline:
    """Correlations of the location scores over the rows of a reference, with what is needed to test them.

    The largest differences from them among twentieths of the reference are kept only where these differ by more than independent rows
    would: a mean square of Fisher's z over 1.2 times its variance.
    """
    against = sketcher.against
    scores = sketcher.location_scores(columns, rows)
    whole = JointMoments(rows, scores.sum(axis=0), scores.T @ scores).correlations()
    variances, kurtoses = pair_moments(scores, whole)
    peaks = peak_scores(against.known, against.paired)
    return PairBaseline(against.paired, whole, variances, kurtoses, peaks, _most_apart(scores, whole))


def peak_scores(known: Sequence[ReferenceField], names: Sequence[str]) -> NDArray[np.float64]:
    """The largest location score of each field, without its sign."""
    by_name = {feature.name: feature for feature in known}
    return np.asarray([np.abs(location_scores_of_bins(by_name[name])).max() if name in by_name else 0.0 for name in names])


def _most_apart(scores: NDArray[np.float64], whole: NDArray[np.float64]) -> NDArray[np.float64] | None:
    size = len(scores) // BINS
    if size < BLOCKS[0]:
        return None
    parts = [scores[at * size : (at + 1) * size] for at in range(BINS)]
    blocks = np.stack([JointMoments(size, part.sum(axis=0), part.T @ part).correlations() for part in parts])
    z = (np.arctanh(blocks) - np.arctanh(np.clip(whole, -0.9999, 0.9999))) ** 2 * (size - 3)
    upper = np.triu_indices(len(whole), 1)
    if not len(upper[0]) or float(z[:, upper[0], upper[1]].mean()) < _PHI:
        return None
    apart: NDArray[np.float64] = np.abs(blocks - whole).max(axis=0)
    return apart
