"""Summaries of endpoints: last hour, drift, quality, alerts. One endpoint is always current; all of them come from a cache."""

from __future__ import annotations

import asyncio
from collections.abc import Sequence
from dataclasses import dataclass
from datetime import UTC, datetime, timedelta
from typing import Literal, NamedTuple

from lamppost.core.monitoring.latency_histogram import quantiles
from lamppost.core.monitoring.quality import estimate_share
from lamppost.service.cost_aware_cache import CostAwareCache
from lamppost.service.deployment.deployment import Deployment
from lamppost.store import alerts, outcomes, records, windows
from lamppost.store.database import Pool
from lamppost.store.records import EndpointLoad

_ORDER = ("too few", "steady", "shifting", "drifted")


@dataclass(slots=True)
class LastHour:
    """The last hour of an endpoint; milliseconds are of answered calls, null when there were none.

    refused : calls answered with a status from 400 to 499. failed : calls answered with a status of 500 or more.
    """

    calls: int = 0
    refused: int = 0
    failed: int = 0
    p50_ms: float | None = None
    p95_ms: float | None = None
    p99_ms: float | None = None


@dataclass(frozen=True, slots=True)
class KnownQuality:
    """Right answers among those of the last 30 days whose truth is known, with a 95 % interval."""

    right: int
    of: int
    low: float
    high: float


@dataclass(slots=True)
class MonitoringSummary:
    """The newest judged window of an endpoint, the quality of its answers, and its open alerts.

    drift : null where nothing was judged yet. alerts : open ones. muted : until when nothing goes out.
    """

    drift: Literal["steady", "shifting", "drifted", "too few"] | None = None
    drift_summary: str | None = None
    drift_until: datetime | None = None
    quality: KnownQuality | None = None
    alerts: int = 0
    alert_summary: str | None = None
    muted: datetime | None = None


class SummariesByEndpoint(NamedTuple):
    """Summaries by endpoint; endpoints without calls have none."""

    hours: dict[str, LastHour]
    monitoring: dict[str, MonitoringSummary]


class EndpointSummaries:
    """Reads summaries of a node's endpoints."""

    def __init__(self, pool: Pool, deployment: Deployment) -> None:
        self._pool = pool
        self._deployment = deployment
        self._all = CostAwareCache(lambda: self._read_summaries(sorted(deployment.table.by_endpoint), None))

    async def all_summaries(self) -> SummariesByEndpoint:
        """Of every endpoint."""
        return await self._all.get()

    async def summary_of(self, endpoint: str) -> tuple[LastHour, MonitoringSummary]:
        """Of one."""
        seen = await self._read_summaries([endpoint], endpoint)
        return seen.hours.get(endpoint, LastHour()), seen.monitoring.get(endpoint, MonitoringSummary())

    async def _read_summaries(self, names: Sequence[str], endpoint: str | None) -> SummariesByEndpoint:
        past = await records.endpoint_load(self._pool, datetime.now(UTC) - timedelta(hours=1), names)
        return SummariesByEndpoint(await asyncio.to_thread(_hours, past), await self._monitoring_summaries(endpoint))

    async def _monitoring_summaries(self, endpoint: str | None) -> dict[str, MonitoringSummary]:
        """Drift, quality and alerts of all endpoints, or of one, in four queries however many there are."""
        now, by_endpoint = datetime.now(UTC), self._deployment.table.by_endpoint
        summary: dict[str, MonitoringSummary] = {
            name: MonitoringSummary() for name in ([endpoint] if endpoint is not None else by_endpoint)
        }
        for window in await windows.newest_judged_windows(self._pool, endpoint):
            route, look = by_endpoint.get(window.endpoint), summary.get(window.endpoint)
            if route is None or look is None or window.version not in {str(name) for name in route.setup.versions}:
                continue
            if look.drift is None or _ORDER.index(window.state) > _ORDER.index(look.drift):
                look.drift, look.drift_summary, look.drift_until = window.state, window.verdict.summary, window.until
        for name, (right, known) in (await outcomes.count_right_answers(self._pool, now - timedelta(days=30), now, endpoint)).items():
            estimate = estimate_share(right, known)
            if name in summary and estimate is not None:
                summary[name].quality = KnownQuality(right=right, of=known, low=estimate.low, high=estimate.high)
        for stored in await alerts.list_alerts(self._pool, endpoint, "open", 1_000):
            if (look := summary.get(stored.alert.endpoint)) is not None:
                look.alerts += 1
                look.alert_summary = look.alert_summary or stored.alert.reading.summary
        for name, mute in (await alerts.list_mutes(self._pool)).items():
            if name in summary:
                summary[name].muted = mute.until
        return summary


def _hours(loads: dict[str, EndpointLoad]) -> dict[str, LastHour]:
    hours = {}
    for endpoint, past in loads.items():
        p50, p95, p99 = (None if us is None else round(us / 1e3, 3) for us in quantiles(past.histogram, (0.5, 0.95, 0.99)))
        hours[endpoint] = LastHour(calls=past.calls, refused=past.refused, failed=past.failed, p50_ms=p50, p95_ms=p95, p99_ms=p99)
    return hours
