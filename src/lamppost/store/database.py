"""Connections and migrations."""

from __future__ import annotations

import hashlib
from importlib import resources

import psycopg
from psycopg import AsyncConnection
from psycopg.rows import TupleRow
from psycopg_pool import AsyncConnectionPool

from lamppost.core.errors import SetupError

Pool = AsyncConnectionPool[AsyncConnection[TupleRow]]
CHANGES = "lamppost_changes"
"""NOTIFY channel: the payload is the kind of thing that changed (``routes`` or ``tokens``)."""

_MIGRATION_LOCK = 84_20


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
            sql = file.read_text(encoding="utf-8")
            checksum = hashlib.sha256(sql.encode()).hexdigest()
            if file.name in known:
                if known[file.name] != checksum:
                    raise SetupError(f"migration {file.name} was edited after it had been applied; restore the file")
                continue
            with connection.transaction():
                connection.execute(sql.encode())
                connection.execute("INSERT INTO migrations (name, sha256) VALUES (%s, %s)", (file.name, checksum))
            applied_now.append(file.name)
    return applied_now


def make_pool(url: str) -> Pool:
    """An unopened pool; every connection is in autocommit, transactions are opened where they are meant."""
    return AsyncConnectionPool(
        url, connection_class=AsyncConnection[TupleRow], kwargs={"autocommit": True}, min_size=2, max_size=10, timeout=5.0, open=False
    )


async def announce(connection: AsyncConnection[TupleRow], what: str) -> None:
    """Tell every node, when the surrounding transaction commits, that something changed."""
    await connection.execute("SELECT pg_notify(%s, %s)", (CHANGES, what))
