"""Reads NDJSON and CSV bodies, and writes answers as NDJSON, CSV or JSON columns.

In CSV, a cell is read by its field's kind: numbers, true and false as JSON writes them, tensors as JSON, times and pictures as their
text; an empty cell is a missing value.
"""

from __future__ import annotations

import csv
import io
import json
from collections import Counter
from collections.abc import Sequence
from typing import Any

import orjson

from lamppost.core.errors import BadBody, BadJson, Fault, InvalidRows, TooManyRows
from lamppost.core.names import closest_name
from lamppost.core.payload.coercion import Coercion
from lamppost.core.payload.large_bodies import TooManyItems, TooManyKeys, outer_keys
from lamppost.core.payload.validation_plan import Row, ValidationPlan
from lamppost.core.schema.fields import Field, Schema
from lamppost.core.schema.value_kinds import shortened_json

JSON, NDJSON, CSV, ARROW = "application/json", "application/x-ndjson", "text/csv", "application/vnd.apache.arrow.stream"
MULTIPART = "multipart/form-data"
_LONG_LINE = 4_096
_JSONISH = frozenset({"number", "integer", "yes/no", "tensor"})


def read_ndjson(plan: ValidationPlan, body: bytes, before: int = 0, coercions: list[Coercion] | None = None) -> list[Row]:
    """One row a line; empty lines do not count. Raise BadBody that names the line, or whatever `Plan.read` raises, rows counted from 0.

    before : lines that came before these, in a body that is read in blocks. coercions : takes what was read leniently.
    """
    lines = [line for line in body.split(b"\n") if line.strip()]
    _bounded(plan, len(lines))
    if not lines:
        raise BadBody("the body has no lines; send one row as JSON on each")
    whole = b'{"rows":[' + b",".join(lines) + b"]}"
    try:
        rows = plan.read_body(whole, coercions).rows
        if len(rows) == len(lines):
            return rows
    except (BadJson, InvalidRows) as error:
        if error.is_syntax if isinstance(error, BadJson) else any("field" not in fault for fault in error.extra["faults"]):
            _find_bad_line(plan, body, before)
        raise
    _find_bad_line(plan, body, before)  # lines that only together are JSON
    raise BadBody("the lines are no JSON objects, one on each")


def _find_bad_line(plan: ValidationPlan, body: bytes, before: int) -> None:
    for number, line in enumerate(body.split(b"\n"), before + 1):
        if line.strip():
            try:
                if len(line) > _LONG_LINE:
                    outer_keys(line, plan.keys_per_row, plan.max_rows)
                document = json.loads(line)
            except (TooManyKeys, TooManyItems) as error:
                raise BadBody(f"line {number} has more keys than a row has fields") from error
            except (ValueError, RecursionError) as error:
                raise BadBody(f"line {number} is not JSON ({_error_text(error)}); each line is one row as an object") from error
            if not isinstance(document, dict):
                raise BadBody(f"line {number} is {shortened_json(document)}, and each line is one row as an object")


def _error_text(error: Exception) -> str:
    return getattr(error, "msg", "too deep").lower()


def read_csv(plan: ValidationPlan, body: bytes, before: int = 0, coercions: list[Coercion] | None = None) -> list[Row]:
    """A header with field names, then a row a line, separated by commas, quoted as RFC 4180 has it. Raise BadBody or InvalidRows.

    before : lines between the header and these, in a body that is read in blocks. coercions : takes what was read leniently.
    """
    schema = plan.schema
    try:
        text = body.decode("utf-8-sig")
    except UnicodeDecodeError as error:
        raise BadBody(f"the CSV is not UTF-8: byte {error.start} is 0x{body[error.start]:02x}") from error
    reader = csv.reader(io.StringIO(text, newline=""), strict=True)
    try:
        header = next(reader, [])
        _check_header(schema, header)
        rows: list[list[str]] = []
        for cells in reader:
            if not cells:
                continue
            if len(cells) != len(header):
                raise BadBody(
                    f"line {reader.line_num + before} has {len(cells)} cells, the header has {len(header)}; quote cells that hold commas"
                )
            rows.append(cells)
            _bounded(plan, len(rows))
    except csv.Error as error:
        raise BadBody(f"line {reader.line_num + before} is no CSV: {error}; quotes in a quoted cell are doubled") from error
    if not rows:
        raise BadBody("the CSV has a header and no rows")
    return _read_cells(plan, header, rows, coercions)


def _check_header(schema: Schema, header: list[str]) -> None:
    if not any(header):
        raise BadBody(f"the CSV is empty; its first line is the names of the fields: {','.join(schema.names[:20])}")
    known, there = set(schema.names), set(header)
    if len(there) < len(header):
        twice = sorted(name for name, times in Counter(header).items() if times > 1)
        raise BadBody(f"the header has {', '.join(map(repr, twice[:5]))} more than once")
    unknown = [name for name in header if name not in known]
    if unknown:
        if len(header) == 1 and any(mark in header[0] for mark in ";\t|"):
            mark = next(mark for mark in ";\t|" if mark in header[0])
            raise BadBody(f"the header is one cell with {mark!r} in it; separate cells with commas")
        like = closest_name(unknown[0].strip(), schema.names)
        hint = f"did you mean {like}?" if like else f"the fields are {', '.join(schema.names[:20])}"
        raise BadBody(f"the header has {unknown[0]!r}, which is no field; {hint}")
    if lost := [field.name for field in schema if field.required and field.name not in header]:
        raise BadBody(f"the header lacks {', '.join(lost[:10])}, which every row needs")


def _read_cells(plan: ValidationPlan, header: list[str], rows: list[list[str]], coercions: list[Coercion] | None) -> list[Row]:
    """Cells as a JSON body, which is then read by the same rules as any other."""
    fields = {field.name: field for field in plan.schema}
    columns = [[cell_json(fields[name], cells[at], row) for row, cells in enumerate(rows)] for at, name in enumerate(header)]
    keys = [orjson.dumps(name) + b":" for name in header]
    texts = [b"{" + b",".join(key + value for key, value in zip(keys, values, strict=True)) + b"}" for values in zip(*columns, strict=True)]
    return plan.read_body(b'{"rows":[' + b",".join(texts) + b"]}", coercions).rows


def cell_json(field: Field, text: str, row: int) -> bytes:
    """One cell as JSON; what is no JSON value goes as text, and the plan says what is wrong with it."""
    if text == "" and (field.missing or field.kind != "text"):
        return b"null"
    if field.kind in _JSONISH:
        bare = text.strip()
        if field.kind == "yes/no" and bare in ("True", "False"):  # as Python writes them
            return bare.lower().encode()
        try:
            value = orjson.loads(bare)
        except ValueError:
            return orjson.dumps(_clean(field, text, row))
        return bare.encode() if not isinstance(value, (str, dict)) and value is not None else orjson.dumps(text)
    return orjson.dumps(_clean(field, text, row))


def _clean(field: Field, text: str, row: int) -> str:
    if any("\ud800" <= character <= "\udfff" for character in text):
        fault = Fault(row, field.name, "half a character", field.expected_text(), "surrogates stand in pairs")
        raise InvalidRows(fault.sentence(), faults=[fault.to_dict()])
    return text


def _bounded(plan: ValidationPlan, rows: int) -> None:
    if rows > plan.max_rows:
        raise TooManyRows(f"one request may have {plan.max_rows} rows, this one has more; send them in several", max_rows=plan.max_rows)


# -- answers ------------------------------------------------------------------------------------------------------------


def write_ndjson(answers: Sequence[dict[str, Any]]) -> bytes:
    """One answer a line."""
    return b"".join(orjson.dumps(answer) + b"\n" for answer in answers)


def write_csv(schema: Schema, answers: Sequence[dict[str, Any]], header: bool = True) -> bytes:
    """A header and a row for each answer; the elements of a vector are columns of their own, ``scores.fails``, a tensor is JSON."""
    buffer = io.StringIO()
    writer = csv.writer(buffer, lineterminator="\r\n")
    if header:
        writer.writerow(csv_header(schema))
    for answer in answers:
        cells: list[Any] = []
        for field in schema:
            value = answer[field.name]
            if field.kind == "vector":
                cells += [_written(value[name]) for name in field.choices]
            else:
                cells.append(_written(value))
        writer.writerow(cells)
    return buffer.getvalue().encode()


def csv_header(schema: Schema) -> list[str]:
    """Names of the columns of `write_csv`."""
    names: list[str] = []
    for field in schema:
        names += [f"{field.name}.{choice}" for choice in field.choices] if field.kind == "vector" else [field.name]
    return names


def _written(value: Any) -> str:
    """A value as a cell: numbers as JSON writes them, nothing for a missing one."""
    return "" if value is None else value if isinstance(value, str) else orjson.dumps(value).decode()


def write_columns(schema: Schema, answers: Sequence[dict[str, Any]]) -> dict[str, list[Any]]:
    """Answers as a list for each field, a vector as a list for each of its names."""
    lists: dict[str, Any] = {}
    for field in schema:
        values = [answer[field.name] for answer in answers]
        lists[field.name] = {name: [value[name] for value in values] for name in field.choices} if field.kind == "vector" else values
    return lists
