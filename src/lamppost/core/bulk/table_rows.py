"""Reads Arrow tables for a bulk run: types are fitted to fields where that loses nothing, and wrong rows are left out with their faults.

The answers of a run are made into tables here, too.
"""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass
from typing import TYPE_CHECKING, Any

import numpy as np

from lamppost.core.bulk.column_match import ROW, ColumnMatch
from lamppost.core.bulk.rejects import Reject, private_columns, shown_values
from lamppost.core.errors import BadBody, Fault
from lamppost.core.payload.arrow import MAX_FAULTS, answer_arrays, arrow_schema, read_columns
from lamppost.core.schema.columns import Array, Column
from lamppost.core.schema.fields import Field, Schema
from lamppost.core.schema.value_kinds import shortened_json

if TYPE_CHECKING:
    import pyarrow as pa


@dataclass(frozen=True, slots=True)
class TableRows:
    """The good rows of a block. columns : in schema order. numbers : of the good rows. kept : the columns that go into the output."""

    columns: list[Column]
    numbers: Array
    kept: pa.Table
    rejects: list[Reject]


def check_types(schema: Schema, match: ColumnMatch, types: pa.Schema, what: str) -> None:
    """Raise BadBody unless every matched column is of a type that can hold its field."""
    wrong = [
        f"{column} is {types.field(column).type}, and {field.name} is {field.expected_text()}{_type_hint(field, types.field(column).type)}"
        for field in schema
        if (column := match.columns.get(field.name)) is not None and not _fits(field, types.field(column).type)
    ]
    if wrong:
        more = f"; and {len(wrong) - 8} more" if len(wrong) > 8 else ""
        raise BadBody(f"{what} does not fit: {'; '.join(wrong[:8])}{more}")


def _plain(kind: pa.DataType) -> Any:
    import pyarrow as pa

    return kind.value_type if pa.types.is_dictionary(kind) else kind


def _is_text(kind: pa.DataType) -> bool:
    import pyarrow as pa

    return bool(pa.types.is_string(kind) or pa.types.is_large_string(kind) or pa.types.is_string_view(kind))


def _fits(field: Field, kind: pa.DataType) -> bool:
    import pyarrow as pa

    kind = _plain(kind)
    if pa.types.is_null(kind):
        return True
    number = pa.types.is_integer(kind) or pa.types.is_floating(kind) or pa.types.is_decimal(kind)
    if field.kind in ("number", "integer"):
        return bool(number)
    if field.kind == "yes/no":
        return bool(pa.types.is_boolean(kind))
    if field.kind in ("choice", "text"):
        return _is_text(kind) or (field.kind == "choice" and bool(pa.types.is_integer(kind)))
    if field.kind == "time":
        return bool(pa.types.is_timestamp(kind) and kind.tz is not None) or bool(pa.types.is_date(kind))
    if field.kind == "image":
        return bool(pa.types.is_binary(kind) or pa.types.is_large_binary(kind) or pa.types.is_binary_view(kind))
    return bool(pa.types.is_list(kind) or pa.types.is_large_list(kind) or pa.types.is_fixed_size_list(kind))


def _type_hint(field: Field, kind: pa.DataType) -> str:
    import pyarrow as pa

    if field.kind == "time" and pa.types.is_timestamp(_plain(kind)):
        return " (the times have no zone; write them with one, UTC for instance)"
    if field.kind in ("number", "integer") and _is_text(_plain(kind)):
        return " (the numbers are stored as text; write them as numbers, or send CSV)"
    return ""


def read_table_rows(schema: Schema, match: ColumnMatch, table: pa.Table, first_row: int) -> TableRows:
    """The good rows of a table whose types were checked. first_row : number of its first row in the source."""
    import pyarrow as pa

    faults: list[Fault] = []
    arrays = {
        field.name: _fitted(field, table.column(match.columns[field.name]), faults) for field in schema if field.name in match.columns
    }
    fitted = pa.table(arrays) if arrays else pa.table({ROW: pa.nulls(table.num_rows)}).select([])
    columns, found = read_columns(schema, fitted) if arrays else (_defaults(schema, table.num_rows), [])
    faults += found
    numbers = np.arange(first_row, first_row + table.num_rows)
    rejects: list[Reject] = []
    if faults:
        by_row: dict[int, Fault] = {}
        for fault in faults:
            by_row.setdefault(fault.row or 0, fault)
        rejects = _rejects(schema, match, table, by_row, first_row)
        good = np.ones(table.num_rows, dtype=bool)
        good[list(by_row)] = False
        table, numbers, fitted = table.filter(pa.array(good)), numbers[good], fitted.filter(pa.array(good))
        columns, _ = read_columns(schema, fitted) if table.num_rows else ([], [])
    kept = table.select(list(match.keep)) if match.keep else pa.table({ROW: pa.array(numbers, pa.int64())})
    return TableRows(columns, numbers, kept, rejects)


def _defaults(schema: Schema, rows: int) -> list[Column]:
    import pyarrow as pa

    return read_columns(schema, pa.table({"": pa.nulls(rows)}))[0]


def _rejects(schema: Schema, match: ColumnMatch, table: pa.Table, faults: dict[int, Fault], first_row: int) -> list[Reject]:
    private = private_columns(schema, match.columns)
    places = sorted(faults)
    values = table.take(places).to_pylist()
    rejects = []
    for place, row in zip(places, values, strict=True):
        fault = faults[place]
        given = fault.given or shortened_json(row.get(match.columns.get(fault.field or "", ""), None))
        hint = f" ({fault.hint})" if fault.hint else ""
        text = f"given {given}, expected {fault.expected}{hint}"
        rejects.append(Reject(first_row + place, text, fault.field, None, shown_values(row, private)))
    return rejects


def _fitted(field: Field, chunked: pa.ChunkedArray, faults: list[Fault]) -> pa.Array:
    """A column in a type that the field is read from. faults : takes values that would not be the same in that type."""
    import pyarrow as pa
    import pyarrow.compute as pc

    array = chunked.combine_chunks()
    kind = array.type
    if pa.types.is_null(kind):
        return pa.nulls(len(array), arrow_schema(Schema((field,))).field(0).type if field.kind != "image" else pa.binary())
    if field.kind in ("number", "integer") and pa.types.is_dictionary(kind):
        array = array.dictionary_decode()
        kind = array.type
    if field.kind in ("number", "integer") and pa.types.is_decimal(kind):
        array = array.cast(pa.float64())
        kind = array.type
    if pa.types.is_floating(kind) and field.missing:
        array = pc.if_else(pc.is_nan(array), None, array)  # as pandas writes what is missing
    if field.kind == "integer" and pa.types.is_floating(kind):
        values = np.asarray(array.fill_null(0)).astype(np.float64)
        odd = ~(np.isfinite(values) & (values == np.floor(values)) & (np.abs(values) < 2.0**63))
        for row in np.flatnonzero(odd).tolist():
            given = str(values[row]) if len(faults) < MAX_FAULTS and not field.private else "a private value" if field.private else ""
            faults.append(Fault(row, field.name, given, field.expected_text()))
        return pa.array(np.where(odd, 0, values).astype(np.int64), mask=np.asarray(array.is_null()))
    if field.kind == "choice" and pa.types.is_integer(_plain(kind)):
        return array.cast(pa.string())
    if field.kind == "time" and pa.types.is_date(kind):
        return array.cast(pa.timestamp("us")).cast(pa.timestamp("us", "UTC"))
    return array


# -- answers ------------------------------------------------------------------------------------------------------------


def flat_answers(answers: Schema, columns: Sequence[Column], prefix: str) -> dict[str, pa.Array]:
    """Columns of the output: a vector has one for each of its names, ``scores.fails``. prefix : what every name begins with.

    columns : none for an output without rows.
    """
    import pyarrow as pa

    flat: dict[str, pa.Array] = {}
    arrays = answer_arrays(answers, columns) if columns else [pa.array([], kind) for kind in arrow_schema(answers).types]
    for field, array in zip(answers, arrays, strict=True):
        if pa.types.is_struct(array.type):
            flat |= {f"{prefix}{field.name}.{name}": part for name, part in zip(field.choices, array.flatten(), strict=True)}
        else:
            flat[f"{prefix}{field.name}"] = array.dictionary_decode() if pa.types.is_dictionary(array.type) else array
    return flat


def flat_names(answers: Schema, prefix: str) -> list[str]:
    """The names of those columns."""
    return [
        f"{prefix}{field.name}{part}"
        for field in answers
        for part in ([f".{name}" for name in field.choices] if field.kind == "vector" else [""])
    ]


def answered_names(answers: Schema) -> set[str]:
    """All names by which answers may stand in an output: of the fields, and of the columns of a vector."""
    return {field.name for field in answers} | set(flat_names(answers, ""))


def check_output_names(kept: Sequence[str], answered: Sequence[str]) -> None:
    """Raise BadBody if a column that is kept is called as one of the answers."""
    if double := [name for name in kept if name in set(answered)]:
        raise BadBody(
            f"the column {double[0]!r} is to be kept, and an answer has the same name; rename it in the source, or do not keep it"
        )
