"""From rows to counts: what a window of values looks like in the cells of a reference."""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from typing import Any

import numpy as np
from numpy.typing import NDArray

from lamppost.core.cells import BLOCKS, CELLS, scores
from lamppost.core.drift import Against, Known, Moments, Sketch, Window

Values = Sequence[Any]
_PHI = 1.2


class Sketcher:
    """Counts windows against a reference."""

    def __init__(self, against: Against) -> None:
        self.against = against
        self._index = {one.name: {choice: at for at, choice in enumerate(one.cells.choices)} for one in against.known if not one.numbers}
        self._scores = {
            one.name: scores(np.asarray(one.cells.counts, dtype=np.float64)[_used(one)])[0]
            for one in against.known
            if one.numbers and any(one.cells.counts)
        }

    def window(self, columns: Mapping[str, Values], rows: int) -> Window:
        """Columns of equal length; None, and NaN of a number, is missing. Fields that are not among the columns are left out."""
        fields: dict[str, Sketch] = {}
        located: dict[str, NDArray[np.float64]] = {}
        for known in self.against.known:
            if known.name not in columns:
                continue
            if known.numbers:
                sketch, places, there = _numbers(known, columns[known.name])
                located[known.name] = self._located(known, places, there)
            else:
                sketch = self._choices(known, columns[known.name])
            fields[known.name] = sketch
        if not self.against.names:
            return Window(fields)
        matrix = np.column_stack([located.get(name, np.zeros(rows)) for name in self.against.names]) if rows else np.zeros((0, 0))
        moments = Moments(rows, matrix.sum(axis=0), matrix.T @ matrix) if rows else None
        return Window(fields, moments)

    def _located(self, known: Known, places: NDArray[np.int64], there: NDArray[np.bool_]) -> NDArray[np.float64]:
        out = np.zeros(len(there))
        score = self._scores.get(known.name)
        if score is not None:
            full = np.zeros(len(known.cells.counts))
            full[_used(known)] = score
            out[there] = full[places]
        return out

    def _choices(self, known: Known, values: Values) -> Sketch:
        index, rest = self._index.get(known.name, {}), len(known.cells.counts) - 1
        places = [index.get(value, rest) for value in values if value is not None]
        cells = np.bincount(np.asarray(places, dtype=np.int64), minlength=rest + 1) if places else np.zeros(rest + 1, dtype=np.int64)
        odd = 0 if known.cells.counts[-1] else int(cells[-1])
        return Sketch(cells, len(values) - len(places), odd)


def _used(known: Known) -> NDArray[np.bool_]:
    return np.asarray(known.cells.counts) > 0


def _numbers(known: Known, values: Values) -> tuple[Sketch, NDArray[np.int64], NDArray[np.bool_]]:
    given = np.asarray([np.nan if value is None else value for value in values], dtype=np.float64)
    there = np.isfinite(given)
    numbers = given[there]
    places = np.searchsorted(np.asarray(known.cells.edges), numbers, side="left")
    cells = np.bincount(places, minlength=len(known.cells.counts))
    odd = int(((numbers < known.cells.low) | (numbers > known.cells.high)).sum())
    return Sketch(cells, int((~there).sum()), odd), places, there


def correlations(sketcher: Sketcher, columns: Mapping[str, Any], rows: int) -> tuple[NDArray[np.float64], NDArray[np.float64] | None]:
    """Correlations of the location scores over the rows of a reference, and how far those of its twentieths lie from them at most.

    The latter is None where they differ by no more than independent rows would: a mean square of Fisher's z over its variance of 1.2.
    """
    moments = sketcher.window(columns, rows).moments
    assert moments is not None
    whole, size = moments.correlations(), rows // CELLS
    if size < BLOCKS[0]:
        return whole, None
    spans = [slice(at * size, (at + 1) * size) for at in range(CELLS)]
    parts = [sketcher.window({name: values[span] for name, values in columns.items()}, size).moments for span in spans]
    blocks = np.stack([part.correlations() for part in parts if part is not None])
    z = (np.arctanh(blocks) - np.arctanh(np.clip(whole, -0.9999, 0.9999))) ** 2 * (size - 3)
    upper = np.triu_indices(len(whole), 1)
    if not len(upper[0]) or float(z[:, upper[0], upper[1]].mean()) < _PHI:
        return whole, None
    return whole, np.abs(blocks - whole).max(axis=0)
