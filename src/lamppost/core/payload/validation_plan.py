"""Validates requests against an input schema: bytes in, rows or faults out.

One plan is built per version and used for every request. JSON goes through pydantic-core in one pass; only when something is
wrong is the body looked at a second time, to say where and what.

A body is one row as an object, or ``{"rows": [row, …]}``, or ``{"columns": {field: [value, …], …}}``, with ``options`` beside the
fields or the rows where the schema has some. Every row that comes out has every field and every option, with None where a value is missing.

A key that stands twice in an object is refused. Two counts tell nearly always that there is none: of the keys that were read, and of the
colons in the body, or where texts have some too, of ``":``, which can stand nowhere inside a text; only where they differ are the keys of
the body counted.

Reading ends at the first row or key that is wrong, so that a large bad body costs no more than a good one. Faults are then gathered in
a second pass, which looks at no further values once it has found 50 faults.
"""

from __future__ import annotations

import json
import operator
import re
from collections.abc import Iterable
from functools import cached_property, partial
from typing import Any, NamedTuple

import orjson
from pydantic_core import ErrorDetails, SchemaValidator, ValidationError, from_json, to_json
from pydantic_core import core_schema as cs

from lamppost.core.errors import BadJson, Fault, InvalidRows, TooManyRows, shift_fault_rows
from lamppost.core.limits import MAX_PIXELS, MAX_REQUEST_PIXELS
from lamppost.core.names import closest_name, holds_nul
from lamppost.core.payload.body_schemas import BodySchemas
from lamppost.core.payload.coercion import Coercion, coerce_row
from lamppost.core.payload.fault_gathering import MAX_FAULTS, UNREADABLE, FaultTally, MissingKey
from lamppost.core.payload.large_bodies import TooManyItems, TooManyKeys, UnclosedRows, cut_rows, outer_keys
from lamppost.core.schema.fields import INT_HIGH, INT_LOW, MAX_TEXT, Field, Schema, example_options, find_field
from lamppost.core.schema.images import count_pixels
from lamppost.core.schema.value_kinds import shortened_json, value_schema

Row = dict[str, Any]
"""Values by field: as in JSON, but a time is a datetime, an image its bytes, a tensor an array."""

MAX_ROWS = 10_000
_NUMBER = re.compile(r"[-+]?(\d+(\.\d*)?|\.\d+)([eE][-+]?\d+)?")
_SPACED = re.compile(rb'"[ \t\r\n]+:')
_MANY_KEYS = 100_000
"""A body with more keys takes some 50 milliseconds to read at once."""
_TEXT_OR_KEY = re.compile(rb'"[^"\\]*(?:\\.[^"\\]*)*"[ \t\r\n]*(:?)', re.DOTALL)
_ROWS_FIRST = re.compile(rb'[ \t\r\n]*\{[ \t\r\n]*"rows"[ \t\r\n]*:')
_SMALL = 4_096


class ParsedRows(NamedTuple):
    """The rows of one request; ``alone`` says that it was one plain object, ``columns`` that they came as columns: so will the answer."""

    rows: list[Row]
    single_row: bool
    as_columns: bool = False


def _default(field: Field, value: cs.CoreSchema) -> Any:
    return None if field.default is None else SchemaValidator(value).validate_json(orjson.dumps(field.default))


def _defaults(schema: Iterable[Field]) -> dict[str, Any]:
    return {field.name: _default(field, value_schema(field)) for field in schema if not field.required}


class ValidationPlan:
    """How requests for one input schema are read.

    >>> from lamppost.core.schema.fields import Field, Schema
    >>> ValidationPlan(Schema((Field("x", "number"),))).read_body(b'{"x": 1}').rows
    [{'x': 1.0}]
    """

    def __init__(self, schema: Schema, max_rows: int = MAX_ROWS, options: Schema | None = None) -> None:
        self.schema = schema
        self.max_rows = max_rows
        self.options = options
        self._whole = len(schema)
        self._defaults = _defaults(schema)
        self._option_defaults = _defaults(options or ())
        self._pictures = [field.name for field in schema if field.kind == "image"]
        self._option_count = len(options or ())
        self._schemas = BodySchemas(schema, options, max_rows)
        self._row_reader = self._schemas.read_row  # nearly every call

    @cached_property
    def keys_per_row(self) -> int:
        """Most keys of one row: a picture or tensor in base64 is an object of three."""
        fields = (*self.schema, *(self.options or ()))
        return 2 + sum(4 if field.kind == "tensor" else 1 for field in fields)

    def _explained(self, gatherer: SchemaValidator, body: bytes, many: bool, columns: bool = False) -> BadJson | TooManyRows | InvalidRows:
        """What is wrong with a body that could not be read."""
        tally = FaultTally()
        try:
            gatherer.validate_json(body, context=tally)
        except ValidationError as error:
            return self._explain(error, tally, many, columns)
        raise AssertionError("a body that cannot be read has a fault")

    def read_body(self, body: bytes, coercions: list[Coercion] | None = None) -> ParsedRows:
        """Rows of a JSON body, each with the options; raise BadJson, TooManyRows, or InvalidRows with all faults (at most 50).

        With a list ``coercions`` the body is read leniently (see `lamppost.core.payload.coercion`), and the list gets what was changed.
        """
        try:
            return self._bound_pixels(self._read(body))
        except InvalidRows:
            eased = None if coercions is None else self._coerced_body(body, coercions)
            if eased is None:
                raise
        return self._bound_pixels(self._read(eased))

    def _bound_pixels(self, parsed: ParsedRows) -> ParsedRows:
        """The rows, unless their pictures have more pixels than one request may have: raise TooManyRows then."""
        if self._pictures and len(parsed.rows) > MAX_REQUEST_PIXELS // MAX_PIXELS:
            pixels = sum(count_pixels(row[name] for row in parsed.rows) for name in self._pictures)
            if pixels > MAX_REQUEST_PIXELS:
                raise TooManyRows(
                    f"the pictures of one request may have {MAX_REQUEST_PIXELS:,} pixels in all, these have {pixels:,}; "
                    "send them in several requests",
                    max_rows=self.max_rows,
                )
        return parsed

    def _read(self, body: bytes) -> ParsedRows:
        if holds_nul(body):
            error = BadJson("a text of the body holds the character NUL (\\u0000), which is not kept; leave it out", example=self.example())
            error.repeats_input = False
            raise error
        many = body.startswith(b'{"rows"') or (len(body) > _SMALL and _ROWS_FIRST.match(body) is not None)
        columns = False
        if not many and len(body) <= _SMALL:  # a row by itself, most likely: to look for its keys would cost as much as to read it
            try:
                return self._read_row(body)
            except UNREADABLE:
                many, columns = _has_key(body, "rows"), _has_key(body, "columns")
                if not many and not columns:
                    raise self._explained(self._schemas.gather_row, body, many=False) from None
        elif not many:
            try:
                keys = outer_keys(body, self.keys_per_row, self.max_rows)
            except TooManyKeys:
                raise self._too_many_keys() from None
            except TooManyItems:
                raise self._too_many_rows() from None
            many, columns = "rows" in keys, "columns" in keys
        elif body.count(b'":') > _MANY_KEYS:
            return self._read_blocks(body)
        if columns and not many:
            return self._read_columns(body)
        if many:
            return self._read_rows(body)
        try:
            return self._read_row(body)
        except UNREADABLE:
            raise self._explained(self._schemas.gather_row, body, many=False) from None

    def _read_rows(self, body: bytes) -> ParsedRows:
        try:
            parsed = self._schemas.read_rows.validate_json(body)
            rows: list[Row] = parsed["rows"]
            options = self._given_options(parsed)
            _no_twins(body, sum(map(len, rows)) + 1 + (0 if options is None else len(options) + 1))
            self._fill(rows)
            chosen = self._filled(options)
        except UNREADABLE:
            raise self._explained(self._schemas.gather_rows, body, many=True) from None
        return ParsedRows([row | chosen for row in rows] if self.options else rows, single_row=False)

    def _read_blocks(self, body: bytes) -> ParsedRows:
        """Many rows, some hundred at a time, so that other threads have their turn in between."""
        try:
            blocks = cut_rows(body, self.keys_per_row)
        except TooManyKeys:
            raise self._too_many_keys() from None
        except UnclosedRows:
            raise _no_json("the list of rows does not end, or its rows are not separated by commas", self.example(many=True)) from None
        rows = self._read_rows(blocks.first).rows
        chosen = {name: rows[0][name] for name in self.options.names} if self.options else {}
        for block in blocks.later:
            if len(rows) > self.max_rows:
                raise self._too_many_rows()
            try:
                read: list[Row] = self._schemas.read_block.validate_json(block)
                _no_twins(block, sum(map(len, read)))
                self._fill(read)
            except UNREADABLE:
                error = self._explained(self._schemas.gather_rows_alone, b'{"rows":%s}' % block, many=True)
                raise shift_fault_rows(error, partial(operator.add, len(rows))) from None
            rows += [row | chosen for row in read] if chosen else read
        if len(rows) > self.max_rows:
            raise self._too_many_rows()
        return ParsedRows(rows, single_row=False)

    def _too_many_rows(self) -> TooManyRows:
        return TooManyRows(
            f"one request may have {self.max_rows} rows, this one has more; send them in several requests", max_rows=self.max_rows
        )

    def _too_many_keys(self) -> BadJson:
        count = len(self.schema)
        fields = f"{count} field{'s' if count > 1 else ''}"
        error = BadJson(f"an object of the body has more keys than a row, which has {fields}", example=self.example())
        error.is_syntax, error.repeats_input = True, False  # a row without its end looks the same
        return error

    def _read_row(self, body: bytes) -> ParsedRows:
        row: Row = self._row_reader.validate_json(body)
        if self.options is None:
            _no_twins(body, len(row))
            if len(row) != self._whole:
                self._fill((row,))
            return ParsedRows([row], single_row=True)
        options = self._given_options(row)
        _no_twins(body, len(row) + (0 if options is None else len(options) + 1))
        self._fill((row,))
        return ParsedRows([row | self._filled(options)], single_row=True)

    def _fill(self, rows: Iterable[Row]) -> None:
        """Fill in defaults and missing values. Raise MissingKey where a value is required."""
        for row in rows:
            if len(row) != self._whole:
                for name, value in self._defaults.items():
                    row.setdefault(name, value)
                if len(row) != self._whole:
                    raise MissingKey

    def _given_options(self, given_options: Row) -> Row | None:
        options: Row | None = given_options.pop("options", None) if self.options else None
        return options

    def _filled(self, options: Row | None) -> Row:
        """Options with defaults for those that are left out. Raise MissingKey where a value is required."""
        filled = self._option_defaults | (options or {})
        if len(filled) != self._option_count:
            raise MissingKey
        return filled

    def _coerced_body(self, body: bytes, coercions: list[Coercion]) -> bytes | None:
        """The body with its values converted where that is certain; None where nothing could be converted."""
        data = from_json(body)
        if not isinstance(data, dict):
            return None
        before = len(coercions)
        options = data.pop("options", None) if self.options else None
        if isinstance(data.get("rows"), list) and len(data) == 1:
            rows = data["rows"]
            data["rows"] = [coerce_row(self.schema, row, at, coercions) if isinstance(row, dict) else row for at, row in enumerate(rows)]
        elif isinstance(data.get("columns"), dict) and len(data) == 1:
            for name, values in data["columns"].items():
                if name in self.schema.names and isinstance(values, list):
                    rows = [coerce_row(self.schema, {name: value}, at, coercions) for at, value in enumerate(values)]
                    data["columns"][name] = [row[name] for row in rows]
        else:
            data = coerce_row(self.schema, data, 0, coercions)
        if isinstance(options, dict) and self.options:
            options = coerce_row(self.options, options, 0, coercions)
        if options is not None:
            data["options"] = options
        return to_json(data, inf_nan_mode="constants") if len(coercions) > before else None

    def read_options(self, given: bytes | None) -> Row:
        """Options that came apart from the rows, as a JSON object; raise BadJson or InvalidRows. Defaults where nothing came."""
        if self.options is None:
            if given is None:
                return {}
            raise BadJson("this endpoint has no options; leave them out")
        try:
            options: Row = self._schemas.gather_options.validate_json(given or b"{}", context=FaultTally())
        except ValidationError as error:
            details = error.errors(include_url=False, include_context=True)
            if details[0]["type"] == "json_invalid" or not details[0]["loc"]:
                raise BadJson("the options are no JSON object", example={"options": self.options.example()}) from None
            faults = [self._fault(detail, 0, str(detail["loc"][0]), self.options) for detail in details[:MAX_FAULTS]]
            raise InvalidRows(faults[0].sentence(), faults=[fault.to_dict() for fault in faults]) from None
        return self._filled(options)

    def _read_columns(self, body: bytes) -> ParsedRows:
        """A list for each field, all of one length."""
        try:
            parsed = self._schemas.read_columns.validate_json(body)
            lists: dict[str, list[Any]] = parsed["columns"]
            options = self._given_options(parsed)
            _no_twins(body, len(lists) + 1 + (0 if options is None else len(options) + 1))
            rows = len(next(iter(lists.values()), ()))
            for field in self.schema:
                if field.name not in lists:
                    if field.required:
                        raise MissingKey
                    lists[field.name] = [self._defaults[field.name]] * rows
            chosen = self._filled(options)
        except UNREADABLE:
            raise self._explained(self._schemas.gather_columns, body, many=True, columns=True) from None
        lengths = {name: len(values) for name, values in lists.items()}
        if len(set(lengths.values())) > 1:
            counts = ", ".join(f"{name} {length}" for name, length in list(lengths.items())[:20])
            raise BadJson(f"the columns are of different lengths ({counts}); each has one value a row", example=self._columns_example())
        names = self.schema.names
        rows_read: list[Row] = [dict(zip(names, values, strict=True)) for values in zip(*(lists[name] for name in names), strict=True)]
        return ParsedRows([row | chosen for row in rows_read] if self.options else rows_read, single_row=False, as_columns=True)

    def _columns_example(self) -> dict[str, Any]:
        return {"columns": {name: [value] for name, value in self.schema.example().items()}}

    def read_rows(self, rows: Iterable[Any]) -> list[Row]:
        """Check rows that are Python values already (of a proof, say), options among their keys, by the same rules."""
        try:
            flat: list[Row] = self._schemas.gather_flat.validate_json(orjson.dumps(list(rows)), context=FaultTally())
        except ValidationError as error:
            first = error.errors(include_url=False)[0]
            place = ".".join(map(str, first["loc"]))
            raise InvalidRows(f"row {place}: {first['msg'].lower()}", faults=[]) from error
        defaults = self._defaults | self._option_defaults
        return [defaults | row for row in flat] if defaults else flat

    def example(self, many: bool = False) -> dict[str, Any]:
        """A valid body."""
        row, options = self.schema.example(), example_options(self.options)
        return {"rows": [row], **options} if many else {**row, **options}

    def _explain(self, error: ValidationError, tally: FaultTally, many: bool, columns: bool) -> BadJson | TooManyRows | InvalidRows:
        example = self._columns_example() if columns else self.example(many)
        faults: list[Fault] = []
        for detail in error.errors(include_url=False, include_context=True):
            kind, place = detail["type"], detail["loc"]
            if kind == "json_invalid":
                return _no_json(str(detail["ctx"]["error"]), example)
            if columns and place[:1] == ("columns",) and len(place) > 1:
                if kind == "too_long" and len(place) == 2:
                    return TooManyRows(f"one request may have {self.max_rows} rows, this one has more", max_rows=self.max_rows)
                if len(faults) < MAX_FAULTS:
                    row = int(place[2]) if len(place) > 2 and isinstance(place[2], int) else None
                    faults.append(self._fault(detail, row, str(place[1]), self.schema, whole=row is None))
                continue
            if kind == "too_long" and place == ("rows",):
                return self._too_many_rows()
            if kind == "too_short" and place == ("rows",):
                return InvalidRows("the list of rows is empty; send at least one row", example=example, faults=[])
            if place in ((), ("rows",), ("columns",)):
                shape = "an object of lists under columns" if columns else "a list of rows under rows" if many else "one row as an object"
                return BadJson(f"given {shortened_json(detail['input'])}, expected {shape}", example=example)
            if place[0] == "options" and self.options is not None:
                if len(faults) < MAX_FAULTS:
                    faults.append(self._fault(detail, 0, str(place[1]) if len(place) > 1 else None, self.options))
                continue
            if many and place[0] != "rows":
                beside = ("columns" if columns else "rows") + (" and options" if self.options else "")
                return BadJson(
                    f"the key {place[0]!r} stands beside {'columns' if columns else 'rows'}; send {beside} alone", example=example
                )
            if len(faults) < MAX_FAULTS:
                row, rest = (int(place[1]), place[2:]) if many else (0, place)
                faults.append(self._fault(detail, row, str(rest[0]) if rest else None, self.schema))
        count = error.error_count() + tally.left_out
        least = "at least " if tally.skipped else ""
        more = f"; and {least}{count - 1} more fault{'s' if count > 2 else ''}" if count > 1 else ""
        return InvalidRows(faults[0].sentence() + more, faults=[fault.to_dict() for fault in faults], fault_count=count, example=example)

    def _fault(self, detail: ErrorDetails, row: int | None, name: str | None, schema: Schema, whole: bool = False) -> Fault:
        given = shortened_json(detail["input"])
        if name is None:
            return Fault(row, None, given, "options as an object" if schema is self.options else "one row as an object")
        field = find_field(schema, name)
        if field is None:
            like = closest_name(name, schema.names)
            hint = f"did you mean {like}?" if like else f"leave it out; the fields are {', '.join(schema.names[:20])}"
            return Fault(row, name, given, "no field of that name", hint)
        if detail["type"] == "missing" and len(detail["loc"]) <= 3:
            return Fault(row, name, "nothing", field.expected_text(), "add this field")
        if whole:
            return Fault(row, name, given, f"a list of values, each {field.expected_text()}")
        if detail["type"] in ("image", "tensor"):
            given = str(detail["ctx"]["said"])
        if field.kind == "tensor":
            given = _place_in_tensor(detail, given)
        return Fault(row, name, "a private value" if field.private else given, field.expected_text(), _hint(field, detail))


def _no_json(reason: str, example: Any) -> BadJson:
    error = BadJson(f"the body is not JSON: {reason}; send an object such as the example", example=example)
    error.is_syntax, error.repeats_input = True, False
    return error


def _no_twins(body: bytes, keys: int) -> None:
    """Raise BadJson for a key that stands twice in an object. keys : how many were read of the body, which is JSON."""
    if body.count(b":") == keys or (body.count(b'":') == keys and _SPACED.search(body) is None):
        return
    if sum(match[1] == b":" for match in _TEXT_OR_KEY.finditer(body)) == keys:  # some stand in texts
        return

    def pairs(members: list[tuple[str, Any]]) -> None:
        seen: set[str] = set()
        for name, _ in members:
            if name in seen:
                raise BadJson(f"the key {shortened_json(name)} stands twice in one object; say each once")
            seen.add(name)

    json.loads(body, object_pairs_hook=pairs)


def _place_in_tensor(detail: ErrorDetails, given: str) -> str:
    """Where in the lists it is wrong: the numbers after the field's name."""
    at = [part for part in detail["loc"] if isinstance(part, int)]
    inside = at[1:] if detail["loc"][0] in ("rows", "columns") else at
    if detail["type"] in ("too_long", "too_short"):
        given = f"a list of {len(detail['input'])}"
    return f"{given} at [{', '.join(map(str, inside))}]" if inside else given


def _hint(field: Field, detail: ErrorDetails) -> str | None:
    value = detail["input"]
    if value is None:
        return "this field may not be missing"
    if field.kind == "choice" and isinstance(value, str) and (like := closest_name(value, field.choices)):
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


def _has_key(body: bytes, key: str) -> bool:
    """Whether the body is an object with that key of its own, wherever it stands."""
    try:
        data = from_json(body)
    except ValueError:
        return False
    return isinstance(data, dict) and key in data
