"""Reads and writes typed columns as gRPC messages, whichever side asks."""

from __future__ import annotations

from collections.abc import Callable, Sequence
from typing import TYPE_CHECKING, Any

import numpy as np

from lamppost.core.errors import BadBody, ModelFault
from lamppost.core.schema.columns import GONE_TIME, Array, Column, check_answer_columns, column_from_values, column_texts
from lamppost.core.schema.fields import Field, Schema
from lamppost.service.grpc import predict_pb2 as pb

if TYPE_CHECKING:
    import pyarrow as pa

_DTYPES = ("float32", "float64", "int8", "uint8", "int16", "int32", "int64")


def table_of_columns(columns: pb.Columns) -> pa.Table:
    """Columns as an Arrow table, whose rules they then are held to; raise BadBody for what is none."""
    import pyarrow as pa

    makers: dict[str, Callable[[Any, Any], pa.Array]] = {
        "numbers": lambda c, mask: pa.array(np.fromiter(c.values, np.float64, len(c.values)), mask=mask),
        "integers": lambda c, mask: pa.array(np.fromiter(c.values, np.int64, len(c.values)), mask=mask),
        "yes_nos": lambda c, mask: pa.array(np.fromiter(c.values, np.bool_, len(c.values)), mask=mask),
        "times": lambda c, mask: pa.array(np.fromiter(c.microseconds, np.int64, len(c.microseconds)), mask=mask).cast(
            pa.timestamp("us", "UTC")
        ),
        "texts": lambda c, mask: _listed(c.values, mask, pa.string()),
        "images": lambda c, mask: _listed(c.files, mask, pa.binary()),
        "tensors": lambda c, mask: _tensor_array([read_tensor(value) for value in c.values], mask),
    }
    names: list[str] = []
    arrays: list[pa.Array] = []
    for column in columns.columns:
        kind = column.WhichOneof("values")
        if kind not in makers:
            raise BadBody(f"the column {column.name!r} has {'vectors, which are in answers only' if kind else 'no values'}")
        given = getattr(column, kind)
        mask = np.fromiter(column.missing, np.bool_, len(column.missing)) if column.missing else None
        count = len(given.microseconds if kind == "times" else given.files if kind == "images" else given.values)
        if mask is not None and len(mask) != count:
            raise BadBody(f"the column {column.name!r} has {count} values and says of {len(mask)} whether they are missing")
        names.append(column.name)
        arrays.append(makers[kind](given, mask))
    if len({len(array) for array in arrays}) > 1:
        lengths = ", ".join(f"{name} {len(array)}" for name, array in list(zip(names, arrays, strict=True))[:20])
        raise BadBody(f"the columns are of different lengths ({lengths}); each has one value a row")
    return pa.Table.from_arrays(arrays, names=names)


def _listed(values: Any, mask: Array | None, kind: Any) -> pa.Array:
    import pyarrow as pa

    gone = [False] * len(values) if mask is None else mask.tolist()
    return pa.array([None if lost else value for value, lost in zip(values, gone, strict=True)], kind)


def _tensor_array(tensors: list[Array], mask: Array | None) -> pa.Array:
    import pyarrow as pa

    if mask is not None or len({tensor.shape for tensor in tensors}) != 1 or not tensors[0].size:
        return _listed([tensor.tolist() for tensor in tensors], mask, None)
    array = pa.array(np.concatenate([tensor.ravel() for tensor in tensors]))
    for length in reversed(tensors[0].shape):
        array = pa.FixedSizeListArray.from_arrays(array, length)
    return array


def read_tensor(tensor: pb.Tensor) -> Array:
    """A tensor as an array; raise BadBody where its bytes are not what it says."""
    dtype = tensor.dtype or "float64"
    if dtype not in _DTYPES:
        raise BadBody(f"a tensor has elements of {dtype[:40]!r}, which is none of {', '.join(_DTYPES)}")
    try:
        return np.frombuffer(tensor.elements, np.dtype(dtype).newbyteorder("<")).reshape(list(tensor.shape))
    except ValueError as error:
        raise BadBody(f"a tensor of shape {list(tensor.shape)[:8]} has {len(tensor.elements)} bytes of {dtype}") from error


def write_tensor(field: Field, value: Any) -> pb.Tensor:
    """A tensor, or lists of numbers, as a message."""
    dtype = "int64" if field.elements == "integer" else "float64"
    array = np.asarray(value, dtype=np.dtype(dtype).newbyteorder("<"))
    return pb.Tensor(shape=array.shape, dtype=dtype, elements=array.tobytes())


def write_value(field: Field, value: Any) -> pb.Value:
    """One value as a message."""
    if value is None:
        return pb.Value()
    if field.kind == "vector":
        return pb.Value(vector=pb.Vector(names=field.choices, values=[value[name] for name in field.choices]))
    if field.kind == "tensor":
        return pb.Value(tensor=write_tensor(field, value))
    name = {"number": "number", "integer": "integer", "yes/no": "yes_no"}.get(field.kind, "text")
    return pb.Value(**{name: value})


def write_columns(schema: Schema, columns: Sequence[Column]) -> pb.Columns:
    """Columns in schema order as a message."""
    return pb.Columns(columns=[_column(field, column) for field, column in zip(schema, columns, strict=True)])


def _column(field: Field, column: Column) -> pb.Column:
    values: Any = column.values
    if field.kind == "vector":
        return pb.Column(name=field.name, vectors=pb.Vectors(names=field.choices, values=np.asarray(values).ravel().tolist()))
    if field.kind == "tensor":
        return pb.Column(name=field.name, tensors=pb.Tensors(values=[write_tensor(field, value) for value in values]))
    if field.kind == "image":
        return pb.Column(
            name=field.name, images=pb.Images(files=[file or b"" for file in values]), missing=_some([file is None for file in values])
        )
    if field.kind in ("text", "choice"):
        texts = column_texts(field, column)
        gone = [text is None for text in texts]
        return pb.Column(name=field.name, texts=pb.Texts(values=[text or "" for text in texts]), missing=_some(gone))
    if field.kind == "number":
        return pb.Column(name=field.name, numbers=pb.Numbers(values=values.tolist()), missing=_some(np.isnan(values).tolist()))
    if field.kind == "time":
        return pb.Column(name=field.name, times=pb.Times(microseconds=values.tolist()), missing=_some((values == GONE_TIME).tolist()))
    if field.kind == "yes/no":
        return pb.Column(name=field.name, yes_nos=pb.YesNos(values=(values == 1).tolist()), missing=_some((values == 2).tolist()))
    gone = [] if column.missing is None else column.missing.tolist()
    return pb.Column(name=field.name, integers=pb.Integers(values=values.tolist()), missing=_some(gone))


def _some(gone: Sequence[bool]) -> Sequence[bool]:
    return gone if any(gone) else ()


def read_answer_columns(answers: Schema, message: pb.Columns, rows: int) -> list[Column]:
    """The columns of an answer in the order of its schema; raise ModelFault for an answer that is not what the schema says."""
    given = {column.name: column for column in message.columns}
    columns = []
    for field in answers:
        column = given.get(field.name)
        if column is None:
            raise ModelFault(f"the answer has no {field.name}")
        try:
            columns.append(_answer_column(field, column))
        except (ValueError, TypeError, KeyError, AttributeError, BadBody) as error:
            raise ModelFault(f"the values of {field.name} in the answer are not {field.expected_text()}") from error
    check_answer_columns(answers, columns, rows)
    return columns


def _answer_column(field: Field, column: pb.Column) -> Column:
    kind = column.WhichOneof("values")
    given = getattr(column, str(kind))
    gone = np.fromiter(column.missing, np.bool_, len(column.missing)) if column.missing else None
    if kind == "vectors":
        names = list(given.names)
        vectors = np.fromiter(given.values, np.float64, len(given.values)).reshape(-1, len(names))
        return Column(vectors if names == list(field.choices) else vectors[:, [names.index(choice) for choice in field.choices]])
    if kind == "tensors":
        return column_from_values(field, [read_tensor(value) for value in given.values])
    if kind == "numbers" and field.kind == "number":
        numbers = np.fromiter(given.values, np.float64, len(given.values))
        return Column(numbers if gone is None else np.where(gone, np.nan, numbers))
    if kind == "times" and field.kind == "time":
        times = np.fromiter(given.microseconds, np.int64, len(given.microseconds))
        return Column(times if gone is None else np.where(gone, GONE_TIME, times))
    values: list[Any] = list(given.values)
    if gone is not None:
        values = [None if lost else value for value, lost in zip(values, gone.tolist(), strict=True)]
    expected = {"integers": ("integer",), "yes_nos": ("yes/no",), "texts": ("text", "choice")}
    if field.kind not in expected.get(str(kind), ()):
        raise TypeError(kind)
    return column_from_values(field, values)
