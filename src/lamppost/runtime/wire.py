"""Encodes frames between service and worker: a small JSON header and typed column buffers, never a pickle.

A frame is ``header_bytes: u32 LE``, ``body_bytes: u32 LE``, the header as JSON, the body. The header's ``columns`` lists, in
schema order, ``[body_bytes_of_this_column, missing_bytes, extras]``; buffers lie one after the other, in the dtypes of
`lamppost.core.schema.columns.dtype_of`. Text and images are int32 byte lengths (-1 for missing) and then the bytes, text as UTF-8; tensors
with axes of any length are int32 shapes, a row after the other, and then the elements. Everything read is checked against its
bounds before use, because a worker is not trusted.
"""

from __future__ import annotations

import math
import struct
from collections.abc import Sequence
from typing import Any

import numpy as np
import orjson

from lamppost.core.schema.columns import Array, Column, dtype_of
from lamppost.core.schema.fields import Field, Schema

HEAD = struct.Struct("<II")
MAX_HEADER_BYTES = 16 * 2**20
MAX_BODY_BYTES = 1 * 2**30


class WireError(Exception):
    """The other side sent something that is not a frame, or columns that do not fit the schema."""


def pack_frame(header: dict[str, Any], body: bytes = b"") -> bytes:
    """One frame as bytes."""
    raw = orjson.dumps(header)
    return b"".join((HEAD.pack(len(raw), len(body)), raw, body))


def frame_size(head: bytes) -> tuple[int, int]:
    """Header and body length that the first eight bytes announce; raise WireError when they are over the bounds."""
    header_bytes, body_bytes = HEAD.unpack(head)
    if not 2 <= header_bytes <= MAX_HEADER_BYTES or body_bytes > MAX_BODY_BYTES:
        raise WireError(f"a frame announces {header_bytes} header bytes and {body_bytes} body bytes")
    return header_bytes, body_bytes


def read_header(raw: bytes) -> dict[str, Any]:
    """The header; raise WireError when it is no JSON object."""
    try:
        header = orjson.loads(raw)
    except ValueError as error:
        raise WireError(f"a frame's header is not JSON: {error}") from error
    if not isinstance(header, dict):
        raise WireError("a frame's header is no object")
    return header


def pack_columns(columns: Sequence[Column]) -> tuple[list[Any], bytes]:
    """Header entry and body of columns."""
    entries: list[Any] = []
    parts: list[bytes] = []
    for column in columns:
        data = _pack_list(column.values) if isinstance(column.values, list) else np.ascontiguousarray(column.values).tobytes()
        missing = b"" if column.missing is None else np.packbits(column.missing).tobytes()
        entries.append([len(data), len(missing), list(column.extras)])
        parts += (data, missing)
    return entries, b"".join(parts)


def unpack_columns(schema: Schema, rows: int, entries: Any, body: bytes) -> list[Column]:
    """Columns of a frame; raise WireError unless they are exactly what the schema and the row count demand."""
    if not isinstance(entries, list) or len(entries) != len(schema):
        raise WireError("a frame has another number of columns than the schema")
    columns, position = [], 0
    for field, entry in zip(schema, entries, strict=True):
        match entry:
            case [int(size), int(gone), list(extras)] if size >= 0 and gone >= 0 and all(isinstance(x, str) for x in extras):
                pass
            case _:
                raise WireError(f"column {field.name!r} has no readable entry")
        if position + size + gone > len(body):
            raise WireError(f"column {field.name!r} is cut short")
        data, mask = body[position : position + size], body[position + size : position + size + gone]
        columns.append(_unpack(field, rows, data, mask, tuple(extras)))
        position += size + gone
    if position != len(body):
        raise WireError("a frame has bytes that belong to no column")
    return columns


def _unpack(field: Field, rows: int, data: bytes, mask: bytes, extras: tuple[str, ...]) -> Column:
    if field.kind == "text":
        return Column([_text(field, value) for value in _unpack_list(field, rows, data)])
    if field.kind == "image":
        return Column(_unpack_list(field, rows, data))
    if field.kind == "tensor" and 0 in field.shape:
        return Column(_unpack_tensors(field, rows, data))
    dtype = np.dtype(dtype_of(field))
    width = len(field.choices) if field.kind == "vector" else math.prod(field.shape)
    if len(data) != rows * width * dtype.itemsize:
        raise WireError(f"column {field.name!r} has {len(data)} bytes, {rows} rows need {rows * width * dtype.itemsize}")
    values = np.frombuffer(data, dtype)
    missing = None
    if mask:
        if len(mask) != (rows + 7) // 8:
            raise WireError(f"column {field.name!r} has a missing mask of the wrong size")
        missing = np.unpackbits(np.frombuffer(mask, np.uint8), count=rows).astype(bool)
    if field.kind == "choice" and rows and not -1 <= values.min() <= values.max() < len(field.choices) + len(extras):
        raise WireError(f"column {field.name!r} has a code outside its choices")
    if field.kind in ("vector", "tensor"):
        values = values.reshape(rows, *(field.shape or (width,)))
    return Column(values, missing, extras)


def _pack_list(values: Sequence[Any]) -> bytes:
    if values and isinstance(values[0], np.ndarray):
        shapes = np.array([value.shape for value in values], dtype="<i4")
        return shapes.tobytes() + b"".join(np.ascontiguousarray(value).tobytes() for value in values)
    encoded = [value.encode() if isinstance(value, str) else value for value in values]
    lengths = np.array([-1 if value is None else len(value) for value in encoded], dtype="<i4")
    return lengths.tobytes() + b"".join(value for value in encoded if value)


def _unpack_list(field: Field, rows: int, data: bytes) -> list[bytes | None]:
    if len(data) < 4 * rows:
        raise WireError(f"column {field.name!r} is cut short")
    lengths = np.frombuffer(data, "<i4", count=rows).tolist()
    position = 4 * rows
    values: list[bytes | None] = []
    if any(length < -1 for length in lengths) or position + sum(max(0, length) for length in lengths) != len(data):
        raise WireError(f"column {field.name!r} has lengths that do not fit its bytes")
    for length in lengths:
        values.append(None if length < 0 else data[position : position + length])
        position += max(0, length)
    return values


def _text(field: Field, value: bytes | None) -> str | None:
    try:
        return None if value is None else value.decode()
    except UnicodeDecodeError as error:
        raise WireError(f"column {field.name!r} is not UTF-8") from error


def _unpack_tensors(field: Field, rows: int, data: bytes) -> list[Array]:
    axes, dtype = len(field.shape), np.dtype(dtype_of(field))
    position = 4 * rows * axes
    if len(data) < position:
        raise WireError(f"column {field.name!r} is cut short")
    shapes = np.frombuffer(data, "<i4", count=rows * axes).reshape(rows, axes).tolist()
    sizes = [math.prod(shape) for shape in shapes]
    if any(min(shape) < 0 for shape in shapes) or position + sum(sizes) * dtype.itemsize != len(data):
        raise WireError(f"column {field.name!r} has shapes that do not fit its bytes")
    values = []
    for shape, size in zip(shapes, sizes, strict=True):
        values.append(np.frombuffer(data, dtype, count=size, offset=position).reshape(shape))
        position += size * dtype.itemsize
    return values
