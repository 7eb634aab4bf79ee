"""The short way of the usual call: one JSON body, a bearer token, one version that is awake, an answer in JSON.

It does what `lamppost.service.http.predict_handler` does, from the connection's own callbacks, with no task, no future and no
message in between; what
is not usual (another content type, a session, look-ups, several versions, an endpoint that sleeps, a large body) is left to the long way,
and so is every call whose token is refused.
"""

from __future__ import annotations

import logging
import time
from typing import TYPE_CHECKING, Any

import orjson

from lamppost.core.errors import LampPostError, LaneFull
from lamppost.core.payload.coercion import MAX_LISTED, Coercion
from lamppost.core.payload.text_formats import JSON
from lamppost.runtime.lane_options import LaneAnswer
from lamppost.service.auth import Auth
from lamppost.service.deployment.deployment import Deployment
from lamppost.service.http.predict_handler import PREFIX, problem_headers
from lamppost.service.prediction.call import Ongoing, PhaseTimer, new_request_id, valid_traceparent
from lamppost.service.prediction.predictors import PredictionInput, SingleVersion
from lamppost.service.prediction.share_router import ShareRouter
from lamppost.service.records.recorder import MAX_PAYLOAD_BYTES, Recorder
from lamppost.store.call_records import CallRecord

if TYPE_CHECKING:
    from lamppost.service.http.connection import HttpConnection

log = logging.getLogger("lamppost.predict")

_PREFIX = PREFIX.encode()
_MOST_BYTES = 32 * 1024
_JSON = (b"application/json", b"application/json; charset=utf-8", b"application/json;charset=UTF-8")
_ANY = (b"*/*", b"application/json", b"")
_UNUSUAL = frozenset((b"priority", b"answer-within", b"expect", b"transfer-encoding", b"cookie", b"upgrade"))
_TIMING = b"token;dur=%.3f, read;dur=%.3f, validate;dur=%.3f, queue;dur=%.3f, worker;dur=%.3f, answer;dur=%.3f, total;dur=%.3f"


class _Never:
    """Stands where uvicorn keeps the event that wakes an app."""

    def set(self) -> None:
        """Nobody waits for it."""


_NEVER = _Never()


class FastPath:
    """What the calls of a node have in common."""

    def __init__(self, auth: Auth, deployment: Deployment, recorder: Recorder) -> None:
        self.auth = auth
        self.deployment = deployment
        self.recorder = recorder

    def begin(self, connection: HttpConnection) -> FastPathCall | None:
        """A call that can go the short way, by its head; None for any other."""
        url = connection.url
        if not url.startswith(_PREFIX) or connection.parser.get_method() != b"POST" or connection.parser.get_http_version() != "1.1":
            return None
        try:
            endpoint = url[len(_PREFIX) :].decode("ascii")
        except UnicodeDecodeError:
            return None
        route = self.deployment.table.by_endpoint.get(endpoint)
        if route is None or not (
            type(route.predictor) is SingleVersion or (type(route.predictor) is ShareRouter and route.predictor.takes_whole_calls)
        ):
            return None
        token = b""
        trace: str | None = None
        length = -1
        for name, value in connection.headers:
            if name == b"authorization":
                token = value
            elif name == b"content-length":
                length = int(value) if value.isdigit() else -1
            elif name == b"content-type":
                if value not in _JSON:
                    return None
            elif name == b"accept":
                if value not in _ANY:
                    return None
            elif name == b"traceparent":
                trace = valid_traceparent(value)
            elif name in _UNUSUAL:
                return None
        if not 0 < length <= _MOST_BYTES or token[:7] != b"Bearer ":
            return None
        start = time.perf_counter()
        try:
            principal = self.auth.by_secret(token[7:].decode("latin-1"))
            principal.require_permission("predict", endpoint)
        except LampPostError:
            return None
        return FastPathCall(self, connection, endpoint, principal.token, start, trace)


class FastPathCall:
    """One such call, and for uvicorn the present exchange of its connection."""

    __slots__ = (
        "_after",
        "_alone",
        "_asked",
        "_begun",
        "_call",
        "_connection",
        "_quick",
        "_read",
        "_request_id",
        "_rows",
        "_serving",
        "_started",
        "_token",
        "_tokened",
        "_told",
        "_trace",
        "_validated",
        "body",
        "disconnected",
        "endpoint",
        "keep_alive",
        "message_event",
        "more_body",
        "response_complete",
        "response_started",
    )

    def __init__(self, quick: FastPath, connection: HttpConnection, endpoint: str, token: str, started: float, trace: str | None) -> None:
        self.endpoint = endpoint
        self.body = b""
        self.more_body = True
        self.response_started = self.response_complete = self.disconnected = False
        self.keep_alive = connection.parser.should_keep_alive()
        self.message_event = _NEVER
        self._quick = quick
        self._connection = connection
        self._token = token
        self._trace = trace
        self._started = started
        self._tokened = time.perf_counter()
        self._begun = False
        self._told: list[Coercion] | None = None

    # -- a reply, as a lane wants it ----------------------------------------------------------------------------------

    def done(self) -> bool:
        """Whether it has been answered, or nobody waits any more."""
        return self.response_complete or self.disconnected

    def set_result(self, answer: LaneAnswer) -> None:
        """Write the answer."""
        try:
            self._answer(answer)
        except Exception:
            log.exception("a call to %s failed on a fault of our own", self.endpoint)
            self._connection.transport.close()

    def set_exception(self, error: LampPostError) -> None:
        """Write a problem document."""
        self._refuse(error)

    # -- on its way ---------------------------------------------------------------------------------------------------

    def run(self) -> bool:
        """Read the body and hand its rows to the lane; False when the endpoint has changed meanwhile and it must go the long way."""
        if self._begun:
            return True
        self._begun = True
        self._request_id = new_request_id()
        route = self._quick.deployment.table.by_endpoint.get(self.endpoint)
        if route is None:
            return False
        serving = route.predictor
        if type(serving) is ShareRouter and serving.takes_whole_calls:
            self._serving = serving.pick_version(self._connection.headers)
        elif type(serving) is SingleVersion:
            self._serving = serving
        else:
            return False
        self._read = time.perf_counter()
        self._after = route.hooks
        self._rows = 0
        if route.setup.lenient:
            self._told = []
        try:
            said = serving.plan.read_body(self.body, self._told)
            self._asked = said
            self._rows = len(said.rows)
            self._validated = time.perf_counter()
            self._serving.lane.submit(said.rows, len(self.body), self._connection.request_options, self, self._request_id)
        except LampPostError as error:
            self._refuse(error)
        return True

    def _answer(self, answer: LaneAnswer) -> None:
        serving, said = self._serving, self._asked
        request_id = self._request_id
        end = time.perf_counter()
        if said.single_row and not self._told:
            body = b'{"answer":%s,"version":"%s","request_id":"%s"}' % (orjson.dumps(answer.rows[0]), serving.name, request_id.encode())
            extra = b""
        else:
            from lamppost.service.prediction import bodies

            about: dict[str, Any] = {"version": serving.version, "request_id": request_id}
            extra = b""
            if self._told:
                about["changed"] = [change.to_dict() for change in self._told[:MAX_LISTED]]
                extra = b"values-changed: %d\r\n" % len(self._told)
            form = "alone" if said.single_row else "columns" if said.as_columns else "rows"
            body = bodies.write_answer(serving.answers, PredictionInput(form, self._rows, said.rows), answer, JSON, about)
        token_s, read_s, validate_s = self._tokened - self._started, self._read - self._tokened, self._validated - self._read
        total_s = time.perf_counter() - self._started
        queue_s, worker_s, answer_s = answer.queue_s, answer.worker_s, time.perf_counter() - end
        timing = _TIMING % (*(token_s * 1e3, read_s * 1e3, validate_s * 1e3, queue_s * 1e3, worker_s * 1e3, answer_s * 1e3), total_s * 1e3)
        self._send(200, b"application/json", b"model-version: %s\r\n%s" % (serving.name, extra), request_id, timing, body)
        keeps = serving.redaction
        kept: bytes | None = self.body
        if not keeps.keeps_everything:
            kept, body = keeps.redact_request(self.body), keeps.redact_answer(body)
        phases = {
            "token": int(token_s * 1e6),
            "read": int(read_s * 1e6),
            "validate": int(validate_s * 1e6),
            "queue": int(queue_s * 1e6),
            "worker": int(worker_s * 1e6),
            "answer": int(answer_s * 1e6),
        }
        body_kept = body if len(body) <= MAX_PAYLOAD_BYTES else None
        if self._after is not None:
            self._after.after_answer(serving.version, said.rows, answer.rows, total_s * 1e3, request_id, self._token)
        self._quick.recorder.add_record(
            CallRecord(
                time.time(),
                request_id,
                self.endpoint,
                serving.version,
                self._token,
                200,
                self._rows,
                answer.batch_rows,
                int(total_s * 1e6),
                phases,
                kept,
                body_kept,
                trace=self._trace,
            )
        )

    def _refuse(self, error: LampPostError) -> None:
        request_id = self._request_id
        if error.status >= 500 and self._after is not None:
            self._after.after_failure(self._serving.version)
        body = orjson.dumps({**error.to_problem(), "request_id": request_id}, default=str)
        clock = PhaseTimer()
        clock.start = self._started
        for name, until, since in (("token", self._tokened, self._started), ("read", self._read, self._tokened)):
            clock.phases[name] = until - since
        clock.last = self._read
        clock.mark("validate")
        extra = b"".join(b"%s: %s\r\n" % header for header in problem_headers(error))
        self._send(error.status, b"application/problem+json", extra, request_id, clock.server_timing(), body)
        if isinstance(error, LaneFull):
            self._connection.pause_reading()
        call = Ongoing(self.endpoint, request_id)
        call.version, call.token, call.keeps = self._serving.version, self._token, self._serving.redaction
        call.trace = self._trace
        call.body, call.rows = self.body, self._rows
        call.record(self._quick.recorder, clock, error.status, body)

    def _send(self, status: int, kind: bytes, extra: bytes, request_id: str, timing: bytes, body: bytes) -> None:
        """The whole answer in one piece, if anybody is there."""
        self.response_started = self.response_complete = True
        connection = self._connection
        if self.disconnected or connection.transport.is_closing():
            return
        if not self.keep_alive:
            extra += b"connection: close\r\n"
        connection.transport.write(
            b"%scontent-type: %s\r\ncontent-length: %d\r\nrequest-id: %s\r\nserver-timing: %s\r\n%s%s\r\n%s"
            % (connection.status_line(status), kind, len(body), request_id.encode(), timing, extra, connection.standing_headers(), body)
        )
        if not self.keep_alive:
            connection.transport.close()
        connection.note_answered()
