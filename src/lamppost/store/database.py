"""Connects to PostgreSQL and applies migrations."""

from __future__ import annotations

import contextlib
import hashlib
import logging
import secrets
from collections.abc import AsyncIterator, Callable
from contextlib import asynccontextmanager
from importlib import resources
from urllib.parse import urlsplit, urlunsplit

import psycopg
from psycopg import AsyncConnection, sql
from psycopg.rows import TupleRow
from psycopg_pool import AsyncConnectionPool, PoolTimeout

from lamppost.core.errors import DatabaseAway, SetupError

log = logging.getLogger("lamppost.database")

Pool = AsyncConnectionPool[AsyncConnection[TupleRow]]
CHANGES = "lamppost_changes"
"""NOTIFY channel: the payload is the kind of thing that changed, such as ``routes`` or ``tokens``."""
NEW_VERSIONS = "versions"
"""The payload after which there are more versions, or other ones are retired."""
DELETED_VERSIONS = "deleted versions"
"""The payload after which nodes delete the files of packages that are stored no more."""

SCHEMA = "lamppost"
"""The schema of all tables and functions. Nothing is looked for in any other."""

FORMER_SCHEMA = "lamppost_former"
"""What the schema is called while a backup is put back in its place; so it is there for as long as a restore has not ended."""

_MIGRATION_LOCK = 8_420
LEADER_LOCK = 8_423
CHUNKS_LOCK = 8_424
"""Numbers of advisory locks; 8,421 is held while a partition of calls is made (migration 0009)."""

_RECONNECT_S = 3.0
"""How long the pool goes on trying by itself, later and later; then the next question makes it try anew."""
OWNER = "lamppost_owner"
"""The role that owns all tables of a private server, and cannot sign in."""
_ROLE = "lamppost_service"
_FORMER_TABLES = (
    *("alerts", "calls", "channels", "chunks", "endpoint_revisions", "endpoints", "judged", "judged_through", "judged_windows"),
    *("lane_history", "latency", "migrations", "models", "mutes", "notices", "outcomes", "package_chunks", "packages", "phases"),
    *("reviews", "revision_versions", "rollout_counts", "rollouts", "sessions", "signatures", "sketches", "split_versions"),
    *("splits", "spooled", "tokens", "trail", "verdicts", "versions"),
)
"""Tables that earlier versions kept in the schema ``public``; partitions of calls are named after them."""


def migrate(url: str, own_server: bool = False, restoring: bool = False) -> list[str]:
    """Bring the database up to this version's tables and return the names of what was applied.

    Each file is one transaction, under an advisory lock, recorded with its checksum; an applied file that was edited since
    is refused. own_server : whether the URL is that of a superuser of a private server: a role without rights of its own owns all tables
    there, and migrations run as that role, so that nothing that lies in the database ever runs as the superuser. restoring : whether the
    tables are those of a backup that is being put back; a restore that was interrupted is undone otherwise.
    """
    applied_now = []
    with psycopg.connect(url, autocommit=True) as connection:
        if not restoring:
            _undo_interrupted_restore(connection)
        _prepare(connection, own_server)
        connection.execute("SELECT pg_advisory_lock(%s)", (_MIGRATION_LOCK,))
        connection.execute(
            "CREATE TABLE IF NOT EXISTS migrations"
            " (name text PRIMARY KEY, sha256 text NOT NULL, applied_at timestamptz NOT NULL DEFAULT now())"
        )
        known: dict[str, str] = dict(connection.execute("SELECT name, sha256 FROM migrations").fetchall())
        files = sorted((f for f in resources.files("lamppost.store.migrations").iterdir() if f.name.endswith(".sql")), key=lambda f: f.name)
        if newer := known.keys() - {file.name for file in files}:
            raise SetupError(f"the database was used by a newer Lamp Post ({', '.join(sorted(newer))}); upgrade this one")
        for file in files:
            text = file.read_text(encoding="utf-8")
            checksum = hashlib.sha256(text.encode()).hexdigest()
            if file.name in known:
                if known[file.name] != checksum:
                    raise SetupError(f"migration {file.name} was edited after it had been applied; restore the file")
                continue
            with connection.transaction():
                connection.execute(text.encode())
                connection.execute("INSERT INTO migrations (name, sha256) VALUES (%s, %s)", (file.name, checksum))
            applied_now.append(file.name)
    return applied_now


def _undo_interrupted_restore(connection: psycopg.Connection[TupleRow]) -> None:
    """Bring back what was there before a restore that has not ended; raise SetupError while one goes on."""
    with connection.transaction():
        connection.execute("SELECT pg_catalog.pg_advisory_xact_lock(%s)", (_MIGRATION_LOCK,))
        if connection.execute("SELECT 1 FROM pg_catalog.pg_namespace WHERE nspname = %s", (FORMER_SCHEMA,)).fetchone() is None:
            return
        if connection.execute("SELECT pg_catalog.pg_try_advisory_xact_lock(%s)", (LEADER_LOCK,)).fetchone() != (True,):
            raise SetupError("a backup is being restored into this database; try again when that has ended")
        connection.execute(f"DROP SCHEMA IF EXISTS {SCHEMA} CASCADE".encode())
        connection.execute(f"ALTER SCHEMA {FORMER_SCHEMA} RENAME TO {SCHEMA}".encode())
    log.warning("a restore was interrupted; the database is as it was before it")


def _prepare(connection: psycopg.Connection[TupleRow], own_server: bool) -> None:
    """Make the schema, move tables of earlier versions there, and go on as the role that owns them, with that schema only in sight."""
    connection.execute("SELECT pg_catalog.set_config('search_path', '', false)")
    if own_server:
        for role, login in ((OWNER, "NOLOGIN"), (_ROLE, "LOGIN")):
            if connection.execute("SELECT 1 FROM pg_catalog.pg_roles WHERE rolname = %s", (role,)).fetchone() is None:
                connection.execute(f"CREATE ROLE {role} {login}".encode())
        connection.execute("REVOKE CREATE ON SCHEMA public FROM PUBLIC")
        with contextlib.suppress(psycopg.errors.InvalidParameterValue):  # a server that was built without it compresses in another way
            name = sql.Identifier(connection.info.dbname)
            connection.execute(sql.SQL("ALTER DATABASE {} SET default_toast_compression = 'lz4'").format(name))
    with connection.transaction():
        connection.execute("SELECT pg_catalog.pg_advisory_xact_lock(%s)", (_MIGRATION_LOCK,))
        if connection.execute("SELECT 1 FROM pg_catalog.pg_namespace WHERE nspname = %s", (SCHEMA,)).fetchone() is None:
            make_schema(connection, own_server)
        _move_former_tables(connection, own_server)
    if own_server:
        connection.execute(f"SET ROLE {OWNER}".encode())
    connection.execute(f"SET search_path = {SCHEMA}".encode())


_OWN_TRIGGERS = frozenset(
    (
        ("trail", "trail_stands", "trail_stands"),
        ("endpoints", "note_touch", "note_touch"),
        ("endpoint_revisions", "touch_endpoint", "touch_endpoint"),
    )
)
"""Table, name and function of every trigger that a migration makes."""


def make_schema(connection: psycopg.Connection[TupleRow], own_server: bool) -> None:
    """Make the schema of all tables; on a private server its owner is theirs."""
    connection.execute(f"CREATE SCHEMA {SCHEMA} {f'AUTHORIZATION {OWNER}' if own_server else ''}".encode())


def url_of_role(url: str, role: str, secret: str) -> str:
    """The URL by which another role reaches the same database."""
    parts = urlsplit(url)
    return urlunsplit(parts._replace(netloc=f"{role}:{secret}@{parts.netloc.rpartition('@')[2]}"))


def _move_former_tables(connection: psycopg.Connection[TupleRow], own_server: bool) -> None:
    """Move what earlier versions kept in ``public``. On a private server also give it to the owner, without triggers of anybody else's."""
    former = connection.execute(
        "SELECT tablename FROM pg_catalog.pg_tables WHERE schemaname = 'public'"
        " AND (tablename = ANY(%s) OR tablename ~ '^calls_[0-9]{8}$')"
        " AND EXISTS (SELECT 1 FROM pg_catalog.pg_tables WHERE schemaname = 'public' AND tablename = 'migrations')",
        (list(_FORMER_TABLES),),
    ).fetchall()
    for (table,) in former:
        connection.execute(sql.SQL("ALTER TABLE public.{} SET SCHEMA {}").format(sql.Identifier(table), sql.Identifier(SCHEMA)))
    if former and connection.execute("SELECT pg_catalog.to_regproc('public.trail_stands')").fetchone() != (None,):
        connection.execute(f"ALTER FUNCTION public.trail_stands() SET SCHEMA {SCHEMA}".encode())
    if not own_server:
        return
    planted = connection.execute(
        "SELECT t.tgname, c.relname, p.proname FROM pg_catalog.pg_trigger t JOIN pg_catalog.pg_class c ON c.oid = t.tgrelid"
        " JOIN pg_catalog.pg_namespace n ON n.oid = c.relnamespace JOIN pg_catalog.pg_proc p ON p.oid = t.tgfoid"
        " WHERE n.nspname = %s AND NOT t.tgisinternal",
        (SCHEMA,),
    ).fetchall()
    for trigger, table, function in planted:
        if (table, trigger, function) in _OWN_TRIGGERS:
            continue
        log.error("the trigger %s on %s is none of Lamp Post's; it is dropped", trigger, table)
        connection.execute(sql.SQL("DROP TRIGGER {} ON {}").format(sql.Identifier(trigger), sql.Identifier(SCHEMA, table)))
    for (table,) in connection.execute(
        "SELECT tablename FROM pg_catalog.pg_tables WHERE schemaname = %s AND tableowner <> %s", (SCHEMA, OWNER)
    ).fetchall():
        connection.execute(sql.SQL("ALTER TABLE {} OWNER TO {}").format(sql.Identifier(SCHEMA, table), sql.Identifier(OWNER)))
    for (function,) in connection.execute(
        "SELECT p.oid::pg_catalog.regprocedure::text FROM pg_catalog.pg_proc p JOIN pg_catalog.pg_namespace n ON n.oid = p.pronamespace"
        " JOIN pg_catalog.pg_roles r ON r.oid = p.proowner WHERE n.nspname = %s AND r.rolname <> %s",
        (SCHEMA, OWNER),
    ).fetchall():
        connection.execute(f"ALTER FUNCTION {function} OWNER TO {OWNER}".encode())


def hand_over(url: str) -> str:
    """Let a role without further rights read and write the tables of a private server, and return the URL by which the service connects as
    that role. It owns nothing: entries of the trail are added, and partitions made, by functions of the owner.
    """
    secret = secrets.token_urlsafe(24)
    with psycopg.connect(url, autocommit=True) as connection:
        connection.execute("SELECT pg_catalog.set_config('search_path', '', false)")
        connection.execute(sql.SQL("ALTER ROLE {} PASSWORD {}").format(sql.Identifier(_ROLE), sql.Literal(secret)))
        connection.execute(f"REVOKE ALL ON SCHEMA public FROM {_ROLE}".encode())
        connection.execute(f"SET ROLE {OWNER}".encode())
        everything = "SELECT, INSERT, UPDATE, DELETE"
        for statement in (
            f"GRANT USAGE ON SCHEMA {SCHEMA} TO {_ROLE}",
            f"GRANT {everything} ON ALL TABLES IN SCHEMA {SCHEMA} TO {_ROLE}",
            f"GRANT USAGE, SELECT ON ALL SEQUENCES IN SCHEMA {SCHEMA} TO {_ROLE}",
            f"GRANT EXECUTE ON ALL FUNCTIONS IN SCHEMA {SCHEMA} TO {_ROLE}",
            f"ALTER DEFAULT PRIVILEGES IN SCHEMA {SCHEMA} GRANT {everything} ON TABLES TO {_ROLE}",
            f"REVOKE ALL ON {SCHEMA}.trail, {SCHEMA}.migrations FROM {_ROLE}",
            f"GRANT SELECT ON {SCHEMA}.trail, {SCHEMA}.migrations TO {_ROLE}",
        ):
            connection.execute(statement.encode())
    return url_of_role(url, _ROLE, secret)


def connect(url: str) -> psycopg.Connection[TupleRow]:
    """A connection that finds Lamp Post's tables, and no others, without their schema."""
    connection = psycopg.connect(url)
    connection.execute(f"SET search_path = {SCHEMA}".encode())
    connection.commit()
    return connection


class DatabasePool(Pool):
    """A pool that says so at once while the database is known to be away, and raises DatabaseAway for every failure of that kind.

    away : why the database is away, None while it is not known to be. there_is_none : whether this node has no database at all; whoever
    asks for a connection is told so. on_failure : is called when a connection fails.
    """

    away: str | None = None
    there_is_none = False
    on_failure: Callable[[], object] = staticmethod(lambda: None)

    @asynccontextmanager
    async def connection(self, timeout: float | None = None) -> AsyncIterator[AsyncConnection[TupleRow]]:  # noqa: ASYNC109 - as its base
        """A connection; raise DatabaseAway if there is none, or if it is lost inside the block."""
        if self.there_is_none:
            raise DatabaseAway("this node has no database: it answers predictions and says how it is, and nothing else")
        if self.away is not None:
            raise database_away(self.away)
        try:
            async with super().connection(timeout) as connection:
                yield connection
        except (psycopg.OperationalError, PoolTimeout) as error:
            if not is_away(error) or (error.sqlstate if isinstance(error, psycopg.Error) else None) in _MET:
                raise
            self.on_failure()
            raise database_away(str(error).strip()) from error


def database_away(reason: str) -> DatabaseAway:
    """The error of a database that is away, with the first line of the reason."""
    first = reason.splitlines()[0][:200] if reason else "no reason was given"
    return DatabaseAway(f"the database is away ({first}); predictions go on, anything else is to be tried again later", retry_after_s=2)


async def _look_in_schema(connection: AsyncConnection[TupleRow]) -> None:
    await connection.execute(f"SET search_path = {SCHEMA}".encode())


def make_pool(url: str) -> DatabasePool:
    """An unopened pool; every connection is in autocommit, transactions are opened where they are meant."""
    return DatabasePool(
        url,
        connection_class=AsyncConnection[TupleRow],
        kwargs={"autocommit": True},
        min_size=2,
        max_size=10,
        timeout=5.0,
        reconnect_timeout=_RECONNECT_S,
        open=False,
        configure=_look_in_schema,
    )


def is_away(error: Exception) -> bool:
    """Whether an error says that the database cannot be reached or takes nothing now, so that trying again later helps.

    Classes of PostgreSQL's codes: 08 connection, 53 resources, 57 operator's intervention; 25006 a server that follows another,
    40001 and 40P01 transactions that met. Without a code the connection itself has failed.
    """
    if isinstance(error, PoolTimeout | DatabaseAway):
        return True
    if not isinstance(error, psycopg.OperationalError):
        return False
    code = error.sqlstate
    return code is None or code[:2] in ("08", "53", "57") or code == "25006" or code in _MET


_MET = ("40001", "40P01", "55P03")
"""Codes of transactions that met others."""
AWAY = (psycopg.OperationalError, PoolTimeout, DatabaseAway)
"""What is raised while the database is away."""


async def announce(connection: AsyncConnection[TupleRow], what: str) -> None:
    """Tell every node, when the surrounding transaction commits, that something changed."""
    await connection.execute("SELECT pg_notify(%s, %s)", (CHANGES, what))
