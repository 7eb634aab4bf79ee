"""Windows, histograms, outcomes, alerts and notices in PostgreSQL."""

from datetime import UTC, datetime, timedelta
from uuid import uuid4

from lamppost.core.drift.window_verdict import DriftExplanation, NearbyChange, WindowVerdict
from lamppost.core.errors import Conflict, NotFound
from lamppost.core.monitoring.alert_rules import Alert, RuleReading
from lamppost.core.monitoring.latency_histogram import bucket_of
from lamppost.store import alerts, outcomes, timeline, windows
from lamppost.store.alerts import Channel
from lamppost.store.outcomes import AnsweredCall, Outcome
from lamppost.store.windows import JudgedWindow, WindowDelta
from tests.store.test_store import WithServer

NOW = datetime.now(UTC).replace(minute=0, second=0, microsecond=0)


class Watching(WithServer):
    async def put_latency(self, at: datetime, calls: int, endpoint: str, status: int = 200, ms: float = 5.0) -> None:
        async with self.pool.connection() as connection:
            for table, columns in (("latency", "status, bucket"), ("phases", "phase, bucket")):
                await connection.execute(
                    f"INSERT INTO {table} (endpoint, version, at, {columns}, calls) VALUES (%s, 'a@1', %s, %s, %s, %s)".encode(),
                    (endpoint, at, status if table == "latency" else "total", bucket_of(ms * 1e3), calls),
                )

    async def test_old_histograms_become_coarser_and_lose_nothing(self) -> None:
        old = NOW - timedelta(days=3)
        for second in range(0, 1_200, 10):
            await self.put_latency(old + timedelta(seconds=second), 2, "rolled")
        await self.put_latency(NOW - timedelta(minutes=1), 7, "rolled")
        await timeline.roll_up_histograms(self.pool, datetime.now(UTC))
        await timeline.roll_up_histograms(self.pool, datetime.now(UTC))
        found = await timeline.load_steps(self.pool, "rolled", old - timedelta(hours=1), NOW, 10)
        self.assertEqual([sum(one.statuses.values()) for one in found], [120, 120, 7])
        self.assertEqual(sum((await timeline.phase_histograms(self.pool, "rolled", old, NOW))["total"].values()), 247)
        year = datetime.now(UTC) + timedelta(days=40)
        await timeline.roll_up_histograms(self.pool, year)
        found = await timeline.load_steps(self.pool, "rolled", old - timedelta(hours=1), NOW, 10)
        self.assertEqual(sum(sum(one.statuses.values()) for one in found), 247)

    async def test_totals_count_what_a_service_level_counts(self) -> None:
        at = datetime.now(UTC) - timedelta(minutes=1)
        async with self.pool.connection() as connection:
            await connection.execute("INSERT INTO endpoints (name) VALUES ('level')")
        for status, calls, ms in ((200, 90, 5.0), (200, 6, 50.0), (422, 1_000, 1.0), (503, 4, 1.0)):
            async with self.pool.connection() as connection:
                await connection.execute(
                    "INSERT INTO latency (endpoint, version, at, status, bucket, calls) VALUES ('level', 'a@1', %s, %s, %s, %s)",
                    (at, status, bucket_of(ms * 1e3), calls),
                )
        self.assertEqual(await timeline.service_level_totals(self.pool, "level", at - timedelta(minutes=1), 20.0), (100, 4, 6))
        self.assertEqual(
            await timeline.service_level_totals_by_endpoint(self.pool, ["level", "nobody"], at - timedelta(minutes=1)),
            {"level": (100, 4, 0)},
        )
        self.assertEqual(await timeline.service_level_totals(self.pool, "nobody", at - timedelta(minutes=1), 20.0), (0, 0, 0))
        self.assertEqual((await timeline.last_call_times(self.pool))["level"], at)

    async def test_what_is_too_old_for_its_endpoint_goes(self) -> None:
        await self.put_latency(NOW - timedelta(days=9), 3, "short")
        await self.put_latency(NOW - timedelta(days=9), 3, "long")
        await timeline.delete_expired(self.pool, {"short": (1, 5), "long": (30, 400)}, datetime.now(UTC))
        kept = [len(await timeline.load_steps(self.pool, name, NOW - timedelta(days=20), NOW, 3_600)) for name in ("short", "long")]
        self.assertEqual(kept, [0, 1])

    async def test_deltas_are_fresh_until_judged_and_merged_once(self) -> None:
        tick = NOW - timedelta(hours=2)
        parts = [WindowDelta("w", "a@1", tick, 10 + at, at, bytes([at])) for at in range(3)]
        async with self.pool.connection() as connection:
            await windows.add_deltas(connection, parts)
        (fresh,) = [one for one in await windows.unjudged_windows(self.pool) if one.endpoint == "w"]
        self.assertEqual((fresh.version, fresh.at, fresh.number - fresh.first), ("a@1", [tick], 2))
        (later,) = [one for one in await windows.unjudged_windows(self.pool, fresh.first) if one.endpoint == "w"]
        self.assertEqual(later.first, fresh.first + 1, "what is known to be judged is not looked at")
        judged = JudgedWindow("w", "a@1", tick, tick + timedelta(hours=1), 33, 3, WindowVerdict("steady", "Steady.", 1, 33))
        await windows.store_verdicts(self.pool, [judged], fresh)
        self.assertEqual([one for one in await windows.unjudged_windows(self.pool) if one.endpoint == "w"], [])
        self.assertEqual(await windows.judged_windows(self.pool, "w", None, tick, NOW), [judged])
        asked = {"w": tick, "nobody": tick}
        self.assertEqual(await windows.judged_windows_by_endpoint(self.pool, asked, NOW), {"w": [judged]})
        self.assertEqual(await windows.judged_windows_by_endpoint(self.pool, {"w": tick + timedelta(seconds=1)}, NOW), {})
        self.assertIn(("w", "a@1", tick, None), await windows.ticks_to_merge(self.pool, 0, 50))
        self.assertNotIn(
            ("w", "a@1", tick, None), await windows.ticks_to_merge(self.pool, fresh.number - 1, 50), "one delta is not crowded"
        )
        async with self.pool.connection() as connection:
            await windows.add_deltas(connection, [WindowDelta("w", "a@1", tick, 5, 0, bytes([at]), "outpost mill") for at in range(2)])
        self.assertIn(("w", "a@1", tick, "outpost mill"), await windows.ticks_to_merge(self.pool, 0, 50), "by origin")
        brought = WindowDelta("w", "a@1", tick, 10, 0, b"brought", "outpost mill")
        await windows.replace_deltas(self.pool, brought, taken=2)
        merged = WindowDelta("w", "a@1", tick, 33, 3, b"together")
        await windows.replace_deltas(self.pool, merged, taken=2)
        self.assertEqual(
            len(await windows.deltas_between(self.pool, "w", "a@1", tick, NOW)), 4, "another came meanwhile: left for the next look"
        )
        await windows.replace_deltas(self.pool, merged, taken=3)
        self.assertEqual(await windows.deltas_between(self.pool, "w", "a@1", tick, NOW), [merged, brought])
        (new,) = [one for one in await windows.unjudged_windows(self.pool) if one.endpoint == "w"]
        await windows.store_verdicts(self.pool, [judged], new)
        self.assertEqual([one for one in await windows.unjudged_windows(self.pool) if one.endpoint == "w"], [], "merging is nothing new")
        explanation = DriftExplanation(tick, "because", 33, (), None, (NearbyChange(tick, "a change"),), ())
        await windows.store_explanation(self.pool, judged, explanation)
        await windows.store_verdicts(self.pool, [judged], fresh)
        (again,) = [one for one in await windows.newest_judged_windows(self.pool) if one.endpoint == "w"]
        self.assertEqual(again.explanation, explanation, "judging again keeps the reason")

    async def test_the_truth_replaces_and_is_counted_once(self) -> None:
        call = AnsweredCall(uuid4(), "o", "a@1", False, NOW - timedelta(hours=1), {"x": 1}, {"answer": {"label": "a"}})
        shadow = AnsweredCall(call.request_id, "o", "a@2", True, call.at, {"x": 1}, {"answers": [{"label": "b"}]})
        told = [Outcome(one, 0, "a", {"label": "a"}, {"kind": "led"}, correct=one is call) for one in (call, shadow)]
        self.assertEqual(await outcomes.store_outcomes(self.pool, told, "depot"), 2)
        self.assertEqual(await outcomes.store_outcomes(self.pool, told, "depot"), 0)
        other = [Outcome(call, 0, "b", {"label": "a"}, {}, correct=False)]
        self.assertEqual(await outcomes.store_outcomes(self.pool, other, "depot"), 1)
        found = await outcomes.outcomes_between(self.pool, "o", NOW - timedelta(days=1), NOW)
        self.assertEqual({(one.version, one.shadow, one.judged.truth) for one in found}, {("a@1", False, "b"), ("a@2", True, "a")})
        self.assertEqual((await outcomes.count_right_answers(self.pool, NOW - timedelta(days=1), NOW))["o"], (0, 1), "shadows do not count")

    async def test_an_alert_is_one_row_from_its_begin_to_its_end(self) -> None:
        reading = RuleReading(NOW, "wrong", "it is wrong", "certain", "cause", "because")
        alert = Alert("e", "drift", "firing", NOW, NOW, reading)
        async with self.pool.connection() as connection:
            number = await alerts.save_alert(connection, alert, None)
        taken = await alerts.acknowledge_alert(self.pool, number, "depot", "on its way")
        self.assertEqual((taken.alert.state, taken.acknowledged_by, taken.note), ("acknowledged", "depot", "on its way"))
        async with self.pool.connection() as connection:
            await alerts.save_alert(connection, alert, number)  # the leader had not read it
        (stored,) = await alerts.list_alerts(self.pool, "e", "open", 10)
        self.assertEqual((stored.alert.state, stored.alert.reading.probable_cause), ("acknowledged", "because"))
        over = Alert("e", "drift", "resolved", NOW, NOW, reading, resolved_at=NOW)
        async with self.pool.connection() as connection:
            await alerts.save_alert(connection, over, number)
        self.assertEqual(await alerts.list_alerts(self.pool, "e", "open", 10), [])
        with self.assertRaises(Conflict):
            await alerts.acknowledge_alert(self.pool, number, "depot", None)
        with self.assertRaises(NotFound):
            await alerts.acknowledge_alert(self.pool, 10**9, "depot", None)

    async def test_notices_wait_their_turn_and_are_given_up(self) -> None:
        channel = Channel("shift", "webhook", "http://x", "s", ["lamps"], "none", None, "admin", NOW)
        self.assertEqual((channel.hears("lamps"), channel.hears("notes")), (True, False))
        async with self.pool.connection() as connection:
            await alerts.make_channel(connection, channel)
            with self.assertRaises(Conflict):
                await alerts.make_channel(connection, channel)
            await alerts.add_notices(connection, ["shift"], {"id": 1})
        (notice,) = await alerts.due_notices(self.pool)
        await alerts.note_not_sent(self.pool, notice, "refused", 60.0)
        self.assertEqual(await alerts.due_notices(self.pool), [])
        await alerts.note_not_sent(self.pool, notice, "refused", None)
        (told,) = await alerts.list_notices(self.pool)
        self.assertEqual((told["tries"], told["given_up"], told["error"]), (2, True, "refused"))
        async with self.pool.connection() as connection:
            await alerts.mute_endpoint(connection, "lamps", NOW + timedelta(days=1), "admin", None)
            self.assertIn("lamps", await alerts.list_mutes(self.pool))
            await alerts.mute_endpoint(connection, "lamps", NOW - timedelta(days=1), "admin", None)
            self.assertNotIn("lamps", await alerts.list_mutes(self.pool))
            await alerts.remove_channel(connection, "shift")
            with self.assertRaises(NotFound):
                await alerts.remove_channel(connection, "shift")
        self.assertEqual(await alerts.list_notices(self.pool), [], "they go with their channel")

    async def test_lanes_of_several_nodes_add_up(self) -> None:
        for node in ("one", "other"):
            await timeline.note_lanes(self.pool, node, [("a@1", 2, 5, 10.5)])
        found = await timeline.lane_samples(self.pool, ["a@1"], NOW - timedelta(hours=1), NOW + timedelta(hours=2), 3_600)
        self.assertEqual([(one["copies"], one["waiting"], one["memory_mb"]) for one in found], [(4, 10, 21.0)])
