"""Stores desks, the links that open them, and how often each was used."""

from __future__ import annotations

from dataclasses import dataclass
from datetime import date, datetime
from typing import Any

import orjson

from lamppost.core.desk.settings import DeskSettings, read_settings, write_settings
from lamppost.core.errors import NotFound
from lamppost.store import trail
from lamppost.store.database import Pool, announce
from lamppost.store.trail import ChangedBy


@dataclass(frozen=True, slots=True)
class StoredDesk:
    """A desk. made_by : who set it last."""

    endpoint: str
    settings: DeskSettings
    made_by: str
    changed_at: datetime


@dataclass(frozen=True, slots=True)
class DeskUse:
    """How often a link was used on a day. rows : of files."""

    token: str
    day: date
    questions: int
    files: int
    rows: int


async def save_desk(pool: Pool, endpoint: str, settings: DeskSettings, by: ChangedBy) -> None:
    """Keep what a desk shows; its links stay."""
    written = write_settings(settings)
    async with pool.connection() as connection, connection.transaction():
        await connection.execute(
            "INSERT INTO desks (endpoint, written, made_by) VALUES (%s, %s, %s)"
            " ON CONFLICT (endpoint) DO UPDATE SET written = excluded.written, made_by = excluded.made_by, changed_at = now()",
            (endpoint, orjson.dumps(written).decode(), by.token),
        )
        await trail.add_entry(connection, by, "set desk", endpoint, after=written)


async def find_desk(pool: Pool, endpoint: str) -> StoredDesk | None:
    """The desk of an endpoint; None where there is none."""
    async with pool.connection() as connection:
        rows = await connection.execute("SELECT endpoint, written, made_by, changed_at FROM desks WHERE endpoint = %s", (endpoint,))
        row = await rows.fetchone()
    return None if row is None else StoredDesk(row[0], read_settings(row[1]), row[2], row[3])


async def get_desk(pool: Pool, endpoint: str) -> StoredDesk:
    """The desk of an endpoint; raise NotFound."""
    if (desk := await find_desk(pool, endpoint)) is None:
        raise NotFound(f"{endpoint} has no desk; open one: lamppost desk open {endpoint}")
    return desk


async def list_desks(pool: Pool) -> list[StoredDesk]:
    """All desks, by endpoint."""
    async with pool.connection() as connection:
        rows = await connection.execute("SELECT endpoint, written, made_by, changed_at FROM desks ORDER BY endpoint")
        return [StoredDesk(row[0], read_settings(row[1]), row[2], row[3]) for row in await rows.fetchall()]


async def note_use(pool: Pool, endpoint: str, token: str, questions: int = 0, files: int = 0, rows: int = 0) -> None:
    """Count a use of today."""
    async with pool.connection() as connection:
        await connection.execute(
            "INSERT INTO desk_uses (endpoint, token, day, questions, files, rows)"
            " VALUES (%s, %s, (now() AT TIME ZONE 'UTC')::date, %s, %s, %s)"
            " ON CONFLICT (endpoint, token, day) DO UPDATE SET questions = desk_uses.questions + excluded.questions,"
            " files = desk_uses.files + excluded.files, rows = desk_uses.rows + excluded.rows",
            (endpoint, token, questions, files, rows),
        )


async def list_uses(pool: Pool, endpoint: str, days: int) -> list[DeskUse]:
    """How often each link was used, by day, the newest first."""
    async with pool.connection() as connection:
        rows = await connection.execute(
            "SELECT token, day, questions, files, rows FROM desk_uses WHERE endpoint = %s"
            " AND day > (now() AT TIME ZONE 'UTC')::date - %s::int ORDER BY day DESC, token",
            (endpoint, days),
        )
        return [DeskUse(*row) for row in await rows.fetchall()]


async def close_desk(pool: Pool, endpoint: str, by: ChangedBy) -> None:
    """Delete a desk: its settings, its links and their sessions. Results stay until their time is over. Raise NotFound."""
    async with pool.connection() as connection, connection.transaction():
        gone = await connection.execute("DELETE FROM desks WHERE endpoint = %s", (endpoint,))
        if not gone.rowcount:
            raise NotFound(f"{endpoint} has no desk")
        ended = await connection.execute(
            "UPDATE tokens SET revoked_at = now() WHERE role = 'desk' AND %s = ANY (endpoints) AND revoked_at IS NULL RETURNING name",
            (endpoint,),
        )
        names: list[Any] = [row[0] for row in await ended.fetchall()]
        await connection.execute("DELETE FROM sessions WHERE token = ANY (%s)", (names,))
        await trail.add_entry(connection, by, "closed desk", endpoint, after={"links": names})
        await announce(connection, "tokens")
