"""The built-in functions of PMML over columns: https://dmg.org/pmml/v4-4-1/Functions.html.

Of a function of which an argument is missing the result is missing, but for those that aggregate, which leave it out.
"""

from __future__ import annotations

import math
from collections.abc import Callable, Mapping, Sequence

import numpy as np

from lamppost.packing.pmml.columns import Columns, ColumnValue, Truth
from lamppost.packing.pmml.document import Element

_NAN = math.nan
_ARITHMETIC = {"+": "Add", "-": "Sub", "*": "Mul", "/": "Div", "pow": "Pow"}
_OF_ONE = {"exp": "Exp", "ln": "Log", "sqrt": "Sqrt", "abs": "Abs", "floor": "Floor", "tanh": "Tanh"}
_COMPARED = {"lessThan": "Less", "lessOrEqual": "LessOrEqual", "greaterThan": "Greater", "greaterOrEqual": "GreaterOrEqual"}
_ON_TEXT: Mapping[str, Callable[[str], str]] = {"uppercase": str.upper, "lowercase": str.lower, "trimBlanks": str.strip}


def is_number(text: str) -> bool:
    """Whether a text is a finite number."""
    try:
        return math.isfinite(float(text))
    except ValueError:
        return False


def rounded(columns: Columns, value: ColumnValue) -> ColumnValue:
    """The nearest whole number; of two, the greater one."""
    return columns.number("Floor", columns.number("Add", value, columns.scalar(0.5)))


def recoded(columns: Columns, value: ColumnValue, categories: tuple[str, ...]) -> ColumnValue:
    """A category with its values in another order, or with others."""
    if value.categories == categories:
        return value
    count = len(categories)
    places = [categories.index(one) if one in categories else count for one in value.categories or ()]
    return ColumnValue(columns.looked_up(value, places, count, count + 1), categories)


def as_number(element: Element, columns: Columns, value: ColumnValue, what: str = "an argument") -> ColumnValue:
    """A column as a number."""
    if value.categories is None:
        return value
    if value.categories == ("false", "true"):
        return ColumnValue(columns.looked_up(value, [0.0, 1.0], _NAN, _NAN))
    if not all(map(is_number, value.categories)):
        element.refuse(f"{what} is text, and a number is needed")
    return ColumnValue(columns.looked_up(value, [float(one) for one in value.categories], _NAN, _NAN))


def _need(element: Element, arguments: Sequence[ColumnValue], least: int, most: int) -> None:
    if not least <= len(arguments) <= most:
        element.refuse(f"{element.get('function')} takes {least if least == most else f'{least} to {most}'} arguments")


def _numbers(element: Element, columns: Columns, arguments: Sequence[ColumnValue]) -> list[ColumnValue]:
    return [as_number(element, columns, one) for one in arguments]


def _arithmetic(element: Element, columns: Columns, name: str, arguments: list[ColumnValue]) -> ColumnValue:
    _need(element, arguments, 1 if name == "-" else 2, 2)
    numbers = _numbers(element, columns, arguments)
    return columns.number("Neg", *numbers) if len(numbers) == 1 else columns.number(_ARITHMETIC[name], *numbers)


def _of_one(element: Element, columns: Columns, name: str, arguments: list[ColumnValue]) -> ColumnValue:
    _need(element, arguments, 1, 1)
    (number,) = _numbers(element, columns, arguments)
    if name == "log10":
        return columns.number("Mul", columns.number("Log", number), columns.scalar(1 / math.log(10)))
    if name == "ceil":
        return columns.number("Neg", columns.number("Floor", columns.number("Neg", number)))
    if name == "round":
        return rounded(columns, number)
    return columns.number(_OF_ONE[name], number)


def _modulo(element: Element, columns: Columns, _: str, arguments: list[ColumnValue]) -> ColumnValue:
    _need(element, arguments, 2, 2)
    left, right = _numbers(element, columns, arguments)
    whole = columns.number("Floor", columns.number("Div", left, right))
    return columns.number("Sub", left, columns.number("Mul", whole, right))


def _threshold(element: Element, columns: Columns, _: str, arguments: list[ColumnValue]) -> ColumnValue:
    _need(element, arguments, 2, 2)
    left, right = _numbers(element, columns, arguments)
    yes = columns.choose(columns.add("Greater", left, right), columns.scalar(1.0), columns.scalar(0.0))
    unknown = columns.add("Or", columns.is_missing(left), columns.is_missing(right))
    return ColumnValue(columns.choose(unknown, columns.scalar(_NAN), yes))


def _aggregate(element: Element, columns: Columns, name: str, arguments: list[ColumnValue]) -> ColumnValue:
    """min, max, sum, avg and product leave missing values out; without any other the result is missing."""
    _need(element, arguments, 1, 100_000)
    matrix = columns.joined(_numbers(element, columns, arguments)).name
    graph = columns.graph
    gone = graph.add("IsNaN", matrix)
    nothing = {"min": math.inf, "max": -math.inf, "product": 1.0}.get(name, 0.0)
    filled = graph.add("Where", gone, columns.scalar(nothing), matrix)
    axis = graph.constant(np.array([1]))
    there = graph.add("ReduceSum", graph.add("Where", gone, columns.scalar(0.0), columns.scalar(1.0)), axis, keepdims=1)
    if name in ("min", "max", "product"):
        operator = {"min": "Min", "max": "Max", "product": "Mul"}[name]
        parts = [graph.add("Gather", filled, graph.constant(np.array([at])), axis=1) for at in range(len(arguments))]
        result = parts[0]
        for part in parts[1:]:
            result = graph.add(operator, result, part)
    else:
        result = graph.add("ReduceSum", filled, axis, keepdims=1)
        result = graph.add("Div", result, there) if name == "avg" else result
    return ColumnValue(columns.choose(graph.add("Equal", there, columns.scalar(0.0)), columns.scalar(_NAN), result))


def _missing_test(element: Element, columns: Columns, name: str, arguments: list[ColumnValue]) -> ColumnValue:
    _need(element, arguments, 1, 1)
    gone = columns.is_missing(arguments[0])
    return columns.as_category(Truth(gone if name in ("isMissing",) else columns.add("Not", gone)))


def _compare(element: Element, columns: Columns, name: str, arguments: list[ColumnValue]) -> ColumnValue:
    _need(element, arguments, 2, 2)
    return columns.as_category(_compared(element, columns, name, *arguments))


def _compared(element: Element, columns: Columns, name: str, left: ColumnValue, right: ColumnValue) -> Truth:
    unknown = columns.add("Or", columns.is_missing(left), columns.is_missing(right))
    if left.categories is None and right.categories is None:
        if name in _COMPARED:
            return Truth(columns.add(_COMPARED[name], left, right), unknown)
        same = columns.add("Equal", left, right)
    elif name in _COMPARED:
        element.refuse(f"{name} compares numbers, and an argument is text")
    elif left.categories is not None and right.categories is not None:
        known = tuple(dict.fromkeys((*left.categories, *right.categories)))
        coded = recoded(columns, left, known), recoded(columns, right, known)
        same = columns.add("And", columns.add("Equal", *coded), columns.add("Less", coded[0], columns.code(len(known))))
    else:
        same = columns.add("Equal", *_numbers(element, columns, (left, right)))
    truth = Truth(columns.add("And", same, columns.add("Not", unknown)), unknown)
    return truth if name == "equal" else columns.negated(truth)


def _logic(element: Element, columns: Columns, name: str, arguments: list[ColumnValue]) -> ColumnValue:
    _need(element, arguments, 1 if name == "not" else 2, 1 if name == "not" else 100_000)
    truths = [columns.as_truth(one) for one in arguments]
    result = columns.negated(truths[0]) if name == "not" else truths[0]
    for truth in truths[1:]:
        result = columns.both(result, truth) if name == "and" else columns.either(result, truth)
    return columns.as_category(result)


def _within(element: Element, columns: Columns, name: str, arguments: list[ColumnValue]) -> ColumnValue:
    _need(element, arguments, 2, 100_000)
    truth = _compared(element, columns, "equal", arguments[0], arguments[1])
    for other in arguments[2:]:
        truth = columns.either(truth, _compared(element, columns, "equal", arguments[0], other))
    return columns.as_category(truth if name == "isIn" else columns.negated(truth))


def _if(element: Element, columns: Columns, _: str, arguments: list[ColumnValue]) -> ColumnValue:
    _need(element, arguments, 2, 3)
    truth = columns.as_truth(arguments[0])
    yes, no = arguments[1], arguments[2] if len(arguments) == 3 else None
    if yes.categories is None and (no is None or no.categories is None):
        gone = columns.scalar(_NAN)
        other = gone if no is None else no.name
        chosen, categories = columns.choose(truth.yes, yes, other), None
    else:
        if no is not None and (yes.categories is None or no.categories is None):
            element.refuse("it gives a number or text, and one kind is needed")
        categories = tuple(dict.fromkeys((*(yes.categories or ()), *(no.categories or () if no else ()))))
        gone = columns.code(len(categories) + 1)
        other = gone if no is None else recoded(columns, no, categories).name
        chosen = columns.choose(truth.yes, recoded(columns, yes, categories), other)
    return ColumnValue(chosen if truth.unknown is None else columns.choose(truth.unknown, gone, chosen), categories)


def _on_text(element: Element, columns: Columns, name: str, arguments: list[ColumnValue]) -> ColumnValue:
    _need(element, arguments, 1, 1)
    (value,) = arguments
    if value.categories is None:
        element.refuse(f"{name} needs text")
    made = [_ON_TEXT[name](one) for one in value.categories]
    categories = tuple(dict.fromkeys(made))
    places = [categories.index(one) for one in made]
    return ColumnValue(columns.looked_up(value, places, len(categories), len(categories) + 1), categories)


_Function = Callable[[Element, Columns, str, list[ColumnValue]], ColumnValue]
FUNCTIONS: dict[str, _Function] = {
    **dict.fromkeys(_ARITHMETIC, _arithmetic),
    **dict.fromkeys((*_OF_ONE, "log10", "ceil", "round"), _of_one),
    **dict.fromkeys(("min", "max", "sum", "avg", "product"), _aggregate),
    **dict.fromkeys(("isMissing", "isNotMissing"), _missing_test),
    **dict.fromkeys((*_COMPARED, "equal", "notEqual"), _compare),
    **dict.fromkeys(("and", "or", "not"), _logic),
    **dict.fromkeys(("isIn", "isNotIn"), _within),
    **dict.fromkeys(_ON_TEXT, _on_text),
    "modulo": _modulo,
    "threshold": _threshold,
    "if": _if,
}
