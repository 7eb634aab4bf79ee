"""Rows as columns and columns as rows: the typed form in which values travel between service and worker.

========  ==========================================================================================
kind      ``Column.values``
========  ==========================================================================================
number    float64 of shape (n_rows,); NaN is missing (no request can carry NaN)
integer   int64 of shape (n_rows,); ``missing`` marks the missing ones
yes/no    uint8 of shape (n_rows,): 0, 1, or 2 for missing
choice    int32 of shape (n_rows,): index into the field's choices, then into ``extras``; -1 is missing
text      list of str or None
vector    float64 of shape (n_rows, n_choices)
========  ==========================================================================================
"""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass
from typing import Any

import numpy as np
import numpy.typing as npt

from lamppost.core.errors import ModelFault
from lamppost.core.fields import Field, Schema, Value

Array = npt.NDArray[Any]
DTYPES: dict[str, str] = {"number": "<f8", "integer": "<i8", "yes/no": "|u1", "choice": "<i4", "vector": "<f8"}


@dataclass(frozen=True, slots=True)
class Column:
    """Values of one field for many rows; see the module's table.

    missing : bool array, only for integers with missing values. extras : choices met that the schema does not list.
    """

    values: Array | list[str | None]
    missing: Array | None = None
    extras: tuple[str, ...] = ()


def from_rows(schema: Schema, rows: Sequence[dict[str, Value]]) -> list[Column]:
    """Columns in schema order of rows that a `Plan` has let through."""
    return [_column(field, [row[field.name] for row in rows]) for field in schema]


def _column(field: Field, values: list[Any]) -> Column:
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
    return Column(values)


def to_column(field: Field, values: Any) -> Column:
    """A column of whatever a step's own code gave: an array or a list, None or NaN for missing. Raise ModelFault if it does not fit."""
    plain = values.tolist() if isinstance(values, np.ndarray) else list(values)
    if field.kind != "number" and field.kind != "vector":
        plain = [None if isinstance(value, float) and value != value else value for value in plain]
    try:
        if field.kind == "vector" and not (plain and isinstance(plain[0], dict)):
            return Column(np.asarray(plain, dtype=np.float64).reshape(len(plain), len(field.choices)))
        if field.kind in ("choice", "text"):
            plain = [None if value is None else str(value) for value in plain]
        return _column(field, plain)
    except (TypeError, ValueError, KeyError) as error:
        raise ModelFault(f"the values of {field.name} are not {field.wanted()}: {error}") from error


def to_array(field: Field, column: Column) -> Array:
    """A column as a step's own code gets it: float64 (NaN for missing) or int64, object arrays of bool, str or None, float64 (n, k)."""
    if field.kind in ("choice", "text"):
        values = strings(field, column)
    elif field.kind == "yes/no":
        values = [None if value == 2 else bool(value) for value in np.asarray(column.values).tolist()]  # type: ignore[misc]
    elif column.missing is not None:
        return np.where(column.missing, np.nan, np.asarray(column.values, dtype=np.float64))
    else:
        return np.asarray(column.values)
    out = np.empty(len(values), dtype=object)
    out[:] = values
    return out


def _codes(field: Field, values: list[str | None]) -> Column:
    codes: dict[str | None, int] = {choice: index for index, choice in enumerate(field.choices)}
    codes[None] = -1
    extras: list[str] = []
    for value in dict.fromkeys(values):
        if value is not None and value not in codes:
            codes[value] = len(field.choices) + len(extras)
            extras.append(value)
    return Column(np.array([codes[value] for value in values], dtype=np.int32), extras=tuple(extras))


def strings(field: Field, column: Column) -> list[str | None]:
    """The values of a choice or text column as text."""
    if isinstance(column.values, list):
        return column.values
    names: list[str | None] = [*field.choices, *column.extras, None]  # code -1 is the last
    return [names[code] for code in column.values.tolist()]


def to_rows(schema: Schema, columns: Sequence[Column], rows: int) -> list[dict[str, Any]]:
    """Answer rows of a model's columns; raise ModelFault for a value that the answer schema does not allow."""
    if len(columns) != len(schema):
        raise ModelFault(f"the model gave {len(columns)} answer columns, its schema has {len(schema)}; pack the model again")
    lists = [_answer_values(field, column, rows) for field, column in zip(schema, columns, strict=True)]
    names = schema.names
    return [dict(zip(names, values, strict=True)) for values in zip(*lists, strict=True)]


def _answer_values(field: Field, column: Column, rows: int) -> list[Any]:
    values = column.values
    if len(values) != rows:
        raise ModelFault(f"the model gave {len(values)} values of {field.name} for {rows} rows")
    if isinstance(values, list):
        return values
    if field.kind == "choice":
        limit = len(field.choices) + len(column.extras)
        if len(values) and not -1 <= values.min() <= values.max() < limit:
            raise ModelFault(f"the model gave a {field.name} that is none of its choices")
        texts = strings(field, column)
        unlisted = field.unseen == "refuse" and column.extras
        if unlisted or (not field.missing and None in texts):
            raise ModelFault(f"the model gave a {field.name} that is not {field.wanted()}")
        return texts
    if field.kind == "vector":
        if values.shape != (rows, len(field.choices)):
            raise ModelFault(f"the model gave {field.name} of shape {values.shape}, expected ({rows}, {len(field.choices)})")
        _finite(field, values)
        return [dict(zip(field.choices, row, strict=True)) for row in values.tolist()]
    if field.kind == "number" and not field.missing:
        _finite(field, values)
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
