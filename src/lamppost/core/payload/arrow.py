"""Reads requests and writes answers as Apache Arrow IPC streams, as typed columns without rows in between.

Types that hold a kind: any integer or float for number; any integer for integer; bool for yes/no; string, large string, string
view, or a dictionary of strings for choice and text; timestamp with a zone for time; binary or binary view for image; (fixed size) lists
for tensor.
"""

from __future__ import annotations

import io
from collections import Counter
from collections.abc import Sequence
from typing import TYPE_CHECKING, Any

import numpy as np

from lamppost.core.errors import BadBody, Fault, InvalidRows, TooManyRows
from lamppost.core.limits import MAX_REQUEST_PIXELS
from lamppost.core.names import closest_name
from lamppost.core.payload.arrow_blocks import check_messages
from lamppost.core.payload.line_blocks import MAX_RECORD_BYTES
from lamppost.core.schema.columns import GONE_TIME, Array, Column, column_from_values, column_texts, dtype_of
from lamppost.core.schema.fields import INT_HIGH, INT_LOW, MAX_TEXT, Field, Schema, shape_holds
from lamppost.core.schema.images import BadImage, check_header, count_pixels

if TYPE_CHECKING:
    import pyarrow as pa

MAX_FAULTS = 50


def read_arrow(schema: Schema, body: bytes, max_rows: int) -> tuple[list[Column], int]:
    """Columns in schema order and the number of rows; raise BadBody, TooManyRows, or InvalidRows with every fault (50 at most)."""
    import pyarrow as pa

    check_messages(body)
    try:
        with pa.ipc.open_stream(io.BytesIO(body)) as stream:
            _check_names(schema, stream.schema.names)
            batches, rows = [], 0
            for batch in stream:
                rows += batch.num_rows
                if rows > max_rows:
                    raise TooManyRows(f"one request may have {max_rows} rows, this one has more; send them in several", max_rows=max_rows)
                batch.validate(full=True)
                batches.append(batch)
            table = pa.Table.from_batches(batches, stream.schema)
        return read_table(schema, table, max_rows)
    except (pa.ArrowException, OSError, ValueError, OverflowError, MemoryError) as error:
        raise BadBody(f"the body is no Arrow stream, or one cut short: {str(error)[:200]}") from error


def read_table(schema: Schema, table: pa.Table, max_rows: int) -> tuple[list[Column], int]:
    """The same of a table in memory."""
    names, rows = table.schema.names, table.num_rows
    _check_names(schema, names)
    if rows > max_rows:
        raise TooManyRows(f"one request may have {max_rows} rows, this one has more; send them in several", max_rows=max_rows)
    if not rows:
        raise BadBody("there are no rows; send at least one")
    columns, faults = read_columns(schema, table)
    if faults:
        more = f"; and {len(faults) - 1} more" if len(faults) > 1 else ""
        raise InvalidRows(faults[0].sentence() + more, faults=[fault.to_dict() for fault in faults[:MAX_FAULTS]], fault_count=len(faults))
    return columns, rows


def read_columns(schema: Schema, table: pa.Table) -> tuple[list[Column], list[Fault]]:
    """Columns in schema order of a table in memory, and all that is wrong with their values; a wrong value has another in its place.

    A column of a type that does not hold its field is one fault, of row 0.
    """
    faults: list[Fault] = []
    names = frozenset(table.schema.names)
    return [_column(field, table.column(field.name) if field.name in names else None, table.num_rows, faults) for field in schema], faults


def _check_names(schema: Schema, names: Sequence[str]) -> None:
    known, there = set(schema.names), set(names)
    if unknown := next((name for name in names if name not in known), None):
        like = closest_name(unknown, schema.names)
        raise BadBody(f"there is a column {unknown[:200]!r}, which is no field" + (f"; did you mean {like}?" if like else ""))
    if len(there) < len(names):
        twice = sorted(name for name, times in Counter(names).items() if times > 1)
        raise BadBody(f"the column {twice[0]!r} stands there more than once")
    if lost := [field.name for field in schema if field.required and field.name not in there]:
        raise BadBody(f"the body lacks the columns {', '.join(lost[:10])}, which every row needs")


def _column(field: Field, chunked: pa.ChunkedArray | None, rows: int, faults: list[Fault]) -> Column:
    if chunked is None:
        return column_from_values(field, [field.default] * rows)
    array = _without_views(chunked.chunk(0) if chunked.num_chunks == 1 else chunked.combine_chunks())
    gone = np.asarray(array.is_null()) if array.null_count else np.zeros(rows, dtype=bool)
    if array.null_count and not field.missing:
        _add_faults(faults, field, gone, ["null"] * rows, "this field may not be missing")
        return column_from_values(field, [_filler(field)] * rows)
    reader = {"choice": _texts, "text": _texts, "time": _times, "image": _pictures, "tensor": _tensors}.get(field.kind, _numbers)
    try:
        return reader(field, array, gone, faults)
    except _WrongType:
        given = f"a column of {array.type}"
        faults.append(Fault(0, field.name, given, field.expected_text(), f"send {_TYPES[field.kind]}"))
        return column_from_values(field, [_filler(field)] * rows)


def _without_views(array: pa.Array) -> pa.Array:
    """A column of views into texts or bytes, as polars sends them, as a plain column. Raise BadBody where views of the same bytes would be
    larger than any body when they are written out.
    """
    import pyarrow as pa

    if pa.types.is_dictionary(array.type):
        return pa.DictionaryArray.from_arrays(array.indices, _without_views(array.dictionary))
    text = pa.types.is_string_view(array.type)
    if not text and not pa.types.is_binary_view(array.type):
        return array
    lengths = np.frombuffer(array.buffers()[1], dtype=np.int32).reshape(-1, 4)[array.offset : array.offset + len(array), 0]
    if int(lengths[np.asarray(array.is_valid())].sum(dtype=np.int64)) > MAX_RECORD_BYTES:
        raise BadBody(f"written out for each row, a column of views has over {MAX_RECORD_BYTES:,} bytes; send fewer rows")
    return array.cast(pa.string() if text else pa.binary())


class _WrongType(Exception):
    """A column of a type that does not hold the field's kind."""


_TYPES = {
    "number": "float64, or any other float or integer",
    "integer": "int64, or any other integer",
    "yes/no": "bool",
    "choice": "string",
    "text": "string",
    "time": "timestamp with a zone",
    "image": "binary",
    "tensor": "lists of float64 or int64",
}


def _filler(field: Field) -> Any:
    """A value that stands in for a column that is refused anyway."""
    plain: dict[str, Any] = {"number": 0.0, "integer": 0, "yes/no": False, "text": "", "image": b"", "time": "1970-01-01T00:00:00Z"}
    if field.kind == "tensor":
        return np.zeros([length or 1 for length in field.shape])
    return field.choices[0] if field.kind == "choice" else plain[field.kind]


def _add_faults(faults: list[Fault], field: Field, wrong: Array, values: Any, hint: str | None = None) -> None:
    """A fault for each wrong row, as far as there is room; the rest is counted."""
    for row in np.flatnonzero(wrong).tolist():
        given = "a private value" if field.private else str(values[row])[:80] if len(faults) < MAX_FAULTS else ""
        faults.append(Fault(row, field.name, given, field.expected_text(), hint))


def _numbers(field: Field, array: pa.Array, gone: Array, faults: list[Fault]) -> Column:
    import pyarrow as pa

    kind = array.type
    whole, real = pa.types.is_integer(kind), pa.types.is_floating(kind)
    if field.kind == "yes/no":
        if not pa.types.is_boolean(kind):
            raise _WrongType
        return Column(np.where(gone, 2, np.asarray(_filled(array, False))).astype(np.uint8))
    if not whole and not (real and field.kind == "number"):
        raise _WrongType
    values = np.asarray(_filled(array, 0))
    if field.kind == "integer":
        if kind == pa.uint64() and (over := values > INT_HIGH).any():
            _add_faults(faults, field, over, values, "whole numbers go from -2^63 to 2^63-1")
        plain = values.astype(np.int64, copy=False)
    else:
        plain = values.astype(np.float64, copy=False)
        if (odd := ~np.isfinite(plain)).any():
            _add_faults(
                faults,
                field,
                odd,
                plain,
                "NaN and infinity are no values; send null" if field.missing else "NaN and infinity are no values",
            )
    _within(field, plain, ~gone, faults)
    if field.kind == "number":
        return Column(np.where(gone, np.nan, plain) if gone.any() else plain)
    return Column(plain, gone if gone.any() else None)


def _filled(array: pa.Array, value: Any) -> pa.Array:
    """The array with a value in the place of nulls; to ask Arrow for that takes longer than all else about a short column."""
    return array.fill_null(value) if array.null_count else array


def _within(field: Field, values: Array, there: Array, faults: list[Fault]) -> None:
    low = INT_LOW if field.low is None and values.dtype.kind == "i" else field.low
    wrong = np.zeros(len(values), dtype=bool)
    if low is not None:
        wrong |= values < low
    if field.high is not None:
        wrong |= values > field.high
    if (wrong & there).any():
        _add_faults(faults, field, wrong & there, values)


def _texts(field: Field, array: pa.Array, gone: Array, faults: list[Fault]) -> Column:
    import pyarrow as pa

    plain = array.type.value_type if pa.types.is_dictionary(array.type) else array.type
    if not (pa.types.is_string(plain) or pa.types.is_large_string(plain)):
        raise _WrongType
    if field.kind == "text":
        values = _plain_texts(array)
        long = np.array([value is not None and len(value) > MAX_TEXT for value in values])
        if long.any():
            _add_faults(faults, field, long, values, f"{MAX_TEXT} characters at most")
        _refuse_nul(faults, field, values)
        return Column(values)
    coded = array if pa.types.is_dictionary(array.type) else array.dictionary_encode()
    words = coded.dictionary.to_pylist()
    known = {choice: code for code, choice in enumerate(field.choices)}
    extras = [word for word in words if word not in known and "\0" not in word] if field.unseen == "accept" else []
    known |= {word: len(known) + at for at, word in enumerate(extras)}
    codes = np.array([known.get(word, -2) for word in words] or [-1], dtype=np.int32)
    places = np.asarray(coded.indices.fill_null(0)).astype(np.int64)
    codes_of_rows = np.where(gone, -1, codes[places]).astype(np.int32)
    if (wrong := codes_of_rows == -2).any():
        _add_faults(faults, field, wrong, [words[place] for place in places.tolist()])
    return Column(codes_of_rows, extras=tuple(extras))


def _refuse_nul(faults: list[Fault], field: Field, texts: Sequence[str | None]) -> None:
    """A fault for each text that holds the character NUL."""
    faults += [
        Fault(row, field.name, "text with the character NUL", field.expected_text(), "leave it out; it is not kept")
        for row, text in enumerate(texts)
        if text is not None and "\0" in text
    ]


def _plain_texts(array: pa.Array) -> list[str | None]:
    """The texts of a column. Raise BadBody for a dictionary whose words, written out for each row, are larger than any body."""
    import pyarrow as pa

    if not pa.types.is_dictionary(array.type):
        return list(array.to_pylist())
    words = array.dictionary.to_pylist()
    texts = [None if place is None else words[place] for place in array.indices.to_pylist()]
    if sum(len(text) for text in texts if text is not None) > MAX_RECORD_BYTES:
        raise BadBody(f"written out for each row, the texts of a dictionary have over {MAX_RECORD_BYTES:,} characters; send fewer rows")
    return texts


def _times(field: Field, array: pa.Array, gone: Array, faults: list[Fault]) -> Column:  # noqa: ARG001 - as its fellows
    import pyarrow as pa

    if not pa.types.is_timestamp(array.type) or array.type.tz is None:
        raise _WrongType
    us = np.asarray(array.cast(pa.timestamp("us", "UTC"), safe=False).cast(pa.int64()).fill_null(GONE_TIME))
    return Column(np.where(gone, GONE_TIME, us))


def _pictures(field: Field, array: pa.Array, gone: Array, faults: list[Fault]) -> Column:  # noqa: ARG001 - as its fellows
    import pyarrow as pa

    if not (pa.types.is_binary(array.type) or pa.types.is_large_binary(array.type)):
        raise _WrongType
    values = array.to_pylist()
    for row, data in enumerate(values):
        try:
            if data is not None:
                check_header(field, data)
        except BadImage as error:
            faults.append(Fault(row, field.name, str(error), field.expected_text()))
            values[row] = None
    if count_pixels(values) > MAX_REQUEST_PIXELS:
        raise TooManyRows(f"the pictures of one request may have {MAX_REQUEST_PIXELS:,} pixels in all; send them in several requests")
    return Column(values)


def _tensors(field: Field, array: pa.Array, gone: Array, faults: list[Fault]) -> Column:  # noqa: ARG001 - as its fellows
    import pyarrow as pa

    def is_list(kind: pa.DataType) -> bool:
        return bool(pa.types.is_list(kind) or pa.types.is_large_list(kind) or pa.types.is_fixed_size_list(kind))

    inner, axes = array.type, 0
    while is_list(inner):
        inner, axes = inner.value_type, axes + 1
    allowed = pa.types.is_integer(inner) or (pa.types.is_floating(inner) and field.elements == "number")
    if axes != len(field.shape) or not allowed:
        raise _WrongType
    arrays: list[Array] = []
    for row, value in enumerate(_equal_tensors(array, dtype_of(field)) or array.to_pylist()):
        try:
            tensor = np.asarray(value, dtype=dtype_of(field))
        except (TypeError, ValueError):
            tensor = np.empty(0)
        fits = shape_holds(field.shape, tensor.shape) and tensor.size
        bad = fits and (not np.isfinite(tensor).all() or _outside(field, tensor))
        if not fits or bad:
            faults.append(Fault(row, field.name, "elements out of range" if bad else f"a shape of {tensor.shape}", field.expected_text()))
            tensor = np.zeros([length or 1 for length in field.shape])
        arrays.append(tensor)
    return Column(arrays if 0 in field.shape else np.stack(arrays))


def _equal_tensors(array: pa.Array, dtype: str) -> list[Array] | None:
    """The tensors of a column whose type says that all are of one shape, without a detour over Python's numbers; None for any other."""
    import pyarrow as pa

    lengths = []
    while pa.types.is_fixed_size_list(array.type) and not array.null_count:
        lengths.append(array.type.list_size)
        array = array.flatten()
    if pa.types.is_nested(array.type) or array.null_count or not lengths:
        return None
    return list(array.to_numpy(zero_copy_only=False).astype(dtype, copy=False).reshape(-1, *lengths))


def _outside(field: Field, array: Array) -> bool:
    return bool((field.low is not None and (array < field.low).any()) or (field.high is not None and (array > field.high).any()))


# -- answers ------------------------------------------------------------------------------------------------------------


def arrow_schema(schema: Schema) -> pa.Schema:
    """The Arrow schema of answers: a vector is a struct with a float64 for each of its names."""
    import pyarrow as pa

    plain = {"number": pa.float64(), "integer": pa.int64(), "yes/no": pa.bool_(), "text": pa.string(), "time": pa.timestamp("us", "UTC")}
    fields = []
    for field in schema:
        if field.kind == "choice":
            kind = pa.dictionary(pa.int32(), pa.string())
        elif field.kind == "vector":
            kind = pa.struct([pa.field(name, pa.float64(), nullable=False) for name in field.choices])
        elif field.kind == "tensor":
            kind = pa.int64() if field.elements == "integer" else pa.float64()
            for _ in field.shape:
                kind = pa.list_(kind)
        else:
            kind = plain[field.kind]
        fields.append(pa.field(field.name, kind, nullable=field.missing))
    return pa.schema(fields)


def write_arrow(schema: Schema, columns: Sequence[Column]) -> bytes:
    """An Arrow stream of answer columns that were checked, in one batch."""
    import pyarrow as pa

    types = arrow_schema(schema)
    batch = pa.record_batch(answer_arrays(schema, columns), types)
    sink = io.BytesIO()
    with pa.ipc.new_stream(sink, types) as stream:
        stream.write_batch(batch)
    return sink.getvalue()


def answer_arrays(schema: Schema, columns: Sequence[Column]) -> list[pa.Array]:
    """Answer columns that were checked as Arrow arrays, of the types of `arrow_schema`."""
    types = arrow_schema(schema)
    return [_array(field, column, types.field(field.name).type) for field, column in zip(schema, columns, strict=True)]


def _array(field: Field, column: Column, kind: pa.DataType) -> pa.Array:
    import pyarrow as pa

    values: Any = column.values
    if field.kind == "choice":
        codes = pa.array(values, pa.int32(), mask=values < 0 if (values < 0).any() else None)
        return pa.DictionaryArray.from_arrays(codes, pa.array([*field.choices, *column.extras], pa.string()))
    if field.kind == "vector":
        parts = [pa.array(np.ascontiguousarray(values[:, at])) for at in range(values.shape[1])]
        return pa.StructArray.from_arrays(parts, fields=list(kind))
    if field.kind == "tensor":
        return pa.array([value.tolist() for value in values], kind)
    if field.kind == "text":
        return pa.array(column_texts(field, column), kind)
    if field.kind == "yes/no":
        return pa.array(values == 1, kind, mask=values == 2)
    if field.kind == "time":
        return pa.array(values, pa.int64(), mask=values == GONE_TIME).cast(kind)
    if field.kind == "number":
        return pa.array(values, kind, mask=np.isnan(values)) if field.missing else pa.array(values, kind)
    return pa.array(values, kind, mask=column.missing)
