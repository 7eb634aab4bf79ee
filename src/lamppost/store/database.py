"""Connects to PostgreSQL and applies migrations."""

from __future__ import annotations

import hashlib
import secrets
from importlib import resources
from urllib.parse import urlsplit, urlunsplit

import psycopg
from psycopg import AsyncConnection, sql
from psycopg.rows import TupleRow
from psycopg_pool import AsyncConnectionPool, PoolTimeout

from lamppost.core.errors import SetupError

Pool = AsyncConnectionPool[AsyncConnection[TupleRow]]
CHANGES = "lamppost_changes"
"""NOTIFY channel: the payload is the kind of thing that changed (``routes`` or ``tokens``)."""

_MIGRATION_LOCK = 84_20
_ROLE = "lamppost_service"


def migrate(url: str) -> list[str]:
    """Bring the database up to this version's tables and return the names of what was applied.

    Each file is one transaction, under an advisory lock, recorded with its checksum; an applied file that was edited since
    is refused.
    """
    applied_now = []
    with psycopg.connect(url, autocommit=True) as connection:
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


def hand_over(url: str) -> str:
    """Give all tables but the trail to a role without further rights, and return the URL by which the service connects as that role.

    The trail stays with the role of ``url``, so that the service can add entries but neither change nor delete them.
    """
    secret = secrets.token_urlsafe(24)
    with psycopg.connect(url, autocommit=True) as connection:
        if connection.execute("SELECT 1 FROM pg_roles WHERE rolname = %s", (_ROLE,)).fetchone() is None:
            connection.execute(f"CREATE ROLE {_ROLE} LOGIN".encode())
        connection.execute(sql.SQL("ALTER ROLE {} PASSWORD {}").format(sql.Identifier(_ROLE), sql.Literal(secret)))
        connection.execute(f"GRANT USAGE, CREATE ON SCHEMA public TO {_ROLE}".encode())
        owned = "SELECT tablename FROM pg_tables WHERE schemaname = 'public' AND tableowner <> %s AND tablename <> 'trail'"
        for (table,) in connection.execute(owned, (_ROLE,)).fetchall():
            connection.execute(sql.SQL("ALTER TABLE {} OWNER TO {}").format(sql.Identifier(table), sql.Identifier(_ROLE)))
        connection.execute(f"REVOKE ALL ON trail FROM {_ROLE}; GRANT SELECT, INSERT ON trail TO {_ROLE}".encode())
    parts = urlsplit(url)
    return urlunsplit(parts._replace(netloc=f"{_ROLE}:{secret}@{parts.netloc.rpartition('@')[2]}"))


def make_pool(url: str) -> Pool:
    """An unopened pool; every connection is in autocommit, transactions are opened where they are meant."""
    return AsyncConnectionPool(
        url, connection_class=AsyncConnection[TupleRow], kwargs={"autocommit": True}, min_size=2, max_size=10, timeout=5.0, open=False
    )


def is_away(error: Exception) -> bool:
    """Whether an error says that the database cannot be reached or takes nothing now, so that trying again later helps.

    Classes of PostgreSQL's codes: 08 connection, 53 resources, 57 operator's intervention; 25006 a server that follows another,
    40001 and 40P01 transactions that met. Without a code the connection itself has failed.
    """
    if isinstance(error, PoolTimeout):
        return True
    if not isinstance(error, psycopg.OperationalError):
        return False
    code = error.sqlstate
    return code is None or code[:2] in ("08", "53", "57") or code in ("25006", "40001", "40P01", "55P03")


async def announce(connection: AsyncConnection[TupleRow], what: str) -> None:
    """Tell every node, when the surrounding transaction commits, that something changed."""
    await connection.execute("SELECT pg_notify(%s, %s)", (CHANGES, what))
