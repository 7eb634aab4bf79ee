r"""Converts rows to typed columns and back: the form in which values travel between service and worker.

========  ==========================================================================================
kind      ``Column.values``
========  ==========================================================================================
number    float64 of shape (n_rows,); NaN is missing (no request can carry NaN)
integer   int64 of shape (n_rows,); ``missing`` marks the missing ones
yes/no    uint8 of shape (n_rows,): 0, 1, or 2 for missing
choice    int32 of shape (n_rows,): index into the field's choices, then into ``extras``; -1 is missing
text      list of str or None
time      int64 of shape (n_rows,): microseconds since 1970 in UTC; -2^63 is missing (as in NumPy's datetime64)
image     list of bytes (the file as it was sent) or None
vector    float64 of shape (n_rows, n_choices)
tensor    float64 or int64 of shape (n_rows, \*shape); with axes of any length a list of arrays, one a row
========  ==========================================================================================
"""

from __future__ import annotations

import base64
from collections.abc import Sequence
from contextlib import suppress
from dataclasses import dataclass
from datetime import UTC, datetime, timedelta
from typing import Any

import numpy as np
import numpy.typing as npt

from lamppost.core.errors import Fault, InvalidRows, ModelFault
from lamppost.core.limits import MAX_BATCH_PIXELS
from lamppost.core.schema.fields import Field, Schema, describe_shape, shape_holds
from lamppost.core.schema.images import BadImage, count_pixels, decode_image

Array = npt.NDArray[Any]
GONE_TIME = -(2**63)
_EPOCH = datetime(1970, 1, 1, tzinfo=UTC)
_MICROSECOND = timedelta(microseconds=1)


def dtype_of(field: Field) -> str:
    """The NumPy dtype of a column of this field, little-endian; text and images have none."""
    if field.kind == "tensor":
        return "<i8" if field.elements == "integer" else "<f8"
    return {"number": "<f8", "integer": "<i8", "yes/no": "|u1", "choice": "<i4", "time": "<i8", "vector": "<f8"}[field.kind]


@dataclass(frozen=True, slots=True)
class Column:
    """Values of one field for many rows; see the module's table.

    missing : bool array, only for integers with missing values. extras : choices met that the schema does not list.
    """

    values: Array | list[Any]
    missing: Array | None = None
    extras: tuple[str, ...] = ()


def columns_from_rows(schema: Schema, rows: Sequence[dict[str, Any]]) -> list[Column]:
    """Columns in schema order of rows that a `ValidationPlan` has let through."""
    return [column_from_values(field, [row[field.name] for row in rows]) for field in schema]


def rows_from_columns(schema: Schema, columns: Sequence[Column]) -> list[dict[str, Any]]:
    """Columns as the rows that a `ValidationPlan` lets through: the other way round of `columns_from_rows`."""
    lists = [_read_values(field, column) for field, column in zip(schema, columns, strict=True)]
    return [dict(zip(schema.names, values, strict=True)) for values in zip(*lists, strict=True)]


def _read_values(field: Field, column: Column) -> list[Any]:
    if field.kind == "time":
        return [None if us == GONE_TIME else _EPOCH + us * _MICROSECOND for us in np.asarray(column.values).tolist()]
    return list(column.values) if field.kind in ("image", "tensor") else json_values(field, column)


def column_from_values(field: Field, values: list[Any]) -> Column:
    """A column of values as a `ValidationPlan` lets them through, or as JSON has them."""
    if field.kind == "number":
        return Column(np.array(values, dtype=np.float64))  # None becomes NaN
    if field.kind == "integer":
        if not field.missing or None not in values:
            return Column(np.array(values, dtype=np.int64))
        missing = np.array([value is None for value in values])
        return Column(np.array([value or 0 for value in values], dtype=np.int64), missing)
    if field.kind == "yes/no":
        return Column(np.array([2 if value is None else value for value in values], dtype=np.uint8))
    if field.kind == "choice":
        return _codes(field, values)
    if field.kind == "vector":
        return Column(np.array([[value[name] for name in field.choices] for value in values], dtype=np.float64))
    if field.kind == "time":
        return Column(np.array([GONE_TIME if value is None else to_microseconds(value) for value in values], dtype=np.int64))
    if field.kind == "tensor":
        arrays = [np.asarray(value, dtype=dtype_of(field)) for value in values]
        return Column(arrays if 0 in field.shape else np.stack(arrays))
    if field.kind == "image":
        return Column([base64.b64decode(value) if isinstance(value, str) else value for value in values])
    return Column(values)


def slice_columns(columns: Sequence[Column], start: int, stop: int) -> Sequence[Column]:
    """Rows from ``start`` to ``stop`` of columns."""
    if start == 0 and stop == len(columns[0].values):
        return columns
    return [
        Column(column.values[start:stop], None if column.missing is None else column.missing[start:stop], column.extras)
        for column in columns
    ]


def take_columns(columns: Sequence[Column], places: Array) -> list[Column]:
    """Rows at some places of columns, in the order of the places."""
    return [
        Column(
            [column.values[at] for at in places] if isinstance(column.values, list) else column.values[places],
            None if column.missing is None else column.missing[places],
            column.extras,
        )
        for column in columns
    ]


def join_columns(schema: Schema, parts: Sequence[Sequence[Column]]) -> list[Column]:
    """Columns of several batches as one, in their order."""
    return [_joined(field, [part[at] for part in parts]) for at, field in enumerate(schema)]


def _joined(field: Field, parts: Sequence[Column]) -> Column:
    if field.kind == "choice" and any(part.extras for part in parts):
        return _codes(field, [value for part in parts for value in column_texts(field, part)])
    if isinstance(parts[0].values, list):
        return Column([value for part in parts for value in part.values])
    missing = None
    if any(part.missing is not None for part in parts):
        missing = np.concatenate([np.zeros(len(part.values), dtype=bool) if part.missing is None else part.missing for part in parts])
    return Column(np.concatenate([np.asarray(part.values) for part in parts]), missing)


def to_microseconds(at: datetime | str) -> int:
    """Microseconds since 1970 in UTC of an instant, or of its text in RFC 3339."""
    if isinstance(at, str):
        at = datetime.fromisoformat(at)
    return (at - _EPOCH) // _MICROSECOND


def format_instant(us: int) -> str:
    """RFC 3339 text of microseconds since 1970: ``instant(0) == "1970-01-01T00:00:00Z"``."""
    return (_EPOCH + us * _MICROSECOND).isoformat().replace("+00:00", "Z")


def column_from_step(field: Field, values: Any) -> Column:
    """A column of whatever a step's own code gave: an array or a list, None or NaN for missing. Raise ModelFault if it does not fit."""
    if field.kind == "time":
        values = np.asarray(values, dtype="datetime64[us]").astype(np.int64)
        return Column(values)
    if field.kind == "tensor":
        return _to_tensors(field, values)
    plain = values.tolist() if isinstance(values, np.ndarray) else list(values)
    if field.kind != "number" and field.kind != "vector":
        plain = [None if isinstance(value, float) and value != value else value for value in plain]
    try:
        if field.kind == "vector" and not (plain and isinstance(plain[0], dict)):
            return Column(np.asarray(plain, dtype=np.float64).reshape(len(plain), len(field.choices)))
        if field.kind in ("choice", "text"):
            plain = [None if value is None else str(value) for value in plain]
        return column_from_values(field, plain)
    except (TypeError, ValueError, KeyError) as error:
        raise ModelFault(f"the values of {field.name} are not {field.expected_text()}: {error}") from error


def _to_tensors(field: Field, values: Any) -> Column:
    try:
        arrays = [np.asarray(value, dtype=dtype_of(field)) for value in values]
        for array in arrays:
            _fits(field, array)
        return Column(arrays if 0 in field.shape else np.stack(arrays))
    except (TypeError, ValueError) as error:
        raise ModelFault(f"the values of {field.name} are not {field.expected_text()}: {error}") from error


def _fits(field: Field, array: Array) -> None:
    if not shape_holds(field.shape, array.shape):
        raise ModelFault(f"the model gave {field.name} of shape {array.shape}, expected {describe_shape(field.shape)}")


def array_for_step(field: Field, column: Column) -> Array:
    """A column as a step's own code gets it.

    float64 (NaN for missing) or int64; object arrays of bool, str or None; datetime64[us]; float64 (n, k) of a vector, (n, *shape) of a
    tensor; uint8 (n, height, width, channels) of images whose size is fixed, else an object array of such arrays, or None.
    Raise InvalidRows for a picture that cannot be decoded.
    """
    if field.kind == "time":
        return np.asarray(column.values).view("datetime64[us]")
    if field.kind == "image":
        pictures = _pictures(field, column)
        if field.size is not None and not field.missing:
            return np.stack(pictures)
        values = pictures
    elif field.kind in ("choice", "text"):
        values = column_texts(field, column)
    elif isinstance(column.values, list):
        values = column.values
    elif field.kind == "yes/no":
        values = [None if value == 2 else bool(value) for value in np.asarray(column.values).tolist()]
    elif column.missing is not None:
        return np.where(column.missing, np.nan, np.asarray(column.values, dtype=np.float64))
    else:
        return np.asarray(column.values)
    objects = np.empty(len(values), dtype=object)
    for row, value in enumerate(values):  # one by one, because arrays of one shape would be taken as more axes
        objects[row] = value
    return objects


def _pictures(field: Field, column: Column) -> list[Any]:
    with suppress(BadImage):  # which row it is, decoding says
        if count_pixels(column.values) > MAX_BATCH_PIXELS:
            raise ModelFault(f"the pictures of one batch have over {MAX_BATCH_PIXELS:,} pixels; send fewer at a time")
    pictures = []
    for row, data in enumerate(column.values):
        try:
            pictures.append(None if data is None else decode_image(field, data))
        except BadImage as error:
            given = "a private value" if field.private else str(error)
            fault = Fault(row, field.name, given, field.expected_text())
            raise InvalidRows(fault.sentence(), faults=[fault.to_dict()]) from error
    return pictures


def _codes(field: Field, values: list[str | None]) -> Column:
    codes: dict[str | None, int] = {choice: index for index, choice in enumerate(field.choices)}
    codes[None] = -1
    extras: list[str] = []
    for value in dict.fromkeys(values):
        if value is not None and value not in codes:
            codes[value] = len(field.choices) + len(extras)
            extras.append(value)
    return Column(np.array([codes[value] for value in values], dtype=np.int32), extras=tuple(extras))


def column_texts(field: Field, column: Column) -> list[str | None]:
    """The values of a choice or text column as text."""
    if isinstance(column.values, list):
        return column.values
    names: list[str | None] = [*field.choices, *column.extras, None]  # code -1 is the last
    return [names[code] for code in column.values.tolist()]


def answer_rows_from_columns(schema: Schema, columns: Sequence[Column], rows: int) -> list[dict[str, Any]]:
    """Answer rows of a model's columns; raise ModelFault for a value that the answer schema does not allow."""
    check_answer_columns(schema, columns, rows)
    lists = [json_values(field, column) for field, column in zip(schema, columns, strict=True)]
    names = schema.names
    return [dict(zip(names, values, strict=True)) for values in zip(*lists, strict=True)]


def check_answer_columns(schema: Schema, columns: Sequence[Column], rows: int) -> None:
    """Raise ModelFault unless a model's columns are what the answer schema says."""
    if len(columns) != len(schema):
        raise ModelFault(f"the model gave {len(columns)} answer columns, its schema has {len(schema)}; pack the model again")
    for field, column in zip(schema, columns, strict=True):
        if len(column.values) != rows:
            raise ModelFault(f"the model gave {len(column.values)} values of {field.name} for {rows} rows")
        _check_values(field, column, rows)


def _check_values(field: Field, column: Column, rows: int) -> None:
    values = column.values
    if field.kind == "tensor":
        for row, array in enumerate(values):
            _fits(field, array)
            if not np.isfinite(array).all():
                raise ModelFault(f"the model gave no finite number for {field.name} in row {row}", row=row, field=field.name)
    elif isinstance(values, list):
        return
    elif field.kind == "time":
        if not field.missing and (values == GONE_TIME).any():
            raise ModelFault(f"the model gave no time for {field.name}")
    elif field.kind == "choice":
        limit = len(field.choices) + len(column.extras)
        if len(values) and not -1 <= values.min() <= values.max() < limit:
            raise ModelFault(f"the model gave a {field.name} that is none of its choices")
        if (field.unseen == "refuse" and column.extras) or (not field.missing and len(values) and values.min() < 0):
            raise ModelFault(f"the model gave a {field.name} that is not {field.expected_text()}")
    elif field.kind == "vector":
        if values.shape != (rows, len(field.choices)):
            raise ModelFault(f"the model gave {field.name} of shape {values.shape}, expected ({rows}, {len(field.choices)})")
        _finite(field, values)
    elif field.kind == "number":
        _finite(field, values[~np.isnan(values)] if field.missing else values)


def json_values(field: Field, column: Column) -> list[Any]:
    """The values of a column as JSON has them, a vector as an object by name; of a picture only that it is one."""
    values = column.values
    if field.kind == "tensor":
        return [array.tolist() for array in values]
    if field.kind == "time":
        return [None if us == GONE_TIME else format_instant(us) for us in np.asarray(values).tolist()]
    if field.kind == "image":
        return [None if value is None else f"a picture of {len(value):,} bytes" for value in values]
    if isinstance(values, list):
        return values
    if field.kind == "choice":
        return column_texts(field, column)
    if field.kind == "vector":
        return [dict(zip(field.choices, row, strict=True)) for row in values.tolist()]
    return _plain(field, column)


def _finite(field: Field, values: Array) -> None:
    good = np.isfinite(values)
    if not good.all():
        row = int(np.argwhere(~good)[0][0])
        raise ModelFault(f"the model gave no finite number for {field.name} in row {row}", row=row, field=field.name)


def _plain(field: Field, column: Column) -> list[Any]:
    values: list[Any] = column.values if isinstance(column.values, list) else column.values.tolist()
    if field.kind == "yes/no":
        return [None if value == 2 else bool(value) for value in values]
    if field.kind == "number":
        return [None if value != value else value for value in values]
    if column.missing is not None:
        return [None if gone else value for value, gone in zip(values, column.missing.tolist(), strict=True)]
    return values
