"""Finds what depends on one field of choices alone, and tabulates it by the choice."""

from __future__ import annotations

import math
from collections.abc import Callable, Sequence
from typing import Any

import numpy as np

from lamppost.packing.export.expressions import Expression

_MANY = -2
_NONE = -1
_COMPUTE: dict[str, Callable[..., Any]] = {
    "add": lambda a, b: a + b,
    "subtract": lambda a, b: a - b,
    "multiply": lambda a, b: a * b,
    "divide": lambda a, b: np.float64(a) / np.float64(b),
    "negate": lambda a: -a,
    "absolute": abs,
    "exponential": np.exp,
    "logarithm": np.log,
    "root": np.sqrt,
    "power": lambda a, b: np.float64(a) ** b,
    "tanh": np.tanh,
    "floor": np.floor,
    "least": np.minimum,
    "greatest": np.maximum,
    "less": lambda a, b: a < b,
    "less_equal": lambda a, b: a <= b,
    "equal": lambda a, b: a == b,
    "and": lambda a, b: a and b,
    "or": lambda a, b: a or b,
    "not": lambda a: not a,
    "choose": lambda a, b, c: b if a else c,
    "missing": lambda a: isinstance(a, float) and math.isnan(a),
    "single": lambda a: float(np.float32(a)),
}


class CodeTables:
    """counts : values of each code, without the one that was never seen and the missing one."""

    def __init__(self, counts: Sequence[int]) -> None:
        self._counts = counts
        self._reads: dict[int, int] = {}
        self._kept: list[Expression] = []

    def table_of(self, one: Expression) -> tuple[int, list[float]] | None:
        """The place of the one code that an expression depends on, and its value for each of the code's values; None if it depends on
        anything else, or on nothing.
        """
        place = self._read(one)
        if place < 0:
            return None
        with np.errstate(all="ignore"):
            try:
                return place, [float(_value(one, code)) for code in range(self._counts[place] + 2)]
            except (KeyError, IndexError):
                return None

    def _read(self, root: Expression) -> int:
        """The place of the code that is read; other values for none, and for more or other things."""
        stack = [(root, False)]
        while stack:
            one, done = stack.pop()
            if id(one) in self._reads:
                continue
            if not one.parts:
                leaf = {"code": one.value, "constant": _NONE}.get(one.operation, _MANY)
                self._note(one, int(leaf))
            elif one.operation == "trees":
                self._note(one, _MANY)
            elif done:
                found = {self._reads[id(part)] for part in one.parts} - {_NONE}
                self._note(one, _NONE if not found else found.pop() if len(found) == 1 else _MANY)
            else:
                stack.append((one, True))
                stack += [(part, False) for part in one.parts]
        return self._reads[id(root)]

    def _note(self, one: Expression, reads: int) -> None:
        self._reads[id(one)] = reads
        self._kept.append(one)  # an id is good for as long as what it is of


def _value(one: Expression, code: int) -> Any:
    if one.operation == "constant":
        return one.value
    if one.operation == "code":
        return code
    if one.operation == "lookup":
        return one.value[_value(one.parts[0], code)]
    return _COMPUTE[one.operation](*(_value(part, code) for part in one.parts))
