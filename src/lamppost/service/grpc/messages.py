"""Reads gRPC messages as rows or columns, by the same rules as any other body, and writes answers as messages."""

from __future__ import annotations

import base64
from collections.abc import Callable, Sequence
from typing import TYPE_CHECKING, Any

import numpy as np
from pydantic_core import to_json

from lamppost.core.errors import BadBody, TooManyRows
from lamppost.core.payload.arrow import read_table
from lamppost.core.payload.coercion import Coercion
from lamppost.core.payload.validation_plan import ValidationPlan
from lamppost.core.schema.columns import GONE_TIME, Array, Column, column_from_values, column_texts, columns_from_rows
from lamppost.core.schema.fields import Field, Schema
from lamppost.runtime.lane_options import LaneAnswer
from lamppost.service.grpc import predict_pb2 as pb
from lamppost.service.prediction.predictors import PredictionInput

if TYPE_CHECKING:
    import pyarrow as pa

MAX_ROWS = 1_000
"""Most rows of one message; columns may have as many as any request. Reading rows value by value is slow."""
_DTYPES = ("float32", "float64", "int8", "uint8", "int16", "int32", "int64")


def request_as_json_body(message: pb.PredictRequest) -> bytes | None:
    """The JSON body that asks the same as a message with rows, None for a message with columns; raise BadBody or TooManyRows."""
    if message.WhichOneof("input") == "columns":
        return None
    if message.WhichOneof("input") != "rows":
        raise BadBody("the message has neither rows nor columns; send one of them")
    if len(message.rows.rows) > MAX_ROWS:
        raise TooManyRows(
            f"one message may have {MAX_ROWS:,} rows, this one has {len(message.rows.rows):,}; send columns", max_rows=MAX_ROWS
        )
    body: dict[str, Any] = {"rows": [{name: _value(value) for name, value in row.values.items()} for row in message.rows.rows]}
    options = _options(message)
    return _json(body | ({"options": options} if options else {}))


def read_predict_request(
    message: pb.PredictRequest, body: bytes | None, plan: ValidationPlan, columns: Schema, coercions: list[Coercion] | None
) -> PredictionInput:
    """What a message asks for; raise whatever `ValidationPlan.read_body` raises.

    body : what `request_as_json_body` made of the message. coercions : takes what lenient reading changed, None to read strictly.
    """
    if body is None:
        options = _options(message)
        table = _table(message.columns)
        values, count = read_table(plan.schema, table, plan.max_rows)
        chosen = plan.read_options(_json(options) if options else None)
        values += [column_from_values(field, [chosen[field.name]] * count) for field in columns.fields[len(plan.schema) :]]
        return PredictionInput("rows", count, columns=values)
    rows = plan.read_body(body, coercions).rows
    return PredictionInput("rows", len(rows), rows)


def _options(message: pb.PredictRequest) -> dict[str, Any]:
    return {name: _value(value) for name, value in message.options.items()}


def _json(value: Any) -> bytes:
    """As JSON with NaN and infinity as such, so that they are refused and not taken for missing."""
    return to_json(value, inf_nan_mode="constants")


def _value(value: pb.Value) -> Any:
    kind = value.WhichOneof("kind")
    if kind is None:
        return None
    if kind == "image":
        return base64.b64encode(value.image).decode()
    if kind == "tensor":
        tensor = value.tensor
        elements = base64.b64encode(tensor.elements).decode()
        return {"base64": elements, "dtype": tensor.dtype or "float64", "shape": list(tensor.shape)}
    if kind == "vector":
        return dict(zip(value.vector.names, value.vector.values, strict=False))
    return getattr(value, kind)


def _table(columns: pb.Columns) -> pa.Table:
    """Columns as an Arrow table, whose rules they then are held to."""
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
        "tensors": lambda c, mask: _listed([_elements(value).tolist() for value in c.values], mask, None),
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


def _elements(tensor: pb.Tensor) -> Array:
    dtype = tensor.dtype or "float64"
    if dtype not in _DTYPES:
        raise BadBody(f"a tensor has elements of {dtype[:40]!r}, which is none of {', '.join(_DTYPES)}")
    try:
        return np.frombuffer(tensor.elements, np.dtype(dtype).newbyteorder("<")).reshape(list(tensor.shape))
    except ValueError as error:
        raise BadBody(f"a tensor of shape {list(tensor.shape)[:8]} has {len(tensor.elements)} bytes of {dtype}") from error


def write_predict_reply(answers: Schema, asked: PredictionInput, answer: LaneAnswer) -> pb.PredictReply:
    """Rows for rows, columns for columns."""
    if asked.columns is None:
        rows = [pb.Row(values={field.name: _written(field, row[field.name]) for field in answers}) for row in answer.rows]
        return pb.PredictReply(rows=pb.Rows(rows=rows))
    columns = columns_from_rows(answers, answer.rows) if answer.columns is None else answer.columns
    return pb.PredictReply(columns=pb.Columns(columns=[_column(field, column) for field, column in zip(answers, columns, strict=True)]))


def _written(field: Field, value: Any) -> pb.Value:
    if value is None:
        return pb.Value()
    if field.kind == "vector":
        return pb.Value(vector=pb.Vector(names=field.choices, values=[value[name] for name in field.choices]))
    if field.kind == "tensor":
        return pb.Value(tensor=_tensor(field, value))
    name = {"number": "number", "integer": "integer", "yes/no": "yes_no"}.get(field.kind, "text")
    return pb.Value(**{name: value})


def _tensor(field: Field, value: Any) -> pb.Tensor:
    dtype = "int64" if field.elements == "integer" else "float64"
    array = np.asarray(value, dtype=np.dtype(dtype).newbyteorder("<"))
    return pb.Tensor(shape=array.shape, dtype=dtype, elements=array.tobytes())


def _column(field: Field, column: Column) -> pb.Column:
    values: Any = column.values
    if field.kind == "vector":
        return pb.Column(name=field.name, vectors=pb.Vectors(names=field.choices, values=np.asarray(values).ravel().tolist()))
    if field.kind == "tensor":
        return pb.Column(name=field.name, tensors=pb.Tensors(values=[_tensor(field, value) for value in values]))
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
