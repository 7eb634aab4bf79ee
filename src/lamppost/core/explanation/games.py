"""What takes part in an explanation: the parts of a row, and what stands in for a part that is left out.

Fields are replaced by those of a row of the reference, together where they move together. Words are left out of a text.
"""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from dataclasses import dataclass
from typing import Any, Protocol

import numpy as np
from numpy.typing import NDArray

from lamppost.core.explanation.asking import Matrix, Row
from lamppost.core.monitoring.quality import is_number

TOGETHER = 0.8
"""Correlation in the reference over which two fields can be taken as one."""
_CATEGORIES = 12


class Game(Protocol):
    """The parts of one row.

    parts : their names. backgrounds : how many ways there are to leave parts out, all of them alike.
    """

    @property
    def row(self) -> Row:
        """The row that is explained."""

    @property
    def parts(self) -> Sequence[tuple[str, ...]]:
        """The names of each part's fields, or of the part itself."""

    @property
    def backgrounds(self) -> int:
        """The number of backgrounds."""

    def compose(self, present: NDArray[np.bool_], background: int) -> Row:
        """The row with those parts left out that are not present."""

    def covariates(self, part: int) -> Matrix:
        """For each background what a part is replaced by, as numbers that a line can be drawn through."""


@dataclass(frozen=True, slots=True)
class FieldGame:
    """Fields of a row, replaced by those of rows of the reference."""

    row: Row
    parts: Sequence[tuple[str, ...]]
    reference: Sequence[Row]

    @property
    def backgrounds(self) -> int:
        """The number of rows of the reference."""
        return len(self.reference)

    def compose(self, present: NDArray[np.bool_], background: int) -> Row:
        """The row with the fields of absent parts as another row has them."""
        other = self.reference[background]
        return {
            **self.row,
            **{name: other.get(name) for part, there in zip(self.parts, present, strict=True) if not there for name in part},
        }

    def covariates(self, part: int) -> Matrix:
        """A number as it is, with a mark where it is missing; a mark for each of the most frequent values of anything else."""
        columns: list[NDArray[np.float64]] = []
        if not self.reference:
            return np.ones((0, 1))
        for name in self.parts[part]:
            values = [row.get(name) for row in self.reference]
            columns += _numbers(values) if all(value is None or is_number(value) for value in values) else _categories(values)
        return np.column_stack([np.ones(len(self.reference)), *columns])


def _numbers(values: Sequence[Any]) -> list[NDArray[np.float64]]:
    missing = np.array([value is None for value in values], dtype=np.float64)
    numbers = np.array([0.0 if value is None else float(value) for value in values])
    spread = float(numbers.std()) or 1.0
    scaled = (numbers - numbers.mean()) / spread
    return [scaled, missing] if missing.any() else [scaled]


def _categories(values: Sequence[Any]) -> list[NDArray[np.float64]]:
    texts = np.array([repr(value) for value in values])
    names, counts = np.unique(texts, return_counts=True)
    frequent = names[np.argsort(-counts, kind="stable")][:_CATEGORIES]
    return [(texts == name).astype(np.float64) for name in frequent[1:]]


def fields_together(names: Sequence[str], pairs: Mapping[tuple[str, str], float]) -> list[tuple[str, ...]]:
    """Fields in groups of those that move together. pairs : correlation of two fields in the reference."""
    group = {name: name for name in names}

    def head(name: str) -> str:
        while group[name] != name:
            name = group[name]
        return name

    for (first, second), correlation in pairs.items():
        if abs(correlation) > TOGETHER and first in group and second in group:
            group[head(second)] = head(first)
    groups: dict[str, list[str]] = {}
    for name in names:
        groups.setdefault(head(name), []).append(name)
    return [tuple(members) for members in groups.values()]
