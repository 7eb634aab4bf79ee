"""Endpoints and what they serve: the newest split of each, with all earlier ones kept."""

from __future__ import annotations

from dataclasses import dataclass
from datetime import datetime

from lamppost.core.names import VersionName
from lamppost.store.database import Pool, announce


@dataclass(frozen=True, slots=True)
class Split:
    """What an endpoint serves since when, by whom; revision counts its changes from 1."""

    endpoint: str
    revision: int
    version: VersionName
    since: datetime
    changed_by: str


async def list_splits(pool: Pool) -> list[Split]:
    """The split in force of every endpoint, by name."""
    async with pool.connection() as connection:
        rows = await connection.execute(
            "SELECT DISTINCT ON (endpoint) endpoint, revision, model, number, since, changed_by FROM splits"
            " ORDER BY endpoint, revision DESC"
        )
        return [_split(*row) for row in await rows.fetchall()]


async def history(pool: Pool, endpoint: str, limit: int = 50) -> list[Split]:
    """The splits of one endpoint, newest first."""
    async with pool.connection() as connection:
        rows = await connection.execute(
            "SELECT endpoint, revision, model, number, since, changed_by FROM splits WHERE endpoint = %s ORDER BY revision DESC LIMIT %s",
            (endpoint, limit),
        )
        return [_split(*row) for row in await rows.fetchall()]


def _split(endpoint: str, revision: int, model: str, number: int, since: datetime, changed_by: str) -> Split:
    return Split(endpoint, revision, VersionName(model, number), since, changed_by)


async def point(pool: Pool, endpoint: str, version: VersionName, changed_by: str) -> tuple[Split, Split | None]:
    """Make an endpoint (made if it is new) serve a version, as one transaction that every node hears of.

    Returns the new split and the one it follows.
    """
    columns = "endpoint, revision, model, number, since, changed_by"
    async with pool.connection() as connection, connection.transaction():
        await connection.execute("INSERT INTO endpoints (name) VALUES (%s) ON CONFLICT DO NOTHING", (endpoint,))
        await connection.execute("SELECT 1 FROM endpoints WHERE name = %s FOR UPDATE", (endpoint,))
        newest = f"SELECT {columns} FROM splits WHERE endpoint = %s ORDER BY revision DESC LIMIT 1"
        before = await (await connection.execute(newest.encode(), (endpoint,))).fetchone()
        insert = f"INSERT INTO splits (endpoint, revision, model, number, changed_by) VALUES (%s, %s, %s, %s, %s) RETURNING {columns}"
        revision = 1 if before is None else before[1] + 1
        row = await (await connection.execute(insert.encode(), (endpoint, revision, version.model, version.number, changed_by))).fetchone()
        assert row is not None
        await announce(connection, "routes")
        return _split(*row), None if before is None else _split(*before)
