"""Runs after an answer: counts it for a rollout and copies its rows to shadows. No caller waits for this."""

from __future__ import annotations

import asyncio
import time
from collections.abc import Mapping, Sequence
from typing import Any

import orjson

from lamppost.core.endpoint.endpoint_schema import WHICH, fit_rows
from lamppost.core.endpoint.even_samples import COPIED, is_in_sample
from lamppost.core.endpoint.rollout_counts import RolloutTally
from lamppost.core.errors import LampPostError, LaneFull
from lamppost.core.payload.validation_plan import Row
from lamppost.core.roles import is_load
from lamppost.core.schema.fields import Schema
from lamppost.core.schema.redaction import RedactionPolicy
from lamppost.runtime.lane import Lane
from lamppost.runtime.lane_options import LaneAnswer, RequestOptions
from lamppost.service.records.record_buffer import MAX_PAYLOAD_BYTES, RecordBuffer
from lamppost.store.call_records import CallRecord

_MOST_WAITING = 64
"""Copies that may wait in a lane; more are left out."""
_COPY_S = 10.0


class ShadowState:
    """One shadow of an endpoint. lane : None until it is open, or when it cannot be. left_out : copies that found no room."""

    def __init__(self, version: str, share: float) -> None:
        self.version = version
        self.share = share
        self.lane: Lane | None = None
        self.reason: str | None = None
        self.answered = self.failed = self.left_out = 0
        self._calls = 0

    def takes_next_call(self) -> bool:
        """Whether the next call is copied, evenly by its share."""
        self._calls += 1
        return is_in_sample(self._calls, COPIED, self.share / 100)


class AnswerHooks:
    """The hooks of one endpoint's present revision. columns : of the rows that `after_answer` gets."""

    def __init__(
        self,
        endpoint: str,
        columns: Schema,
        recorder: RecordBuffer,
        tally: RolloutTally | None,
        shadows: Sequence[ShadowState],
        redaction: RedactionPolicy | None = None,
    ) -> None:
        self.endpoint = endpoint
        self.tally = tally
        self.shadows = list(shadows)
        self.others: dict[str, Lane] = {}
        self._columns = columns
        self._recorder = recorder
        self.redaction = redaction

    def after_answer(
        self,
        version: str,
        rows: Sequence[Row] | None,
        answers: list[Row],
        ms: float,
        request_id: str,
        token: str | None,
        keys: Mapping[str, str] | None = None,
    ) -> None:
        """Count and copy an answered call. rows : as the model took them; None for columns, which are counted and not copied. keys : by
        version, what gave it the first of its rows, where callers are kept with a version.
        """
        if is_load(token):
            return
        key_of = keys or {}
        tally = self.tally
        if tally is not None:
            if ", " in version:  # rows of one call went to several
                for name in version.split(", "):
                    tally.answered(name, ms, [answer for answer in answers if answer.get(WHICH) == name], key_of.get(name))
            else:
                tally.answered(version, ms, answers, key_of.get(version))
                if tally.rollout.compare and version == tally.rollout.new and rows is not None:
                    old = self.others.get(tally.rollout.old)
                    if old is not None:
                        self._copy(old, rows, _Compared(tally, answers))
        for shadow in self.shadows:
            if shadow.takes_next_call() and rows is not None:
                if shadow.lane is None:
                    shadow.left_out += 1
                else:
                    self._copy(shadow.lane, rows, _Recorded(self, shadow, len(rows), request_id, token))

    def after_failure(self, version: str | None) -> None:
        """Count a call that a version failed."""
        if self.tally is not None and version is not None:
            self.tally.failed(version)

    def _copy(self, lane: Lane, rows: Sequence[Row], reply: _Copy) -> None:
        """Copy rows to another lane at bulk priority; left out if its queue is full."""
        if lane.waiting > _MOST_WAITING:
            reply.leave_out()
            return
        terms = RequestOptions(bulk=True, deadline=asyncio.get_running_loop().time() + _COPY_S)
        try:
            taken = list(rows) if lane.columns.names == self._columns.names else fit_rows(rows, lane.columns, self._columns, lane.name)
            lane.submit(taken, 64 * len(rows), terms, reply)
        except LaneFull:
            reply.leave_out()
        except LampPostError as error:
            reply.set_exception(error)

    def record(self, call: CallRecord) -> None:
        """Record the answer of a shadow."""
        self._recorder.add_record(call)


class _Copy:
    """The receiver of the answer to a copy."""

    def done(self) -> bool:
        """Always False: a copy waits until its deadline."""
        return False

    def set_result(self, _: LaneAnswer) -> None:
        """The answer."""

    def set_exception(self, _: LampPostError) -> None:
        """What went wrong instead."""

    def leave_out(self) -> None:
        """There was no room for the copy in the lane's queue."""


class _Compared(_Copy):
    """Compares the answer to a copy with what the new version answered to the same rows."""

    def __init__(self, tally: RolloutTally, new: list[Row]) -> None:
        self._tally = tally
        self._new = new

    def set_result(self, answer: LaneAnswer) -> None:
        self._tally.compared(answer.rows, self._new)


class _Recorded(_Copy):
    """Records the answer to a copy under the request id of the original call."""

    def __init__(self, after: AnswerHooks, shadow: ShadowState, rows: int, request_id: str, token: str | None) -> None:
        self._after = after
        self._shadow = shadow
        self._rows = rows
        self._request_id = request_id
        self._token = token
        self._since = time.perf_counter()

    def set_result(self, answer: LaneAnswer) -> None:
        self._shadow.answered += 1
        lane = self._shadow.lane
        body = orjson.dumps({"answers": answer.rows, "version": self._shadow.version}, default=str)
        for policy in (self._after.redaction, lane.redaction if lane is not None else None):
            if policy is not None and not policy.keeps_everything:
                body = policy.redact_answer(body)
        phases = {"queue": int(answer.queue_s * 1e6), "worker": int(answer.worker_s * 1e6)}
        self._record(200, phases, answer.batch_rows, body)

    def leave_out(self) -> None:
        self._shadow.left_out += 1

    def set_exception(self, error: LampPostError) -> None:
        self._shadow.failed += 1
        policy = self._after.redaction
        document = error.to_problem() if policy is None else policy.redact_problem(error)
        self._record(error.status, {}, None, orjson.dumps(document, default=str))

    def _record(self, status: int, phases: dict[str, int], batch_rows: int | None, body: bytes) -> None:
        took_us = int((time.perf_counter() - self._since) * 1e6)
        kept: Any = body if len(body) <= MAX_PAYLOAD_BYTES else None
        after, version = self._after, self._shadow.version
        after.record(
            CallRecord(
                time.time(),
                self._request_id,
                after.endpoint,
                version,
                self._token,
                status,
                self._rows,
                batch_rows,
                took_us,
                phases,
                None,
                kept,
                shadow=True,
            )
        )
