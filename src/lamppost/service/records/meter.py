"""Counts calls, rows and latencies since the start of this node, with a recent request id for each latency bucket.

The recorder hands over the calls that it is about to write to the spool; `lamppost.service.api.metrics_exposition` writes the counts out.
"""

from __future__ import annotations

from bisect import bisect_left
from collections.abc import Iterable
from dataclasses import dataclass, field
from typing import Any

from lamppost.core.roles import is_load
from lamppost.store.call_records import CallRecord

EDGES_S = (0.001, 0.002, 0.005, 0.01, 0.02, 0.05, 0.1, 0.2, 0.5, 1.0, 2.0, 5.0, 10.0)
MAX_SERIES = 2_000
"""Endpoints and versions that are told apart; calls of any more are counted under no version."""


@dataclass(slots=True)
class LatencyCounts:
    """Answered calls of one version by latency bucket.

    counts : per edge, and of those beyond the last. seen : of a bucket the latest request id, its seconds, and when.
    """

    counts: list[int] = field(default_factory=lambda: [0] * (len(EDGES_S) + 1))
    total_s: float = 0.0
    seen: dict[int, tuple[str, float, float]] = field(default_factory=dict)


class Meter:
    """Counts since the start."""

    def __init__(self) -> None:
        self.calls: dict[tuple[str, str, str], int] = {}
        self.rows: dict[tuple[str, str], int] = {}
        self.speed: dict[tuple[str, str], LatencyCounts] = {}

    def count_calls(self, calls: Iterable[CallRecord]) -> None:
        """Count some calls; shadows and loads are none."""
        for call in calls:
            if call.shadow or is_load(call.token):
                continue
            key = (call.endpoint, call.version or "")
            speed = self.speed.get(key)
            if speed is None:
                key = (call.endpoint, self._counted_version(*key))
                speed = self.speed.setdefault(key, LatencyCounts())
            named = (*key, str(call.status))
            self.calls[named] = self.calls.get(named, 0) + 1
            if call.status < 400:
                self.rows[key] = self.rows.get(key, 0) + call.rows
                seconds = call.total_us / 1e6
                at = bisect_left(EDGES_S, seconds)
                speed.total_s += seconds
                speed.counts[at] += 1
                speed.seen[at] = (call.request_id, seconds, call.at)

    def take(self) -> dict[str, Any]:
        """The counts as JSON has them; from then on this meter counts from zero."""
        taken = {
            "calls": [[*key, count] for key, count in self.calls.items()],
            "rows": [[*key, count] for key, count in self.rows.items()],
            "speed": [
                [*key, speed.counts, speed.total_s, [[at, *seen] for at, seen in speed.seen.items()]] for key, speed in self.speed.items()
            ],
        }
        self.calls, self.rows, self.speed = {}, {}, {}
        return taken

    def add(self, taken: dict[str, Any]) -> None:
        """Add what another meter has taken."""
        for endpoint, version, status, count in taken["calls"]:
            key = (endpoint, self._counted_version(endpoint, version), status)
            self.calls[key] = self.calls.get(key, 0) + count
        for endpoint, version, count in taken["rows"]:
            pair = (endpoint, self._counted_version(endpoint, version))
            self.rows[pair] = self.rows.get(pair, 0) + count
        for endpoint, version, counts, total_s, seen in taken["speed"]:
            speed = self.speed.setdefault((endpoint, self._counted_version(endpoint, version)), LatencyCounts())
            speed.counts = [own + other for own, other in zip(speed.counts, counts, strict=True)]
            speed.total_s += total_s
            speed.seen.update({at: (request_id, seconds, when) for at, request_id, seconds, when in seen})

    def _counted_version(self, endpoint: str, version: str) -> str:
        """The version that a call is counted under: none, past the bound on series."""
        return "" if (endpoint, version) not in self.speed and len(self.speed) >= MAX_SERIES else version
