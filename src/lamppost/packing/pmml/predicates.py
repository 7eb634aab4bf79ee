"""Reads the predicates of PMML, whose truth may be unknown: https://dmg.org/pmml/v4-4-1/TreeModel.html."""

from __future__ import annotations

from lamppost.packing.pmml.columns import Columns, ColumnValue, Truth
from lamppost.packing.pmml.document import Element
from lamppost.packing.pmml.formulas import Scope, equal_to

PREDICATES = ("True", "False", "SimplePredicate", "SimpleSetPredicate", "CompoundPredicate")
COMPARISONS = {"lessThan": "Less", "lessOrEqual": "LessOrEqual", "greaterThan": "Greater", "greaterOrEqual": "GreaterOrEqual"}
_OPERATORS = ("equal", "notEqual", *COMPARISONS, "isMissing", "isNotMissing")


def predicate_of(element: Element) -> Element:
    """The predicate that an element has."""
    found = next((child for child in element.children if child.tag in PREDICATES), None)
    return element.refuse("it has no predicate") if found is None else found


def read_predicate(element: Element, scope: Scope) -> Truth:
    """What a predicate says of each row."""
    columns = scope.columns
    if element.tag in ("True", "False"):
        return columns.always(element.tag == "True")
    if element.tag == "CompoundPredicate":
        return _compound(element, scope)
    value = scope.value(element.get("field"), element)
    if element.tag == "SimpleSetPredicate":
        return _in_set(element, columns, value)
    operator = element.one_of("operator", _OPERATORS)
    if operator in ("isMissing", "isNotMissing"):
        gone = columns.is_missing(value)
        return Truth(gone if operator == "isMissing" else columns.add("Not", gone))
    text = element.get("value")
    if operator in ("equal", "notEqual"):
        truth = equal_to(element, columns, value, text)
        return truth if operator == "equal" else columns.negated(truth)
    if value.categories is None:
        return columns.compared(value, COMPARISONS[operator], element.as_number(text))
    return _by_order(element, columns, value, operator, text)


def _by_order(element: Element, columns: Columns, value: ColumnValue, operator: str, text: str) -> Truth:
    """How a category lies in the order of its values."""
    known = value.categories or ()
    if not value.ordered or text not in known:
        element.refuse(f"{operator} needs a number, or a value of an ordinal field that lists {text!r}")
    at = known.index(text)
    places = {"lessThan": range(at), "lessOrEqual": range(at + 1), "greaterThan": range(at + 1, len(known))}
    return columns.among(value, places.get(operator, range(at, len(known))))


def _in_set(element: Element, columns: Columns, value: ColumnValue) -> Truth:
    array = element.need("Array")
    texts = array.array()
    truths = [equal_to(array, columns, value, text) for text in dict.fromkeys(texts)]
    yes = columns.always(False).yes
    for truth in truths:
        yes = columns.add("Or", yes, truth.yes)
    truth = Truth(yes, columns.is_missing(value))
    return truth if element.one_of("booleanOperator", ("isIn", "isNotIn")) == "isIn" else columns.negated(truth)


def _compound(element: Element, scope: Scope) -> Truth:
    columns = scope.columns
    operator = element.one_of("booleanOperator", ("and", "or", "xor", "surrogate"))
    element.only(*PREDICATES)
    parts = [read_predicate(child, scope) for child in element.children if child.tag in PREDICATES]
    if not parts:
        element.refuse("it holds no predicate")
    combine = {"and": columns.both, "or": columns.either, "xor": columns.differ, "surrogate": columns.instead}[operator]
    result = parts[0]
    for part in parts[1:]:
        result = combine(result, part)
    return result


def fields_of(element: Element, scope: Scope) -> list[ColumnValue]:
    """The columns that a predicate reads."""
    own = [scope.value(element.attributes["field"], element)] if "field" in element.attributes else []
    return own + [value for child in element.children if child.tag in PREDICATES for value in fields_of(child, scope)]
