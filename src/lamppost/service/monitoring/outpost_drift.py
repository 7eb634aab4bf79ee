"""Alerts about single outposts whose rows look unlike training, beside those about all rows of an endpoint."""

from __future__ import annotations

from dataclasses import replace
from datetime import UTC, datetime, timedelta

from lamppost.core.endpoint.outposts import brought_by_outpost
from lamppost.core.monitoring.alert_rules import RuleReading, read_window_verdict
from lamppost.service.deployment.route_table import RouteTable
from lamppost.service.monitoring.drift_evaluation import DriftEvaluation
from lamppost.store.database import Pool
from lamppost.store.hub import outposts

RULE = "drift at "
"""What the rule of such an alert begins with."""
_READ_EVERY = timedelta(minutes=10)
_SPAN = timedelta(days=1)


class OutpostDriftAlerts:
    """Holds the rows that each outpost answered within a day against training, every ten minutes."""

    def __init__(self, pool: Pool, table: RouteTable, drift_evaluation: DriftEvaluation) -> None:
        self._pool = pool
        self._table = table
        self._drift_evaluation = drift_evaluation
        self._readings: dict[tuple[str, str], RuleReading] = {}
        self._read_at = datetime.min.replace(tzinfo=UTC)

    async def alert_readings(self, now: datetime) -> dict[tuple[str, str], RuleReading]:
        """By endpoint and rule, whether the rows of an outpost have drifted, for endpoints with a rule on drift."""
        if now - self._read_at >= _READ_EVERY:
            self._readings, self._read_at = await self._read(now), now
        return {key: replace(reading, at=now) for key, reading in self._readings.items()}

    async def _read(self, now: datetime) -> dict[tuple[str, str], RuleReading]:
        wanted = await outposts.load_wanted_versions(self._pool)
        readings: dict[tuple[str, str], RuleReading] = {}
        for outpost in await outposts.list_outposts(self._pool) if wanted.versions else []:
            if outpost.barred_at is not None or outpost.records_at is None or outpost.records_at < now - _SPAN:
                continue
            for endpoint, one in wanted.at_outpost(outpost.name, outpost.labels).items():
                setup = self._table.find_setup(endpoint)
                rule = None if setup is None else next((rule for rule in setup.monitoring.alerts if rule.on == "drift"), None)
                if rule is None:
                    continue
                brought_by = brought_by_outpost(outpost.name)
                found = await self._drift_evaluation.judge_brought(endpoint, one.version, brought_by, now - _SPAN, now)
                if found is not None:
                    reading = read_window_verdict(now, rule, found.verdict, None, found.odd, found.rows)
                    readings[endpoint, RULE + outpost.name] = replace(reading, summary=f"at the outpost {outpost.name}: {reading.summary}")
        return readings
