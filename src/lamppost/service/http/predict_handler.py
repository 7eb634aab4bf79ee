"""``POST /predict/{endpoint}`` as a plain ASGI handler, outside of FastAPI. It can answer every call. Usual calls are answered by
`lamppost.service.http.fast_path`, which hands over those that turn out to be unusual, already admitted.
"""

from __future__ import annotations

import asyncio
import re
from collections.abc import AsyncGenerator, Awaitable, Callable, MutableMapping
from dataclasses import replace
from functools import partial
from typing import Any

import orjson

from lamppost.core.errors import BadRequest, BodyTooLarge, LampPostError, NotAllowed
from lamppost.core.payload.text_formats import ARROW, MULTIPART, NDJSON
from lamppost.runtime.lane_options import LIVE_REQUEST, RequestOptions
from lamppost.service.auth import Auth
from lamppost.service.deployment.call_admission import CallAdmission
from lamppost.service.deployment.deployment import Deployment
from lamppost.service.http.problems import PROBLEM_TYPE, problem_headers
from lamppost.service.prediction import bodies
from lamppost.service.prediction.call import PredictionCall
from lamppost.service.prediction.predictors import Headers, PredictionInput
from lamppost.service.prediction.side_thread import is_small_answer, is_small_body, run_beside
from lamppost.service.prediction.streams import AnswerStream, StreamBroken
from lamppost.service.records.recorder import Recorder

Scope = MutableMapping[str, Any]
Receive = Callable[[], Awaitable[MutableMapping[str, Any]]]
Send = Callable[[MutableMapping[str, Any]], Awaitable[None]]

PREFIX = "/predict/"
ADMITTED_CALL = "lamppost.call"
"""Where a scope holds a `PredictionCall` that the fast path has admitted already."""
REQUEST_OPTIONS = "lamppost.options"
"""Where a scope holds the `RequestOptions` of its connection."""
_BULK_REQUEST = RequestOptions(bulk=True)
_URGENCY = re.compile(rb"(?:^|[ ,])u=([0-7])")
_LEAST_URGENT_LIVE = 4
"""Urgency (RFC 9218: 0 to 7, 3 by default) above which a call is bulk work."""
_MAX_ANSWER_WITHIN_S = 3_600


class ClientGone(Exception):
    """The client hung up before its request was whole."""


class PredictHandler:
    """Answers one request after the other; every error becomes a problem document, and only a vanished client gets nothing."""

    def __init__(self, auth: Auth, deployment: Deployment, recorder: Recorder, max_body_bytes: int) -> None:
        self._auth = auth
        self._admission = CallAdmission(auth, deployment)
        self._deployment = deployment
        self._recorder = recorder
        self._max_body_bytes = max_body_bytes

    async def __call__(self, scope: Scope, receive: Receive, send: Send) -> None:
        """Answer one request."""
        call: PredictionCall = scope.get(ADMITTED_CALL) or PredictionCall(scope["path"][len(PREFIX) :])
        try:
            if scope["method"] == "POST" and bodies.is_streamed(scope["headers"], self._max_body_bytes):
                await self._answer_stream(scope, receive, send, call)
                return
            body, extra = await self._answer(scope, receive, call)
            status = 200
        except LampPostError as error:
            status, body, extra = error.status, call.refuse(error), _problem_head(error)
        except ClientGone:
            return
        except Exception:
            fault = call.own_fault()
            status, body, extra = fault.status, call.problem(fault), _problem_head(fault)
        call.timer.mark("answer")
        headers = [(b"content-length", b"%d" % len(body)), *_head_of(call), *extra]
        await send({"type": "http.response.start", "status": status, "headers": headers})
        await send({"type": "http.response.body", "body": body})
        make_record = partial(call.make_record, status, body)
        small = is_small_body(call.content_type, len(call.body or b"")) and is_small_answer(call.rows)
        if (record := make_record() if small else await run_beside(make_record)) is not None:
            self._recorder.add_record(record)

    async def _answer(self, scope: Scope, receive: Receive, call: PredictionCall) -> tuple[bytes, list[tuple[bytes, bytes]]]:
        """The body of a good answer, and its own headers."""
        if scope["method"] != "POST":
            error = NotAllowed(f"{scope['method']} does not ask an endpoint; send a row with POST")
            error.status = 405
            raise error
        headers: Headers = scope["headers"]
        await self._admission.admit_and_bind(headers, call, _address(scope))
        call.content_type, whole_type = bodies.request_content_type(headers)
        call.answer_type = bodies.answer_content_type(headers, call.content_type)
        call.body = await self._read(headers, receive)
        parts = await bodies.read_form_parts(whole_type, call.body) if call.content_type == MULTIPART else []
        call.timer.mark("read")
        # while the body came the route may have moved or gone to sleep; from here to the queue of a single version nothing is awaited
        predictor = await self._admission.bind(call)
        query, body = scope.get("query_string", b""), call.body

        def read() -> PredictionInput:
            given = bodies.read_body(predictor.plan, predictor.columns, call.content_type, body, parts, query, call.coercions)
            return given._replace(size_bytes=len(body), as_columns=call.answer_type == ARROW, headers=headers)

        options = _request_options(scope, call.request_id)
        output = await self._admission.predict(call, predictor, read, len(body), options)
        assert call.input is not None
        extra = [(b"content-type", call.answer_type.encode()), (b"model-version", output.version.encode())]
        if call.coercions:
            extra.append((b"values-changed", b"%d" % len(call.coercions)))
        write = partial(bodies.write_answer, predictor.answers, call.input, output.answer, call.answer_type, call.envelope())
        return write() if is_small_answer(call.rows) else await run_beside(write), extra

    async def _answer_stream(self, scope: Scope, receive: Receive, send: Send, call: PredictionCall) -> None:
        """Read, ask and answer block by block; see `lamppost.service.prediction.streams`."""
        headers: Headers = scope["headers"]
        call.content_type, call.answer_type = bodies.stream_content_types(headers)
        predictor = await self._admission.admit_and_bind(headers, call, _address(scope))
        principal = await self._auth.identify("POST", headers)
        options = predictor.plan.read_options(bodies.query_options(scope.get("query_string", b"")))
        stream = AnswerStream(
            *(predictor, call.content_type, call.answer_type, options, headers, _BULK_REQUEST),
            require_permission=partial(self._auth.require_in_force, principal),
        )
        started, size, status = False, 0, 200
        with self._deployment.kept_open(call.endpoint, predictor):
            try:
                async for piece in stream.answers(_pieces(receive)):
                    if not started:
                        started = True
                        call.timer.mark("first")
                        head = [(b"content-type", call.answer_type.encode()), (b"model-version", str(call.version).encode())]
                        await send({"type": "http.response.start", "status": 200, "headers": [*head, *_head_of(call)]})
                    size += len(piece)
                    await send({"type": "http.response.body", "body": piece, "more_body": True})
                await send({"type": "http.response.body", "body": b""})
            except StreamBroken as broken:
                status = getattr(broken.__cause__, "status", 500)
                if call.answer_type != NDJSON:
                    raise ClientGone from broken
                await send({"type": "http.response.body", "body": b""})  # the problem is its last line
            finally:
                call.timer.mark("rest")
                if started:
                    first = stream.first or PredictionInput("rows", 0, [])
                    call.rows, call.input = stream.rows, first._replace(row_count=stream.rows)
                    call.record(self._recorder, status, orjson.dumps({"content_type": call.answer_type, "bytes": size}))

    async def _read(self, headers: Headers, receive: Receive) -> bytes:
        """The whole body, never more than the limit."""
        for name, value in headers:
            if name == b"content-length" and value.isdigit() and int(value) > self._max_body_bytes:
                raise self._too_large()
        parts: list[bytes] = []
        size = 0
        more = True
        while more:
            message = await receive()
            if message["type"] == "http.disconnect":
                raise ClientGone
            parts.append(message.get("body", b""))
            size += len(parts[-1])
            if size > self._max_body_bytes:
                raise self._too_large()
            more = message.get("more_body", False)
        return parts[0] if len(parts) == 1 else b"".join(parts)

    def _too_large(self) -> BodyTooLarge:
        limit = self._max_body_bytes
        return BodyTooLarge(f"the body is over the limit of {limit:,} bytes; send fewer rows at a time", max_bytes=limit)


def _head_of(call: PredictionCall) -> list[tuple[bytes, bytes]]:
    return [(b"request-id", call.request_id.encode()), (b"server-timing", call.timer.server_timing())]


def _problem_head(error: LampPostError) -> list[tuple[bytes, bytes]]:
    return [(b"content-type", PROBLEM_TYPE), *problem_headers(error)]


def _request_options(scope: Scope, request_id: str) -> RequestOptions:
    """How the caller wants to be served: by the headers Priority (RFC 9218) and Answer-Within, and as long as its connection stands."""
    options: RequestOptions = replace(scope.get(REQUEST_OPTIONS, LIVE_REQUEST), request_id=request_id)
    for name, value in scope["headers"]:
        if name == b"priority":
            urgency = _URGENCY.search(value)
            options = replace(options, bulk=urgency is not None and int(urgency[1]) > _LEAST_URGENT_LIVE)
        elif name == b"answer-within":
            try:
                seconds = float(value)
            except ValueError:
                seconds = -1.0
            if not 0 < seconds <= _MAX_ANSWER_WITHIN_S:
                raise BadRequest(f"the header Answer-Within is {value.decode('latin-1')[:40]!r}; it is seconds above 0, such as 0.25")
            options = replace(options, deadline=asyncio.get_running_loop().time() + seconds)
    return options


def _address(scope: Scope) -> str | None:
    client = scope.get("client")
    return None if client is None else str(client[0])


async def _pieces(receive: Receive) -> AsyncGenerator[bytes, None]:
    """The body as it comes; raise ClientGone when it stops coming."""
    while True:
        message = await receive()
        if message["type"] == "http.disconnect":
            raise ClientGone
        yield message.get("body", b"")
        if not message.get("more_body"):
            return
