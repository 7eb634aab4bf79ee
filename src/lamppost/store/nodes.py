"""Stores which nodes work with the database, and when each was last seen."""

from __future__ import annotations

import hashlib
from dataclasses import dataclass
from datetime import datetime, timedelta

from lamppost.store.database import Pool

SEEN_WITHIN = timedelta(minutes=1)
_FORGOTTEN_AFTER = timedelta(days=7)


@dataclass(frozen=True, slots=True)
class StoredNode:
    """address : where other nodes reach it. software : its version of Lamp Post."""

    name: str
    address: str
    software: str
    started_at: datetime
    seen_at: datetime


async def note_node(pool: Pool, name: str, address: str, software: str, started_at: datetime) -> None:
    """Note that a node is there now; nodes that were not seen for a week are forgotten."""
    async with pool.connection() as connection:
        await connection.execute(
            "INSERT INTO nodes (name, address, software, started_at, seen_at) VALUES (%s, %s, %s, %s, now())"
            " ON CONFLICT (name) DO UPDATE SET address = excluded.address, software = excluded.software,"
            " started_at = excluded.started_at, seen_at = now()",
            (name, address, software, started_at),
        )
        await connection.execute("DELETE FROM nodes WHERE seen_at < now() - %s", (_FORGOTTEN_AFTER,))


async def forget_node(pool: Pool, name: str) -> None:
    """Forget a node that ends."""
    async with pool.connection() as connection:
        await connection.execute("DELETE FROM nodes WHERE name = %s", (name,))


async def list_nodes(pool: Pool) -> list[StoredNode]:
    """The nodes that were seen within a minute, by name."""
    async with pool.connection() as connection:
        rows = await connection.execute(
            "SELECT name, address, software, started_at, seen_at FROM nodes WHERE seen_at > now() - %s ORDER BY name", (SEEN_WITHIN,)
        )
        return [StoredNode(*row) for row in await rows.fetchall()]


async def database_mark(pool: Pool) -> str:
    """A mark that all nodes of one database have in common, and those of no other."""
    question = (
        "SELECT system_identifier || '/' || (SELECT oid FROM pg_database WHERE datname = current_database()) FROM pg_control_system()"
    )
    async with pool.connection() as connection:
        found = await (await connection.execute(question.encode())).fetchone()
    assert found is not None
    return hashlib.sha256(str(found[0]).encode()).hexdigest()[:12]
