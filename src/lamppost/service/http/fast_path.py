"""Answers the usual call from the connection's callbacks: one JSON body, a bearer token, one version that is open, an answer in JSON.

It takes a call through the same steps as `lamppost.service.http.predict_handler`, from the connection's own callbacks, with no task, no
future and no message in between. What is not usual (another content type, a session, look-ups, several versions for one call, an endpoint
that sleeps, a large body, a token that is refused) is left to the handler. A call that turns out to be unusual after its head was read is
handed over as it is: admitted once, and charged once.
"""

from __future__ import annotations

import asyncio
from typing import Any, Protocol, TypeGuard

import orjson

from lamppost.core.endpoint.setup import EndpointSetup
from lamppost.core.errors import LampPostError, LaneFull
from lamppost.core.payload.text_formats import JSON
from lamppost.runtime.lane_options import LaneAnswer, RequestOptions
from lamppost.service.auth import TokenPrincipals
from lamppost.service.http.known_hosts import KnownHosts
from lamppost.service.http.predict_handler import PREFIX
from lamppost.service.http.problems import PROBLEM_TYPE, problem_headers
from lamppost.service.prediction import bodies
from lamppost.service.prediction.answer_hooks import AnswerHooks
from lamppost.service.prediction.call import PredictionCall
from lamppost.service.prediction.predictors import Headers, PredictionInput, PredictionOutput, Predictor, SingleVersion
from lamppost.service.prediction.request_ids import valid_traceparent
from lamppost.service.prediction.share_router import ShareRouter
from lamppost.service.records.record_buffer import RecordBuffer

_PREFIX = PREFIX.encode()
_MAX_BYTES = 32 * 1024
_JSON_TYPES = (b"application/json", b"application/json; charset=utf-8", b"application/json;charset=UTF-8")
_ANY_ANSWER = (b"*/*", b"application/json", b"")
_UNUSUAL = frozenset(
    (b"priority", b"answer-within", b"expect", b"transfer-encoding", b"content-encoding", b"cookie", b"origin", b"upgrade")
)
_READ_HEADERS = _UNUSUAL | {b"host", b"authorization", b"content-length", b"content-type", b"accept", b"traceparent"}


class Connection(Protocol):
    """What the fast path needs of an HTTP/1.1 connection. headers : of the present request. request_options : for its lane."""

    url: bytes
    headers: Headers
    parser: Any
    transport: asyncio.Transport
    request_options: RequestOptions

    def status_line(self, status: int) -> bytes:
        """The first line of an answer."""

    def standing_headers(self) -> bytes:
        """Headers of every answer, such as its date."""

    def note_answered(self) -> None:
        """Note that the present request has its answer."""

    def pause_reading(self) -> None:
        """Read nothing more for a moment."""


class FoundRoute(Protocol):
    """What the fast path needs of a route."""

    @property
    def predictor(self) -> Predictor | None:
        """What answers, None where nothing can at the moment."""

    @property
    def hooks(self) -> AnswerHooks | None:
        """What follows an answer."""

    @property
    def setup(self) -> EndpointSetup:
        """What is served, and how."""


class Routes(Protocol):
    """Routes by the names of their endpoints."""

    def get(self, endpoint: str, /) -> FoundRoute | None:
        """The route of an endpoint, None where there is none."""


class _NoEvent:
    """Replaces the event by which uvicorn wakes an app; the fast path does not wait for it."""

    def set(self) -> None:
        """Do nothing."""


_NO_EVENT = _NoEvent()


class FastPath:
    """Begins calls of one process on the fast path."""

    def __init__(self, auth: TokenPrincipals, hosts: KnownHosts, routes: Routes, recorder: RecordBuffer) -> None:
        self._hosts = hosts.seen
        self.routes = routes
        self.recorder = recorder
        self._auth = auth

    def begin(self, connection: Connection) -> FastPathCall | None:
        """An admitted call, if its head allows the fast path; None for any other, for which nothing was charged."""
        url = connection.url
        if not url.startswith(_PREFIX) or connection.parser.get_method() != b"POST" or connection.parser.get_http_version() != "1.1":
            return None
        try:
            endpoint = url[len(_PREFIX) :].decode("ascii")
        except UnicodeDecodeError:
            return None
        route = self.routes.get(endpoint)
        if route is None or not answers_whole_calls(route.predictor):
            return None
        token = b""
        trace: str | None = None
        length = -1
        known = False
        for name, value in connection.headers:
            if name not in _READ_HEADERS:
                continue
            if name == b"authorization":
                if token:
                    return None
                token = value
            elif name == b"host":
                if known or value not in self._hosts:
                    return None
                known = True
            elif name == b"content-length":
                length = int(value) if value.isdigit() else -1
            elif name == b"content-type":
                if value not in _JSON_TYPES:
                    return None
            elif name == b"accept":
                if value not in _ANY_ANSWER:
                    return None
            elif name == b"traceparent":
                trace = valid_traceparent(value)
            else:
                return None
        anonymous = self._auth.anonymous if not token else None
        if not known or not 0 < length <= _MAX_BYTES or (token[:7] != b"Bearer " and anonymous is None):
            return None
        call = PredictionCall(endpoint)
        try:
            principal = anonymous or self._auth.principal_of_token(token[7:].decode("latin-1"))
            principal.require_permission("predict", endpoint)  # before it is charged: the handler charges what it refuses
            call.admit(self._auth, principal, permitted=True)
        except LampPostError:
            return None
        call.trace = trace
        return FastPathCall(self, connection, call)


def answers_whole_calls(predictor: Predictor | None) -> TypeGuard[SingleVersion | ShareRouter]:
    """Whether each call has one version that answers it, whose rows it takes as they are."""
    return type(predictor) is SingleVersion or _takes_whole_calls(predictor)


def _takes_whole_calls(predictor: Predictor | None) -> TypeGuard[ShareRouter]:
    """Whether one version answers each whole call, chosen by the call's header or by turn."""
    return type(predictor) is ShareRouter and predictor.takes_whole_calls


class FastPathCall:
    """A call on the fast path; for uvicorn it is the present exchange of the connection."""

    __slots__ = (
        "_begun",
        "_path",
        "_version",
        "body",
        "call",
        "connection",
        "disconnected",
        "keep_alive",
        "message_event",
        "more_body",
        "response_complete",
        "response_started",
    )

    def __init__(self, path: FastPath, connection: Connection, call: PredictionCall) -> None:
        self.call = call
        self.body = b""
        self.more_body = True
        self.response_started = self.response_complete = self.disconnected = False
        self.keep_alive = connection.parser.should_keep_alive()
        self.message_event = _NO_EVENT
        self._path = path
        self.connection = connection
        self._begun = False

    # -- what a lane tells a receiver of answers -------------------------------------------------------------------------

    def done(self) -> bool:
        """Whether the call has been answered, or its client is gone."""
        return self.response_complete or self.disconnected

    def set_result(self, answer: LaneAnswer) -> None:
        """Write the answer."""
        try:
            self._answer(answer)
        except Exception:
            self.call.own_fault()
            self.connection.transport.close()

    def set_exception(self, error: LampPostError) -> None:
        """Write a problem document."""
        self._refuse(error)

    # -- on its way ------------------------------------------------------------------------------------------------------

    def run(self) -> bool:
        """Read the body and hand its rows to the lane; False when the endpoint has changed meanwhile and the handler must take over."""
        if self._begun:
            return True
        self._begun = True
        call, connection = self.call, self.connection
        route = self._path.routes.get(call.endpoint)
        if route is None:
            return False
        predictor = route.predictor
        if type(predictor) is SingleVersion:
            version = predictor
        elif _takes_whole_calls(predictor):
            version = predictor.pick_version(connection.headers)
        else:
            return False
        self._version = version
        call.body = self.body
        call.bind(predictor, route.hooks, version.version, route.setup.lenient)
        call.timer.mark("read")
        try:
            parsed = predictor.plan.read_body(self.body, call.coercions)
            form: Any = "row" if parsed.single_row else "columns" if parsed.as_columns else "rows"
            call.validated(PredictionInput(form, len(parsed.rows), parsed.rows))
            version.lane.submit(parsed.rows, len(self.body), connection.request_options, self, call.request_id)
        except LampPostError as error:
            self._refuse(error)
        return True

    def _answer(self, answer: LaneAnswer) -> None:
        call, version, given = self.call, self._version, self.call.input
        assert given is not None
        assert call.predictor is not None
        call.answered(PredictionOutput(answer, version.version, given.rows))
        extra = b""
        if given.form == "row" and not call.coercions:
            request_id = call.request_id.encode()
            body = b'{"answer":%s,"version":"%s","request_id":"%s"}' % (orjson.dumps(answer.rows[0]), version.name, request_id)
        else:
            body = bodies.write_answer(call.predictor.answers, given, answer, JSON, call.envelope())
            if call.coercions:
                extra = b"values-changed: %d\r\n" % len(call.coercions)
        call.timer.mark("answer")
        self._send(200, b"application/json", b"model-version: %s\r\n%s" % (version.name, extra), body)
        call.record(self._path.recorder, 200, body)

    def _refuse(self, error: LampPostError) -> None:
        body = self.call.refuse(error)
        self.call.timer.mark("answer")
        self._send(error.status, PROBLEM_TYPE, b"".join(b"%s: %s\r\n" % header for header in problem_headers(error)), body)
        if isinstance(error, LaneFull):
            self.connection.pause_reading()
        self.call.record(self._path.recorder, error.status, body)

    def _send(self, status: int, content_type: bytes, extra: bytes, body: bytes) -> None:
        """The whole answer in one piece, if anybody is there."""
        self.response_started = self.response_complete = True
        connection, call = self.connection, self.call
        if self.disconnected or connection.transport.is_closing():
            return
        if not self.keep_alive:
            extra += b"connection: close\r\n"
        timing = call.timer.server_timing()
        connection.transport.write(
            b"%scontent-type: %s\r\ncontent-length: %d\r\nrequest-id: %s\r\nserver-timing: %s\r\n%s%s\r\n%s"
            % (
                connection.status_line(status),
                content_type,
                len(body),
                call.request_id.encode(),
                timing,
                extra,
                connection.standing_headers(),
                body,
            )
        )
        if not self.keep_alive:
            connection.transport.close()
        connection.note_answered()
