"""One call on its way: its id, its clock, what is learned about it, and the record that is made of it in the end."""

from __future__ import annotations

import time
from random import Random, SystemRandom

import orjson

from lamppost.core.errors import LampPostError
from lamppost.core.payload.text_formats import JSON
from lamppost.core.schema.redaction import RedactionPolicy
from lamppost.core.tracing import read_traceparent
from lamppost.runtime.lane_options import LaneAnswer
from lamppost.service.prediction import bodies
from lamppost.service.prediction.answer_hooks import AnswerHooks
from lamppost.service.prediction.predictors import PredictionInput, Predictor
from lamppost.service.records.recorder import MAX_PAYLOAD_BYTES, Recorder
from lamppost.store.call_records import CallRecord

_REFUSED_KEPT = 2_000
_random = Random(SystemRandom().getrandbits(256))
getrandbits = _random.getrandbits
_latest_ms = 0


def new_request_id(millis: int | None = None) -> str:
    """UUID version 7 (RFC 9562, section 5.7) as text: ordered by time to the millisecond, random below. millis : since 1970; or now."""
    if millis is None:
        # a clock that is set back does not take ids back: what came later still sorts later (RFC 9562, section 6.2)
        global _latest_ms
        millis = _latest_ms = max(_latest_ms, time.time_ns() // 1_000_000)
    high, middle, low = getrandbits(12), 0x8000 | getrandbits(14), getrandbits(48)
    return f"{millis >> 16:08x}-{millis & 0xFFFF:04x}-7{high:03x}-{middle:04x}-{low:012x}"


def valid_traceparent(header: bytes) -> str | None:
    """A valid traceparent as text."""
    text = header.decode("latin-1").strip()
    return text if read_traceparent(text) is not None else None


class PhaseTimer:
    """Phases of one request, each from the end of the one before."""

    __slots__ = ("last", "phases", "start")

    def __init__(self) -> None:
        self.start = self.last = time.perf_counter()
        self.phases: dict[str, float] = {}

    def mark(self, phase: str) -> None:
        """End a phase."""
        now = time.perf_counter()
        self.phases[phase] = now - self.last
        self.last = now

    def took(self, queue_s: float, worker_s: float) -> None:
        """What the lane says of its two phases."""
        self.phases["queue"], self.phases["worker"] = queue_s, worker_s
        self.last = time.perf_counter()

    def server_timing(self) -> bytes:
        """The Server-Timing header (W3C), durations in milliseconds."""
        parts = [f"{name};dur={seconds * 1e3:.3f}" for name, seconds in self.phases.items()]
        parts.append(f"total;dur={(self.last - self.start) * 1e3:.3f}")
        return ", ".join(parts).encode()


class Ongoing:
    """What is learned about one request on its way."""

    __slots__ = (
        "after",
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
        "trace",
        "version",
        "wrote",
    )

    def __init__(self, endpoint: str, request_id: str) -> None:
        self.endpoint = endpoint
        self.request_id = request_id
        self.known = False
        self.keeps: RedactionPolicy | None = None
        self.version: str | None = None
        self.token: str | None = None
        self.trace: str | None = None
        self.body: bytes | None = None
        self.rows = 0
        self.answered: LaneAnswer | None = None
        self.serving: Predictor | None = None
        self.kind = self.wrote = JSON
        self.asked: PredictionInput | None = None
        self.after: AnswerHooks | None = None

    def failed(self, error: LampPostError) -> None:
        """It could not be answered; where a version is to blame, that is counted."""
        self.version = error.version or self.version
        if error.status >= 500 and self.after is not None:
            self.after.after_failure(self.version)

    def recorded(self) -> bytes | None:
        """A body in another type than JSON, as JSON."""
        if self.serving is None or self.asked is None:
            return None
        return bodies.request_as_json(self.serving.plan, self.serving.columns, self.kind, self.asked)

    def record(self, recorder: Recorder, clock: PhaseTimer, status: int, body: bytes) -> None:
        """Hand the record over; ``body`` is what was answered."""
        phases = {name: round(seconds * 1e6) for name, seconds in clock.phases.items()}
        batch_rows = self.answered.batch_rows if self.answered is not None else None
        kept, body = _as_json(self, status, body)
        if kept is not None and self.keeps is not None and not self.keeps.keeps_everything:
            kept = self.keeps.redact_request(kept) if status == 200 else self.keeps.redact_refused(kept)
            body = self.keeps.redact_answer(body) if status == 200 else body
        if kept is not None and (status == 400 or len(kept) > MAX_PAYLOAD_BYTES or status == 413):
            # not JSON, or too large: its start as a JSON string
            kept = orjson.dumps(kept[:_REFUSED_KEPT].decode("utf-8", "replace"))
        elif kept is not None and status == 422:
            kept = _json_or_text(kept)
        recorder.add_record(
            CallRecord(
                time.time(),
                self.request_id,
                self.endpoint,
                self.version,
                self.token,
                status,
                self.rows,
                batch_rows,
                round((clock.last - clock.start) * 1e6),
                phases,
                kept,
                body if len(body) <= MAX_PAYLOAD_BYTES else None,
                trace=self.trace,
            )
        )


def _as_json(call: Ongoing, status: int, body: bytes) -> tuple[bytes | None, bytes]:
    """Request and answer of a call as JSON, whatever types they had; a refused body that is no JSON is not kept."""
    kept = call.body
    if call.kind != JSON and call.asked is not None:
        kept = call.recorded()
    elif kept is not None and call.kind != JSON:
        kept = orjson.dumps({"content_type": call.kind, "bytes": len(kept)})
    if status == 200 and call.wrote != JSON and call.body is not None:
        body = orjson.dumps({"content_type": call.wrote, "bytes": len(body)})
    return kept, body


def _json_or_text(body: bytes) -> bytes:
    """A refused body as JSON that PostgreSQL holds: itself, or a JSON string where it says NaN or Infinity."""
    try:
        orjson.loads(body)
    except ValueError:
        return orjson.dumps(body[:_REFUSED_KEPT].decode("utf-8", "replace"))
    return body
