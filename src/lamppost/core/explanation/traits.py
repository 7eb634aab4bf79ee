"""What the reference says of single values: how far apart two of them are, and which were seen together."""

from __future__ import annotations

from collections.abc import Sequence
from typing import Any

import numpy as np

from lamppost.core.explanation.asking import Row
from lamppost.core.schema.columns import to_microseconds
from lamppost.core.schema.fields import Field

_QUARTERS = 4
_OTHER_VALUE = 0.5
"""Distance between two values that have no order: half of the reference, as between a number and its most distant neighbour on average."""
ORDERED = ("number", "integer", "time")
LISTED = ("choice", "yes/no")


class FieldTraits:
    """One field over the rows of the reference. values : those that occur, in order. counts : of each, in rows."""

    def __init__(self, field: Field, reference: Sequence[Row]) -> None:
        self.field = field
        self.ordered = field.kind in ORDERED
        there = [row.get(field.name) for row in reference]
        kept = [value for value in there if value is not None]
        known = sorted(set(kept), key=self.place) if self.ordered else sorted(set(map(_hashable, kept)), key=repr)
        self.values: list[Any] = known if self.ordered or field.kind in LISTED else []
        places = np.array([self.place(value) for value in known]) if self.ordered else np.zeros(0)
        self._places = places
        self._sorted = np.sort(np.array([self.place(value) for value in kept])) if self.ordered else np.zeros(0)
        self.counts = [kept.count(value) for value in self.values] if not self.ordered else self._counts()
        self._cuts = np.unique(np.quantile(self._sorted, np.linspace(0, 1, _QUARTERS + 1)[1:-1])) if len(self._sorted) else np.zeros(0)
        self.cells = np.array([self.cell(value) for value in there], dtype=np.int64)

    def _counts(self) -> list[int]:
        lows = np.searchsorted(self._sorted, self._places, side="left")
        highs = np.searchsorted(self._sorted, self._places, side="right")
        counts: list[int] = (highs - lows).tolist()
        return counts

    def place(self, value: Any) -> float:
        """A value of an ordered field as a number: of a time, microseconds since 1970."""
        return float(to_microseconds(value)) if isinstance(value, str) else float(value)

    def rank(self, value: Any) -> float:
        """The part of the reference's values below it, half of those that are equal included; from 0 to 1."""
        if not len(self._sorted):
            return 0.5
        place = self.place(value)
        low, high = np.searchsorted(self._sorted, place, side="left"), np.searchsorted(self._sorted, place, side="right")
        return float((low + high) / 2 / len(self._sorted))

    def distance(self, before: Any, after: Any) -> float:
        """How far apart two values are: in quantiles of the reference, or a half where values have no order or one is missing."""
        if before == after:
            return 0.0
        if not self.ordered or before is None or after is None:
            return _OTHER_VALUE
        return max(abs(self.rank(before) - self.rank(after)), 1e-6)

    def cell(self, value: Any) -> int:
        """The quarter of the reference in which a number lies, or the index of a value without an order; -1 for any other value."""
        if value is None:
            return -1
        if self.ordered:
            return int(np.searchsorted(self._cuts, self.place(value), side="right"))
        return self.values.index(value) if value in self.values else -1


def _hashable(value: Any) -> Any:
    return value if isinstance(value, (str, bool, int, float)) else repr(value)


class SeenTogether:
    """Which values of two fields occur in one row of the reference; numbers by quarters."""

    def __init__(self, traits: Sequence[FieldTraits]) -> None:
        self._traits = list(traits)
        self._known: dict[tuple[int, int], set[tuple[int, int]]] = {}

    def fits(self, row: Row, changed: Sequence[str]) -> bool:
        """Whether each changed value was seen together with every other value of the row, as far as that one was seen at all."""
        cells = [trait.cell(row.get(trait.field.name)) for trait in self._traits]
        for first, trait in enumerate(self._traits):
            if trait.field.name not in changed:
                continue
            for second, cell in enumerate(cells):
                if second != first and cell >= 0 and (cells[first], cell) not in self._pairs(first, second):
                    return False
        return True

    def _pairs(self, first: int, second: int) -> set[tuple[int, int]]:
        key = (first, second)
        if key not in self._known:
            self._known[key] = set(zip(self._traits[first].cells.tolist(), self._traits[second].cells.tolist(), strict=True))
        return self._known[key]
