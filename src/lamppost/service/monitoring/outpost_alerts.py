"""Alerts about single outposts, whose rows look unlike training or whose answers are wrong, beside those about all calls of an endpoint."""

from __future__ import annotations

from collections.abc import Awaitable, Callable
from dataclasses import dataclass, replace
from datetime import UTC, datetime, timedelta

from lamppost.core.endpoint.outposts import brought_by_outpost
from lamppost.core.monitoring.alert_rules import RuleReading, read_quality, read_window_verdict
from lamppost.core.monitoring.settings import AlertRule
from lamppost.service.deployment.route_table import RouteTable
from lamppost.service.monitoring.drift_evaluation import DriftEvaluation
from lamppost.store import outcomes
from lamppost.store.database import Pool
from lamppost.store.hub import outposts

DRIFT = "drift at "
"""What the rule of an alert about the rows of an outpost begins with."""
QUALITY = "quality at "
"""What the rule of an alert about the answers of an outpost begins with."""
_READ_EVERY = timedelta(minutes=1)
_READ_ALL_EVERY = timedelta(minutes=10)
_SPAN = timedelta(days=1)

Readings = dict[tuple[str, str], RuleReading]


@dataclass(frozen=True, slots=True)
class BroughtCalls:
    """The calls of an endpoint that one outpost brings. version : that the outpost is to serve."""

    endpoint: str
    version: str
    brought_by: str


ReadRule = Callable[[BroughtCalls, AlertRule, datetime], Awaitable[RuleReading | None]]


class OutpostAlerts:
    """Reads, once a minute, the rules of endpoints for those outposts that have brought something since, and every ten minutes for all."""

    def __init__(self, pool: Pool, table: RouteTable, drift_evaluation: DriftEvaluation) -> None:
        self._pool = pool
        self._table = table
        self._drift_evaluation = drift_evaluation
        self._drift = _KeptReadings()
        self._quality = _KeptReadings()

    async def drift_readings(self, now: datetime) -> Readings:
        """By endpoint and rule, whether the rows of a day of an outpost have drifted, for endpoints with a rule on drift."""
        return await self._readings(self._drift, now, "drift", DRIFT, self._read_drift)

    async def quality_readings(self, now: datetime) -> Readings:
        """By endpoint and rule, whether the answers of an outpost are right, for endpoints with a rule on quality."""
        return await self._readings(self._quality, now, "quality", QUALITY, self._read_quality)

    async def _read_drift(self, calls: BroughtCalls, rule: AlertRule, now: datetime) -> RuleReading | None:
        found = await self._drift_evaluation.judge_brought(calls.endpoint, calls.version, calls.brought_by, now - _SPAN, now)
        return None if found is None else read_window_verdict(now, rule, found.verdict, None, found.odd, found.rows)

    async def _read_quality(self, calls: BroughtCalls, rule: AlertRule, now: datetime) -> RuleReading | None:
        since = now - timedelta(minutes=rule.minutes)
        right, known = await outcomes.count_right_reported(self._pool, calls.endpoint, since, now, calls.brought_by)
        return read_quality(now, calls.endpoint, rule, right, known)

    async def _readings(self, kept: _KeptReadings, now: datetime, on: str, name: str, read_rule: ReadRule) -> Readings:
        if now - kept.read_at >= _READ_EVERY:
            await self._read(kept, now, on, name, read_rule)
        return {key: replace(reading, at=now) for key, reading in kept.readings.items()}

    async def _read(self, kept: _KeptReadings, now: datetime, on: str, name: str, read_rule: ReadRule) -> None:
        wanted = await outposts.load_wanted_versions(self._pool)
        read_all = now - kept.all_read_at >= _READ_ALL_EVERY
        readings: Readings = {}
        for outpost in await outposts.list_outposts(self._pool):
            if outpost.barred_at is not None or outpost.records_at is None or (on == "drift" and outpost.records_at < now - _SPAN):
                continue
            brought = read_all or on == "quality" or kept.records_at.get(outpost.name) != outpost.records_at
            kept.records_at[outpost.name] = outpost.records_at
            for endpoint, version in outpost.recorded_versions(wanted).items():
                setup = self._table.find_setup(endpoint)
                rule = None if setup is None else next((rule for rule in setup.monitoring.alerts if rule.on == on), None)
                if rule is None:
                    continue
                key = endpoint, name + outpost.name
                if not brought and key in kept.readings:
                    readings[key] = kept.readings[key]
                    continue
                calls = BroughtCalls(endpoint, version, brought_by_outpost(outpost.name))
                if (reading := await read_rule(calls, rule, now)) is not None:
                    readings[key] = replace(reading, summary=f"at the outpost {outpost.name}: {reading.summary}")
        kept.readings, kept.read_at = readings, now
        kept.all_read_at = now if read_all else kept.all_read_at


class _KeptReadings:
    """Readings until they are read again. records_at : by outpost, up to where its records were read."""

    def __init__(self) -> None:
        self.readings: Readings = {}
        self.records_at: dict[str, datetime] = {}
        self.read_at = self.all_read_at = datetime.min.replace(tzinfo=UTC)
