"""Counts the rows of a window into the bins of a reference."""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from typing import Any

import numpy as np
from numpy.typing import NDArray

from lamppost.core.drift.bins import BINS, BLOCKS, bin_scores
from lamppost.core.drift.verdicts import DriftBaseline, FieldSketch, JointMoments, ReferenceField, WindowSketch

Values = Sequence[Any] | NDArray[np.float64]
_PHI = 1.2


class Sketcher:
    """Counts windows against a reference."""

    def __init__(self, against: DriftBaseline) -> None:
        self.against = against
        self._index = {
            feature.name: {choice: at for at, choice in enumerate(feature.bins.choices)} for feature in against.known if not feature.numbers
        }
        self._scores = {
            feature.name: (feature, _spread_out(feature)) for feature in against.known if feature.numbers and any(feature.bins.counts)
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
        if not self.against.names or not rows:
            return WindowSketch(fields)
        matrix = self.location_scores(columns, rows)
        return WindowSketch(fields, JointMoments(rows, matrix.sum(axis=0), matrix.T @ matrix))

    def as_arrays(self, columns: Mapping[str, Values]) -> dict[str, Values]:
        """The same columns with numbers as arrays, for callers that read them more than once."""
        numbers = {known.name for known in self.against.known if known.numbers}
        return {name: number_array(values) if name in numbers else values for name, values in columns.items()}

    def location_scores(self, columns: Mapping[str, Values], rows: int) -> NDArray[np.float64]:
        """Location scores of shape (rows, paired numbers); 0 for what is missing."""
        scores = np.zeros((rows, len(self.against.names)))
        for at, name in enumerate(self.against.names):
            if name in columns and name in self._scores:
                known, score = self._scores[name]
                given = number_array(columns[name])
                places = np.searchsorted(np.asarray(known.bins.edges), given, side="left").clip(0, len(score) - 1)
                scores[:, at] = np.where(np.isfinite(given), score[places], 0.0)
        return scores

    def _choices(self, known: ReferenceField, values: Values) -> FieldSketch:
        index, rest = self._index.get(known.name, {}), len(known.bins.counts) - 1
        places = [index.get(value, rest) for value in values if value is not None]
        bins = np.bincount(np.asarray(places, dtype=np.int64), minlength=rest + 1) if places else np.zeros(rest + 1, dtype=np.int64)
        odd = 0 if known.bins.counts[-1] else int(bins[-1])
        return FieldSketch(bins, len(values) - len(places), odd)


def _spread_out(known: ReferenceField) -> NDArray[np.float64]:
    """Location scores of all bins, 0 for those that the reference left empty."""
    counts = np.asarray(known.bins.counts, dtype=np.float64)
    spread = np.zeros(len(counts))
    spread[counts > 0] = bin_scores(counts[counts > 0])[0]
    return spread


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
    odd = int(((numbers < known.bins.low) | (numbers > known.bins.high)).sum())
    return FieldSketch(bins, int((~there).sum()), odd)


def location_correlations(
    sketcher: Sketcher, columns: Mapping[str, Any], rows: int
) -> tuple[NDArray[np.float64], NDArray[np.float64] | None]:
    """Correlations of the location scores over the rows of a reference, and the largest difference from them among its twentieths. The
    latter is None unless the twentieths differ by more than independent rows would: a mean square of Fisher's z over 1.2 times its
    variance.
    """
    moments = sketcher.sketch_window(columns, rows).moments
    assert moments is not None
    whole, size = moments.correlations(), rows // BINS
    if size < BLOCKS[0]:
        return whole, None
    spans = [slice(at * size, (at + 1) * size) for at in range(BINS)]
    parts = [sketcher.sketch_window({name: values[span] for name, values in columns.items()}, size).moments for span in spans]
    blocks = np.stack([part.correlations() for part in parts if part is not None])
    z = (np.arctanh(blocks) - np.arctanh(np.clip(whole, -0.9999, 0.9999))) ** 2 * (size - 3)
    upper = np.triu_indices(len(whole), 1)
    if not len(upper[0]) or float(z[:, upper[0], upper[1]].mean()) < _PHI:
        return whole, None
    return whole, np.abs(blocks - whole).max(axis=0)
