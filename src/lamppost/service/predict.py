"""The way of a prediction: a plain ASGI handler, bytes in and bytes out, with one pass over the body and none of the framework."""

from __future__ import annotations

import logging
import os
import time
from collections.abc import AsyncGenerator, Awaitable, Callable, MutableMapping
from datetime import UTC, datetime
from typing import Any
from uuid import UUID

import orjson

from lamppost.core.easing import MAX_TOLD, Change
from lamppost.core.errors import BodyTooLarge, LampPostError, NotAllowed
from lamppost.core.formats import ARROW, JSON, MULTIPART, NDJSON
from lamppost.core.privacy import Kept
from lamppost.runtime.lane import LaneAnswer
from lamppost.service import bodies
from lamppost.service.auth import Auth
from lamppost.service.recorder import MAX_PAYLOAD_BYTES, Recorder
from lamppost.service.routes import Routes
from lamppost.service.serving import Asked, Serving
from lamppost.service.streams import Broken, Stream
from lamppost.store.records import Call

log = logging.getLogger("lamppost.predict")

Scope = MutableMapping[str, Any]
Receive = Callable[[], Awaitable[MutableMapping[str, Any]]]
Send = Callable[[MutableMapping[str, Any]], Awaitable[None]]

PREFIX = "/predict/"
_REFUSED_KEPT = 2_000


class ClientGone(Exception):
    """The client hung up before its request was whole."""


def new_request_id() -> UUID:
    """UUID version 7 (RFC 9562, section 5.7): ordered by time to the millisecond, random below."""
    millis = time.time_ns() // 1_000_000
    rest = int.from_bytes(os.urandom(10), "big")
    return UUID(int=(millis << 80) | (0x7 << 76) | ((rest >> 68) << 64) | (0b10 << 62) | (rest & 0x3FFFFFFFFFFFFFFF))


class _Clock:
    """Phases of one request, each from the end of the one before."""

    __slots__ = ("last", "phases", "start")

    def __init__(self) -> None:
        self.start = self.last = time.perf_counter()
        self.phases: dict[str, float] = {}

    def mark(self, phase: str) -> None:
        now = time.perf_counter()
        self.phases[phase] = now - self.last
        self.last = now

    def server_timing(self) -> bytes:
        """The Server-Timing header (W3C), durations in milliseconds."""
        parts = [f"{name};dur={seconds * 1e3:.3f}" for name, seconds in self.phases.items()]
        parts.append(f"total;dur={(self.last - self.start) * 1e3:.3f}")
        return ", ".join(parts).encode()


class Predict:
    """``POST /predict/{endpoint}``."""

    def __init__(self, auth: Auth, routes: Routes, recorder: Recorder, max_body_bytes: int) -> None:
        self._auth = auth
        self._routes = routes
        self._recorder = recorder
        self._max_body_bytes = max_body_bytes

    async def __call__(self, scope: Scope, receive: Receive, send: Send) -> None:
        """Answer one request; every error becomes a problem document, and only a vanished client gets nothing."""
        clock = _Clock()
        request_id = new_request_id()
        call = _Call(scope["path"][len(PREFIX) :], request_id)
        try:
            if bodies.is_stream(scope["headers"], self._max_body_bytes) and scope["method"] == "POST":
                await self._answer_stream(scope, receive, send, call, clock)
                return
            status, body, extra = await self._answer(scope, receive, call, clock)
        except LampPostError as error:
            status, body, extra = self._problem(error, request_id)
        except ClientGone:
            return
        except Exception:
            log.exception("request %s to %s failed on a fault of our own", request_id, call.endpoint)
            status, body, extra = self._problem(LampPostError("the service failed on this request; the log has more"), request_id)
        clock.mark("answer")
        headers = [
            (b"content-length", b"%d" % len(body)),
            (b"request-id", str(request_id).encode()),
            (b"server-timing", clock.server_timing()),
            *extra,
        ]
        await send({"type": "http.response.start", "status": status, "headers": headers})
        await send({"type": "http.response.body", "body": body})
        if call.known:
            self._record(call, clock, status, body)

    async def _answer_stream(self, scope: Scope, receive: Receive, send: Send, call: _Call, clock: _Clock) -> None:
        """Read, ask and answer block by block; see `lamppost.service.streams`."""
        headers = scope["headers"]
        kind, wanted = bodies.streamed(headers)
        serving = await self._begin(headers, call, clock)
        call.serving, call.kind, call.wrote = serving, kind, wanted
        options = serving.plan.read_options(bodies.options_of(scope.get("query_string", b"")))
        stream = Stream(serving, kind, wanted, options, headers)
        started, size, status = False, 0, 200
        async with self._routes.kept_open(call.endpoint, serving):
            try:
                async for out in stream.answers(_pieces(receive)):
                    if not started:
                        started = True
                        clock.mark("first")
                        told = [(b"content-type", wanted.encode()), (b"model-version", str(call.version).encode())]
                        told += [(b"request-id", str(call.request_id).encode()), (b"server-timing", clock.server_timing())]
                        await send({"type": "http.response.start", "status": 200, "headers": told})
                    size += len(out)
                    await send({"type": "http.response.body", "body": out, "more_body": True})
                await send({"type": "http.response.body", "body": b""})
            except Broken as broken:
                status = getattr(broken.__cause__, "status", 500)
                if wanted == NDJSON:  # the problem is its last line
                    await send({"type": "http.response.body", "body": b""})
                else:
                    raise ClientGone from broken
            finally:
                clock.mark("rest")
                call.rows = stream.rows
                if started:
                    call.asked = Asked("rows", stream.rows, stream.first or [])
                    self._record(call, clock, status, orjson.dumps({"content_type": wanted, "bytes": size}))

    async def _begin(self, headers: list[tuple[bytes, bytes]], call: _Call, clock: _Clock) -> Serving:
        """Who asks, and what answers."""
        principal = await self._auth.check("POST", headers)
        principal.check("predict", call.endpoint)
        call.token = principal.token
        route, serving = self._routes.serving(call.endpoint)
        call.known, call.version, call.keeps = True, str(route.split.version), serving.keeps
        clock.mark("token")
        return serving

    async def _answer(self, scope: Scope, receive: Receive, call: _Call, clock: _Clock) -> tuple[int, bytes, list[tuple[bytes, bytes]]]:
        if scope["method"] != "POST":
            error = NotAllowed(f"{scope['method']} is no way to ask an endpoint; send a row with POST")
            error.status = 405
            raise error
        headers = scope["headers"]
        await self._begin(headers, call, clock)
        kind, header = bodies.content_type(headers)
        wanted = bodies.accepted(headers, kind)
        call.body = body = await self._read(headers, receive)
        parts = await bodies.read_parts(header, body) if kind == MULTIPART else []
        clock.mark("read")
        # while the body came the route may have moved and the lane been closed; from here to the queue nothing is awaited
        route, serving = self._routes.serving(call.endpoint)
        call.version, call.keeps, call.serving = str(route.split.version), serving.keeps, serving
        call.kind = kind
        told: list[Change] | None = [] if route.split.setup.lenient else None
        asked = bodies.read(serving.plan, serving.columns, kind, body, parts, scope.get("query_string", b""), told)
        call.rows = asked.count
        call.asked = asked if kind != JSON else None
        clock.mark("validate")
        served = await serving.ask(asked, wanted == ARROW, len(body), headers)
        answer, call.version = served.answer, served.version
        clock.phases["queue"] = answer.queue_s
        clock.phases["worker"] = answer.worker_s
        clock.last = time.perf_counter()
        about: dict[str, Any] = {"version": call.version, "request_id": str(call.request_id)}
        extra = [(b"content-type", wanted.encode()), (b"model-version", call.version.encode())]
        if told:
            about["changed"] = [change.to_dict() for change in told[:MAX_TOLD]]
            extra.append((b"values-changed", b"%d" % len(told)))
        out = bodies.write(serving.answers, asked, answer, wanted, about)
        call.answered, call.wrote = answer, wanted
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

    def _problem(self, error: LampPostError, request_id: UUID) -> tuple[int, bytes, list[tuple[bytes, bytes]]]:
        body = orjson.dumps({**error.to_problem(), "request_id": str(request_id)}, default=str)
        return error.status, body, [(b"content-type", b"application/problem+json"), *problem_headers(error)]

    def _record(self, call: _Call, clock: _Clock, status: int, body: bytes) -> None:
        phases = {name: round(seconds * 1e6) for name, seconds in clock.phases.items()}
        batch_rows = call.answered.batch_rows if call.answered is not None else None
        kept, body = _as_json(call, status, body)
        if kept is not None and call.keeps is not None and not call.keeps.everything:
            kept = call.keeps.request(kept) if status == 200 else call.keeps.refused(kept)
            body = call.keeps.answer(body) if status == 200 else body
        if kept is not None and (status == 400 or len(kept) > MAX_PAYLOAD_BYTES or status == 413):
            # not JSON, or too large: its start as a JSON string
            kept = orjson.dumps(kept[:_REFUSED_KEPT].decode("utf-8", "replace"))
        elif kept is not None and status == 422:
            kept = _json_or_text(kept)
        self._recorder.add(
            Call(
                datetime.now(UTC),
                call.request_id,
                call.endpoint,
                call.version,
                call.token,
                status,
                call.rows,
                batch_rows,
                round((clock.last - clock.start) * 1e6),
                orjson.dumps(phases),
                kept,
                body if len(body) <= MAX_PAYLOAD_BYTES else None,
            )
        )


async def _pieces(receive: Receive) -> AsyncGenerator[bytes, None]:
    """The body as it comes; raise ClientGone when it stops coming."""
    while True:
        message = await receive()
        if message["type"] == "http.disconnect":
            raise ClientGone
        yield message.get("body", b"")
        if not message.get("more_body"):
            return


def _as_json(call: _Call, status: int, body: bytes) -> tuple[bytes | None, bytes]:
    """Request and answer of a call as JSON, whatever types they had; a refused body that is no JSON is not kept."""
    kept = call.body
    if call.kind != JSON and call.asked is not None:
        kept = call.recorded()
    elif kept is not None and call.kind != JSON:
        kept = orjson.dumps({"content_type": call.kind, "bytes": len(kept)})
    if status == 200 and call.wrote != JSON and call.body is not None:
        body = orjson.dumps({"content_type": call.wrote, "bytes": len(body)})
    return kept, body


def problem_headers(error: LampPostError) -> list[tuple[bytes, bytes]]:
    """The headers that belong to a problem: how to sign in, when to try again, which methods there are."""
    if error.status == 401:
        return [(b"www-authenticate", b"Bearer")]
    if error.status == 405:
        return [(b"allow", b"POST")]
    if error.status in (429, 503):
        return [(b"retry-after", b"%d" % error.extra.get("retry_after_s", 2))]
    return []


def _json_or_text(body: bytes) -> bytes:
    """A refused body as JSON that PostgreSQL holds: itself, or a JSON string where it says NaN or Infinity."""
    try:
        orjson.loads(body)
    except ValueError:
        return orjson.dumps(body[:_REFUSED_KEPT].decode("utf-8", "replace"))
    return body


class _Call:
    """What is learned about one request on its way."""

    __slots__ = (
        "answered",
        "asked",
        "body",
        "endpoint",
        "keeps",
        "kind",
        "known",
        "request_id",
        "rows",
        "serving",
        "token",
        "version",
        "wrote",
    )

    def __init__(self, endpoint: str, request_id: UUID) -> None:
        self.endpoint = endpoint
        self.request_id = request_id
        self.known = False
        self.keeps: Kept | None = None
        self.version: str | None = None
        self.token: str | None = None
        self.body: bytes | None = None
        self.rows = 0
        self.answered: LaneAnswer | None = None
        self.serving: Serving | None = None
        self.kind = self.wrote = JSON
        self.asked: Asked | None = None

    def recorded(self) -> bytes | None:
        """A body in another type than JSON, as JSON."""
        if self.serving is None or self.asked is None:
            return None
        return bodies.recorded(self.serving.plan, self.serving.columns, self.kind, self.asked)
