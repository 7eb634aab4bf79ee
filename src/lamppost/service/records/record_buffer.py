"""Holds records in memory, as bytes, until they are taken to where they are kept.

Records become bytes a few at a time and in the event loop: a thread that did it would fight the loop over the interpreter, and hold up
answers for several times as long as the work takes.
"""

from __future__ import annotations

from collections import deque

from lamppost.core.endpoint.even_samples import RECORDED, is_in_sample
from lamppost.service.records.meter import Meter
from lamppost.service.records.spans import SpanExporter
from lamppost.store.call_records import CallBundle, CallRecord, bundle_calls

MAX_CALLS = 100_000
MAX_BYTES = 128 * 2**20
MAX_PAYLOAD_BYTES = 2**20
"""An input or answer above this is not kept with its record."""
BUNDLE_CALLS = 64
_LARGE_BYTES = 64 * 2**10
"""A call with more makes a bundle at once: only bundles count against the bound on memory."""


class RecordBuffer:
    """Records of one process.

    enabled : whether anything is recorded. only_counted : whether records are counted, and then kept nowhere.
    sampling_percent : of answered calls to an endpoint, whose input and answer are kept, where not all are.
    dropped : records lost from memory.
    """

    def __init__(self, otlp: str | None = None) -> None:
        self.dropped = 0
        self.enabled = True
        self.only_counted = False
        self.sampling_percent: dict[str, float] = {}
        self.sampled_calls = 0
        self.meter = Meter()
        self.spans = SpanExporter(otlp)
        self._calls: list[CallRecord] = []
        self._bundles: deque[CallBundle] = deque()
        self._bundled_calls = 0
        self._bytes = 0

    def add_record(self, call: CallRecord) -> None:
        """Add a record. At the bound on memory the oldest records are dropped and counted."""
        if not self.enabled:
            return
        if self.sampling_percent and call.status == 200 and (share := self.sampling_percent.get(call.endpoint)) is not None:
            self.sampled_calls += 1
            if not is_in_sample(self.sampled_calls, RECORDED, share / 100):
                call = call._replace(input=None, answer=None)
        self._calls.append(call)
        if len(self._calls) >= BUNDLE_CALLS or len(call.input or b"") + len(call.answer or b"") > _LARGE_BYTES:
            self._bundle()

    def _bundle(self) -> None:
        calls, self._calls = self._calls, []
        if not calls:
            return
        self.meter.count_calls(calls)
        self.spans.add_calls(calls)
        if self.only_counted:
            return
        self.add_bundle(bundle_calls(calls))

    def add_bundle(self, bundle: CallBundle) -> None:
        """Add records that are bytes already. At the bound on memory the oldest ones are dropped and counted."""
        self._bundles.append(bundle)
        self._count(bundle, 1)
        while self._bundled_calls > MAX_CALLS or self._bytes > MAX_BYTES:
            self._count(gone := self._bundles.popleft(), -1)
            self.dropped += gone.calls

    def _count(self, bundle: CallBundle, sign: int) -> None:
        self._bundled_calls += sign * bundle.calls
        self._bytes += sign * (len(bundle.heads) + len(bundle.payloads))
