"""Reads gRPC messages as rows or columns, by the same rules as any other body, and writes answers as messages."""

from __future__ import annotations

import base64
from typing import TYPE_CHECKING, Any

from pydantic_core import to_json

from lamppost.core.errors import BadBody, TooManyRows
from lamppost.core.payload.arrow import read_table
from lamppost.core.payload.coercion import Coercion
from lamppost.core.payload.validation_plan import ValidationPlan
from lamppost.core.schema.columns import column_from_values, columns_from_rows
from lamppost.core.schema.fields import Schema
from lamppost.runtime.lane_options import LaneAnswer
from lamppost.service.grpc import predict_pb2 as pb
from lamppost.service.grpc.columns import table_of_columns, write_columns, write_value
from lamppost.service.prediction.predictors import PredictionInput

if TYPE_CHECKING:
    pass

MAX_ROWS = 1_000
"""Most rows of one message; columns may have as many as any request. Reading rows value by value is slow."""


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
        table = table_of_columns(message.columns)
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


def write_predict_reply(answers: Schema, asked: PredictionInput, answer: LaneAnswer) -> pb.PredictReply:
    """Rows for rows, columns for columns."""
    if asked.columns is None:
        rows = [pb.Row(values={field.name: write_value(field, row[field.name]) for field in answers}) for row in answer.rows]
        return pb.PredictReply(rows=pb.Rows(rows=rows))
    columns = columns_from_rows(answers, answer.rows) if answer.columns is None else answer.columns
    return pb.PredictReply(columns=write_columns(answers, columns))
