"""Columns of a graph as PMML sees them: numbers or categories that may be missing, and truths that may be unknown.

A column of numbers is a float64 tensor of shape (n_rows, 1), in which a missing value is NaN. A column of categories is an int64 tensor of
that shape with the place among the known categories, then one code for any other value, then one for a missing value.
"""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass
from typing import Any

import numpy as np
from onnx import TensorProto

from lamppost.packing.compiling.graph import Graph, Tensor


@dataclass(frozen=True, slots=True)
class ColumnValue:
    """A column. name : in the graph. categories : of a category, None for a number. single : whether it is rounded to 32 bits, as the
    constants are then that it is compared with. ordered : whether the categories are in order. whole : whether no value of it is missing.
    """

    name: str
    categories: tuple[str, ...] | None = None
    single: bool = False
    ordered: bool = False
    whole: bool = False


@dataclass(frozen=True, slots=True)
class Truth:
    """What is true of each row. yes : bool tensor. unknown : bool tensor, None where it is always known; never true where ``yes`` is."""

    yes: str
    unknown: str | None = None


class Columns:
    """Writes operations on columns into a graph."""

    INT64, DOUBLE = TensorProto.INT64, TensorProto.DOUBLE

    def __init__(self, graph: Graph, like: str) -> None:
        self.graph = graph
        self._like = like
        self._constants: dict[float, str] = {}
        self._codes: dict[int, str] = {}
        self._wide: dict[float, ColumnValue] = {}

    def scalar(self, value: float) -> str:
        """A constant that is broadcast."""
        if value != value:
            return self.graph.constant(np.float64(value))
        if value not in self._constants:
            self._constants[value] = self.graph.constant(np.float64(value))
        return self._constants[value]

    def filled(self, value: float) -> ColumnValue:
        """A column with the same number in every row."""
        if value != value:
            return ColumnValue(self._filled(value))
        if value not in self._wide:
            self._wide[value] = ColumnValue(self._filled(value), whole=True)
        return self._wide[value]

    def _filled(self, value: float) -> str:
        constant = self.scalar(value)
        return self.graph.add("Where", self.graph.add("IsNaN", self._like), constant, constant)  # as many rows as there are

    def missing(self) -> ColumnValue:
        """A column without values."""
        return self.filled(float("nan"))

    def add(self, operator: str, *parts: ColumnValue | str, **attributes: Any) -> str:
        """A node over columns or names."""
        return self.graph.add(operator, *(part if isinstance(part, str) else part.name for part in parts), **attributes)

    def number(self, operator: str, *parts: ColumnValue | str) -> ColumnValue:
        """A number that an operator makes of columns."""
        return ColumnValue(self.add(operator, *parts))

    def single(self, column: ColumnValue) -> ColumnValue:
        """A number rounded to 32 bits."""
        low = self.add("Cast", column, to=TensorProto.FLOAT)
        return ColumnValue(self.graph.add("Cast", low, to=TensorProto.DOUBLE), single=True)

    def is_missing(self, column: ColumnValue) -> str:
        """Which rows have no value."""
        if column.categories is None:
            return self.add("IsNaN", column)
        return self.add("Equal", column, self.code(len(column.categories) + 1))

    def code(self, place: int) -> str:
        """A constant among codes."""
        if place not in self._codes:
            self._codes[place] = self.graph.constant(np.int64(place))
        return self._codes[place]

    def choose(self, where: str, column: ColumnValue | str, other: ColumnValue | str) -> str:
        """One of two columns by row."""
        return self.add("Where", where, column, other)

    def as_category(self, truth: Truth) -> ColumnValue:
        """A category of false and true."""
        codes = self.choose(truth.yes, self.code(1), self.code(0))
        return ColumnValue(codes if truth.unknown is None else self.choose(truth.unknown, self.code(3), codes), ("false", "true"))

    def as_truth(self, column: ColumnValue) -> Truth:
        """What a category of false and true, or a number (0 is false), says."""
        unknown = self.is_missing(column)
        if column.categories is not None:
            at = column.categories.index("true") if "true" in column.categories else -1
            return Truth(self.add("Equal", column, self.code(at)), unknown)
        known = self.add("Not", self.add("Equal", column, self.scalar(0.0)))
        return Truth(self.add("And", known, self.add("Not", unknown)), unknown)

    def always(self, value: bool) -> Truth:
        """The same truth for every row."""
        return Truth(self.add("Equal", self.filled(1.0), self.scalar(1.0 if value else 0.0)))

    def negated(self, truth: Truth) -> Truth:
        """What is not true; what is unknown stays so."""
        opposite = self.add("Not", truth.yes)
        if truth.unknown is not None:
            opposite = self.add("And", opposite, self.add("Not", truth.unknown))
        return Truth(opposite, truth.unknown)

    def both(self, left: Truth, right: Truth) -> Truth:
        """And: false where one is false, whatever the other is."""
        yes = self.add("And", left.yes, right.yes)
        if left.unknown is None and right.unknown is None:
            return Truth(yes)
        known_false = self.add("Or", self._is_false(left), self._is_false(right))
        return Truth(yes, self.add("Not", self.add("Or", yes, known_false)))

    def either(self, left: Truth, right: Truth) -> Truth:
        """Or: true where one is true, whatever the other is."""
        yes = self.add("Or", left.yes, right.yes)
        if left.unknown is None and right.unknown is None:
            return Truth(yes)
        known_false = self.add("And", self._is_false(left), self._is_false(right))
        return Truth(yes, self.add("Not", self.add("Or", yes, known_false)))

    def differ(self, left: Truth, right: Truth) -> Truth:
        """Exclusive or; unknown where one is unknown."""
        sides = [(left.yes, right.yes), (right.yes, left.yes)]
        yes = self.add("Or", *(self.add("And", one, self.add("Not", other)) for one, other in sides))
        unknown = self._any_unknown(left, right)
        return Truth(yes if unknown is None else self.add("And", yes, self.add("Not", unknown)), unknown)

    def instead(self, left: Truth, right: Truth) -> Truth:
        """The first, and the second where the first is unknown."""
        if left.unknown is None:
            return left
        yes = self.add("Or", left.yes, self.add("And", left.unknown, right.yes))
        return Truth(yes, None if right.unknown is None else self.add("And", left.unknown, right.unknown))

    def _is_false(self, truth: Truth) -> str:
        return self.negated(truth).yes

    def _any_unknown(self, left: Truth, right: Truth) -> str | None:
        unknown = [one.unknown for one in (left, right) if one.unknown is not None]
        return None if not unknown else unknown[0] if len(unknown) == 1 else self.add("Or", *unknown)

    def compared(self, column: ColumnValue, operator: str, value: float) -> Truth:
        """What Equal, Less, LessOrEqual, Greater or GreaterOrEqual says of a number and a constant."""
        value = float(np.float32(value)) if column.single else value
        return Truth(self.add(operator, column, self.scalar(value)), self.is_missing(column))

    def among(self, column: ColumnValue, places: Sequence[int]) -> Truth:
        """Whether a category is one of some, by their places."""
        found = [self.add("Equal", column, self.code(place)) for place in places] or [self.add("Equal", column, self.code(-1))]
        yes = found[0]
        for other in found[1:]:
            yes = self.add("Or", yes, other)
        return Truth(yes, self.is_missing(column))

    def looked_up(self, column: ColumnValue, values: Sequence[float | int], other: float | int, missing: float | int) -> str:
        """A number or code for each category, another for values that are none of them, and for missing ones."""
        flat = self.graph.add("Reshape", column.name, self.graph.constant(np.array([-1])))
        table = np.array([[value] for value in (*values, other, missing)])
        return self.graph.add("Gather", self.graph.constant(table), flat, axis=0)

    def joined(self, columns: Sequence[ColumnValue]) -> Tensor:
        """Columns side by side."""
        return self.graph.join([Tensor(column.name, 1) for column in columns])

    def split(self, tensor: Tensor) -> list[ColumnValue]:
        """The columns of a tensor."""
        return [ColumnValue(self.graph.pick(tensor, [at]).name) for at in range(tensor.width)]
