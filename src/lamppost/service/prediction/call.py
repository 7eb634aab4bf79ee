"""One prediction from admission to record, the same for every transport.

A transport reads and writes bytes; everything that must not depend on the transport is here. It takes a call through these steps, in this
order, and any of them may end in `refuse` instead:

    admit ─► bind ─► validated ─► (the predictor answers) ─► answered ─► record

- `admit`: the token's role covers the endpoint, and its rate is charged, once per call, also where one transport hands the call to another;
- `bind`: what answers, and what of the call may be recorded;
- `validated`: the rows that were read, with what lenient reading changed;
- `answered`: phases, the version that answered, what follows an answer (counts of a rollout, copies to shadows);
- `refuse`: the problem document of an error, and its count where a version is to blame;
- `record`: the record, without private values.

Knows neither HTTP nor gRPC.
"""

from __future__ import annotations

import logging
import sys
import time
import traceback
from typing import Any

import orjson

from lamppost.core.errors import LampPostError
from lamppost.core.payload.coercion import MAX_LISTED, Coercion
from lamppost.core.payload.text_formats import JSON
from lamppost.core.roles import Principal
from lamppost.core.schema.redaction import RedactionPolicy
from lamppost.runtime.lane_options import LaneAnswer
from lamppost.service.auth import TokenPrincipals
from lamppost.service.prediction import bodies
from lamppost.service.prediction.answer_hooks import AnswerHooks
from lamppost.service.prediction.phase_timer import PhaseTimer
from lamppost.service.prediction.predictors import PredictionInput, PredictionOutput, Predictor
from lamppost.service.prediction.request_ids import new_request_id
from lamppost.service.records.record_buffer import MAX_PAYLOAD_BYTES, RecordBuffer
from lamppost.store.call_records import CallRecord

log = logging.getLogger("lamppost.predict")

_REFUSED_KEPT = 2_000
"""Bytes kept of a refused body that is no JSON."""


class PredictionCall:
    """The state of one call.

    endpoint : the name that it was sent to. request_id : its own. trace : the caller's trace context, None without one.
    token : the name of the token, None until it is admitted.
    predictor : None until it is bound; redaction, hooks, version and coercions are set together with it.
    version : the version or versions that answered, or that stand for the endpoint.
    body : the request as it came, None where it was too large to hold. content_type, answer_type : of request and answer.
    input : the rows or columns that were read. coercions : what lenient reading changed, None where reading is strict.
    """

    __slots__ = (
        "answer",
        "answer_type",
        "body",
        "coercions",
        "content_type",
        "endpoint",
        "hooks",
        "input",
        "predictor",
        "redaction",
        "request_id",
        "rows",
        "timer",
        "token",
        "trace",
        "version",
    )

    redaction: RedactionPolicy
    hooks: AnswerHooks | None
    version: str | None
    coercions: list[Coercion] | None

    def __init__(self, endpoint: str) -> None:
        self.timer = PhaseTimer()
        self.endpoint = endpoint
        self.request_id = new_request_id()
        self.token: str | None = None
        self.trace: str | None = None
        self.predictor: Predictor | None = None
        self.content_type = self.answer_type = JSON
        self.body: bytes | None = None
        self.input: PredictionInput | None = None
        self.rows = 0
        self.answer: LaneAnswer | None = None

    def admit(self, auth: TokenPrincipals, principal: Principal, permitted: bool = False) -> None:
        """Let a principal in: raise RateLimited, or NotAllowed, which is charged too. A call that was admitted is not charged again.

        permitted : whether the caller of this method has checked the permission already.
        """
        if self.token is None:
            auth.charge(principal)
            if not permitted:
                principal.require_permission("predict", self.endpoint)
            self.token = principal.token
        self.timer.mark("token")

    def bind(self, predictor: Predictor, hooks: AnswerHooks | None, version: str, lenient: bool) -> None:
        """Set the predictor and everything that follows from it. version : the version that stands for the endpoint until one has
        answered.
        """
        self.predictor, self.redaction, self.hooks, self.version = predictor, predictor.redaction, hooks, version
        self.coercions = [] if lenient else None

    def validated(self, given: PredictionInput) -> None:
        """Take in the rows or columns of the body."""
        self.input, self.rows = given, given.row_count
        self.timer.mark("validate")

    def answered(self, output: PredictionOutput) -> None:
        """Take in the answer and run the hooks."""
        answer = output.answer
        self.timer.note_lane(answer.queue_s, answer.worker_s)
        self.version, self.answer = output.version, answer
        if self.hooks is not None:
            self.hooks.after_answer(
                output.version, output.rows, answer.rows, self.timer.total_s * 1e3, self.request_id, self.token, output.keys
            )

    def envelope(self) -> dict[str, Any]:
        """The values beside the answers in JSON: version, request id, and what lenient reading changed."""
        about: dict[str, Any] = {"version": self.version, "request_id": self.request_id}
        if self.coercions:
            about["changed"] = [coercion.to_dict() for coercion in self.coercions[:MAX_LISTED]]
        return about

    def refuse(self, error: LampPostError) -> bytes:
        """The problem document of an error that ends this call; where a version is to blame, that is counted."""
        if self.predictor is not None:
            self.version = error.version or self.version
            if error.status >= 500 and self.hooks is not None:
                self.hooks.after_failure(self.version)
        return self.problem(error)

    def problem(self, error: LampPostError) -> bytes:
        """The problem document of an error that no version is to blame for."""
        document = error.to_problem() if self.predictor is None else self.redaction.redact_problem(error)
        return orjson.dumps({**document, "request_id": self.request_id}, default=str)

    def own_fault(self) -> LampPostError:
        """The error of a call that failed on a fault of the service, whose traceback is logged."""
        about, extra = (self.request_id, self.endpoint), {"request_id": self.request_id}
        if self.predictor is None or self.redaction.keeps_everything:
            log.exception("request %s to %s failed on a fault of our own", *about, extra=extra)
        else:  # the text of an exception may hold a value
            kind, _, trace = sys.exc_info()
            frames = "".join(traceback.format_tb(trace))
            log.error("request %s to %s failed on a fault of our own (%s):\n%s", *about, kind and kind.__name__, frames, extra=extra)
        return LampPostError("the service failed on this request; the log has more")

    def record(self, recorder: RecordBuffer, status: int, body: bytes) -> None:
        """Hand the record over, if the call got as far as an endpoint. body : what was sent back, or stands for that as JSON."""
        if (record := self.make_record(status, body)) is not None:
            recorder.add_record(record)

    def answer_as_json(self, kind: str) -> bytes:
        """The answer as it is recorded where it does not travel as JSON. kind : how it travels."""
        assert self.predictor is not None
        assert self.input is not None
        assert self.answer is not None
        return bodies.answer_as_json(self.predictor.answers, self.input, self.answer, kind)

    def make_record(self, status: int, body: bytes) -> CallRecord | None:
        """The record, without private values; None for a call that did not get as far as an endpoint."""
        if self.predictor is None:
            return None
        timer = self.timer
        request, answer = self._recorded_request(status), body
        if status == 200:
            if self.answer_type != JSON and self.body is not None:
                answer = self.answer_as_json(self.answer_type)
            if not self.redaction.keeps_everything:
                answer = self.redaction.redact_answer(answer)
        return CallRecord(
            time.time(),
            self.request_id,
            self.endpoint,
            self.version,
            self.token,
            status,
            self.rows,
            self.answer.batch_rows if self.answer is not None else None,
            int((timer.last - timer.started) * 1e6),
            timer.as_microseconds(),
            request,
            answer if len(answer) <= MAX_PAYLOAD_BYTES else None,
            trace=self.trace,
        )

    def _recorded_request(self, status: int) -> bytes | None:
        """The request as JSON that PostgreSQL holds, without private values; None where nothing of it may be kept."""
        kept = self.body
        if status == 200 and self.content_type == JSON and self.redaction.keeps_everything:  # nearly every call
            return kept if kept is None or len(kept) <= MAX_PAYLOAD_BYTES else _beginning_as_text(kept)
        if self.content_type != JSON:
            if self.input is not None and self.predictor is not None:
                kept = bodies.request_as_json(self.predictor.plan, self.predictor.columns, self.content_type, self.input)
            elif kept is not None:
                kept = orjson.dumps({"content_type": self.content_type, "bytes": len(kept)})
        if kept is not None and not self.redaction.keeps_everything:
            kept = self.redaction.redact_request(kept) if status == 200 else self.redaction.redact_refused(kept)
        if kept is None or (status == 200 and len(kept) <= MAX_PAYLOAD_BYTES):
            return kept
        if status in (400, 413) or len(kept) > MAX_PAYLOAD_BYTES:
            return _beginning_as_text(kept)
        return _json_or_text(kept) if status == 422 else kept


def _beginning_as_text(body: bytes) -> bytes:
    """The beginning of a body as a JSON string, where the whole is not kept or is no JSON."""
    return orjson.dumps(body[:_REFUSED_KEPT].decode("utf-8", "replace"))


def _json_or_text(body: bytes) -> bytes:
    """A refused body as JSON that PostgreSQL holds: itself, or a JSON string where it says NaN or Infinity."""
    try:
        orjson.loads(body)
    except ValueError:
        return _beginning_as_text(body)
    return body
