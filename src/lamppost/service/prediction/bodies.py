"""Reads request bodies by their content type, and writes answers in the type that the caller accepts."""

from __future__ import annotations

import base64
from collections import Counter
from collections.abc import AsyncGenerator
from typing import Any
from urllib.parse import parse_qs

import orjson
from starlette.datastructures import Headers, UploadFile
from starlette.formparsers import MultiPartException, MultiPartParser

from lamppost.core.errors import BadBody, BadJson, NotAcceptable, WrongContentType
from lamppost.core.payload.arrow import read_arrow, write_arrow
from lamppost.core.payload.coercion import Coercion
from lamppost.core.payload.recorded_bodies import CONTENT_TYPE, LEFT_OUT
from lamppost.core.payload.text_formats import (
    ARROW,
    CSV,
    JSON,
    MULTIPART,
    NDJSON,
    read_csv,
    read_ndjson,
    write_columns,
    write_csv,
    write_ndjson,
)
from lamppost.core.payload.validation_plan import ValidationPlan
from lamppost.core.schema.columns import Column, answer_rows_from_columns, column_from_values, columns_from_rows, json_values
from lamppost.core.schema.fields import Field, Schema
from lamppost.runtime.lane_options import LaneAnswer
from lamppost.service.prediction.predictors import Form, PredictionInput

READ = (JSON, NDJSON, CSV, ARROW, MULTIPART)
WRITTEN = (JSON, NDJSON, CSV, ARROW)
_ALSO = {"application/ndjson": NDJSON, "application/jsonl": NDJSON, "application/csv": CSV}
MAX_PARTS = 1_000
KEPT_ROWS = 1_000
"""Rows of a request in another type than JSON that are recorded."""


def request_content_type(headers: list[tuple[bytes, bytes]]) -> tuple[str, str]:
    """The plain type of the body and the whole header; JSON where none is said. Raise WrongContentType for one that is not read."""
    given = next((value.decode("latin-1") for name, value in headers if name == b"content-type"), JSON)
    plain = given.partition(";")[0].strip().lower()
    plain = _ALSO.get(plain, plain)
    if plain not in READ:
        raise WrongContentType(f"given {given[:80]}, expected one of {', '.join(READ)}; for JSON add the header Content-Type: {JSON}")
    return plain, given


def answer_content_type(headers: list[tuple[bytes, bytes]], given: str) -> str:
    """The content type of the answer: the caller's preferred one (RFC 9110, section 12.5.1); without a preference, JSON, and Arrow for
    Arrow.
    """
    accepted = b",".join([value for name, value in headers if name == b"accept"])
    default = ARROW if given == ARROW else JSON
    if accepted in (b"", b"*/*"):  # nearly every call
        return default
    accept = accepted.decode("latin-1")
    best, liked = None, 0.0
    for part in accept.split(","):
        kind, *parameters = [piece.strip().lower() for piece in part.split(";")]
        weight = next((_weight(parameter[2:]) for parameter in parameters if parameter.startswith("q=")), 1.0)
        kind = _ALSO.get(kind, kind)
        chosen = default if kind in ("*/*", "", f"{default.partition('/')[0]}/*") else kind if kind in WRITTEN else None
        if chosen is None and kind.endswith("/*"):
            chosen = next((written for written in WRITTEN if written.startswith(kind[:-1])), None)
        if chosen is not None and weight > liked:
            best, liked = chosen, weight
    if best is None:
        raise NotAcceptable(f"the caller accepts {accept[:80]}, and answers are written as {', '.join(WRITTEN)}")
    return best


def is_streamed(headers: list[tuple[bytes, bytes]], limit: int) -> bool:
    """Whether a body is read in blocks: its type allows that, and its size is unknown or over the limit."""
    length = next((value for name, value in headers if name == b"content-length"), None)
    if length is not None and (not length.isdigit() or int(length) <= limit):
        return False
    in_blocks = (NDJSON, CSV, ARROW)
    return request_content_type(headers)[0] in in_blocks and stream_content_types(headers)[1] in in_blocks


def stream_content_types(headers: list[tuple[bytes, bytes]]) -> tuple[str, str]:
    """The content types of a streamed body and of its answer; the same type if the caller accepts any."""
    kind = request_content_type(headers)[0]
    accept = b",".join(value for name, value in headers if name == b"accept")
    return kind, kind if accept.strip() in (b"", b"*/*") else answer_content_type(headers, kind)


def query_options(query: bytes) -> bytes | None:
    """The options in a query, as JSON."""
    given = parse_qs(query.decode("latin-1")).get("options")
    return given[-1].encode() if given else None


def _weight(text: str) -> float:
    try:
        return min(1.0, max(0.0, float(text)))
    except ValueError:
        return 0.0


def read_body(
    plan: ValidationPlan, columns: Schema, kind: str, body: bytes, parts: list[Part], query: bytes, coercions: list[Coercion] | None = None
) -> PredictionInput:
    """The input of a whole body, or of the parts of a form; raise BadBody, BadJson, TooManyRows or InvalidRows.

    coercions : takes what a lenient endpoint changed. Arrow is always read strictly, because it has types of its own.
    """
    options = query_options(query)
    if kind == JSON:
        if options is not None:
            raise BadJson("options of a JSON body stand in the body, beside its fields or rows", example=plan.example())
        parsed = plan.read_body(body, coercions)
        return PredictionInput("row" if parsed.single_row else "columns" if parsed.as_columns else "rows", len(parsed.rows), parsed.rows)
    if kind == ARROW:
        values, count = read_arrow(plan.schema, body, plan.max_rows)
        chosen = plan.read_options(options)
        values += [column_from_values(field, [chosen[field.name]] * count) for field in columns.fields[len(plan.schema) :]]
        return PredictionInput("rows", count, columns=values)
    form: Form
    if kind == MULTIPART:
        rows = [plan.read_body(_row_of(plan.schema, parts), coercions).rows[0]]
        form = "row"
    else:
        rows = read_ndjson(plan, body, coercions=coercions) if kind == NDJSON else read_csv(plan, body, coercions=coercions)
        form = "rows"
    if plan.options is not None and options is not None:
        chosen = plan.read_options(options)
        rows = [row | chosen for row in rows]
    elif options is not None:
        plan.read_options(options)
    return PredictionInput(form, len(rows), rows)


Part = tuple[str, bytes, bool]
"""A part of a form: its name, its bytes, and whether it is a file."""


async def read_form_parts(header: str, body: bytes) -> list[Part]:
    """The parts of a multipart form; raise BadBody."""

    async def pieces() -> AsyncGenerator[bytes, None]:
        yield body

    given, room = Headers({"content-type": header}), len(body) + 1
    try:
        parts = await MultiPartParser(given, pieces(), max_files=MAX_PARTS, max_fields=MAX_PARTS, max_part_size=room).parse()
    except (MultiPartException, KeyError, UnicodeDecodeError, ValueError) as error:
        raise BadBody(f"the body is no multipart form: {getattr(error, 'message', None) or error}") from error
    try:
        return [
            (name, await part.read() if isinstance(part, UploadFile) else part.encode(), isinstance(part, UploadFile))
            for name, part in parts.multi_items()
        ]
    finally:
        await parts.close()


def _row_of(schema: Schema, parts: list[Part]) -> bytes:
    """One row of a form, files for pictures, as a JSON body, which is read like any other."""
    known = {field.name: field for field in schema}
    if twice := sorted(name for name, times in Counter(name for name, _, _ in parts).items() if times > 1):
        raise BadBody(f"the form has the part {twice[0]!r} more than once")
    texts = [orjson.dumps(name) + b":" + _part(known.get(name), data, is_file) for name, data, is_file in parts]
    return b"{" + b",".join(texts) + b"}"


def _part(field: Field | None, data: bytes, is_file: bool) -> bytes:
    if is_file and (field is None or field.kind == "image"):
        return orjson.dumps(base64.b64encode(data).decode())
    text = data.decode("utf-8", "replace")
    if field is None or field.kind in ("text", "choice", "time", "image"):
        return orjson.dumps(text)
    try:
        orjson.loads(text)
    except ValueError:
        return orjson.dumps(text)
    return text.encode()


def write_answer(answers: Schema, asked: PredictionInput, answer: LaneAnswer, content_type: str, about: dict[str, Any]) -> bytes:
    """The body of an answer; ``about`` is version, request id, and what was changed, which JSON carries too."""
    if content_type == ARROW:
        return write_arrow(answers, columns_from_rows(answers, answer.rows) if answer.columns is None else answer.columns)
    rows = answer.rows if answer.columns is None else answer_rows_from_columns(answers, answer.columns, asked.row_count)
    if content_type == CSV:
        return write_csv(answers, rows)
    if content_type == NDJSON:
        return write_ndjson(rows)
    if asked.form == "row":
        return orjson.dumps({"answer": rows[0], **about})
    if asked.form == "columns":
        return orjson.dumps({"columns": write_columns(answers, rows), **about})
    return orjson.dumps({"answers": rows, **about})


def request_as_json(plan: ValidationPlan, columns: Schema, kind: str, asked: PredictionInput) -> bytes:
    """The recorded form of a request that is not JSON: its content type and its first 1,000 rows."""
    kept = (
        columns_from_rows(columns, (asked.rows or [])[:KEPT_ROWS])
        if asked.columns is None
        else [_first(column) for column in asked.columns]
    )
    lists = [json_values(field, column) for field, column in zip(columns, kept, strict=True)]
    names = plan.schema.names
    rows = [dict(zip(names, values, strict=False)) for values in zip(*lists, strict=True)]
    return orjson.dumps({"rows": rows, **_beside(kind, asked)})


def answer_as_json(answers: Schema, asked: PredictionInput, answer: LaneAnswer, kind: str) -> bytes:
    """The recorded form of an answer that is not JSON: its content type and its first 1,000 rows."""
    if answer.columns is None:
        rows = list(answer.rows[:KEPT_ROWS])
    else:
        rows = answer_rows_from_columns(answers, [_first(column) for column in answer.columns], min(asked.row_count, KEPT_ROWS))
    return orjson.dumps({"answers": rows, **_beside(kind, asked)})


def _beside(kind: str, asked: PredictionInput) -> dict[str, Any]:
    """What is recorded beside rows that did not travel as JSON."""
    return {CONTENT_TYPE: kind} | ({LEFT_OUT: asked.row_count - KEPT_ROWS} if asked.row_count > KEPT_ROWS else {})


def _first(column: Column) -> Column:
    missing = None if column.missing is None else column.missing[:KEPT_ROWS]
    return Column(column.values[:KEPT_ROWS], missing, column.extras)
