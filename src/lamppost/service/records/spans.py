"""Sends spans to a collector: those that callers want sampled, and a few of the others.

They go as OTLP over HTTP in JSON, a batch a second. A collector that is away costs spans, which are counted, and nothing else.
"""

from __future__ import annotations

import asyncio
import logging
import time
from collections import deque
from collections.abc import Iterable

import httpx
import orjson

import lamppost
from lamppost.core.tracing import Span, read_traceparent, spans_of, to_otlp
from lamppost.service.outgoing_http import outgoing_client
from lamppost.store.call_records import CallRecord

log = logging.getLogger("lamppost.spans")

MOST_WAITING = 5_000
OTHERS_A_SECOND = 20
"""Calls without a trace of their own that are told all the same."""
_BATCH = 500
_PAUSE_S = 1.0


class SpanExporter:
    """Sends spans to a collector. sent, dropped : since the start."""

    def __init__(self, url: str | None) -> None:
        self.url = url
        self.sent = 0
        self.dropped = 0
        self._waiting: deque[Span] = deque()
        self._second = (0, 0)
        self._task: asyncio.Task[None] | None = None

    def start(self) -> None:
        """Begin to send, where there is anywhere to."""
        if self.url is not None:
            self._task = asyncio.create_task(self._run(), name="spans")

    async def close(self) -> None:
        """Send what waits, once."""
        if self._task is not None:
            self._task.cancel()
            await asyncio.gather(self._task, return_exceptions=True)
            await self._send()

    def add_calls(self, calls: Iterable[CallRecord]) -> None:
        """Note the spans of calls that were recorded."""
        if self.url is None:
            return
        for call in calls:
            trace = read_traceparent(call.trace) if call.trace else None
            if (trace is not None and not trace.sampled) or (trace is None and not self._room(int(call.at))):
                continue
            own = call.request_id.replace("-", "")
            about = {
                "lamppost.endpoint": call.endpoint,
                "lamppost.version": call.version,
                "lamppost.request_id": call.request_id,
                "lamppost.rows": call.rows,
                "lamppost.shadow": str(call.shadow).lower(),
                "http.response.status_code": call.status,
            }
            trace_id, parent = (trace.trace_id, trace.parent_id) if trace is not None else (own, "")
            name = f"predict {call.endpoint}"
            self._waiting.extend(spans_of(trace_id, own[16:], parent, name, int(call.at * 1e9), call.total_us, call.phases_us, about))
        while len(self._waiting) > MOST_WAITING:
            self._waiting.popleft()
            self.dropped += 1

    def _room(self, second: int) -> bool:
        at, many = self._second
        self._second = (second, many + 1 if at == second else 1)
        return self._second[1] <= OTHERS_A_SECOND

    async def _run(self) -> None:
        while True:
            await asyncio.sleep(_PAUSE_S)
            await self._send()

    async def _send(self) -> None:
        batch = [self._waiting.popleft() for _ in range(min(_BATCH, len(self._waiting)))]
        if not batch or self.url is None:
            return
        try:
            async with await outgoing_client(self.url, timeout_s=5.0) as client:
                body = orjson.dumps(to_otlp(batch, "lamppost", lamppost.__version__))
                answer = await client.post(self.url, content=body, headers={"content-type": "application/json"})
                answer.raise_for_status()
        except (httpx.HTTPError, httpx.InvalidURL) as error:
            if not self.dropped or time.time() % 60 < _PAUSE_S:
                log.warning("%d spans could not be sent to %s: %s", len(batch), self.url, str(error) or type(error).__name__)
            self.dropped += len(batch)
        else:
            self.sent += len(batch)
