"""Expressions over the fields of one row: what a compiled graph computes, as values that writers of other languages can walk."""

from __future__ import annotations

import math
from collections.abc import Iterable, Sequence
from dataclasses import dataclass, field
from typing import Any, Literal

Operation = Literal[
    "constant", "number", "code", "add", "subtract", "multiply", "divide", "negate", "absolute", "exponential", "logarithm", "root",
    "power", "tanh", "sigmoid", "floor", "least", "greatest", "less", "less_equal", "equal", "and", "or", "not", "choose", "missing",
    "single", "whole", "lookup", "trees",
]  # fmt: skip
Value = float | int | bool


@dataclass(frozen=True, slots=True, eq=False)
class Expression:
    """A value of one row. kind : what it is. parts : of what it is made, in order.

    value : of a constant; the place of a field among numbers or codes; the values of a lookup, by the index; or the trees and the target
    of a sum of trees. A missing number is NaN.
    """

    operation: Operation
    kind: Literal["float", "int", "bool"]
    parts: tuple[Expression, ...] = ()
    value: Any = None


@dataclass(frozen=True, slots=True)
class TreeNode:
    """A split, or a leaf where ``feature`` is -1. yes, no : places of the next nodes. less : whether it asks for ``<`` and not ``<=``.

    missing_yes : where a missing value goes. weights : of a leaf, target to weight.
    """

    feature: int
    threshold: float = 0.0
    yes: int = 0
    no: int = 0
    less: bool = False
    missing_yes: bool = False
    weights: tuple[tuple[int, float], ...] = ()


@dataclass(frozen=True, slots=True, eq=False)
class Trees:
    """An ensemble whose leaves are added. nodes : of all trees. roots : where each begins. targets : how many sums there are."""

    nodes: tuple[TreeNode, ...]
    roots: tuple[int, ...]
    targets: int


@dataclass(frozen=True, slots=True)
class RowProgram:
    """What is computed of one row. numbers, codes : names of the fields in their order. outputs : by name, an expression for each value."""

    numbers: tuple[str, ...]
    codes: tuple[str, ...]
    outputs: dict[str, tuple[Expression, ...]] = field(default_factory=dict)


def constant(value: Value) -> Expression:
    """A constant."""
    kind: Any = "bool" if isinstance(value, bool) else "int" if isinstance(value, int) else "float"
    return Expression("constant", kind, (), value)


def is_constant(expression: Expression) -> bool:
    """Whether an expression is a constant."""
    return expression.operation == "constant"


def combine(operation: Operation, kind: Any, *parts: Expression) -> Expression:
    """An operation on expressions, computed at once where all of them are constants."""
    if all(map(is_constant, parts)) and (known := _compute(operation, [part.value for part in parts])) is not None:
        return constant(known)
    if operation == "add" and (zero := _without_zero(parts)) is not None:
        return zero
    if operation == "multiply" and any(is_constant(part) and part.value == 1 for part in parts):
        return next((part for part in parts if not (is_constant(part) and part.value == 1)), parts[0])
    if operation == "choose" and is_constant(parts[0]):
        return parts[1] if parts[0].value else parts[2]
    if operation == "choose" and is_constant(parts[1]) and is_constant(parts[2]) and parts[1].value == parts[2].value:
        return parts[1]
    if operation in ("and", "or") and (known := next((part for part in parts if is_constant(part)), None)) is not None:
        other = parts[1] if known is parts[0] else parts[0]
        return other if known.value == (operation == "and") else known
    return Expression(operation, kind, parts)


def _without_zero(parts: Sequence[Expression]) -> Expression | None:
    kept = [part for part in parts if not (is_constant(part) and part.value == 0)]
    return kept[0] if len(kept) == 1 and len(parts) == 2 else None


def _compute(operation: Operation, values: list[Any]) -> Any:
    """The result for constants; None where it is left to the writer."""
    try:
        match operation:
            case "add":
                return values[0] + values[1]
            case "subtract":
                return values[0] - values[1]
            case "multiply":
                return values[0] * values[1]
            case "divide":
                return values[0] / values[1] if isinstance(values[0], float) and values[1] else None
            case "negate":
                return -values[0]
            case "missing":
                return isinstance(values[0], float) and math.isnan(values[0])
            case "choose":
                return values[1] if values[0] else values[2]
            case "equal":
                return values[0] == values[1]
            case "less":
                return values[0] < values[1]
            case "less_equal":
                return values[0] <= values[1]
            case "and":
                return values[0] and values[1]
            case "or":
                return values[0] or values[1]
            case "not":
                return not values[0]
            case _:
                return None
    except (OverflowError, ValueError):
        return None


def int_range(expression: Expression, code_counts: Sequence[int]) -> tuple[int, int] | None:
    """The least and the greatest value of a whole number; None where that is not known. code_counts : values of each code."""
    if expression.operation == "constant" and expression.kind == "int":
        return expression.value, expression.value
    if expression.operation == "code":
        return 0, code_counts[expression.value] - 1
    if expression.operation in ("add", "subtract"):
        ranges = [int_range(part, code_counts) for part in expression.parts]
        if ranges[0] is not None and ranges[1] is not None:
            (a, b), (c, d) = ranges[0], ranges[1]
            return (a + c, b + d) if expression.operation == "add" else (a - d, b - c)
    return None


def lookup(values: Sequence[Value], index: Expression, code_counts: Sequence[int]) -> Expression:
    """A value by its index; a constant where all that can be looked up are the same."""
    if is_constant(index):
        return constant(values[index.value])
    reach = int_range(index, code_counts)
    low, high = (0, len(values) - 1) if reach is None else (max(0, reach[0]), min(len(values) - 1, reach[1]))
    within = {place: values[place] for place in range(low, high + 1)}
    if len(set(within.values())) == 1:
        return constant(next(iter(within.values())))
    kind: Any = "int" if all(isinstance(value, int) for value in values) else "float"
    return Expression("lookup", kind, (index,), within)


def statements(outputs: Iterable[Expression], inline: int = 1, deepest: int = 25) -> list[Expression]:
    """The expressions that get a name of their own, each after those that it is made of: those that are used several times, trees, and
    what would be nested deeper than languages allow.

    inline : how often an expression may be used and still be written where it is used. deepest : how deep expressions may be nested.
    """
    uses: dict[int, int] = {}
    order: list[Expression] = []
    seen: set[int] = set()
    roots = list(outputs)
    stack: list[tuple[Expression, bool]] = [(root, False) for root in reversed(roots)]
    for root in roots:
        uses[id(root)] = uses.get(id(root), 0) + 1
    while stack:
        one, done = stack.pop()
        if done:
            order.append(one)
            continue
        if id(one) in seen:
            continue
        seen.add(id(one))
        stack.append((one, True))
        for part in one.parts:
            uses[id(part)] = uses.get(id(part), 0) + 1
            stack.append((part, False))
    named: list[Expression] = []
    depths: dict[int, int] = {}
    for one in order:
        depth = 1 + max((depths[id(part)] for part in one.parts), default=-1)
        if one.parts and (uses[id(one)] > inline or one.operation == "trees" or depth >= deepest):
            named.append(one)
            depth = 0
        depths[id(one)] = depth
    return named
