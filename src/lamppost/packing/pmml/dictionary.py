"""Reads the data dictionary and the mining schema of a PMML document: which fields a row has, and what is done with odd values.

https://dmg.org/pmml/v4-4-1/DataDictionary.html and MiningSchema.html.
"""

from __future__ import annotations

import math
from collections.abc import Mapping
from dataclasses import dataclass, field, replace
from typing import Any

import numpy as np

from lamppost.packing.pmml.columns import Columns, ColumnValue
from lamppost.packing.pmml.document import Element

_NUMBERS = frozenset({"integer", "float", "double"})
_KNOWN_TYPES = ("string", "integer", "float", "double", "boolean")
_INPUTS = frozenset({"active", "supplementary", "group", "order", "frequencyWeight", "analysisWeight"})
_TARGETS = frozenset({"target", "predicted"})


@dataclass(frozen=True, slots=True)
class DataField:
    """A field of the data dictionary. values : that are listed as valid. intervals : (low, high, low is within, high is within).

    absent : texts that stand for a missing value.
    """

    element: Element
    name: str
    data_type: str
    optype: str
    values: tuple[str, ...]
    absent: tuple[str, ...]
    intervals: tuple[tuple[float, float, bool, bool], ...]

    @property
    def is_number(self) -> bool:
        """Whether its values are numbers that can be computed with."""
        return self.optype == "continuous"


@dataclass(slots=True)
class UsedField:
    """A field of a row as the model uses it. mining : the element of the outermost mining schema that names it.

    takes_missing : whether a part of the model says what it does with missing values. constants : texts that the model compares it
    with; of a category without listed values they are the choices.
    """

    declared: DataField
    mining: Element
    constants: list[str] = field(default_factory=list)
    takes_missing: bool = False

    def hints(self) -> dict[str, Any]:
        """Attributes of the field of a row that follow from the document."""
        name = self.declared.element.attributes.get("displayName")
        hints: dict[str, Any] = {} if name is None else {"meaning": name}
        treatment = self.mining.get("invalidValueTreatment", "returnInvalid")
        stated = self.mining.attributes.get("missingValueTreatment")
        if stated == "asIs" or (stated != "returnInvalid" and self.takes_missing):
            hints["missing"] = True
        if self.declared.is_number:
            hints["kind"] = "integer" if self.declared.data_type == "integer" else "number"
            if treatment == "returnInvalid" and len(self.declared.intervals) == 1:
                low, high, low_within, high_within = self.declared.intervals[0]
                whole = self.declared.data_type == "integer"
                if math.isfinite(low):
                    hints["low"] = low if low_within else low + 1 if whole else math.nextafter(low, math.inf)
                if math.isfinite(high):
                    hints["high"] = high if high_within else high - 1 if whole else math.nextafter(high, -math.inf)
            return hints
        if self.declared.data_type == "boolean":
            return hints | {"kind": "yes/no"}
        choices = self.categories
        refuses = treatment == "returnInvalid" and bool(self.declared.values)
        return hints | {"kind": "choice", "choices": list(choices), "unseen": "refuse" if refuses else "accept"}

    @property
    def categories(self) -> tuple[str, ...]:
        """The values that are told apart."""
        if self.declared.data_type == "boolean":
            return ("false", "true")
        known = self.declared.values or tuple(sorted(dict.fromkeys(self.constants))) or ("other",)
        return (*known, *(text for text in self.declared.absent if text not in known))


def read_dictionary(root: Element) -> dict[str, DataField]:
    """The fields of the data dictionary by name."""
    fields: dict[str, DataField] = {}
    dictionary = root.need("DataDictionary")
    dictionary.only("DataField", "Taxonomy")
    for element in dictionary.all("DataField"):
        element.only("Value", "Interval")
        name, optype = element.get("name"), element.one_of("optype", ("continuous", "categorical", "ordinal"))
        data_type = element.one_of("dataType", _KNOWN_TYPES)
        if optype == "continuous" and data_type not in _NUMBERS:
            element.refuse(f"{name} is continuous and of type {data_type}")
        kinds: dict[str, list[str]] = {"valid": [], "missing": [], "invalid": []}
        for value in element.all("Value"):
            kinds[value.one_of("property", ("valid", "missing", "invalid"), "valid")].append(value.get("value"))
        if kinds["missing"] and optype == "continuous":
            element.refuse(f"{name} has numbers that stand for a missing value, which is not supported; send null for these")
        intervals = tuple(_interval(one) for one in element.all("Interval"))
        if optype == "continuous" and kinds["valid"]:
            element.refuse(f"{name} is continuous and lists its values, which is not supported; declare it categorical")
        fields[name] = DataField(element, name, data_type, optype, tuple(kinds["valid"]), tuple(kinds["missing"]), intervals)
    return fields


def _interval(element: Element) -> tuple[float, float, bool, bool]:
    closure = element.one_of("closure", ("openClosed", "openOpen", "closedOpen", "closedClosed"))
    low, high = element.number("leftMargin", -math.inf), element.number("rightMargin", math.inf)
    return low, high, closure.startswith("closed"), closure.endswith("Closed")


def is_target(mining: Element) -> bool:
    """Whether a field of a mining schema is what is predicted."""
    return mining.get("usageType", "active") in _TARGETS


def target_of(schema: Element) -> str | None:
    """The name of what is predicted, if the mining schema says it."""
    return next((one.get("name") for one in schema.all("MiningField") if is_target(one)), None)


def used_fields(schema: Element, fields: Mapping[str, DataField]) -> dict[str, UsedField]:
    """The fields of a row, by the outermost mining schema."""
    used: dict[str, UsedField] = {}
    for element in schema.all("MiningField"):
        name = element.get("name")
        if element.get("usageType", "active") not in _INPUTS:
            continue
        if name not in fields:
            element.refuse(f"{name} is no field of the data dictionary")
        used[name] = UsedField(fields[name], element)
    return used


def treated(columns: Columns, value: ColumnValue, element: Element, field_of: DataField | None) -> ColumnValue:
    """A field as a model sees it after its mining schema: odd and missing values treated.

    element : the MiningField. field_of : of the data dictionary, None where an outer model gives the value.
    """
    number = value.categories is None
    if field_of is not None and field_of.absent:
        known = value.categories or ()
        gone = columns.among(value, [known.index(one) for one in field_of.absent if one in known])
        value = replace(value, name=columns.choose(gone.yes, columns.code(len(known) + 1), value))
    outliers = element.one_of("outliers", ("asIs", "asMissingValues", "asExtremeValues"), "asIs")
    if number and outliers != "asIs":
        low, high = element.number("lowValue"), element.number("highValue")
        below, above = columns.add("Less", value, columns.scalar(low)), columns.add("Greater", value, columns.scalar(high))
        extremes = (low, high) if outliers == "asExtremeValues" else (math.nan, math.nan)
        inner = columns.choose(above, columns.scalar(extremes[1]), value)
        value = replace(value, name=columns.choose(below, columns.scalar(extremes[0]), inner))
        value = replace(value, whole=value.whole and outliers == "asExtremeValues")
    value = _invalid_treated(columns, value, element, field_of)
    replacement = element.attributes.get("missingValueReplacement")
    if replacement is None:
        return value
    return replace(_filled(columns, value, columns.is_missing(value), replacement, element), whole=True)


def _invalid_treated(columns: Columns, value: ColumnValue, element: Element, field_of: DataField | None) -> ColumnValue:
    treatment = element.one_of("invalidValueTreatment", ("returnInvalid", "asIs", "asMissing", "asValue"), "returnInvalid")
    if field_of is None or treatment in ("returnInvalid", "asIs"):
        return value  # a row with an invalid value is refused by its schema
    if value.categories is not None:
        invalid = columns.add("Equal", value, columns.code(len(value.categories)))
    elif field_of.intervals:
        invalid = columns.negated(_within(columns, value, field_of)).yes
    else:
        return value
    if treatment == "asMissing":
        gone = columns.scalar(math.nan) if value.categories is None else columns.code(len(value.categories) + 1)
        return replace(value, name=columns.choose(invalid, gone, value), whole=False)
    return _filled(columns, value, invalid, element.get("invalidValueReplacement"), element)


def _within(columns: Columns, value: ColumnValue, field_of: DataField) -> Any:
    parts = []
    for low, high, low_within, high_within in field_of.intervals:
        above = columns.compared(value, "GreaterOrEqual" if low_within else "Greater", low)
        parts.append(columns.both(above, columns.compared(value, "LessOrEqual" if high_within else "Less", high)))
    result = parts[0]
    for part in parts[1:]:
        result = columns.either(result, part)
    return result


def _filled(columns: Columns, value: ColumnValue, where: str, text: str, element: Element) -> ColumnValue:
    """A column with a constant in some rows."""
    if value.categories is None:
        constant = element.as_number(text, "the replacement")
        by = columns.scalar(float(np.float32(constant)) if value.single else constant)
        return replace(value, name=columns.choose(where, by, value))
    place = value.categories.index(text) if text in value.categories else len(value.categories)
    return replace(value, name=columns.choose(where, columns.code(place), value))
