"""The service's role owns nothing in its database: it plants nothing that the owner or the superuser would run, and the trail stands."""

import tempfile
import unittest
from datetime import UTC, date, datetime
from pathlib import Path

import psycopg

from lamppost.store import database, tokens
from lamppost.store.postgres import PrivateServer
from tests.support.earlier_tables import MIGRATIONS, apply_migrations, migrations_after

SECRET_STEP = "ALTER ROLE lamppost_service SUPERUSER"


class Roles(unittest.TestCase):
    url: str

    @classmethod
    def setUpClass(cls) -> None:
        folder = tempfile.TemporaryDirectory(prefix="lamppost-roles-")
        cls.addClassCleanup(folder.cleanup)
        server = PrivateServer(Path(folder.name), durable=False)
        cls.addClassCleanup(server.stop)
        cls.url = server.start()

    def is_superuser(self) -> bool:
        with psycopg.connect(self.url) as connection:
            row = connection.execute("SELECT rolsuper FROM pg_roles WHERE rolname = 'lamppost_service'").fetchone()
            return row is not None and bool(row[0])

    def test_the_service_can_do_its_work_and_nothing_else(self) -> None:
        database.migrate(self.url, own_server=True)
        served = database.hand_over(self.url)
        self.assertIsNotNone(tokens.make_first_admin(served))
        with database.connect(served) as connection:
            connection.autocommit = True
            connection.execute("SELECT make_calls_partition(%s)", (date(2026, 5, 1),))
            connection.execute("SELECT drop_calls_partitions(%s)", (date(2026, 5, 2),))
            connection.execute("SELECT add_trail_entry('desk', NULL, 'pointed', 'lamps', NULL, '{}'::json, NULL)")
            number, at = connection.execute("SELECT number, at FROM trail").fetchall()[0]
            self.assertLess(abs((datetime.now(UTC) - at).total_seconds()), 60)
            for statement in (
                "CREATE TABLE public.planted ()",
                "CREATE TABLE lamppost.planted ()",
                "CREATE SCHEMA planted",
                "CREATE FUNCTION public.lower(text) RETURNS text LANGUAGE sql AS $$ SELECT '' $$",
                "CREATE FUNCTION lamppost.now() RETURNS timestamptz LANGUAGE sql AS $$ SELECT '1970-01-01'::timestamptz $$",
                "CREATE TRIGGER planted BEFORE INSERT ON tokens FOR EACH ROW EXECUTE FUNCTION trail_stands()",
                "ALTER TABLE tokens ADD COLUMN planted int",
                "DROP TABLE tokens",
                "TRUNCATE call_blocks",
                "INSERT INTO trail (token, action, subject) VALUES ('a', 'b', 'c')",
                "INSERT INTO trail (number, at, token, action, subject) OVERRIDING SYSTEM VALUE VALUES (1, now(), 'a', 'b', 'c')",
                f"UPDATE trail SET at = now() - interval '1 day' WHERE number = {number}",
                "DELETE FROM trail",
                "ALTER TABLE trail DISABLE TRIGGER ALL",
                "DELETE FROM migrations",
                "SET ROLE lamppost_owner",
                "SET ROLE lamppost",
                SECRET_STEP,
                "COPY tokens TO PROGRAM 'id'",
                "SELECT pg_read_file('postgresql.conf')",
            ):
                with self.subTest(statement), self.assertRaises(psycopg.errors.InsufficientPrivilege):
                    connection.execute(statement.encode())
            connection.execute("CREATE TEMP TABLE trail (token text)")
            connection.execute("SET search_path = pg_temp, lamppost")
            connection.execute("SELECT lamppost.add_trail_entry('desk', NULL, 'pointed', 'other', NULL, NULL, NULL)")
            self.assertEqual(connection.execute("SELECT count(*) FROM lamppost.trail").fetchone(), (2,), "not the temporary one")
        self.assertFalse(self.is_superuser())

    def test_a_second_start_keeps_every_trigger_of_the_migrations(self) -> None:
        def triggers() -> list[tuple[object, ...]]:
            with psycopg.connect(self.url) as connection:
                found = "SELECT tgrelid::regclass::text, tgname FROM pg_trigger WHERE NOT tgisinternal ORDER BY 1, 2"
                return connection.execute(found.encode()).fetchall()

        database.migrate(self.url, own_server=True)
        first = triggers()
        self.assertIn(("endpoints", "note_touch"), first)
        database.migrate(self.url, own_server=True)
        self.assertEqual(triggers(), first)

    def test_what_was_planted_before_does_not_run_at_the_next_start(self) -> None:
        """A database of an earlier version, where the service's role owned the tables and could make functions in public."""
        name = "earlier"
        with psycopg.connect(self.url, autocommit=True) as connection:
            connection.execute(f"CREATE DATABASE {name}".encode())
        url = f"{self.url.rsplit('/', 1)[0]}/{name}"
        with psycopg.connect(url, autocommit=True) as connection:
            if connection.execute("SELECT 1 FROM pg_roles WHERE rolname = 'lamppost_service'").fetchone() is None:
                connection.execute("CREATE ROLE lamppost_service LOGIN")
            apply_migrations(connection, 8)
            tables = connection.execute("SELECT tablename FROM pg_tables WHERE schemaname = 'public' AND tablename <> 'trail'").fetchall()
            for (table,) in tables:
                connection.execute(f"ALTER TABLE {table} OWNER TO lamppost_service".encode())
            connection.execute("GRANT ALL ON SCHEMA public TO lamppost_service")
            connection.execute("SET ROLE lamppost_service")
            body = f"BEGIN {SECRET_STEP}; RETURN NEW; END"
            connection.execute(f"CREATE FUNCTION planted() RETURNS trigger LANGUAGE plpgsql AS $$ {body} $$".encode())
            for table in ("tokens", "migrations"):
                connection.execute(f"CREATE TRIGGER planted BEFORE INSERT ON {table} FOR EACH ROW EXECUTE FUNCTION planted()".encode())
            connection.execute(
                f"CREATE FUNCTION pg_advisory_lock(int) RETURNS void LANGUAGE plpgsql AS $$ BEGIN {SECRET_STEP}; END $$".encode()
            )
        with self.assertLogs("lamppost.database", "ERROR") as logged:
            self.assertEqual(database.migrate(url, own_server=True), migrations_after(8))
        self.assertEqual(len(logged.output), 2)
        served = database.hand_over(url)
        self.assertIsNotNone(tokens.make_first_admin(served))
        self.assertFalse(self.is_superuser())
        with database.connect(served) as connection, self.assertRaises(psycopg.errors.InsufficientPrivilege):
            connection.execute("CREATE FUNCTION public.again() RETURNS int LANGUAGE sql AS 'SELECT 1'")

    def test_a_role_of_the_operators_needs_no_other(self) -> None:
        with psycopg.connect(self.url, autocommit=True) as connection:
            connection.execute("CREATE ROLE town LOGIN PASSWORD 'dusk'")
            connection.execute("CREATE DATABASE town OWNER town")
        url = f"postgresql://town:dusk@{self.url.partition('@')[2].rsplit('/', 1)[0]}/town"
        self.assertEqual(len(database.migrate(url)), len(list(MIGRATIONS.glob("*.sql"))))
        self.assertEqual(database.migrate(url), [])
        self.assertIsNotNone(tokens.make_first_admin(url))
        with database.connect(url) as connection:
            connection.execute("SELECT make_calls_partition(%s)", (date(2026, 5, 1),))
