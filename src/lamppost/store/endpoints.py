"""Endpoints and what they serve: the newest split of each, with all earlier ones kept."""

from __future__ import annotations

from dataclasses import dataclass
from datetime import datetime
from typing import Any

import orjson

from lamppost.core.errors import Conflict
from lamppost.core.names import VersionName
from lamppost.core.setup import Setup, read_setup, write_setup
from lamppost.store.database import Pool, announce

_COLUMNS = "endpoint, revision, setup, since, changed_by"


@dataclass(frozen=True, slots=True)
class Split:
    """What an endpoint serves since when, by whom; revision counts its changes from 1."""

    endpoint: str
    revision: int
    setup: Setup
    since: datetime
    changed_by: str

    @property
    def version(self) -> VersionName:
        """The version that stands for the endpoint where one is to be named."""
        return self.setup.versions[0]


async def list_splits(pool: Pool) -> list[Split]:
    """The split in force of every endpoint, by name."""
    async with pool.connection() as connection:
        rows = await connection.execute(f"SELECT DISTINCT ON (endpoint) {_COLUMNS} FROM splits ORDER BY endpoint, revision DESC".encode())
        return [_split(*row) for row in await rows.fetchall()]


async def history(pool: Pool, endpoint: str, limit: int = 50) -> list[Split]:
    """The splits of one endpoint, newest first."""
    async with pool.connection() as connection:
        query = f"SELECT {_COLUMNS} FROM splits WHERE endpoint = %s ORDER BY revision DESC LIMIT %s"
        return [_split(*row) for row in await (await connection.execute(query.encode(), (endpoint, limit))).fetchall()]


def _split(endpoint: str, revision: int, setup: Any, since: datetime, changed_by: str) -> Split:
    return Split(endpoint, revision, read_setup(setup), since, changed_by)


async def set_up(pool: Pool, endpoint: str, setup: Setup, changed_by: str, after: int | None = None) -> tuple[Split, Split | None]:
    """Give an endpoint (made if it is new) a setup, as one transaction that every node hears of.

    after : the revision that the change was thought out against; raise Conflict when it is not in force any more.
    Returns the new split and the one it follows.
    """
    async with pool.connection() as connection, connection.transaction():
        await connection.execute("INSERT INTO endpoints (name) VALUES (%s) ON CONFLICT DO NOTHING", (endpoint,))
        await connection.execute("SELECT 1 FROM endpoints WHERE name = %s FOR UPDATE", (endpoint,))
        newest = f"SELECT {_COLUMNS} FROM splits WHERE endpoint = %s ORDER BY revision DESC LIMIT 1"
        before = await (await connection.execute(newest.encode(), (endpoint,))).fetchone()
        revision = 1 if before is None else before[1] + 1
        if after is not None and after != revision - 1:
            raise Conflict(
                f"{endpoint} was changed meanwhile: its revision is {revision - 1}, and this was made for {after}; look again",
                now=revision - 1,
            )
        insert = f"INSERT INTO splits (endpoint, revision, setup, changed_by) VALUES (%s, %s, %s, %s) RETURNING {_COLUMNS}"
        written = orjson.dumps(write_setup(setup)).decode()
        row = await (await connection.execute(insert.encode(), (endpoint, revision, written, changed_by))).fetchone()
        assert row is not None
        for name in setup.versions:
            await connection.execute(
                "INSERT INTO split_versions (endpoint, revision, model, number) VALUES (%s, %s, %s, %s)",
                (endpoint, revision, name.model, name.number),
            )
        await announce(connection, "routes")
        return _split(*row), None if before is None else _split(*before)
