"""Turns what callers have rows in (data frames, records, arrays with names, Arrow tables) into rows as JSON has them."""

from __future__ import annotations

import math
from collections.abc import Iterable, Mapping
from typing import Any

from lamppost.core.errors import BadRequest

Row = Mapping[str, Any]


def request_body(rows: Any) -> dict[str, Any]:
    """The body of a request: a row as an object, several as ``rows``.

    rows : a mapping or a pandas Series for one row; for several an iterable of mappings, a data frame of pandas or of any library with
    ``to_dicts``, an Arrow table or batch, or a numpy array with named columns. Raise BadRequest where something is no row, or a number is
    infinite.
    """
    if isinstance(rows, Mapping):
        return _plain_row(rows, None)
    if hasattr(rows, "to_dict") and hasattr(rows, "index") and not hasattr(rows, "columns"):  # a Series
        return _plain_row(rows.to_dict(), None)
    return {"rows": [_plain_row(row, number) for number, row in enumerate(_records(rows))]}


def _records(rows: Any) -> Iterable[Any]:
    if hasattr(rows, "to_dicts"):
        return list(rows.to_dicts())
    if hasattr(rows, "to_pylist"):
        return list(rows.to_pylist())
    if hasattr(rows, "columns") and hasattr(rows, "itertuples"):
        return _of_frame(rows)
    names = getattr(getattr(rows, "dtype", None), "names", None)
    if names:
        return [dict(zip(names, row.tolist(), strict=True)) for row in rows]
    if hasattr(rows, "shape"):
        raise BadRequest("an array without names of columns is no rows; give a data frame, or a list of objects")
    if isinstance(rows, (str, bytes)) or not isinstance(rows, Iterable):
        raise BadRequest(f"{type(rows).__name__} is no rows; give a mapping, a list of mappings or a data frame")
    return rows


def _of_frame(frame: Any) -> list[dict[str, Any]]:
    names = [str(name) for name in frame.columns]
    if len(set(names)) < len(names):
        twice = next(name for name in names if names.count(name) > 1)
        raise BadRequest(f"the data frame has several columns {twice!r}; a row has one value for each name")
    return [dict(zip(names, values, strict=True)) for values in frame.itertuples(index=False, name=None)]


def _plain_row(row: Any, number: int | None) -> dict[str, Any]:
    where = "" if number is None else f"row {number}, "
    if not isinstance(row, Mapping):
        raise BadRequest(f"{where}{type(row).__name__} is no row; give a mapping from field to value")
    return {str(name): _plain_value(value, where, name) for name, value in row.items()}


def _plain_value(value: Any, where: str, name: Any) -> Any:
    """A value that JSON can hold; marks for missing values (NaN, NA, NaT) become null."""
    if isinstance(value, float):
        if math.isinf(value):
            raise _infinite(value, where, name)
        return value
    if isinstance(value, (list, tuple)):
        return [_plain_value(item, where, name) for item in value]
    kind = type(value).__name__
    if kind == "ndarray" and value.dtype.kind == "f" and (abs(value) == math.inf).any():
        raise _infinite(math.inf, where, name)
    if kind in ("NAType", "NaTType"):
        return None
    if kind == "Timestamp":
        return value.to_pydatetime(warn=False)
    if kind == "Timedelta":
        raise BadRequest(f"{where}{name}: a duration is no kind of field; send it as a number")
    if kind == "Decimal":
        return float(value)
    if getattr(value, "shape", None) == () and hasattr(value, "item") and getattr(value.dtype, "kind", "O") in "iufb":
        return _plain_value(value.item(), where, name)
    return value


def _infinite(value: float, where: str, name: Any) -> BadRequest:
    return BadRequest(f"{where}{name}: {value} is no number that can be sent; leave it out or send null where it is missing")
