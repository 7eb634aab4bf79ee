"""Reads the alert rules of every endpoint, stores the alerts that follow, and queues notices of those that began or ended.

Only the leading node does it. Rules on windows are read again only where a window was judged or closed since the last time; rules on
errors are read for all endpoints in one query.
"""

from __future__ import annotations

import logging
from collections import defaultdict
from collections.abc import Awaitable, Callable, Mapping
from dataclasses import replace
from datetime import UTC, datetime, timedelta

from lamppost.core.monitoring import alert_rules
from lamppost.core.monitoring.alert_rules import Alert, ErrorBudget, Level, RuleReading, next_alert
from lamppost.core.monitoring.latency_histogram import quantiles
from lamppost.core.monitoring.settings import AlertRule, Objectives
from lamppost.service.deployment.deployment import Deployment
from lamppost.service.deployment.route_table import Route
from lamppost.service.monitoring.drift_evaluation import DriftEvaluation
from lamppost.service.monitoring.notices import alert_event
from lamppost.store import alerts, outcomes, timeline, windows
from lamppost.store.alerts import StoredAlert
from lamppost.store.database import Pool
from lamppost.store.timeline import Totals
from lamppost.store.windows import JudgedWindow

log = logging.getLogger("lamppost.alerts")

_EVER = datetime(1971, 1, 1, tzinfo=UTC)
_NEVER = datetime.max.replace(tzinfo=UTC)
_QUIET = timedelta(minutes=30)
"""An alert whose cause was told so short a time ago is not told again."""

_BESIDE_RULE = AlertRule("down", minutes=1)
"""How an alert about a schedule or an outpost ends: with the first reading that is back."""
ReadBeside = Callable[[datetime], Awaitable[dict[tuple[str, str], RuleReading]]]
"""Reads alerts that are not of rules of endpoints, by endpoint and name of the rule."""
NamedRoutes = list[tuple[str, Route]]


class AlertEvaluation:
    """Evaluates the alert rules of all endpoints, and how schedules and outposts fare.

    beside : by what the names of their rules begin with, what reads these. address : of the service, for links in notices.
    """

    def __init__(
        self, pool: Pool, deployment: Deployment, drift_evaluation: DriftEvaluation, beside: Mapping[str, ReadBeside], address: str
    ) -> None:
        self._pool = pool
        self._deployment = deployment
        self._drift_evaluation = drift_evaluation
        self._beside = beside
        self._address = address
        self._closes: dict[str, tuple[int, datetime]] = {}

    def forget_windows(self) -> None:
        """Make the next run read the windows of every endpoint anew, because another node may have judged some."""
        self._closes.clear()

    async def evaluate_alerts(self, now: datetime) -> None:
        """Read every rule of every endpoint, and queue notices of alerts that began or ended."""
        known = await alerts.latest_alerts(self._pool)
        lasts = await timeline.last_call_times(self._pool)
        judged = set(self._drift_evaluation.judged_endpoints)
        changed: list[Alert] = []
        routes = list(self._deployment.table.by_endpoint.items())
        pasts, closes = await self._pasts(routes, known, judged, now)
        failed = await self._failed(routes, lasts, now)
        for endpoint, route in routes:
            for rule in route.setup.monitoring.alerts:
                stored = known.get((endpoint, rule.on))
                since = stored.alert.seen_at if stored is not None else None
                if rule.on in ("drift", "odd"):
                    readings = _of_windows(route, rule, now, since or _EVER, pasts.get(endpoint, []))
                elif rule.on in ("errors", "p99", "budget") and not _called(rule, now, lasts.get(endpoint)):
                    readings = [RuleReading(now, "back", "no calls", "certain", endpoint)]
                elif rule.on == "errors":
                    calls, many, _ = failed.get((endpoint, rule.minutes), (0, 0, 0))
                    readings = [alert_rules.read_errors(now, endpoint, rule, calls, many)]
                else:
                    readings = [await self._reading(endpoint, route, rule, now, lasts.get(endpoint))]
                changed += await self._advance_alert(endpoint, rule, stored, readings)
        beside: dict[tuple[str, str], RuleReading] = {}
        for read in self._beside.values():
            beside |= await read(now)
        for (endpoint, rule_name), reading in beside.items():
            changed += await self._advance_alert(endpoint, _BESIDE_RULE, known.get((endpoint, rule_name)), [reading], rule_name)
        for (endpoint, on), stored in known.items():
            if on.startswith(tuple(self._beside)) and (stored.alert.state == "resolved" or (endpoint, on) in beside):
                continue
            route_of = self._deployment.table.by_endpoint.get(endpoint)
            rule_there = route_of is None or on in {rule.on for rule in route_of.in_force.setup.monitoring.alerts}
            if stored.alert.state != "resolved" and not rule_there:
                over = RuleReading(now, "back", "the rule was taken away", "certain", stored.alert.reading.cause)
                await self._advance_alert(endpoint, AlertRule("down"), stored, [over])
        self._closes |= closes
        self._drift_evaluation.judged_endpoints -= judged
        await self._queue_notices(changed, known, now)

    def _window_may_fire(self, endpoint: str, route: Route, now: datetime) -> bool:
        """Whether windows must be read although none was judged: one has closed, or the endpoint was changed."""
        revision, closes = self._closes.get(endpoint, (0, now))
        return revision != route.in_force.revision or closes <= now

    async def _pasts(
        self, routes: NamedRoutes, known: dict[tuple[str, str], StoredAlert], judged: set[str], now: datetime
    ) -> tuple[dict[str, list[JudgedWindow]], dict[str, tuple[int, datetime]]]:
        """Judged windows of the endpoints that may have new ones, and when the next window of each closes. They start where the endpoint's
        alerts were last evaluated; without an alert, all windows are read.
        """
        since: dict[str, datetime] = {}
        for endpoint, route in routes:
            monitoring = route.setup.monitoring
            on_windows = [rule.on for rule in monitoring.alerts if rule.on in ("drift", "odd")]
            if on_windows and (endpoint in judged or self._window_may_fire(endpoint, route, now)):
                stored = [known.get((endpoint, on)) for on in on_windows]
                seen = min(stored_alert.alert.seen_at if stored_alert is not None else _EVER for stored_alert in stored)
                since[endpoint] = seen - timedelta(minutes=monitoring.window_minutes)
        pasts = await windows.judged_windows_by_endpoint(self._pool, since, now) if since else {}
        open_ones = {
            endpoint: [stored_alert.until for stored_alert in pasts.get(endpoint, []) if stored_alert.until > now] for endpoint in since
        }
        revisions = {endpoint: route.in_force.revision for endpoint, route in routes}
        return pasts, {endpoint: (revisions[endpoint], min(ends, default=_NEVER)) for endpoint, ends in open_ones.items()}

    async def _failed(self, routes: NamedRoutes, lasts: dict[str, datetime], now: datetime) -> dict[tuple[str, float], Totals]:
        """Calls and failed calls by endpoint and minutes, for the rules on errors. Endpoints without recent calls are left out."""
        asked: dict[float, list[str]] = defaultdict(list)
        for endpoint, route in routes:
            for rule in route.setup.monitoring.alerts:
                if rule.on == "errors" and _called(rule, now, lasts.get(endpoint)):
                    asked[rule.minutes].append(endpoint)
        counted: dict[tuple[str, float], Totals] = {}
        for minutes, endpoints in asked.items():
            for endpoint, totals in (
                await timeline.service_level_totals_by_endpoint(self._pool, endpoints, now - timedelta(minutes=minutes))
            ).items():
                counted[endpoint, minutes] = totals
        return counted

    async def _advance_alert(
        self, endpoint: str, rule: AlertRule, stored: StoredAlert | None, readings: list[RuleReading], rule_name: str | None = None
    ) -> list[Alert]:
        """Advance an alert by its readings and store it. Returns the alerts that began or ended. rule_name : where it is not the rule's."""
        before, number = (stored.alert, stored.number) if stored is not None else (None, None)
        changed = []
        for reading in readings:
            after = next_alert(endpoint, rule, before, reading)
            if after is None or after is before:
                continue
            if rule_name is not None:
                after = replace(after, rule=rule_name)
            begins = before is None or before.state == "resolved"
            async with self._pool.connection() as connection:
                number = await alerts.save_alert(connection, after, None if begins else number)
            if begins or after.state == "resolved":
                changed.append(after)
            before = after
        return changed

    async def _reading(self, endpoint: str, route: Route, rule: AlertRule, now: datetime, last: datetime | None) -> RuleReading:
        """The present reading of a rule."""
        if rule.on == "down":
            status = route.status
            reason = "; ".join(status.reasons)
            level: Level = "back" if status.answers else "wrong"
            return RuleReading(now, level, reason or "it answers", "certain", f"down: {reason}"[:200])
        if rule.on == "silence":
            return alert_rules.read_silence(now, endpoint, rule, last)
        if rule.on == "quality":
            return await self._of_quality(endpoint, rule, now)
        if rule.on == "p99":
            total = (await timeline.phase_histograms(self._pool, endpoint, now - timedelta(minutes=rule.minutes), now)).get("total", {})
            us = quantiles(total, (0.99,))[0]
            return alert_rules.read_p99(now, endpoint, rule, sum(total.values()), None if us is None else us / 1e3)
        budgets, calls = await endpoint_budgets(self._pool, endpoint, route.setup.monitoring.objectives or Objectives(), now)
        return alert_rules.read_budget(now, endpoint, rule, budgets, calls)

    async def _of_quality(self, endpoint: str, rule: AlertRule, now: datetime) -> RuleReading:
        # by when the truth came: it often comes later than the minutes that are looked at
        right, known = await outcomes.count_right_reported(self._pool, endpoint, now - timedelta(minutes=rule.minutes), now)
        return alert_rules.read_quality(now, endpoint, rule, right, known)

    async def _queue_notices(self, changed: list[Alert], known: dict[tuple[str, str], StoredAlert], now: datetime) -> None:
        """Queue one notice for each cause and channel. An alert that began and ended in this run, long ago, is left out: it came with
        imported calls.
        """
        muted = await alerts.list_mutes(self._pool)
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
        channels = await alerts.list_channels(self._pool)
        for (state, cause), group in by_cause.items():
            log.warning("%s: %s", state, "; ".join(f"{alert.endpoint}: {alert.reading.summary}" for alert in group))
            for channel in channels:
                heard = [alert for alert in group if channel.hears(alert.endpoint)]
                if heard:
                    async with self._pool.connection() as connection:
                        await alerts.add_notices(connection, [channel.name], alert_event(self._address, state, cause, heard, now))


def _called(rule: AlertRule, now: datetime, last: datetime | None) -> bool:
    """Whether there were calls in the span of a rule."""
    return last is not None and last >= now - max(timedelta(minutes=rule.minutes), timedelta(hours=1)) - timedelta(minutes=1)


def _of_windows(route: Route, rule: AlertRule, now: datetime, since: datetime, past: list[JudgedWindow]) -> list[RuleReading]:
    """Readings of the closed windows of served versions that ended after a time."""
    names = {str(version) for version in route.setup.versions}
    return [
        alert_rules.read_window_verdict(
            earlier.until, rule, earlier.verdict, earlier.explanation.summary if earlier.explanation else None, earlier.odd, earlier.rows
        )
        for earlier in past
        if earlier.version in names and since < earlier.until <= now and earlier.state != "too few"
    ]


async def endpoint_budgets(pool: Pool, endpoint: str, objectives: Objectives, now: datetime) -> tuple[list[ErrorBudget], int]:
    """The error budgets of an endpoint, and the calls of the last hour."""
    whole = await timeline.service_level_totals(pool, endpoint, now - timedelta(days=objectives.days), objectives.fast_ms)
    recent = await timeline.service_level_totals(pool, endpoint, now - timedelta(hours=1), objectives.fast_ms)
    return alert_rules.error_budgets(objectives, whole, recent), recent[0]
