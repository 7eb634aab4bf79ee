"""Reads blocks of CSV and NDJSON for a bulk run: the good rows by the rules of requests, every other row with its fault.

A block is read as one body first. Where that is refused, the rows that are named as wrong are left out, and what remains is read in
small parts, so that a block with a few bad rows costs little more than a good one.
"""

from __future__ import annotations

import csv
import io
from collections.abc import Iterator, Sequence
from dataclasses import dataclass
from typing import Any

import orjson

from lamppost.core.bulk.column_match import ColumnMatch
from lamppost.core.bulk.rejects import Reject, fault_text, faults_by_row, private_columns, shown_values
from lamppost.core.errors import BadBody, BadRequest, LampPostError
from lamppost.core.payload.fault_gathering import MAX_FAULTS
from lamppost.core.payload.text_formats import cell_json
from lamppost.core.payload.validation_plan import Row, ValidationPlan


@dataclass(frozen=True, slots=True)
class BlockPlace:
    """Where a block stands in its file. row : number of its first record. line : of its first line, from 1.

    constants : further columns, with one value for the whole file. lenient : whether values are converted where their meaning is certain.
    """

    row: int
    line: int = 1
    delimiter: str = ","
    constants: tuple[tuple[str, str], ...] = ()
    lenient: bool = False


@dataclass(frozen=True, slots=True)
class RawRow:
    """A record that could be cut into values. body : of its fields, as a JSON object. values : by column."""

    row: int
    line: int
    body: bytes
    values: dict[str, Any]


@dataclass(frozen=True, slots=True)
class TextRows:
    """What a block of text holds. count : records of the block, also those that are none. rows, numbers : the good rows and their numbers.

    kept : by column, the values that go into the output, of good rows.
    """

    count: int
    rows: list[Row]
    numbers: list[int]
    kept: dict[str, list[Any]]
    rejects: list[Reject]


def read_csv_block(plan: ValidationPlan, match: ColumnMatch, header: Sequence[str], block: bytes, place: BlockPlace) -> TextRows:
    """The rows of a block of CSV records. header : all columns of the file, of which ``match`` names those that are used."""
    rejects: list[Reject] = []
    records: list[RawRow] = []
    count = place.row
    fields = {field.name: field for field in plan.schema}
    names = [*header, *(name for name, _ in place.constants)]
    constants = [value for _, value in place.constants]
    positions = {name: at for at, name in enumerate(names)}
    for line, cells in _csv_records(block, place):
        row, count = count, count + 1
        if isinstance(cells, str):
            rejects.append(Reject(row, cells, line=line))
        elif len(cells) != len(header):
            fault = f"the record has {len(cells)} cells, the header has {len(header)}; quote cells that hold {place.delimiter!r}"
            rejects.append(Reject(row, fault, line=line))
        else:
            cells += constants
            try:
                parts = [
                    orjson.dumps(name) + b":" + cell_json(fields[name], cells[positions[column]], 0)
                    for name, column in match.columns.items()
                ]
            except LampPostError as error:
                fault, field = fault_text(error)
                rejects.append(Reject(row, fault, field, line))
                continue
            records.append(RawRow(row, line, b"{" + b",".join(parts) + b"}", dict(zip(names, cells, strict=True))))
    return _read_records(plan, match, records, rejects, count - place.row, place.lenient)


def _csv_records(block: bytes, place: BlockPlace) -> Iterator[tuple[int, list[str] | str]]:
    """Line, and cells or what is wrong, of each record."""
    text = decode_text(block, place.line)
    reader = csv.reader(io.StringIO(text, newline=""), delimiter=place.delimiter, strict=True)
    while True:
        line = place.line + reader.line_num
        try:
            cells = next(reader)
        except StopIteration:
            return
        except csv.Error as error:
            yield line, f"the line is no CSV: {error}; quotes in a quoted cell are doubled"
            continue
        if cells:
            yield line, cells


def decode_text(block: bytes, line: int) -> str:
    """A block of text; raise BadBody where it is not UTF-8."""
    try:
        return block.decode("utf-8-sig" if line == 1 else "utf-8")
    except UnicodeDecodeError as error:
        line += block[: error.start].count(b"\n")
        raise BadBody(f"line {line} is not UTF-8 (byte 0x{block[error.start]:02x}); write the file anew as UTF-8, or as Parquet") from error


def read_ndjson_block(plan: ValidationPlan, match: ColumnMatch, block: bytes, place: BlockPlace) -> TextRows:
    """The rows of a block of lines, each an object."""
    rejects: list[Reject] = []
    records: list[RawRow] = []
    count = place.row
    for at, line in enumerate(block.split(b"\n")):
        if not line.strip():
            continue
        row, count = count, count + 1
        try:
            document = orjson.loads(line)
        except ValueError as error:
            rejects.append(Reject(row, f"the line is not JSON ({error})", line=place.line + at))
            continue
        if not isinstance(document, dict):
            rejects.append(Reject(row, "the line is no JSON object; each line is one row", line=place.line + at))
            continue
        document.update(place.constants)
        given = {name: document[column] for name, column in match.columns.items() if column in document}
        records.append(RawRow(row, place.line + at, orjson.dumps(given), document))
    return _read_records(plan, match, records, rejects, count - place.row, place.lenient)


def _read_records(
    plan: ValidationPlan, match: ColumnMatch, records: list[RawRow], rejects: list[Reject], count: int, lenient: bool
) -> TextRows:
    private = private_columns(plan.schema, match.columns)
    rows: list[Row] = []
    good: list[RawRow] = []
    for start in range(0, len(records), plan.max_rows):
        part = records[start : start + plan.max_rows]
        read, faults = read_good_rows(plan, [record.body for record in part], lenient)
        rows += read
        for at, record in enumerate(part):
            if at not in faults:
                good.append(record)
                continue
            fault, field = faults[at]
            values = shown_values(record.values, private)
            rejects.append(Reject(record.row, fault, field, record.line, values))
    rejects.sort(key=lambda reject: reject.row)
    kept = {column: [record.values.get(column) for record in good] for column in match.keep}
    return TextRows(count, rows, [record.row for record in good], kept, rejects)


def read_good_rows(
    plan: ValidationPlan, bodies: Sequence[bytes], lenient: bool = False
) -> tuple[list[Row], dict[int, tuple[str, str | None]]]:
    """The rows that are good, in order, and the fault and field of each other row, by its place. bodies : a JSON object each.

    lenient : see `BlockPlace`.
    """
    rows: dict[int, Row] = {}
    faults: dict[int, tuple[str, str | None]] = {}
    waiting = [list(range(len(bodies)))] if bodies else []
    while waiting:
        places = waiting.pop()
        try:
            read = plan.read_body(b'{"rows":[' + b",".join([bodies[at] for at in places]) + b"]}", [] if lenient else None).rows
        except BadRequest as error:
            if len(places) == 1:
                faults[places[0]] = fault_text(error)
                continue
            wrong, all_named = faults_by_row(error, len(places))
            faults |= {places[at]: fault for at, fault in wrong.items()}
            left = [at for place, at in enumerate(places) if place not in wrong]
            if all_named:
                waiting += [left] if left else []
            else:  # others are wrong too, and nobody has said which: of so few rows all faults are named
                step = min(MAX_FAULTS, max(1, len(left) // 2))
                waiting += [left[at : at + step] for at in range(0, len(left), step)]
            continue
        rows.update(zip(places, read, strict=True))
    return [rows[at] for at in sorted(rows)], faults


def check_csv_header(line: bytes, delimiter: str) -> list[str]:
    """The columns that the first line of a CSV file names. Raise BadBody for a line that was cut at another delimiter, or is empty."""
    text = decode_text(line, 1).rstrip("\r\n")
    try:
        header = next(csv.reader(io.StringIO(text, newline=""), delimiter=delimiter, strict=True), [])
    except csv.Error as error:
        raise BadBody(f"the first line is no CSV ({error}); it names the columns") from error
    if not any(header):
        raise BadBody("the file is empty; the first line of a CSV file names its columns")
    if len(header) == 1:
        for mark in ";\t|,":
            if mark != delimiter and mark in header[0]:
                raise BadBody(f"the first line is one column with {mark!r} in it; state the delimiter: --delimiter {mark!r}")
    return header


def ndjson_columns(block: bytes) -> list[str]:
    """The keys of the objects in a block of lines, in the order in which they come; lines that are none are left to the reading."""
    names: dict[str, None] = {}
    for line in block.split(b"\n")[:1_000]:
        try:
            document = orjson.loads(line) if line.strip() else None
        except ValueError:
            continue
        if isinstance(document, dict):
            names.update(dict.fromkeys(document))
    return list(names)
