"""The way of a prediction: a plain ASGI handler, bytes in and bytes out, with one pass over the body and none of the framework."""

from __future__ import annotations

import asyncio
import logging
import re
from collections.abc import AsyncGenerator, Awaitable, Callable, MutableMapping
from dataclasses import replace
from typing import Any

import orjson

from lamppost.core.errors import BadRequest, BodyTooLarge, LampPostError, NotAllowed
from lamppost.core.payload.coercion import MAX_LISTED, Coercion
from lamppost.core.payload.text_formats import ARROW, JSON, MULTIPART, NDJSON
from lamppost.runtime.lane_options import LIVE_REQUEST, RequestOptions
from lamppost.service.auth import Auth
from lamppost.service.deployment.deployment import Deployment
from lamppost.service.prediction import bodies
from lamppost.service.prediction.call import Ongoing, PhaseTimer, new_request_id, valid_traceparent
from lamppost.service.prediction.predictors import PredictionInput, Predictor, SingleVersion
from lamppost.service.prediction.streams import AnswerStream, StreamBroken
from lamppost.service.records.recorder import Recorder

log = logging.getLogger("lamppost.predict")

Scope = MutableMapping[str, Any]
Receive = Callable[[], Awaitable[MutableMapping[str, Any]]]
Send = Callable[[MutableMapping[str, Any]], Awaitable[None]]

PREFIX = "/predict/"
BULK = RequestOptions(bulk=True)
_URGENCY = re.compile(rb"(?:^|[ ,])u=([0-7])")
_LIVE = 4
"""Urgency (0 to 7, 3 by default) above which a call is bulk work."""


class ClientGone(Exception):
    """The client hung up before its request was whole."""


class PredictHandler:
    """``POST /predict/{endpoint}``."""

    def __init__(self, auth: Auth, deployment: Deployment, recorder: Recorder, max_body_bytes: int) -> None:
        self._auth = auth
        self._deployment = deployment
        self._recorder = recorder
        self._max_body_bytes = max_body_bytes

    async def __call__(self, scope: Scope, receive: Receive, send: Send) -> None:
        """Answer one request; every error becomes a problem document, and only a vanished client gets nothing."""
        clock = PhaseTimer()
        request_id = new_request_id()
        call = Ongoing(scope["path"][len(PREFIX) :], request_id)
        try:
            if bodies.is_streamed(scope["headers"], self._max_body_bytes) and scope["method"] == "POST":
                await self._answer_stream(scope, receive, send, call, clock)
                return
            status, body, extra = await self._answer(scope, receive, call, clock)
        except LampPostError as error:
            call.failed(error)
            status, body, extra = self._problem(error, request_id)
        except ClientGone:
            return
        except Exception:
            log.exception("request %s to %s failed on a fault of our own", request_id, call.endpoint, extra={"request_id": request_id})
            status, body, extra = self._problem(LampPostError("the service failed on this request; the log has more"), request_id)
        clock.mark("answer")
        headers = [
            (b"content-length", b"%d" % len(body)),
            (b"request-id", request_id.encode()),
            (b"server-timing", clock.server_timing()),
            *extra,
        ]
        await send({"type": "http.response.start", "status": status, "headers": headers})
        await send({"type": "http.response.body", "body": body})
        if call.known:
            call.record(self._recorder, clock, status, body)

    async def _answer_stream(self, scope: Scope, receive: Receive, send: Send, call: Ongoing, clock: PhaseTimer) -> None:
        """Read, ask and answer block by block; see `lamppost.service.prediction.streams`."""
        headers = scope["headers"]
        kind, wanted = bodies.stream_content_types(headers)
        serving = await self._begin(headers, call, clock)
        call.serving, call.kind, call.wrote = serving, kind, wanted
        options = serving.plan.read_options(bodies.query_options(scope.get("query_string", b"")))
        stream = AnswerStream(serving, kind, wanted, options, headers, BULK)
        started, size, status = False, 0, 200
        with self._deployment.kept_open(call.endpoint, serving):
            try:
                async for out in stream.answers(_pieces(receive)):
                    if not started:
                        started = True
                        clock.mark("first")
                        told = [(b"content-type", wanted.encode()), (b"model-version", str(call.version).encode())]
                        told += [(b"request-id", call.request_id.encode()), (b"server-timing", clock.server_timing())]
                        await send({"type": "http.response.start", "status": 200, "headers": told})
                    size += len(out)
                    await send({"type": "http.response.body", "body": out, "more_body": True})
                await send({"type": "http.response.body", "body": b""})
            except StreamBroken as broken:
                status = getattr(broken.__cause__, "status", 500)
                if wanted == NDJSON:  # the problem is its last line
                    await send({"type": "http.response.body", "body": b""})
                else:
                    raise ClientGone from broken
            finally:
                clock.mark("rest")
                call.rows = stream.rows
                if started:
                    first = stream.first or PredictionInput("rows", 0, [])
                    call.asked = PredictionInput("rows", stream.rows, first.rows, first.columns)
                    call.record(self._recorder, clock, status, orjson.dumps({"content_type": wanted, "bytes": size}))

    async def _begin(self, headers: list[tuple[bytes, bytes]], call: Ongoing, clock: PhaseTimer) -> Predictor:
        """Who asks, and what answers."""
        principal = await self._auth.check("POST", headers)
        principal.require_permission("predict", call.endpoint)
        call.token = principal.token
        call.trace = next((valid_traceparent(value) for name, value in headers if name == b"traceparent"), None)
        route, serving = await self._deployment.waking.awake(call.endpoint)
        call.known, call.version, call.keeps = True, str(route.in_force.version), serving.redaction
        clock.mark("token")
        return serving

    async def _answer(
        self, scope: Scope, receive: Receive, call: Ongoing, clock: PhaseTimer
    ) -> tuple[int, bytes, list[tuple[bytes, bytes]]]:
        if scope["method"] != "POST":
            error = NotAllowed(f"{scope['method']} is no way to ask an endpoint; send a row with POST")
            error.status = 405
            raise error
        headers = scope["headers"]
        await self._begin(headers, call, clock)
        kind, header = bodies.request_content_type(headers)
        wanted = bodies.answer_content_type(headers, kind)
        call.body = body = await self._read(headers, receive)
        parts = await bodies.read_form_parts(header, body) if kind == MULTIPART else []
        clock.mark("read")
        # while the body came the route may have moved or gone to sleep; from here to the queue nothing is awaited, except by what looks
        # something up first or asks several, which is held open meanwhile
        route, serving = await self._deployment.waking.awake(call.endpoint)
        call.version, call.keeps, call.serving, call.after = str(route.in_force.version), serving.redaction, serving, route.hooks
        call.kind = kind
        told: list[Coercion] | None = [] if route.setup.lenient else None
        asked = bodies.read_body(serving.plan, serving.columns, kind, body, parts, scope.get("query_string", b""), told)
        call.rows = asked.count
        call.asked = asked if kind != JSON else None
        clock.mark("validate")
        terms = _terms(scope, call.request_id)
        if isinstance(serving, SingleVersion):
            served = await serving.predict(asked, wanted == ARROW, len(body), headers, terms)
        else:
            with self._deployment.kept_open(call.endpoint, serving):
                served = await serving.predict(asked, wanted == ARROW, len(body), headers, terms)
        answer, call.version = served.answer, served.version
        clock.took(answer.queue_s, answer.worker_s)
        about: dict[str, Any] = {"version": call.version, "request_id": call.request_id}
        extra = [(b"content-type", wanted.encode()), (b"model-version", call.version.encode())]
        if told:
            about["changed"] = [change.to_dict() for change in told[:MAX_LISTED]]
            extra.append((b"values-changed", b"%d" % len(told)))
        out = bodies.write_answer(serving.answers, asked, answer, wanted, about)
        call.answered, call.wrote = answer, wanted
        if call.after is not None:
            ms = (clock.last - clock.start) * 1e3
            call.after.after_answer(call.version, served.rows, answer.rows, ms, call.request_id, call.token)
        return 200, out, extra

    async def _read(self, headers: list[tuple[bytes, bytes]], receive: Receive) -> bytes:
        """The whole body, never more than the limit."""
        for name, value in headers:
            if name == b"content-length" and value.isdigit() and int(value) > self._max_body_bytes:
                raise self._too_large()
        message = await receive()
        if not message.get("more_body"):
            body: bytes = message.get("body", b"")
            if message["type"] == "http.disconnect":
                raise ClientGone
            if len(body) > self._max_body_bytes:
                raise self._too_large()
            return body
        parts = [message.get("body", b"")]
        size = len(parts[0])
        while message.get("more_body"):
            message = await receive()
            if message["type"] == "http.disconnect":
                raise ClientGone
            parts.append(message.get("body", b""))
            size += len(parts[-1])
            if size > self._max_body_bytes:
                raise self._too_large()
        return b"".join(parts)

    def _too_large(self) -> BodyTooLarge:
        limit = self._max_body_bytes
        return BodyTooLarge(f"the body is over the limit of {limit:,} bytes; send fewer rows at a time", max_bytes=limit)

    def _problem(self, error: LampPostError, request_id: str) -> tuple[int, bytes, list[tuple[bytes, bytes]]]:
        body = orjson.dumps({**error.to_problem(), "request_id": request_id}, default=str)
        return error.status, body, [(b"content-type", b"application/problem+json"), *problem_headers(error)]


def _terms(scope: Scope, request_id: str) -> RequestOptions:
    """How the caller wants to be served: by the headers Priority (RFC 9218) and Answer-Within, and as long as its connection stands."""
    terms: RequestOptions = replace(scope.get("lamppost.terms", LIVE_REQUEST), request_id=request_id)
    for name, value in scope["headers"]:
        if name == b"priority":
            found = _URGENCY.search(value)
            terms = replace(terms, bulk=found is not None and int(found[1]) > _LIVE)
        elif name == b"answer-within":
            try:
                seconds = float(value)
            except ValueError:
                seconds = -1.0
            if not 0 < seconds <= 3_600:
                raise BadRequest(f"the header Answer-Within is {value.decode('latin-1')[:40]!r}; it is seconds above 0, such as 0.25")
            terms = replace(terms, deadline=asyncio.get_running_loop().time() + seconds)
    return terms


async def _pieces(receive: Receive) -> AsyncGenerator[bytes, None]:
    """The body as it comes; raise ClientGone when it stops coming."""
    while True:
        message = await receive()
        if message["type"] == "http.disconnect":
            raise ClientGone
        yield message.get("body", b"")
        if not message.get("more_body"):
            return


def problem_headers(error: LampPostError) -> list[tuple[bytes, bytes]]:
    """The headers that belong to a problem: how to sign in, when to try again, which methods there are."""
    if error.status == 401:
        return [(b"www-authenticate", b"Bearer")]
    if error.status == 405:
        return [(b"allow", b"POST")]
    if error.status in (429, 503):
        return [(b"retry-after", b"%d" % error.extra.get("retry_after_s", 2))]
    return []
