"""Endpoints at a glance: the last hour, drift, quality, alerts; of one endpoint always as it is now, of all of them as of a moment ago
where there are thousands.
"""

from __future__ import annotations

import asyncio
from collections.abc import Sequence
from datetime import UTC, datetime, timedelta
from typing import NamedTuple

from lamppost.core.histogram import quantiles
from lamppost.core.quality import part
from lamppost.service.kept import Kept
from lamppost.service.routes import Routes
from lamppost.service.shapes import Hour, Known, Looks
from lamppost.store import alerts, outcomes, records, windows
from lamppost.store.database import Pool
from lamppost.store.records import Past

_ORDER = ("too few", "steady", "shifting", "drifted")


class Sights(NamedTuple):
    """What is known of endpoints, by their names; nothing stands there of one without calls."""

    hours: dict[str, Hour]
    looks: dict[str, Looks]


class Glance:
    """Of the endpoints of a node."""

    def __init__(self, pool: Pool, routes: Routes) -> None:
        self._pool = pool
        self._routes = routes
        self._all = Kept(lambda: self._look(sorted(routes.by_endpoint), None))

    async def all(self) -> Sights:
        """Of every endpoint."""
        return await self._all.get()

    async def one(self, endpoint: str) -> tuple[Hour, Looks]:
        """Of one."""
        seen = await self._look([endpoint], endpoint)
        return seen.hours.get(endpoint, Hour()), seen.looks.get(endpoint, Looks())

    async def _look(self, names: Sequence[str], endpoint: str | None) -> Sights:
        past = await records.latency(self._pool, datetime.now(UTC) - timedelta(hours=1), names)
        return Sights(await asyncio.to_thread(_hours, past), await self._looks(endpoint))

    async def _looks(self, endpoint: str | None) -> dict[str, Looks]:
        """Drift, quality and alerts of all endpoints, or of one, in four queries however many there are."""
        now, by_endpoint = datetime.now(UTC), self._routes.by_endpoint
        looks: dict[str, Looks] = {name: Looks() for name in ([endpoint] if endpoint is not None else by_endpoint)}
        for one in await windows.newest(self._pool, endpoint):
            route, look = by_endpoint.get(one.endpoint), looks.get(one.endpoint)
            if route is None or look is None or one.version not in {str(name) for name in route.split.setup.versions}:
                continue
            if look.drift is None or _ORDER.index(one.state) > _ORDER.index(look.drift):
                look.drift, look.drift_says, look.drift_until = one.verdict["state"], one.verdict["says"], one.until
        for name, (right, known) in (await outcomes.right(self._pool, now - timedelta(days=30), now, endpoint)).items():
            found = part(right, known)
            if name in looks and found is not None:
                looks[name].quality = Known(right=right, of=known, low=found.low, high=found.high)
        for stored in await alerts.listed(self._pool, endpoint, "open", 1_000):
            if (look := looks.get(stored.alert.endpoint)) is not None:
                look.alerts += 1
                look.alert_says = look.alert_says or stored.alert.reading.says
        for name, mute in (await alerts.mutes(self._pool)).items():
            if name in looks:
                looks[name].muted = mute.until
        return looks


def _hours(found: dict[str, Past]) -> dict[str, Hour]:
    hours = {}
    for endpoint, past in found.items():
        p50, p95, p99 = (None if us is None else round(us / 1e3, 3) for us in quantiles(past.histogram, (0.5, 0.95, 0.99)))
        hours[endpoint] = Hour(calls=past.calls, refused=past.refused, failed=past.failed, p50_ms=p50, p95_ms=p95, p99_ms=p99)
    return hours
