"""Data that earlier versions stored is read under the present names."""

from datetime import UTC, datetime

import psycopg
from psycopg.types.json import Json

from lamppost.core.errors import SetupError
from lamppost.store import alerts, database, endpoints, rollouts, windows
from tests.store.test_store import WithServer
from tests.support.earlier_tables import apply_migrations, migrations_after


class PlainNames(WithServer):
    """Migration 0008."""

    async def asyncSetUp(self) -> None:
        await super().asyncSetUp()
        with psycopg.connect(self.fresh.partition("?")[0], autocommit=True) as connection:
            connection.execute("DROP SCHEMA lamppost CASCADE")
            apply_migrations(connection, 7)
            connection.execute("INSERT INTO endpoints (name) VALUES ('lamps')")
            setup = {"version": "lamps@1", "watch": {"window_minutes": 30, "rules": [{"on": "out"}, {"on": "drift"}]}}
            connection.execute(
                "INSERT INTO splits (endpoint, revision, changed_by, setup) VALUES ('lamps', 1, 'admin', %s)", (Json(setup),)
            )
            finding = {"what": "missing", "p": 0.001, "size": 0.2, "signed": 0.2, "before": 0.0, "after": 0.2}
            field = {"name": "age", "state": "drifted", "says": 'it "says": more', "rows": 900, "findings": [finding]}
            pair = {"one": "age", "other": "kwh", "state": "steady", "p": 0.4, "before": 0.1, "after": 0.2}
            verdict = {"state": "drifted", "says": "Drifted.", "windows": 1, "rows": 900, "fields": [field], "pairs": [pair]}
            why = {"since": "2026-05-01T00:00:00+00:00", "says": "age is new", "rows": 9, "fields": [], "answers": None}
            connection.execute(
                "INSERT INTO judged VALUES ('lamps', 'lamps@1', '2026-05-01', '2026-05-02', 900, 3, 'drifted', %s, %s)",
                (Json(verdict), Json(why | {"changes": [{"at": "2026-05-01T00:00:00Z", "says": "a change"}], "callers": []})),
            )
            told = {"level": "wrong", "says": "it cannot answer", "sure": "certain", "why": None}
            connection.execute(
                "INSERT INTO alerts (endpoint, rule, cause, state, since, seen_at, told)"
                " VALUES ('lamps', 'out', 'out: no worker', 'firing', now(), now(), %s)",
                (Json(told),),
            )

    async def test_what_was_stored_is_read(self) -> None:
        self.assertEqual(database.migrate(self.fresh), migrations_after(7))
        (revision,) = await endpoints.list_revisions(self.pool)
        monitoring = revision.setup.monitoring
        self.assertEqual((monitoring.window_minutes, [rule.on for rule in monitoring.alerts]), (30, ["down", "drift"]))
        (window,) = await windows.judged_windows(self.pool, "lamps", None, datetime(2026, 1, 1, tzinfo=UTC), datetime.now(UTC))
        self.assertEqual(
            (window.state, window.verdict.summary, window.verdict.fields[0].summary), ("drifted", "Drifted.", 'it "says": more')
        )
        self.assertEqual((window.verdict.pairs[0].first, window.verdict.pairs[0].second), ("age", "kwh"))
        assert window.explanation is not None
        self.assertEqual((window.explanation.summary, window.explanation.changes[0].summary), ("age is new", "a change"))
        (stored,) = (await alerts.latest_alerts(self.pool)).values()
        self.assertEqual(
            (stored.alert.rule, stored.alert.reading.cause, stored.alert.reading.certainty), ("down", "down: no worker", "certain")
        )
        self.assertEqual(await rollouts.latest_rollouts(self.pool, "lamps"), [])


class InterruptedRestores(WithServer):
    async def test_a_restore_that_was_killed_is_undone_at_the_next_start_and_waited_for_while_it_goes_on(self) -> None:
        plain = self.fresh.partition("?")[0]
        with psycopg.connect(plain, autocommit=True) as connection:
            connection.execute("INSERT INTO lamppost.endpoints (name) VALUES ('before')")
            connection.execute("ALTER SCHEMA lamppost RENAME TO lamppost_former")
            connection.execute("CREATE SCHEMA lamppost")
            connection.execute("CREATE TABLE lamppost.half (of_it int)")
            with psycopg.connect(plain, autocommit=True) as restoring:
                restoring.execute("SELECT pg_advisory_lock(%s)", (database.LEADER_LOCK,))
                with self.assertRaisesRegex(SetupError, "a backup is being restored into this database"):
                    database.migrate(plain)
            with self.assertLogs("lamppost.database", "WARNING"):
                self.assertEqual(database.migrate(plain), [])
            self.assertEqual(connection.execute("SELECT name FROM lamppost.endpoints").fetchall(), [("before",)])
            schemas = "SELECT count(*) FROM pg_namespace WHERE nspname = 'lamppost_former'"
            self.assertEqual(connection.execute(schemas).fetchone(), (0,))
