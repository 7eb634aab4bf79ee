"""The validation plan of an input schema: request bytes in, rows or faults out.

One plan is built per version and used for every request. JSON goes through pydantic-core in one pass; only when something is
wrong is the body looked at a second time, to say where and what.

A body is one row as an object, or ``{"rows": [row, …]}``. Every row that comes out has every field of the schema, in order,
with None where a value is missing.
"""

from __future__ import annotations

import re
from collections.abc import Iterable
from dataclasses import dataclass
from typing import Any

import orjson
from pydantic_core import ErrorDetails, SchemaValidator, ValidationError, from_json
from pydantic_core import core_schema as cs

from lamppost.core.errors import BadJson, Fault, InvalidRows, PackageRefused, TooManyRows
from lamppost.core.fields import INT_HIGH, INT_LOW, MAX_TEXT, Field, Schema, Value, pick
from lamppost.core.names import closest

Row = dict[str, Value]

MAX_ROWS = 10_000
MAX_FAULTS = 50
_SHOWN = 80
_NUMBER = re.compile(r"[-+]?(\d+(\.\d*)?|\.\d+)([eE][-+]?\d+)?")
_ROWS_FIRST = re.compile(rb'[ \t\r\n]*\{[ \t\r\n]*"rows"[ \t\r\n]*:')


@dataclass(frozen=True, slots=True)
class Rows:
    """The rows of one request; ``alone`` says that it was one plain object, so that the answer is one too."""

    rows: list[Row]
    alone: bool


def _value_schema(field: Field) -> cs.CoreSchema:
    schema: cs.CoreSchema
    if field.kind == "number":
        schema = cs.float_schema(strict=True, allow_inf_nan=False, ge=field.low, le=field.high)
    elif field.kind == "integer":
        low = INT_LOW if field.low is None else max(INT_LOW, int(field.low))
        high = INT_HIGH if field.high is None else min(INT_HIGH, int(field.high))
        schema = cs.int_schema(strict=True, ge=low, le=high)
    elif field.kind == "yes/no":
        schema = cs.bool_schema(strict=True)
    elif field.kind == "choice" and field.unseen == "refuse":
        schema = cs.literal_schema(list(field.choices))
    elif field.kind in ("choice", "text"):
        schema = cs.str_schema(strict=True, max_length=MAX_TEXT)
    else:
        raise PackageRefused(f"field {field.name!r}: a {field.kind} cannot be an input")
    return cs.nullable_schema(schema) if field.missing else schema


def _row_schema(schema: Schema) -> cs.CoreSchema:
    entries = {}
    for field in schema:
        value = _value_schema(field)
        if field.missing:
            value = cs.with_default_schema(value, default=None)
        entries[field.name] = cs.typed_dict_field(value, required=not field.missing)
    return cs.typed_dict_schema(entries, extra_behavior="forbid")


class Plan:
    """How requests for one input schema are read.

    >>> Plan(Schema((Field("x", "number"),))).read(b'{"x": 1}')
    Rows(rows=[{'x': 1.0}], alone=True)
    """

    def __init__(self, schema: Schema, max_rows: int = MAX_ROWS) -> None:
        self.schema = schema
        self.max_rows = max_rows
        row = _row_schema(schema)
        self._one = SchemaValidator(row)
        rows = cs.list_schema(row, min_length=1, max_length=max_rows)
        self._many = SchemaValidator(cs.typed_dict_schema({"rows": cs.typed_dict_field(rows)}, extra_behavior="forbid"))

    def read(self, body: bytes) -> Rows:
        """Rows of a JSON body; raise BadJson, TooManyRows, or InvalidRows with every fault (50 at most)."""
        many = _ROWS_FIRST.match(body) is not None or (b'"rows"' in body and _has_rows(body))
        try:
            if many:
                return Rows(self._many.validate_json(body)["rows"], alone=False)
            return Rows([self._one.validate_json(body)], alone=True)
        except ValidationError as error:
            raise self._explain(error, many) from None

    def read_rows(self, rows: Iterable[Any]) -> list[Row]:
        """Check rows that are Python values already (of a proof, say), by the same rules."""
        return self.read(orjson.dumps({"rows": list(rows)})).rows

    def _explain(self, error: ValidationError, many: bool) -> BadJson | TooManyRows | InvalidRows:
        example = {"rows": [self.schema.example()]} if many else self.schema.example()
        faults: list[Fault] = []
        for detail in error.errors(include_url=False, include_context=True):
            kind, place = detail["type"], detail["loc"]
            if kind == "json_invalid":
                where = str(detail["ctx"]["error"])
                return BadJson(f"the body is not JSON: {where}; send an object such as the example", example=example)
            if kind == "too_long":
                return TooManyRows(
                    f"one request may have {self.max_rows} rows, this one has more; send them in several requests", max_rows=self.max_rows
                )
            if kind == "too_short":
                return InvalidRows("the list of rows is empty; send at least one row", example=example, faults=[])
            if place in ((), ("rows",)):
                return BadJson(
                    f"given {shorten(detail['input'])}, expected {'a list of rows under rows' if many else 'one row as an object'}",
                    example=example,
                )
            if many and place[0] != "rows":
                return BadJson(f"the key {place[0]!r} stands beside rows; send the rows alone", example=example)
            if len(faults) < MAX_FAULTS:
                row, rest = (int(place[1]), place[2:]) if many else (0, place)
                faults.append(self._fault(detail, row, str(rest[0]) if rest else None))
        count = error.error_count()
        more = f"; and {count - 1} more fault{'s' if count > 2 else ''}" if count > 1 else ""
        return InvalidRows(faults[0].sentence() + more, faults=[fault.to_dict() for fault in faults], fault_count=count, example=example)

    def _fault(self, detail: ErrorDetails, row: int, name: str | None) -> Fault:
        given = shorten(detail["input"])
        if name is None:
            return Fault(row, None, given, "one row as an object")
        if detail["type"] == "missing":
            field = pick(self.schema, name)
            assert field is not None
            return Fault(row, name, "nothing", field.wanted(), "add this field")
        field = pick(self.schema, name)
        if field is None:
            like = closest(name, self.schema.names)
            hint = f"did you mean {like}?" if like else f"leave it out; the fields are {', '.join(self.schema.names[:20])}"
            return Fault(row, name, given, "no field of that name", hint)
        return Fault(row, name, given, field.wanted(), _hint(field, detail))


def _hint(field: Field, detail: ErrorDetails) -> str | None:
    value = detail["input"]
    if value is None:
        return "this field may not be missing"
    if field.kind == "choice" and isinstance(value, str) and (like := closest(value, field.choices)):
        return f"did you mean {like}?"
    if field.kind in ("number", "integer") and isinstance(value, str) and _NUMBER.fullmatch(value.strip()):
        return "send the number without quotes"
    if value == "" and field.missing:
        return "send null for a missing value"
    if detail["type"] == "finite_number":
        return "NaN and infinity are no values; send null" if field.missing else "NaN and infinity are no values"
    if field.kind == "integer" and isinstance(value, int) and not INT_LOW <= value <= INT_HIGH:
        return "whole numbers go from -2^63 to 2^63-1"
    if detail["type"] == "string_too_long":
        return f"{MAX_TEXT} characters at most"
    return None


def _has_rows(body: bytes) -> bool:
    """Whether the body is an object with ``rows`` as a key of its own, wherever it stands."""
    try:
        data = from_json(body)
    except ValueError:
        return False
    return isinstance(data, dict) and "rows" in data


def shorten(value: Any) -> str:
    """A value as JSON would write it, cut to 80 characters."""
    if isinstance(value, (dict, list)):
        shape = f"an object with {len(value)} keys" if isinstance(value, dict) else f"a list of {len(value)}"
        return shape if value else "an empty object" if isinstance(value, dict) else "an empty list"
    if isinstance(value, bytes):
        value = value.decode("utf-8", "replace")
    if isinstance(value, float) and value != value:
        return "NaN"
    if isinstance(value, float) and abs(value) == float("inf"):
        return "Infinity" if value > 0 else "-Infinity"
    if isinstance(value, str) or value is None or isinstance(value, bool):
        text = orjson.dumps(value).decode()
    elif isinstance(value, int) and value.bit_length() > 1024:
        text = f"a whole number of about {round(value.bit_length() * 0.30103)} digits"
    else:
        text = str(value)
    return text if len(text) <= _SHOWN else text[: _SHOWN - 1] + "…"
