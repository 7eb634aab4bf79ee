"""Reads the expressions of PMML: derived fields, functions, tables, norms.

https://dmg.org/pmml/v4-4-1/Transformations.html, Functions.html and BuiltinFunctions.html. Of a function of which an argument is missing
the result is missing, but for those that aggregate, which leave it out.
"""

from __future__ import annotations

import itertools
import math
from collections.abc import Callable, Mapping, Sequence
from dataclasses import dataclass, field, replace

from lamppost.packing.pmml.columns import Columns, ColumnValue, Truth
from lamppost.packing.pmml.document import Element
from lamppost.packing.pmml.functions import FUNCTIONS, as_number, is_number, recoded, rounded

EXPRESSIONS = ("Constant", "FieldRef", "NormContinuous", "NormDiscrete", "Discretize", "MapValues", "Apply")
_DEPTH = 200
_NAN = math.nan


@dataclass(slots=True)
class Scope:
    """Names that expressions can use. values : known columns. derived : derived fields that are not computed yet. functions : defined in
    the document. outer : the names around these.
    """

    columns: Columns
    values: dict[str, ColumnValue] = field(default_factory=dict)
    derived: dict[str, Element] = field(default_factory=dict)
    functions: Mapping[str, Element] = field(default_factory=dict)
    outer: Scope | None = None
    depth: int = 0
    _busy: set[str] = field(default_factory=set)

    def inner(self) -> Scope:
        """A scope within this one."""
        return Scope(self.columns, functions=self.functions, outer=self)

    def define(self, transformations: Element | None) -> None:
        """Add the derived fields of an element."""
        for element in () if transformations is None else transformations.all("DerivedField"):
            self.derived[element.get("name")] = element

    def value(self, name: str, element: Element) -> ColumnValue:
        """A column by name. element : that asks for it."""
        if name in self.values:
            return self.values[name]
        if name in self.derived:
            if name in self._busy:
                element.refuse(f"{name} is derived from itself")
            self._busy.add(name)
            self.values[name] = read_derived(self.derived[name], self)
            self._busy.discard(name)
            return self.values[name]
        if self.outer is None:
            element.refuse(f"there is no field {name!r} that it could read")
        return self.outer.value(name, element)


def read_derived(element: Element, scope: Scope) -> ColumnValue:
    """The column of a derived field."""
    element.only(*EXPRESSIONS, "Value", "Interval")
    value = read_expression(_expression_of(element), scope)
    data_type = element.one_of("dataType", ("double", "float", "integer", "string", "boolean"))
    listed = tuple(one.get("value") for one in element.all("Value"))
    if element.get("optype") == "ordinal" and listed and value.categories is not None:
        value = recoded(scope.columns, value, listed)
    if data_type == "float" and value.categories is None and not value.single:
        value = scope.columns.single(value)
    if data_type == "integer" and value.categories is None and element.get("optype") == "continuous":
        value = rounded(scope.columns, value)
    return replace(value, ordered=element.get("optype") == "ordinal", whole=_is_whole(element, scope))


def _is_whole(element: Element, scope: Scope) -> bool:
    """Whether a derived field cannot be missing."""
    expression = _expression_of(element)
    if "mapMissingTo" in expression.attributes and expression.tag in ("FieldRef", "NormDiscrete", "NormContinuous"):
        return expression.attributes.get("outliers") != "asMissingValues"
    if expression.tag not in ("FieldRef", "NormDiscrete", "NormContinuous") or expression.attributes.get("outliers") == "asMissingValues":
        return False
    return scope.value(expression.get("field"), expression).whole


def _expression_of(element: Element) -> Element:
    found = [child for child in element.children if child.tag in EXPRESSIONS]
    return found[0] if len(found) == 1 else element.refuse(f"it needs one expression ({', '.join(EXPRESSIONS)}) that is supported")


def read_expression(element: Element, scope: Scope) -> ColumnValue:
    """The column of an expression."""
    scope.depth += 1
    if scope.depth > _DEPTH:
        element.refuse(f"expressions are nested deeper than {_DEPTH}")
    try:
        return _READERS[element.tag](element, scope)
    finally:
        scope.depth -= 1


def _constant(element: Element, scope: Scope) -> ColumnValue:
    if element.get("missing", "false") == "true":
        return scope.columns.missing()
    text = element.text.strip()
    data_type = element.attributes.get("dataType")
    numeric = data_type in ("integer", "double", "float") or (data_type is None and is_number(text))
    if numeric:
        return scope.columns.filled(element.as_number(text))
    return _text_column(scope.columns, element.text)


def _text_column(columns: Columns, text: str) -> ColumnValue:
    always = columns.always(True)
    return ColumnValue(columns.choose(always.yes, columns.code(0), columns.code(2)), (text,))


def _field_ref(element: Element, scope: Scope) -> ColumnValue:
    value = scope.value(element.get("field"), element)
    return _mapped_missing(element, scope, value)


def _mapped_missing(element: Element, scope: Scope, value: ColumnValue, where: str | None = None) -> ColumnValue:
    """A column with what ``mapMissingTo`` says in place of missing values."""
    text = element.attributes.get("mapMissingTo")
    if text is None:
        return value
    columns = scope.columns
    where = columns.is_missing(value) if where is None else where
    if value.categories is None:
        return replace(value, name=columns.choose(where, columns.scalar(element.as_number(text, "mapMissingTo")), value))
    value = recoded(columns, value, tuple(dict.fromkeys((*value.categories, text))))
    return replace(value, name=columns.choose(where, columns.code((value.categories or ()).index(text)), value))


def number_of(element: Element, scope: Scope, name: str) -> ColumnValue:
    """A column that has to be a number; categories that are all numbers become these."""
    return as_number(element, scope.columns, scope.value(name, element), name)


# -- norms and tables ----------------------------------------------------------------------------------------------------------


def _norm_continuous(element: Element, scope: Scope) -> ColumnValue:
    norms = [(one.number("orig"), one.number("norm")) for one in element.all("LinearNorm")]
    if len(norms) < 2 or any(a[0] >= b[0] for a, b in itertools.pairwise(norms)):
        element.refuse("it needs two LinearNorm or more, in the order of orig")
    columns = scope.columns
    value = number_of(element, scope, element.get("field"))
    outliers = element.one_of("outliers", ("asIs", "asMissingValues", "asExtremeValues"), "asIs")
    result = _piecewise(columns, value, norms)
    below, above = columns.add("Less", value, columns.scalar(norms[0][0])), columns.add("Greater", value, columns.scalar(norms[-1][0]))
    if outliers != "asIs":
        ends = (norms[0][1], norms[-1][1]) if outliers == "asExtremeValues" else (_NAN, _NAN)
        result = columns.choose(below, columns.scalar(ends[0]), columns.choose(above, columns.scalar(ends[1]), result))
    return _mapped_missing(element, scope, ColumnValue(result), columns.is_missing(value))


def _piecewise(columns: Columns, value: ColumnValue, norms: Sequence[tuple[float, float]]) -> str:
    """Linear between the points, and beyond the ends as beside them."""
    lines = []
    for (left, low), (right, high) in itertools.pairwise(norms):
        slope = (high - low) / (right - left)
        moved = columns.add("Mul", columns.add("Sub", value, columns.scalar(left)), columns.scalar(slope))
        lines.append((right, columns.add("Add", moved, columns.scalar(low))))
    result = lines[-1][1]
    for right, line in reversed(lines[:-1]):
        result = columns.choose(columns.add("LessOrEqual", value, columns.scalar(right)), line, result)
    return result


def inverse_norms(element: Element) -> list[tuple[float, float]]:
    """The points of a NormContinuous the other way round, for what a network gives."""
    points = sorted((one.number("norm"), one.number("orig")) for one in element.all("LinearNorm"))
    if len(points) < 2 or any(a[0] == b[0] for a, b in itertools.pairwise(points)):
        element.refuse("its LinearNorm cannot be turned round")
    return points


def denormalised(columns: Columns, value: ColumnValue, element: Element) -> ColumnValue:
    """What a network gives for a NormContinuous, in the terms of the field."""
    return ColumnValue(_piecewise(columns, value, inverse_norms(element)))


def _norm_discrete(element: Element, scope: Scope) -> ColumnValue:
    columns = scope.columns
    value = scope.value(element.get("field"), element)
    truth = equal_to(element, columns, value, element.get("value"))
    missing = element.number("mapMissingTo", _NAN) if "mapMissingTo" in element.attributes else _NAN
    number = columns.choose(truth.yes, columns.scalar(1.0), columns.scalar(0.0))
    return ColumnValue(columns.choose(columns.is_missing(value), columns.scalar(missing), number))


def equal_to(element: Element, columns: Columns, value: ColumnValue, text: str) -> Truth:
    """Whether a column is a constant."""
    if value.categories is None:
        return columns.compared(value, "Equal", element.as_number(text))
    places = [at for at, one in enumerate(value.categories) if one == text or _same_number(one, text)]
    return columns.among(value, places)


def _same_number(left: str, right: str) -> bool:
    return is_number(left) and is_number(right) and float(left) == float(right)


def _discretize(element: Element, scope: Scope) -> ColumnValue:
    columns = scope.columns
    value = number_of(element, scope, element.get("field"))
    bins = list(element.all("DiscretizeBin"))
    texts = [one.get("binValue") for one in bins]
    default, missing = element.attributes.get("defaultValue"), element.attributes.get("mapMissingTo")
    categories = tuple(dict.fromkeys([*texts, *(one for one in (default, missing) if one is not None)]))
    count = len(categories)
    code = columns.code(count + 1 if default is None else categories.index(default))
    for one, text in reversed(list(zip(bins, texts, strict=True))):
        code = columns.choose(_in_interval(columns, value, one.need("Interval")), columns.code(categories.index(text)), code)
    gone = columns.code(count + 1 if missing is None else categories.index(missing))
    return ColumnValue(columns.choose(columns.is_missing(value), gone, code), categories)


def _in_interval(columns: Columns, value: ColumnValue, element: Element) -> str:
    closure = element.one_of("closure", ("openClosed", "openOpen", "closedOpen", "closedClosed"))
    parts = []
    if "leftMargin" in element.attributes:
        operator = "GreaterOrEqual" if closure.startswith("closed") else "Greater"
        parts.append(columns.compared(value, operator, element.number("leftMargin")).yes)
    if "rightMargin" in element.attributes:
        operator = "LessOrEqual" if closure.endswith("Closed") else "Less"
        parts.append(columns.compared(value, operator, element.number("rightMargin")).yes)
    if not parts:
        element.refuse("it has no margin")
    return parts[0] if len(parts) == 1 else columns.add("And", *parts)


def table_rows(element: Element) -> list[dict[str, str]]:
    """The rows of an InlineTable."""
    if element.find("TableLocator") is not None:
        element.refuse("its table lies outside of the document, which is not supported")
    return [{cell.tag: cell.text for cell in row.children} for row in element.need("InlineTable").all("row")]


def _map_values(element: Element, scope: Scope) -> ColumnValue:
    columns = scope.columns
    pairs = [(one.get("column"), scope.value(one.get("field"), element)) for one in element.all("FieldColumnPair")]
    if not pairs:
        element.refuse("it has no FieldColumnPair")
    output, rows = element.get("outputColumn"), table_rows(element)
    if lost := [name for row in rows for name in (output, *(column for column, _ in pairs)) if name not in row]:
        element.refuse(f"a row of its table has no {lost[0]}")
    default, missing = element.attributes.get("defaultValue"), element.attributes.get("mapMissingTo")
    texts = [row[output] for row in rows] + [one for one in (default, missing) if one is not None]
    numeric = element.get("dataType", "") in ("double", "float", "integer") or all(map(is_number, texts))
    categories = None if numeric else tuple(dict.fromkeys(texts))

    def coded(text: str | None) -> float | int:
        if categories is None:
            return _NAN if text is None else element.as_number(text)
        return len(categories) + 1 if text is None else categories.index(text)

    if len(pairs) == 1 and pairs[0][1].categories is not None:
        column, value = pairs[0]
        by_key = {row[column]: coded(row[output]) for row in reversed(rows)}
        values = [by_key.get(one, coded(default)) for one in value.categories or ()]
        return ColumnValue(columns.looked_up(value, values, coded(default), coded(missing)), categories)
    constant = columns.scalar if categories is None else columns.code
    result = constant(coded(default))  # type: ignore[arg-type]
    for row in reversed(rows):
        same = [equal_to(element, columns, value, row[column]).yes for column, value in pairs]
        yes = same[0]
        for other in same[1:]:
            yes = columns.add("And", yes, other)
        result = columns.choose(yes, constant(coded(row[output])), result)  # type: ignore[arg-type]
    gone = columns.is_missing(pairs[0][1])
    for _, value in pairs[1:]:
        gone = columns.add("Or", gone, columns.is_missing(value))
    return ColumnValue(columns.choose(gone, constant(coded(missing)), result), categories)  # type: ignore[arg-type]


# -- functions -----------------------------------------------------------------------------------------------------------------


def _apply(element: Element, scope: Scope) -> ColumnValue:
    name = element.get("function")
    if "invalidValueTreatment" in element.attributes:
        element.one_of("invalidValueTreatment", ("returnInvalid",))
    arguments = [read_expression(child, scope) for child in element.children if child.tag in EXPRESSIONS]
    element.only(*EXPRESSIONS)
    if name in scope.functions:
        return _call(scope.functions[name], arguments, element, scope)
    reader = FUNCTIONS.get(name)
    if reader is None:
        element.refuse(f"the function {name!r} is not supported")
    result = reader(element, scope.columns, name, arguments)
    default = element.attributes.get("defaultValue")
    if default is not None:
        element.refuse("defaultValue is not supported")
    return _mapped_missing(element, scope, result)


def _call(function: Element, arguments: list[ColumnValue], element: Element, scope: Scope) -> ColumnValue:
    """A function of the document."""
    names = [one.get("name") for one in function.all("ParameterField")]
    if len(names) != len(arguments):
        element.refuse(f"{function.get('name')} takes {len(names)} arguments, and gets {len(arguments)}")
    inner = Scope(scope.columns, dict(zip(names, arguments, strict=True)), functions=scope.functions, depth=scope.depth)
    return _mapped_missing(element, scope, read_expression(_expression_of(function), inner))


_READERS: dict[str, Callable[[Element, Scope], ColumnValue]] = {
    "Constant": _constant,
    "FieldRef": _field_ref,
    "NormContinuous": _norm_continuous,
    "NormDiscrete": _norm_discrete,
    "Discretize": _discretize,
    "MapValues": _map_values,
    "Apply": _apply,
}
