"""The lookout: what one node does in the background, for all of them, about windows, alerts, notices, reports and old records.

Whichever node holds an advisory lock at the moment does it; when that node ends another takes over with the next look.
"""

from __future__ import annotations

import asyncio
import logging
import time
from collections import defaultdict
from collections.abc import Awaitable, Callable
from datetime import UTC, datetime, timedelta

import psycopg
from psycopg_pool import PoolTimeout

from lamppost.core import alerting
from lamppost.core.alerting import Alert, Budget, Reading, advance
from lamppost.core.histogram import quantiles
from lamppost.core.watch import Objectives, Rule
from lamppost.service.counting import Counting
from lamppost.service.judging import Judging
from lamppost.service.notices import Notices, event
from lamppost.service.reports import send_due
from lamppost.service.routes import Route, Routes
from lamppost.service.settings import Settings
from lamppost.store import alerts, outcomes, timeline, windows
from lamppost.store.alerts import Stored
from lamppost.store.database import Pool

log = logging.getLogger("lamppost.lookout")

LOOK_S = 2.0
_LOCK = 8_423
_EVERY = {"alerts": 5.0, "merge": 60.0, "reports": 20.0, "roll up": 3_600.0}
_LANES_S = 30.0
_QUIET = timedelta(minutes=30)
"""An alert with a cause that was told so short a time ago is told no more."""


class Lookout:
    """The background of one node; `start` once, `close` ends it."""

    def __init__(self, pool: Pool, routes: Routes, counting: Counting, settings: Settings, node: str) -> None:
        self.judging = Judging(pool, routes, counting)
        self.notices = Notices(pool, settings)
        self._pool = pool
        self._routes = routes
        self._settings = settings
        self._node = node
        self._done: dict[str, float] = {}
        self._begun = datetime.now(UTC)
        self._tasks: list[asyncio.Task[None]] = []

    def start(self) -> None:
        """Begin to look."""
        self._tasks = [asyncio.create_task(self._run(), name="lookout"), asyncio.create_task(self._note_lanes(), name="lanes")]

    async def close(self) -> None:
        """Stop looking; whatever was half done is done again by the next."""
        for task in self._tasks:
            task.cancel()
        await asyncio.gather(*self._tasks, return_exceptions=True)

    async def _run(self) -> None:
        while True:
            await asyncio.sleep(LOOK_S)
            try:
                async with self._pool.connection() as connection:
                    held = await connection.execute("SELECT pg_try_advisory_lock(%s)", (_LOCK,))
                    if not (await held.fetchone() or (False,))[0]:
                        continue
                    try:
                        await self._look()
                    finally:
                        await connection.execute("SELECT pg_advisory_unlock(%s)", (_LOCK,))
            except (psycopg.OperationalError, PoolTimeout) as error:
                log.debug("the lookout waits for the database: %s", error)
            except Exception:
                log.exception("looking out failed on a fault of our own, trying again")

    async def _look(self) -> None:
        await self.judging.look()
        await self._now_and_then("alerts", self.watch)
        await self.notices.send()
        await self._now_and_then("merge", self.judging.merge)
        await self._now_and_then("reports", self._report)
        await self._now_and_then("roll up", self._tidy)

    async def _now_and_then(self, what: str, do: Callable[[], Awaitable[None]]) -> None:
        now = time.monotonic()
        if now - self._done.get(what, -1e9) >= _EVERY[what]:
            self._done[what] = now
            await do()

    async def _report(self) -> None:
        await send_due(self._pool, self._routes, self.notices, datetime.now(UTC))

    async def _tidy(self) -> None:
        now = datetime.now(UTC)
        await timeline.roll_up(self._pool, now)
        keep = {name: route.split.setup.watch for name, route in self._routes.by_endpoint.items()}
        await timeline.forget(self._pool, {name: (one.keep_days, one.statistics_days) for name, one in keep.items()}, now)

    async def _note_lanes(self) -> None:
        """Each node notes its own lanes."""
        while True:
            await asyncio.sleep(_LANES_S)
            try:
                lanes = [(lane.name, len(lane.seats), lane.waiting_rows, lane.memory_bytes / 1e6) for lane in self._routes.pool.lanes]
                await timeline.note_lanes(self._pool, self._node, lanes)
            except (psycopg.OperationalError, PoolTimeout):
                continue
            except Exception:
                log.exception("noting lanes failed on a fault of our own")

    # -- alerts -------------------------------------------------------------------------------------------------------

    async def watch(self) -> None:
        """Read every rule of every endpoint, and tell what changed."""
        now = datetime.now(UTC)
        known = await alerts.latest(self._pool)
        lasts = await timeline.last_calls(self._pool)
        changed: list[Alert] = []
        for endpoint, route in list(self._routes.by_endpoint.items()):
            rules = route.split.setup.watch.alerts
            for rule in rules:
                stored = known.get((endpoint, rule.on))
                before = stored.alert if stored is not None else None
                since = before.seen_at if before is not None else None
                for reading in await self._readings(endpoint, route, rule, now, since, lasts.get(endpoint)):
                    after = advance(endpoint, rule, before, reading)
                    if after is not before and after is not None:
                        changed += await self._keep(before, after, stored)
                        stored = None if after.state == "resolved" else (await alerts.latest(self._pool)).get((endpoint, rule.on))
                        before = after
            for (name, on), stored in known.items():
                if name == endpoint and stored.alert.state != "resolved" and on not in {rule.on for rule in rules}:
                    over = Reading(now, "back", "the rule was taken away", "certain", stored.alert.reading.cause)
                    await self._keep(stored.alert, advance(endpoint, Rule("out"), stored.alert, over) or stored.alert, stored)
        await self._tell(changed, known, now)

    async def _keep(self, before: Alert | None, after: Alert, stored: Stored | None) -> list[Alert]:
        """Store an alert; what is to be told of it: that it began, or that it is over."""
        is_new = before is None or before.state == "resolved"
        async with self._pool.connection() as connection:
            await alerts.put(connection, after, None if is_new or stored is None else stored.number)
        return [after] if is_new or after.state == "resolved" else []

    async def _readings(
        self, endpoint: str, route: Route, rule: Rule, now: datetime, since: datetime | None, last: datetime | None
    ) -> list[Reading]:
        """What a rule says: of windows one for each since the last look, of all else one about now."""
        span = timedelta(minutes=rule.minutes)
        if rule.on in ("drift", "odd"):
            return await self._of_windows(endpoint, route, rule, now, since)
        if rule.on == "out":
            wrong = route.state == "out"
            return [Reading(now, "wrong" if wrong else "back", route.reason or "it answers", "certain", f"out: {route.reason or ''}"[:200])]
        if rule.on == "silence":
            return [alerting.of_silence(now, endpoint, rule, last)]
        if last is None or last < now - max(span, timedelta(hours=1)) - timedelta(minutes=1):
            quiet = Reading(now, "back", "no calls", "certain", endpoint)
            return [quiet] if rule.on != "quality" else [await self._of_quality(endpoint, rule, now)]
        if rule.on == "errors":
            calls, failed, _ = await timeline.totals(self._pool, endpoint, now - span, None)
            return [alerting.of_errors(now, endpoint, rule, calls, failed)]
        if rule.on == "p99":
            total = (await timeline.phases(self._pool, endpoint, now - span, now)).get("total", {})
            us = quantiles(total, (0.99,))[0]
            return [alerting.of_p99(now, endpoint, rule, sum(total.values()), None if us is None else us / 1e3)]
        if rule.on == "budget":
            objectives = route.split.setup.watch.objectives or Objectives()
            found, calls = await budgets(self._pool, endpoint, objectives, now)
            return [alerting.of_budget(now, endpoint, rule, found, calls)]
        return [await self._of_quality(endpoint, rule, now)]

    async def _of_quality(self, endpoint: str, rule: Rule, now: datetime) -> Reading:
        found = await outcomes.right(self._pool, now - timedelta(minutes=rule.minutes), now, endpoint)
        right, known = found.get(endpoint, (0, 0))
        return alerting.of_quality(now, endpoint, rule, right, known)

    async def _of_windows(self, endpoint: str, route: Route, rule: Rule, now: datetime, since: datetime | None) -> list[Reading]:
        """Closed windows of what is served since an alert was last looked at, each at its end; without one all that there are."""
        span = timedelta(minutes=route.split.setup.watch.window_minutes)
        start = (since or datetime(1970, 1, 1, tzinfo=UTC)) - span
        found = await windows.history(self._pool, endpoint, None, start, now)
        names = {str(version) for version in route.split.setup.versions}
        out = []
        for one in found:
            if one.version in names and one.until <= now and one.state != "too few" and (since is None or one.until > since):
                why = (one.why or {}).get("says")
                out.append(alerting.of_window(one.until, rule, one.state, one.verdict, why, one.odd, one.rows))
        return out

    async def _tell(self, changed: list[Alert], known: dict[tuple[str, str], Stored], now: datetime) -> None:
        """One notice for each cause and channel. What began and ended in one look, long ago, is not told: it came with old calls."""
        muted = await alerts.mutes(self._pool)
        told_lately = {
            stored.alert.reading.cause
            for stored in known.values()
            if stored.alert.state != "resolved" and stored.alert.since > now - _QUIET and stored.alert.since < now - timedelta(seconds=30)
        }
        by_cause: dict[tuple[str, str], list[Alert]] = defaultdict(list)
        for alert in changed:
            over = alert.state == "resolved"
            old = max(alert.since, alert.resolved_at or alert.since) < now - timedelta(days=1)
            if alert.endpoint not in muted and not old and (over or alert.reading.cause not in told_lately):
                by_cause["resolved" if over else "firing", alert.reading.cause].append(alert)
        if not by_cause:
            return
        channels = await alerts.channels(self._pool)
        for (state, cause), group in by_cause.items():
            log.warning("%s: %s", state, "; ".join(f"{one.endpoint}: {one.reading.says}" for one in group))
            for channel in channels:
                heard = [one for one in group if channel.hears(one.endpoint)]
                if heard:
                    async with self._pool.connection() as connection:
                        await alerts.add_notices(connection, [channel.name], event(self._settings.address, state, cause, heard, now))


async def budgets(pool: Pool, endpoint: str, objectives: Objectives, now: datetime) -> tuple[list[Budget], int]:
    """The error budgets of an endpoint, and the calls of the last hour."""
    whole = await timeline.totals(pool, endpoint, now - timedelta(days=objectives.days), objectives.fast_ms)
    recent = await timeline.totals(pool, endpoint, now - timedelta(hours=1), objectives.fast_ms)
    return alerting.budgets(objectives, whole, recent), recent[0]
