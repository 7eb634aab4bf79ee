"""What the reference says of single values: how far apart two of them are, and which were seen together."""

from __future__ import annotations

import math
from bisect import bisect_right
from collections import Counter
from collections.abc import Mapping, Sequence
from typing import Any

import numpy as np
from numpy.typing import NDArray

from lamppost.core.explanation.asking import Row
from lamppost.core.schema.columns import to_microseconds
from lamppost.core.schema.fields import Field

_QUARTERS = 4
_LEAST = 1e-6
_OTHER_VALUE = 0.5
"""Distance between two values that have no order: half of the reference, as between a number and its most distant neighbour on average."""
ORDERED = ("number", "integer", "time")
LISTED = ("choice", "yes/no")


class FieldTraits:
    """One field over the rows of the reference. values : those that occur, in order. counts : of each, in rows. places : of the rows'
    values as numbers, NaN for none. ranks : of the same. cells : of the same, see `cell`.
    """

    def __init__(self, field: Field, reference: Sequence[Row]) -> None:
        self.field = field
        self.ordered = field.kind in ORDERED
        self.rows = [row.get(field.name) for row in reference]
        kept = [value for value in self.rows if value is not None]
        self.places = np.array([math.nan if value is None else self.place(value) for value in self.rows]) if self.ordered else np.zeros(0)
        self._sorted = np.sort(self.places[np.isfinite(self.places)])
        cuts = np.unique(np.quantile(self._sorted, np.linspace(0, 1, _QUARTERS + 1)[1:-1])) if len(self._sorted) else np.zeros(0)
        self._cuts: list[float] = cuts.tolist()
        known = dict(zip(map(self.place, kept), kept, strict=True)) if self.ordered else {}
        counts = Counter(map(self.place, kept) if self.ordered else kept if field.kind in LISTED else ())
        self.values: list[Any] = [known[place] for place in sorted(known)] if self.ordered else sorted(counts, key=repr)
        self.counts = [counts[self.place(value) if self.ordered else value] for value in self.values]
        self._cell_of = {} if self.ordered else {value: at for at, value in enumerate(self.values)}
        if self.ordered:
            self.ranks = self._ranks_of(self.places)
            self.cells = np.where(np.isfinite(self.places), np.searchsorted(cuts, self.places, side="right"), -1)
        else:
            self.ranks = np.zeros(0)
            self.cells = np.array([self.cell(value) for value in self.rows], dtype=np.int64)

    def place(self, value: Any) -> float:
        """A value of an ordered field as a number: of a time, microseconds since 1970."""
        return float(to_microseconds(value)) if isinstance(value, str) else float(value)

    def _ranks_of(self, places: NDArray[np.float64]) -> NDArray[np.float64]:
        low, high = np.searchsorted(self._sorted, places, side="left"), np.searchsorted(self._sorted, places, side="right")
        return np.asarray((low + high) / 2 / max(1, len(self._sorted)), dtype=np.float64)

    def distances_from(self, value: Any) -> NDArray[np.float64]:
        """How far the values of all rows are from a value: in quantiles of the reference, or a half where values have no order. 0 for the
        same value, infinite where a row has none.
        """
        if not self.ordered:
            return np.array([0.0 if other == value else np.inf if other is None else _OTHER_VALUE for other in self.rows])
        return np.where(np.isfinite(self.places), self._apart(value, self.places, self.ranks), np.inf)

    def distances(self, value: Any, others: Sequence[Any]) -> list[float]:
        """The same of other values than those of the rows; none of them is missing."""
        if not self.ordered:
            return [0.0 if other == value else _OTHER_VALUE for other in others]
        places = np.array([self.place(other) for other in others], dtype=np.float64)
        apart: list[float] = self._apart(value, places, self._ranks_of(places)).tolist()
        return apart

    def _apart(self, value: Any, places: NDArray[np.float64], ranks: NDArray[np.float64]) -> NDArray[np.float64]:
        place = self.place(value)
        rank = self._ranks_of(np.array([place]))[0]
        return np.where(places == place, 0.0, np.maximum(np.abs(ranks - rank), _LEAST))

    def cell(self, value: Any) -> int:
        """The quarter of the reference in which a number lies, or the index of a value without an order; -1 for any other value."""
        if value is None:
            return -1
        if self.ordered:
            return bisect_right(self._cuts, self.place(value))
        return self._cell_of.get(value, -1)


class SeenTogether:
    """Which values of two fields occur in one row of the reference; numbers by quarters."""

    def __init__(self, traits: Sequence[FieldTraits]) -> None:
        self._traits = list(traits)
        self._place_of = {trait.field.name: at for at, trait in enumerate(self._traits)}
        self._known: dict[tuple[int, int], set[tuple[int, int]]] = {}

    def cells_of(self, row: Row) -> list[int]:
        """The cells of a row's values."""
        return [trait.cell(row.get(trait.field.name)) for trait in self._traits]

    def fits(self, cells: Sequence[int], changed: Mapping[str, Any]) -> bool:
        """Whether each changed value was seen together with every other value of the row, as far as that one was seen. cells : of the
        row before.
        """
        new = {self._place_of[name]: self._traits[self._place_of[name]].cell(value) for name, value in changed.items()}
        after = [new.get(at, cell) for at, cell in enumerate(cells)]
        return all(
            second == first or other < 0 or (cell, other) in self._pairs(first, second)
            for first, cell in new.items()
            for second, other in enumerate(after)
        )

    def _pairs(self, first: int, second: int) -> set[tuple[int, int]]:
        key = (first, second)
        if key not in self._known:
            self._known[key] = set(zip(self._traits[first].cells.tolist(), self._traits[second].cells.tolist(), strict=True))
        return self._known[key]
