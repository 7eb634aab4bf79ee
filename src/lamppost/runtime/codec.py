"""Packs rows into frames and reads answer rows from frames by one schema, without arrays in between where values are plain. Batches are
small and frequent, so the cost per column matters more than the cost per value.
"""

from __future__ import annotations

import itertools
import math
import struct
from array import array
from collections.abc import Callable, Sequence
from operator import itemgetter
from typing import Any

import numpy as np

from lamppost.core.errors import ModelFault
from lamppost.core.schema.columns import Column, answer_rows_from_columns, column_from_values, columns_from_rows, dtype_of
from lamppost.core.schema.fields import Field, Schema
from lamppost.runtime.wire import WireError, pack_columns, unpack_columns

Row = dict[str, Any]
Pack = Callable[[list[Any]], tuple[bytes, list[str]]]

_MANY = 512
"""Rows from which on arrays are faster than lists."""


class FrameCodec:
    """Packs and reads the rows of one schema: `pack` for requests, `rows` and `columns` for answers."""

    def __init__(self, schema: Schema) -> None:
        self.schema = schema
        self._packs = [(itemgetter(field.name), field, _packer(field)) for field in schema]
        self._plain = all(field.kind in _READ and not field.missing for field in schema)
        self._types = [_Fixed(field) if field.kind in _FIXED else None for field in schema]
        self._single = _Single(schema) if all(field.kind in _LETTERS for field in schema) else None
        self._single_answer = _SingleAnswer(schema) if self._plain else None

    def pack(self, rows: Sequence[Row]) -> tuple[list[Any], bytes]:
        """Header entries and body of rows that a `ValidationPlan` has let through."""
        if len(rows) >= _MANY:
            return pack_columns(columns_from_rows(self.schema, rows))
        if len(rows) == 1 and self._single is not None and (packed := self._single.pack(rows[0])) is not None:
            return self._single.entries, packed
        entries: list[Any] = []
        parts: list[bytes] = []
        for get, field, pack in self._packs:
            values = list(map(get, rows))
            if pack is not None:
                try:
                    data, extras = pack(values)
                except (TypeError, KeyError, OverflowError):  # a missing value, or a choice that is not listed
                    pass
                else:
                    entries.append((len(data), 0, extras))
                    parts.append(data)
                    continue
            (entry,), data = pack_columns([column_from_values(field, values)])
            entries.append(entry)
            parts.append(data)
        return entries, b"".join(parts)

    def single(self, body: bytes) -> tuple[Any, ...] | None:
        """The values of a frame with one row, as their columns hold them; None where they are no plain ones, or integers are missing."""
        return self._single.unpack(body) if self._single is not None else None

    def columns(self, rows: int, entries: Any, body: bytes) -> list[Column]:
        """Columns of a frame that we sent ourselves, unchecked where the dtype is fixed; for workers."""
        if None in self._types or any(entry[1] for entry in entries):
            return unpack_columns(self.schema, rows, entries, body)
        unpacked, at = [], 0
        for fixed, (size, _, extras) in zip(self._types, entries, strict=True):
            assert fixed is not None
            values = np.frombuffer(body, fixed.dtype, fixed.width * rows, at)
            unpacked.append(Column(values if fixed.shape is None else values.reshape(rows, *fixed.shape), None, tuple(extras)))
            at += size
        return unpacked

    def rows(self, rows: int, entries: Any, body: bytes) -> list[Row]:
        """Answer rows of a worker's frame; raise WireError for what does not fit, ModelFault for values that the schema does not allow."""
        if rows == 1 and self._single_answer is not None and (row := self._single_answer.row(entries, body)) is not None:
            return [row]
        if not self._plain or rows >= _MANY:
            columns = unpack_columns(self.schema, rows, entries, body)
            return answer_rows_from_columns(self.schema, columns, rows)
        if not isinstance(entries, list) or len(entries) != len(self.schema):
            raise WireError("a frame has another number of columns than the schema")
        lists, at = [], 0
        for field, fixed, entry in zip(self.schema, self._types, entries, strict=True):
            assert fixed is not None
            match entry:
                case [int(size), 0, []] if size == rows * fixed.bytes and at + size <= len(body):
                    lists.append(_READ[field.kind](field, fixed, body[at : at + size], rows))
                    at += size
                case _:  # extras, masks, and whatever is wrong: the careful way
                    return answer_rows_from_columns(self.schema, unpack_columns(self.schema, rows, entries, body), rows)
        if at != len(body):
            raise WireError("a frame has bytes that belong to no column")
        names = self.schema.names
        if len(names) == 2:  # label and scores
            first, second = names
            return [{first: a, second: b} for a, b in zip(*lists, strict=True)]
        return [dict(zip(names, values, strict=True)) for values in zip(*lists, strict=True)]


_FIXED = ("number", "integer", "yes/no", "choice", "time", "vector")


class _Fixed:
    """dtype, elements a row, and shape of a column whose values are of one size."""

    __slots__ = ("bytes", "codes", "dtype", "shape", "width")

    def __init__(self, field: Field) -> None:
        self.dtype = np.dtype(dtype_of(field))
        self.shape = (len(field.choices),) if field.kind == "vector" else None
        self.width = len(field.choices) if field.kind == "vector" else 1
        self.bytes = self.width * self.dtype.itemsize
        self.codes = len(field.choices)


_LETTERS = {"number": "d", "integer": "q", "yes/no": "B", "choice": "i"}


class _Single:
    """One row of plain values: its columns, one after the other, are a structure. entries : of the header, always the same."""

    def __init__(self, schema: Schema) -> None:
        names = schema.names
        self._struct = struct.Struct("<" + "".join(_LETTERS[field.kind] for field in schema))
        self._get: Callable[[Row], Sequence[Any]] = itemgetter(*names) if len(names) > 1 else lambda row: (row[names[0]],)
        self._codes = [(at, codes) for at, field in enumerate(schema) if (codes := _codes(field)) is not None]
        self.entries: list[Any] = [(np.dtype(dtype_of(field)).itemsize, 0, []) for field in schema]

    def pack(self, row: Row) -> bytes | None:
        """The body; None where a number is missing, or a choice is not listed."""
        values = list(self._get(row))
        try:
            for at, codes in self._codes:
                values[at] = codes[values[at]]
            return self._struct.pack(*values)
        except (struct.error, KeyError, OverflowError):
            return None

    def unpack(self, body: bytes) -> tuple[Any, ...] | None:
        """The values again; None for a body that has more than them."""
        return self._struct.unpack(body) if len(body) == self._struct.size else None


class _SingleAnswer:
    """One row of answers: labels, scores and numbers, as a structure."""

    def __init__(self, schema: Schema) -> None:
        types = [_Fixed(field) for field in schema]
        self._struct = struct.Struct(
            "<" + "".join(f"{wire_type.width}{_LETTERS.get(field.kind, 'd')}" for field, wire_type in zip(schema, types, strict=True))
        )
        self._entries = [[wire_type.bytes, 0, []] for wire_type in types]
        ends = list(itertools.accumulate(wire_type.width for wire_type in types))
        self._fields = [
            (field.name, field.kind, field.choices, end - wire_type.width, end)
            for field, wire_type, end in zip(schema, types, ends, strict=True)
        ]

    def row(self, entries: Any, body: bytes) -> Row | None:
        """The answer row; None for anything unexpected, which the checked way then reports."""
        if entries != self._entries or len(body) != self._struct.size:
            return None
        values = self._struct.unpack(body)
        row: Row = {}
        for name, kind, choices, start, end in self._fields:
            if kind == "choice":
                if not 0 <= values[start] < len(choices):
                    return None
                row[name] = choices[values[start]]
                continue
            if not math.isfinite(sum(values[start:end])):
                return None
            row[name] = dict(zip(choices, values[start:end], strict=True)) if kind == "vector" else values[start]
        return row


def _codes(field: Field) -> dict[Any, int] | None:
    """The codes of a finite field's values on the wire."""
    if field.kind == "yes/no":
        return {False: 0, True: 1, None: 2}
    return {**{choice: code for code, choice in enumerate(field.choices)}, None: -1} if field.kind == "choice" else None


def _packer(field: Field) -> Pack | None:
    if field.kind == "number":
        return lambda values: (array("d", values).tobytes(), [])
    if field.kind == "integer":
        return lambda values: (array("q", values).tobytes(), [])
    if (codes := _codes(field)) is not None:
        letter = _LETTERS[field.kind]
        return lambda values: (array(letter, [codes[value] for value in values]).tobytes(), [])
    return None


def _numbers(field: Field, fixed: _Fixed, data: bytes, rows: int) -> list[Any]:  # noqa: ARG001 - as its fellows
    values = array("d", data).tolist()
    _all_finite(field, values, 1)
    return values


def _integers(field: Field, fixed: _Fixed, data: bytes, rows: int) -> list[Any]:  # noqa: ARG001 - as its fellows
    return array("q", data).tolist()


def _choices(field: Field, fixed: _Fixed, data: bytes, rows: int) -> list[Any]:  # noqa: ARG001 - as its fellows
    codes = array("i", data)
    if codes and not 0 <= min(codes) <= max(codes) < fixed.codes:
        raise ModelFault(f"the model gave a {field.name} that is not {field.expected_text()}")
    names = field.choices
    return [names[code] for code in codes]


def _vectors(field: Field, fixed: _Fixed, data: bytes, rows: int) -> list[Any]:
    values = array("d", data).tolist()
    width, names = fixed.width, field.choices
    _all_finite(field, values, width)
    if width == 2:
        first, second = names
        return [{first: a, second: b} for a, b in zip(values[::2], values[1::2], strict=True)]
    return [dict(zip(names, values[at * width : (at + 1) * width], strict=True)) for at in range(rows)]


def _all_finite(field: Field, values: list[float], width: int) -> None:
    if math.isfinite(sum(values)):  # one addition a value, and only what is not finite, or overflows, is looked at
        return
    for at, value in enumerate(values):
        if not math.isfinite(value):
            row = at // width
            raise ModelFault(f"the model gave no finite number for {field.name} in row {row}", row=row, field=field.name)


_READ: dict[str, Callable[[Field, _Fixed, bytes, int], list[Any]]] = {
    "number": _numbers,
    "integer": _integers,
    "choice": _choices,
    "vector": _vectors,
}
