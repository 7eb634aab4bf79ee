"""Writes ``/metrics``: counts and histograms of this node since its start, in OpenMetrics 1.0, with recent request ids as exemplars."""

from __future__ import annotations

import platform
from collections.abc import Iterator
from typing import Any

from prometheus_client import CollectorRegistry, ProcessCollector
from prometheus_client import generate_latest as generate_plain
from prometheus_client.core import CounterMetricFamily, Exemplar, GaugeMetricFamily, HistogramMetricFamily, InfoMetricFamily
from prometheus_client.exposition import CONTENT_TYPE_PLAIN_0_0_4
from prometheus_client.openmetrics.exposition import CONTENT_TYPE_LATEST, generate_latest
from prometheus_client.registry import Collector

import lamppost
from lamppost.service.node import Node
from lamppost.service.records.meter import EDGES_S, LatencyCounts

OPENMETRICS = CONTENT_TYPE_LATEST
PLAIN = CONTENT_TYPE_PLAIN_0_0_4
"""The text format of before OpenMetrics, for readers that ask for ``text/plain``."""


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
        for pair, histogram in list(meter.speed.items()):
            speed.add_metric(list(pair), _buckets(histogram), histogram.total_s)
        yield speed
        build = {"version": lamppost.__version__, "python": platform.python_version()}
        yield InfoMetricFamily("lamppost_build", "What runs.", value=build)
        yield from self._node_families()

    def _node_families(self) -> Iterator[Any]:
        node, spool = self._node, self._node.recorder.spool
        away = float(node.pool.away is not None)
        yield GaugeMetricFamily("lamppost_database_away", "Whether PostgreSQL does not answer.", value=away)
        up = GaugeMetricFamily("lamppost_endpoint_up", "Whether an endpoint answers, or will with its next call.", labels=["endpoint"])
        for name, route in list(node.deployment.table.by_endpoint.items()):
            up.add_metric([name], int(route.status.answers))
        yield up
        waiting = GaugeMetricFamily("lamppost_lane_waiting_rows", "Rows that wait in a lane.", labels=["version"])
        copies = GaugeMetricFamily("lamppost_lane_copies", "Workers that a version is open in.", labels=["version"])
        memory = GaugeMetricFamily("lamppost_lane_memory_bytes", "Memory of an open version.", labels=["version"], unit="bytes")
        for lane in list(node.deployment.workers.lanes):
            waiting.add_metric([lane.name], lane.waiting_rows)
            copies.add_metric([lane.name], len(lane.seats))
            memory.add_metric([lane.name], lane.memory_bytes)
        yield from (waiting, copies, memory)
        for name, documentation, value in (
            ("lamppost_records_waiting", "Records that are not in the database yet.", node.recorder.waiting),
            (
                "lamppost_records_set_aside",
                "Calls whose records were set aside because they cannot be stored.",
                node.recorder.set_aside.calls,
            ),
            ("lamppost_spool_failing", "Whether records cannot be written to the spool.", float(node.recorder.spool_failure is not None)),
            ("lamppost_connections", "Open connections of callers.", self._connections()),
            ("lamppost_spool_bytes", "What waiting records take on disk.", spool.size),
        ):
            yield GaugeMetricFamily(name, documentation, value=value)
        for name, documentation, value in (
            ("lamppost_records_dropped", "Records that were lost.", node.recorder.dropped),
            ("lamppost_payloads_given_up", "Calls whose input and answer the spool's bound has cost.", spool.payloads_given_up),
            ("lamppost_calls_given_up", "Calls of which the spool's bound left only counts.", spool.calls_given_up),
            ("lamppost_windows_unread", "Windows that other software counted and that were left out.", node.drift_evaluation.unread),
            ("lamppost_explanations", "Explanations and curves that were made.", node.explainer.made),
            ("lamppost_explanations_failed", "Explanations that failed on a fault of the service.", node.explainer.failed),
            ("lamppost_explanation_rows", "Rows that models answered for explanations.", node.explainer.rows_asked),
            ("lamppost_fronts_restarted", "Front processes that ended and were started again.", node.fronts.restarts),
            ("lamppost_notices_failed", "Tries to bring out a notice that failed.", node.maintenance.notices.failed),
        ):
            yield CounterMetricFamily(name, documentation, value=value)

    def _connections(self) -> int:
        """Open connections of this process and of the fronts; those that fronts have moved here are this process's."""
        return self._node.connection_limits.open + sum(front.connections for front in self._node.fronts.facts)


def _buckets(speed: LatencyCounts) -> list[Any]:
    buckets: list[Any] = []
    total = 0
    for at, edge in enumerate([*EDGES_S, float("inf")]):
        total += speed.counts[at]
        seen = speed.seen.get(at)
        exemplar = Exemplar({"request_id": seen[0]}, seen[1], seen[2]) if seen is not None else None
        buckets.append(("+Inf" if edge == float("inf") else str(edge), total, exemplar))
    return buckets


def write_metrics(node: Node, content_type: str = OPENMETRICS) -> bytes:
    """The exposition as text of that content type."""
    registry = CollectorRegistry(auto_describe=False)
    registry.register(_Collected(node))
    ProcessCollector(registry=registry)
    if content_type == PLAIN:
        return generate_plain(registry)
    text: bytes = generate_latest(registry)  # type: ignore[no-untyped-call]
    return text
