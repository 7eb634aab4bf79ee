"""Alerts about outposts whose rows have drifted: which outposts are looked at, how often, and what an alert says."""

import unittest
from datetime import UTC, datetime, timedelta
from types import SimpleNamespace
from typing import Any
from unittest import mock

from lamppost.core.drift.window_verdict import WindowVerdict
from lamppost.core.endpoint.outposts import OutpostVersion, WantedVersions
from lamppost.core.endpoint.setup import EndpointSetup
from lamppost.core.monitoring.alert_rules import AlertRule
from lamppost.core.monitoring.settings import MonitoringSettings
from lamppost.service.monitoring.drift_evaluation import BroughtRows
from lamppost.service.monitoring.outpost_alerts import OutpostAlerts
from lamppost.store.hub.outposts import StoredOutpost

NOW = datetime(2026, 11, 29, 12, tzinfo=UTC)
STORE = "lamppost.service.monitoring.outpost_alerts.outposts"


def outpost(name: str, barred_at: datetime | None = None, records_at: datetime | None = NOW - timedelta(hours=1)) -> StoredOutpost:
    rest = (None, NOW, None, records_at, 0.0, 1.0)
    return StoredOutpost(name, f"outpost-{name}", ("region=coast",), None, "ida", NOW, barred_at, *rest)


class Drift(unittest.IsolatedAsyncioTestCase):
    async def asyncSetUp(self) -> None:
        self.asked: list[tuple[str, str, str]] = []
        self.states = {"outpost mill": "drifted", "outpost lock": "steady"}
        watched = EndpointSetup(version="risk@1", monitoring=MonitoringSettings(rules=(AlertRule("drift"),)))
        plain = EndpointSetup(version="risk@1", monitoring=MonitoringSettings(rules=()))
        setups = {"watched": watched, "plain": plain}
        table: Any = SimpleNamespace(find_setup=setups.get)
        evaluation: Any = SimpleNamespace(judge_brought=self.judge)
        self.alerts = OutpostAlerts(None, table, evaluation)  # type: ignore[arg-type]

    async def judge(self, endpoint: str, version: str, brought_by: str, since: datetime, until: datetime) -> BroughtRows | None:
        self.asked.append((endpoint, version, brought_by))
        self.assertEqual(until - since, timedelta(days=1))
        state: Any = self.states.get(brought_by)
        return None if state is None else BroughtRows(400, 7, WindowVerdict(state, f"{state.capitalize()}.", 1, 400))

    async def read(self, now: datetime, *outposts: Any) -> dict[tuple[str, str], Any]:
        wanted = [OutpostVersion(endpoint, "region=coast", "risk@2", 1) for endpoint in ("watched", "plain", "gone")]
        with (
            mock.patch(f"{STORE}.list_outposts", mock.AsyncMock(return_value=list(outposts))),
            mock.patch(f"{STORE}.load_wanted_versions", mock.AsyncMock(return_value=WantedVersions(wanted, {}))),
        ):
            return await self.alerts.drift_readings(now)

    async def test_each_outpost_is_read_by_itself(self) -> None:
        old = NOW - timedelta(days=2)
        barred, quiet, new = (outpost("barred", barred_at=NOW), outpost("quiet", records_at=old), outpost("new", records_at=None))
        found = await self.read(NOW, outpost("mill"), outpost("lock"), outpost("bare"), barred, quiet, new)
        self.assertEqual(self.asked, [("watched", "risk@2", f"outpost {name}") for name in ("mill", "lock", "bare")])
        told = {key: (reading.level, reading.summary) for key, reading in found.items()}
        self.assertEqual(
            told,
            {
                ("watched", "drift at mill"): ("wrong", "at the outpost mill: Drifted."),
                ("watched", "drift at lock"): ("back", "at the outpost lock: Steady."),
            },
        )

    async def test_it_is_read_again_where_records_came_and_every_ten_minutes(self) -> None:
        await self.read(NOW, outpost("mill"))
        self.states["outpost mill"] = "steady"
        soon = await self.read(NOW + timedelta(minutes=9), outpost("mill"))
        self.assertEqual([(one.level, one.at) for one in soon.values()], [("wrong", NOW + timedelta(minutes=9))])
        later = await self.read(NOW + timedelta(minutes=10), outpost("mill"))
        self.assertEqual([one.level for one in later.values()], ["back"])
        self.states["outpost mill"] = "drifted"
        brought = outpost("mill", records_at=NOW)
        at_once = await self.read(NOW + timedelta(minutes=10, seconds=59), brought)
        self.assertEqual([one.level for one in at_once.values()], ["back"], "at most once a minute")
        found = await self.read(NOW + timedelta(minutes=11), brought)
        self.assertEqual([one.level for one in found.values()], ["wrong"])

    async def test_answers_of_an_outpost_that_are_wrong(self) -> None:
        watched = EndpointSetup(version="risk@1", monitoring=MonitoringSettings(rules=(AlertRule("quality", above=90),)))
        table: Any = SimpleNamespace(find_setup={"watched": watched}.get)
        alerts = OutpostAlerts(None, table, None)  # type: ignore[arg-type]
        right = {"outpost mill": (20, 100), "outpost lock": (99, 100)}

        async def count(pool: Any, endpoint: str, since: datetime, until: datetime, brought_by: str) -> tuple[int, int]:
            return right[brought_by]

        wanted = WantedVersions([OutpostVersion("watched", "region=coast", "risk@2", 1)], {})
        outposts = [outpost("mill", records_at=NOW - timedelta(days=9)), outpost("lock")]
        with (
            mock.patch(f"{STORE}.list_outposts", mock.AsyncMock(return_value=outposts)),
            mock.patch(f"{STORE}.load_wanted_versions", mock.AsyncMock(return_value=wanted)),
            mock.patch("lamppost.service.monitoring.outpost_alerts.outcomes.count_right_reported", count),
        ):
            found = await alerts.quality_readings(NOW)
        self.assertEqual(
            {key: one.level for key, one in found.items()},
            {("watched", "quality at mill"): "wrong", ("watched", "quality at lock"): "back"},
        )
        self.assertEqual(found["watched", "quality at mill"].summary, "at the outpost mill: 20 of 100 answers were right (20.0 %)")
