"""The validation plan of an input schema: request bytes in, rows or faults out.

One plan is built per version and used for every request. JSON goes through pydantic-core in one pass; only when something is
wrong is the body looked at a second time, to say where and what.

A body is one row as an object, or ``{"rows": [row, …]}``, with ``options`` beside the fields or the rows where the schema has
some. Every row that comes out has every field and every option, with None where a value is missing.
"""

from __future__ import annotations

import base64
import re
from collections.abc import Iterable
from dataclasses import dataclass
from datetime import datetime
from functools import partial
from typing import Any

import numpy as np
import numpy.typing as npt
import orjson
from pydantic_core import ErrorDetails, PydanticCustomError, SchemaValidator, ValidationError, from_json
from pydantic_core import core_schema as cs

from lamppost.core.errors import BadJson, Fault, InvalidRows, PackageRefused, TooManyRows
from lamppost.core.fields import INT_HIGH, INT_LOW, MAX_ELEMENTS, MAX_TEXT, Field, Schema, pick
from lamppost.core.images import BadImage, look
from lamppost.core.names import closest

Row = dict[str, Any]
"""Values by field: as in JSON, but a time is a datetime, an image its bytes, a tensor an array."""

MAX_ROWS = 10_000
MAX_FAULTS = 50
_SHOWN = 80
_NUMBER = re.compile(r"[-+]?(\d+(\.\d*)?|\.\d+)([eE][-+]?\d+)?")
_INSTANT = re.compile(r"\d{4}-\d\d-\d\d[Tt ]\d\d:\d\d")
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
    elif field.kind == "time":
        schema = cs.no_info_after_validator_function(_instant, cs.str_schema(strict=True, max_length=40))
    elif field.kind == "image":
        schema = cs.no_info_after_validator_function(partial(_picture, field), cs.str_schema(strict=True))
    elif field.kind == "tensor":
        schema = cs.no_info_after_validator_function(partial(_tensor, field), _tensor_schema(field))
    else:
        raise PackageRefused(f"field {field.name!r}: a {field.kind} cannot be an input")
    return cs.nullable_schema(schema) if field.missing else schema


def _tensor_schema(field: Field) -> cs.CoreSchema:
    schema: cs.CoreSchema
    if field.elements == "integer":
        low = INT_LOW if field.low is None else int(field.low)
        schema = cs.int_schema(strict=True, ge=low, le=INT_HIGH if field.high is None else int(field.high))
    else:
        schema = cs.float_schema(strict=True, allow_inf_nan=False, ge=field.low, le=field.high)
    for length in reversed(field.shape):
        schema = cs.list_schema(schema, min_length=length or 1, max_length=length or MAX_ELEMENTS, fail_fast=True)
    return schema


def _instant(value: str) -> datetime:
    """An instant of RFC 3339; seconds may be left out, the offset may not, and below a microsecond is cut off."""
    try:
        at = datetime.fromisoformat(value if _INSTANT.match(value) else "")
    except ValueError as error:
        raise PydanticCustomError("time", "no time") from error
    if at.tzinfo is None:
        raise PydanticCustomError("no-offset", "no offset from UTC")
    return at


def _picture(field: Field, value: str) -> bytes:
    """The bytes of a picture whose header is that of one the field takes."""
    try:
        data = base64.b64decode(value, validate=True)
    except ValueError as error:
        raise PydanticCustomError("image", "{said}", {"said": "text that is not base64 (RFC 4648, without line breaks)"}) from error
    try:
        look(field, data)
    except BadImage as error:
        raise PydanticCustomError("image", "{said}", {"said": str(error)}) from error
    return data


def _tensor(field: Field, value: Any) -> npt.NDArray[Any]:
    try:
        array = np.array(value, dtype=np.int64 if field.elements == "integer" else np.float64)
    except ValueError as error:  # lists of different lengths
        raise PydanticCustomError("tensor", "{said}", {"said": "lists of different lengths"}) from error
    if array.size > MAX_ELEMENTS:
        raise PydanticCustomError("tensor", "{said}", {"said": f"{array.size:,} elements, over the limit of {MAX_ELEMENTS:,}"})
    return array


def _entries(schema: Schema) -> dict[str, cs.TypedDictField]:
    entries = {}
    for field in schema:
        value = _value_schema(field)
        if not field.required:
            default = None if field.default is None else SchemaValidator(value).validate_json(orjson.dumps(field.default))
            value = cs.with_default_schema(value, default=default)
        entries[field.name] = cs.typed_dict_field(value, required=field.required)
    return entries


class Plan:
    """How requests for one input schema are read.

    >>> Plan(Schema((Field("x", "number"),))).read(b'{"x": 1}')
    Rows(rows=[{'x': 1.0}], alone=True)
    """

    def __init__(self, schema: Schema, max_rows: int = MAX_ROWS, options: Schema | None = None) -> None:
        self.schema = schema
        self.max_rows = max_rows
        self.options = options
        inputs = _entries(schema)
        row = cs.typed_dict_schema(inputs, extra_behavior="forbid")
        rows = cs.list_schema(row, min_length=1, max_length=max_rows)
        extra: dict[str, cs.TypedDictField] = {}
        flat = inputs
        if options is not None:
            chosen = _entries(options)
            needed = any(field.required for field in options)
            value: cs.CoreSchema = cs.typed_dict_schema(chosen, extra_behavior="forbid")
            if not needed:
                value = cs.with_default_schema(value, default={}, validate_default=True)
            extra = {"options": cs.typed_dict_field(value, required=needed)}
            flat = inputs | chosen
        self._one = SchemaValidator(cs.typed_dict_schema(inputs | extra, extra_behavior="forbid"))
        self._many = SchemaValidator(cs.typed_dict_schema({"rows": cs.typed_dict_field(rows)} | extra, extra_behavior="forbid"))
        self._flat = cs.list_schema(cs.typed_dict_schema(flat, extra_behavior="forbid"), min_length=1, max_length=max_rows)

    def read(self, body: bytes) -> Rows:
        """Rows of a JSON body, each with the options; raise BadJson, TooManyRows, or InvalidRows with all faults (at most 50)."""
        many = _ROWS_FIRST.match(body) is not None or (b'"rows"' in body and _has_rows(body))
        try:
            if not many:
                row = self._one.validate_json(body)
                return Rows([_with_options(row) if self.options else row], alone=True)
            said = self._many.validate_json(body)
        except ValidationError as error:
            raise self._explain(error, many) from None
        rows: list[Row] = said["rows"]
        if self.options:
            rows = [row | said["options"] for row in rows]
        return Rows(rows, alone=False)

    def read_rows(self, rows: Iterable[Any]) -> list[Row]:
        """Check rows that are Python values already (of a proof, say), options among their keys, by the same rules."""
        try:
            flat: list[Row] = SchemaValidator(self._flat).validate_json(orjson.dumps(list(rows)))
        except ValidationError as error:
            first = error.errors(include_url=False)[0]
            place = ".".join(map(str, first["loc"]))
            raise InvalidRows(f"row {place}: {first['msg'].lower()}", faults=[]) from error
        return flat

    def example(self, many: bool = False) -> dict[str, Any]:
        """A body that is taken."""
        row = self.schema.example()
        options = {"options": self.options.example()} if self.options and any(field.required for field in self.options) else {}
        return {"rows": [row], **options} if many else {**row, **options}

    def _explain(self, error: ValidationError, many: bool) -> BadJson | TooManyRows | InvalidRows:
        example = self.example(many)
        faults: list[Fault] = []
        for detail in error.errors(include_url=False, include_context=True):
            kind, place = detail["type"], detail["loc"]
            if kind == "json_invalid":
                where = str(detail["ctx"]["error"])
                return BadJson(f"the body is not JSON: {where}; send an object such as the example", example=example)
            if kind == "too_long" and place == ("rows",):
                return TooManyRows(
                    f"one request may have {self.max_rows} rows, this one has more; send them in several requests", max_rows=self.max_rows
                )
            if kind == "too_short" and place == ("rows",):
                return InvalidRows("the list of rows is empty; send at least one row", example=example, faults=[])
            if place in ((), ("rows",)):
                return BadJson(
                    f"given {shorten(detail['input'])}, expected {'a list of rows under rows' if many else 'one row as an object'}",
                    example=example,
                )
            if place[0] == "options" and self.options is not None:
                if len(faults) < MAX_FAULTS:
                    faults.append(self._fault(detail, 0, str(place[1]) if len(place) > 1 else None, self.options))
                continue
            if many and place[0] != "rows":
                beside = "rows and options" if self.options else "rows"
                return BadJson(f"the key {place[0]!r} stands beside rows; send {beside} alone", example=example)
            if len(faults) < MAX_FAULTS:
                row, rest = (int(place[1]), place[2:]) if many else (0, place)
                faults.append(self._fault(detail, row, str(rest[0]) if rest else None, self.schema))
        count = error.error_count()
        more = f"; and {count - 1} more fault{'s' if count > 2 else ''}" if count > 1 else ""
        return InvalidRows(faults[0].sentence() + more, faults=[fault.to_dict() for fault in faults], fault_count=count, example=example)

    def _fault(self, detail: ErrorDetails, row: int, name: str | None, schema: Schema) -> Fault:
        given = shorten(detail["input"])
        if name is None:
            return Fault(row, None, given, "options as an object" if schema is self.options else "one row as an object")
        field = pick(schema, name)
        if field is None:
            like = closest(name, schema.names)
            hint = f"did you mean {like}?" if like else f"leave it out; the fields are {', '.join(schema.names[:20])}"
            return Fault(row, name, given, "no field of that name", hint)
        if detail["type"] == "missing" and len(detail["loc"]) <= 3:
            return Fault(row, name, "nothing", field.wanted(), "add this field")
        if detail["type"] in ("image", "tensor"):
            given = str(detail["ctx"]["said"])
        if field.kind == "tensor":
            given = _place_in_tensor(detail, given)
        return Fault(row, name, "a private value" if field.private else given, field.wanted(), _hint(field, detail))


def _with_options(row: Row) -> Row:
    options: Row = row.pop("options")
    return row | options


def _place_in_tensor(detail: ErrorDetails, given: str) -> str:
    """Where in the lists it is wrong: the numbers after the field's name."""
    at = [part for part in detail["loc"] if isinstance(part, int)]
    inside = at[1:] if detail["loc"][0] == "rows" else at
    if detail["type"] in ("too_long", "too_short"):
        given = f"a list of {len(detail['input'])}"
    return f"{given} at [{', '.join(map(str, inside))}]" if inside else given


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
    if detail["type"] == "no-offset":
        return "say the offset from UTC too: Z, or +01:00"
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
