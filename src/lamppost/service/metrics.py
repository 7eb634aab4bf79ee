"""``/metrics``: what this node did since it started, in OpenMetrics 1.0, with the id of a recent request beside each latency bucket.

The recorder hands over what it is about to write to the spool.
"""

from __future__ import annotations

from bisect import bisect_left
from collections.abc import Iterable, Iterator
from dataclasses import dataclass, field
from typing import TYPE_CHECKING, Any

from prometheus_client import CollectorRegistry
from prometheus_client.core import CounterMetricFamily, Exemplar, GaugeMetricFamily, HistogramMetricFamily
from prometheus_client.openmetrics.exposition import CONTENT_TYPE_LATEST, generate_latest
from prometheus_client.registry import Collector

from lamppost.store.calls import Call

if TYPE_CHECKING:
    from lamppost.service.node import Node

EDGES_S = (0.001, 0.002, 0.005, 0.01, 0.02, 0.05, 0.1, 0.2, 0.5, 1.0, 2.0, 5.0, 10.0)
MAX_SERIES = 2_000
"""Endpoints and versions that are told apart; calls of any more are counted under no version."""
TYPE = CONTENT_TYPE_LATEST


@dataclass(slots=True)
class _Speed:
    counts: list[int] = field(default_factory=lambda: [0] * (len(EDGES_S) + 1))
    total_s: float = 0.0
    seen: dict[int, tuple[str, float, float]] = field(default_factory=dict)


class Meter:
    """Counts since the start."""

    def __init__(self) -> None:
        self.calls: dict[tuple[str, str, str], int] = {}
        self.rows: dict[tuple[str, str], int] = {}
        self.speed: dict[tuple[str, str], _Speed] = {}

    def take(self, calls: Iterable[Call]) -> None:
        """Count some calls; shadows are none."""
        for call in calls:
            if call.shadow:
                continue
            key = (call.endpoint, call.version or "")
            speed = self.speed.get(key)
            if speed is None:
                if len(self.speed) >= MAX_SERIES:
                    key = (call.endpoint, "")
                speed = self.speed.setdefault(key, _Speed())
            named = (*key, str(call.status))
            self.calls[named] = self.calls.get(named, 0) + 1
            if call.status < 400:
                self.rows[key] = self.rows.get(key, 0) + call.rows
                seconds = call.total_us / 1e6
                at = bisect_left(EDGES_S, seconds)
                speed.total_s += seconds
                speed.counts[at] += 1
                speed.seen[at] = (call.request_id, seconds, call.at)


class _Collected(Collector):
    def __init__(self, node: Node) -> None:
        self._node = node

    def collect(self) -> Iterator[Any]:
        """Every family, read at once."""
        meter = self._node.recorder.meter
        calls = CounterMetricFamily("lamppost_calls", "Calls to an endpoint by status.", labels=["endpoint", "version", "status"])
        for labels, count in list(meter.calls.items()):
            calls.add_metric(list(labels), count)
        yield calls
        rows = CounterMetricFamily("lamppost_rows", "Rows that were answered.", labels=["endpoint", "version"])
        for pair, count in list(meter.rows.items()):
            rows.add_metric(list(pair), count)
        yield rows
        speed = HistogramMetricFamily(
            "lamppost_call_seconds", "Seconds from the first byte to the answer.", labels=["endpoint", "version"], unit="seconds"
        )
        for pair, one in list(meter.speed.items()):
            speed.add_metric(list(pair), _buckets(one), one.total_s)
        yield speed
        yield from self._node_families()

    def _node_families(self) -> Iterator[Any]:
        node, spool = self._node, self._node.recorder.spool
        lit = GaugeMetricFamily("lamppost_endpoint_lit", "Whether an endpoint answers, or will with its next call.", labels=["endpoint"])
        for name, route in list(node.routes.by_endpoint.items()):
            lit.add_metric([name], 0 if route.state == "out" else 1)
        yield lit
        waiting = GaugeMetricFamily("lamppost_lane_waiting_rows", "Rows that wait in a lane.", labels=["version"])
        copies = GaugeMetricFamily("lamppost_lane_copies", "Workers that a version is open in.", labels=["version"])
        memory = GaugeMetricFamily("lamppost_lane_memory_bytes", "Memory of an open version.", labels=["version"], unit="bytes")
        for lane in list(node.routes.pool.lanes):
            waiting.add_metric([lane.name], lane.waiting_rows)
            copies.add_metric([lane.name], len(lane.seats))
            memory.add_metric([lane.name], lane.memory_bytes)
        yield from (waiting, copies, memory)
        for name, says, value in (
            ("lamppost_records_waiting", "Records that are not in the database yet.", node.recorder.waiting),
            ("lamppost_spool_bytes", "What waiting records take on disk.", spool.size),
        ):
            yield GaugeMetricFamily(name, says, value=value)
        for name, says, value in (
            ("lamppost_records_dropped", "Records that were lost.", node.recorder.dropped),
            ("lamppost_payloads_given_up", "Calls whose input and answer the spool's bound has cost.", spool.payloads_given_up),
            ("lamppost_calls_given_up", "Calls of which the spool's bound left only counts.", spool.calls_given_up),
            ("lamppost_windows_unread", "Windows that other software counted and that were left out.", node.judging.unread),
            ("lamppost_notices_failed", "Tries to bring out a notice that failed.", node.lookout.notices.failed),
        ):
            yield CounterMetricFamily(name, says, value=value)


def _buckets(speed: _Speed) -> list[Any]:
    out: list[Any] = []
    total = 0
    for at, edge in enumerate([*EDGES_S, float("inf")]):
        total += speed.counts[at]
        seen = speed.seen.get(at)
        told = Exemplar({"request_id": seen[0]}, seen[1], seen[2]) if seen is not None else None
        out.append(("+Inf" if edge == float("inf") else str(edge), total, told))
    return out


def exposition(node: Node) -> bytes:
    """All of it as text."""
    registry = CollectorRegistry(auto_describe=False)
    registry.register(_Collected(node))
    made: bytes = generate_latest(registry)  # type: ignore[no-untyped-call]
    return made
