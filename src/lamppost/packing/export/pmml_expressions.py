"""Writes expressions as derived fields of a PMML document, with names for those that have one."""

from __future__ import annotations

import math
import xml.etree.ElementTree as ET
from collections.abc import Sequence
from dataclasses import dataclass

from lamppost.packing.export.answer_shape import ExportedModel
from lamppost.packing.export.code_tables import CodeTables
from lamppost.packing.export.expressions import Expression, Trees, constant, is_constant
from lamppost.packing.export.row_program import NoSuchForm

_MOST_IFS = 64
_APPLY = {
    "add": "+", "subtract": "-", "multiply": "*", "divide": "/", "absolute": "abs", "exponential": "exp", "logarithm": "ln", "root": "sqrt",
    "power": "pow", "tanh": "tanh", "floor": "floor", "less": "lessThan", "less_equal": "lessOrEqual", "equal": "equal", "and": "and",
    "or": "or", "not": "not", "choose": "if", "missing": "isMissing",
}  # fmt: skip
_COMPARED = frozenset({"less", "less_equal", "equal"})


def below(parent: ET.Element, tag: str, **attributes: str | float | int) -> ET.Element:
    """A new element within another."""
    return ET.SubElement(parent, tag, {key: _text(value) for key, value in attributes.items()})


def _text(value: str | float | int) -> str:
    return value if isinstance(value, str) else repr(value)


@dataclass(frozen=True, slots=True)
class TreeSum:
    """A segment that adds up trees. name : of what it gives."""

    name: str
    trees: Trees
    target: int
    features: tuple[Expression, ...]


class DerivedFields:
    """Names expressions, and writes those that need it as derived fields.

    early, late : the derived fields that stand before every tree, and those that read what trees have said. sums : sums of trees by
    what they are of. taken : names that are in use.
    """

    def __init__(self, model: ExportedModel, taken: set[str]) -> None:
        self.early, self.late = ET.Element("TransformationDictionary"), ET.Element("LocalTransformations")
        self.sums: dict[tuple[int, int, tuple[int, ...]], TreeSum] = {}
        self._taken = taken
        self._program = model.program
        self._fields = model.by_name
        self._names: dict[int, str] = {}
        self._above_trees: set[int] = set()
        counts = [2 if self._fields[name].kind == "yes/no" else len(self._fields[name].choices) for name in self._program.codes]
        self._tables = CodeTables(counts)

    def unused_name(self, wish: str) -> str:
        """A name that nothing has."""
        while wish in self._taken:
            wish += "_"
        self._taken.add(wish)
        return wish

    def write_statements(self, named: Sequence[Expression], with_trees: bool = True) -> None:
        """Derived fields for expressions that get a name, and segments for sums of trees."""
        for one in named:
            if one.operation != "trees":
                self.name_of(one)
                continue
            if any(self._reads_trees(part) for part in one.parts):
                raise NoSuchForm("the model reads what trees before it have said, which is not written as PMML")
            if with_trees:
                self.name_of(one)

    def _reads_trees(self, one: Expression) -> bool:
        stack, seen = [one], set()
        while stack:
            part = stack.pop()
            if part.operation == "trees" or id(part) in self._above_trees:
                return True
            if id(part) not in seen:
                seen.add(id(part))
                stack += part.parts
        return False

    def name_of(self, one: Expression) -> str:
        """The name of an expression: of a field, of a sum of trees, or of a derived field."""
        if one.operation == "number":
            return str(self._program.numbers[one.value])
        if one.operation == "trees":
            trees, target = one.value
            key = (id(trees), target, tuple(map(id, one.parts)))
            if key not in self.sums:
                self.sums[key] = TreeSum(self.unused_name(f"trees_{len(self.sums)}"), trees, target, one.parts)
            return self.sums[key].name
        if id(one) not in self._names:
            late = self._reads_trees(one)
            expression = self._written(one, whole=True)
            name = self.unused_name(f"value_{len(self._names)}")
            boolean = one.kind == "bool"
            derived = below(
                self.late if late else self.early,
                "DerivedField",
                name=name,
                optype="categorical" if boolean else "continuous",
                dataType="boolean" if boolean else "float" if one.operation == "single" else "double",
            )
            derived.append(expression)
            self._names[id(one)] = name
            if late:
                self._above_trees.add(id(one))
        return self._names[id(one)]

    def _written(self, one: Expression, whole: bool = False) -> ET.Element:
        """An expression. whole : written out, also where it has a name."""
        if is_constant(one):
            return _constant(one.value)
        if one.operation in ("number", "trees") or (not whole and (id(one) in self._names or one.operation == "single")):
            return ET.Element("FieldRef", {"field": self.name_of(one)})
        if (table := self._tables.table_of(one)) is not None:
            return self._table(one, *table)
        match one.operation:
            case "single":
                return self._written(one.parts[0])
            case "negate":
                return self._applied("*", constant(-1.0), one.parts[0])
            case "sigmoid":
                power = _nested("Apply", self._applied("*", constant(-1.0), one.parts[0]), function="exp")
                return _nested("Apply", _constant(1.0), _nested("Apply", _constant(1.0), power, function="+"), function="/")
            case "least" | "greatest":
                left, right = one.parts
                order = (left, right) if one.operation == "least" else (right, left)
                return _nested("Apply", self._applied("lessThan", *order), self._written(left), self._written(right), function="if")
            case "lookup":
                return self._looked_up(one)
        applied = self._applied(_APPLY.get(one.operation, ""), *one.parts)
        if one.operation not in _APPLY:
            raise NoSuchForm(f"the model computes {one.operation}, which is not written as PMML")
        if one.operation in _COMPARED:
            applied.set("mapMissingTo", "false")
        return applied

    def _applied(self, function: str, *parts: Expression) -> ET.Element:
        return _nested("Apply", *map(self._written, parts), function=function)

    def _looked_up(self, one: Expression) -> ET.Element:
        """A value by a number that was computed."""
        if len(one.value) > _MOST_IFS:
            raise NoSuchForm("the model looks values up by what it has computed, which is not written as PMML")
        (*others, (_, last)) = one.value.items()
        result = _constant(last)
        for place, value in reversed(others):
            same = _nested("Apply", self._written(one.parts[0]), _constant(float(place)), function="equal")
            result = _nested("Apply", same, _constant(value), result, function="if")
        return result

    def _table(self, one: Expression, place: int, values: Sequence[float]) -> ET.Element:
        """What depends on one field of choices alone, as a table. values : for each choice, for any other, and where it is missing."""
        field = self._fields[self._program.codes[place]]
        choices = ("false", "true") if field.kind == "yes/no" else field.choices
        *known, other, missing = (*values[: len(choices)], *values[-2:])
        ones = [at for at, value in enumerate(known) if value == 1]
        if one.kind != "bool" and len(ones) == 1 and all(value in (0, 1) for value in known) and (other, missing) == (0, 0):
            return ET.Element("NormDiscrete", {"field": field.name, "value": choices[ones[0]], "mapMissingTo": "0.0"})
        table = ET.Element("MapValues", {"outputColumn": "gives", "dataType": "double"})
        if not math.isnan(missing):
            table.set("mapMissingTo", repr(float(missing)))
        if not math.isnan(other):
            table.set("defaultValue", repr(float(other)))
            if any(math.isnan(value) for value in known):
                raise NoSuchForm(f"a choice of {field.name} becomes missing, which is not written as PMML")
        below(table, "FieldColumnPair", field=field.name, column="choice")
        rows = below(table, "InlineTable")
        for choice, value in zip(choices, known, strict=True):
            if not math.isnan(value):
                row = below(rows, "row")
                below(row, "choice").text = choice
                below(row, "gives").text = repr(float(value))
        if one.kind != "bool":
            return table
        return _nested("Apply", table, _constant(1.0), function="equal")


def _nested(tag: str, *children: ET.Element, **attributes: str) -> ET.Element:
    element = ET.Element(tag, attributes)
    element.extend(children)
    return element


def _constant(value: float | int | bool) -> ET.Element:
    if isinstance(value, bool):
        element = ET.Element("Constant", {"dataType": "boolean"})
        element.text = "true" if value else "false"
        return element
    if value != value:
        return ET.Element("Constant", {"missing": "true"})
    element = ET.Element("Constant", {"dataType": "double"})
    element.text = repr(max(min(float(value), 1.7976931348623157e308), -1.7976931348623157e308))
    return element
