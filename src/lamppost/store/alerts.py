"""Stores alerts, mutes, channels and notices."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass
from datetime import datetime
from typing import Any, Literal
from uuid import UUID, uuid4

from psycopg import AsyncConnection
from psycopg.rows import TupleRow
from psycopg.types.json import Json

from lamppost.core.errors import Conflict, NotFound
from lamppost.core.monitoring.alert_rules import Alert, RuleReading
from lamppost.store.database import Pool

Reports = Literal["none", "daily", "weekly"]


@dataclass(frozen=True, slots=True)
class StoredAlert:
    """A stored alert. number : its id in the database."""

    number: int
    alert: Alert
    acknowledged_by: str | None
    note: str | None


_COLUMNS = "number, endpoint, rule, cause, state, since, seen_at, resolved_at, acknowledged_by, note, evidence"


def _stored(row: TupleRow) -> StoredAlert:
    number, endpoint, rule, cause, state, since, seen_at, resolved_at, by, note, evidence = row
    reading = RuleReading(seen_at, evidence["level"], evidence["summary"], evidence["certainty"], cause, evidence.get("probable_cause"))
    back = datetime.fromisoformat(evidence["back_since"]) if evidence.get("back_since") else None
    return StoredAlert(number, Alert(endpoint, rule, state, since, seen_at, reading, back, resolved_at), by, note)


async def list_alerts(pool: Pool, endpoint: str | None, state: str | None, limit: int) -> list[StoredAlert]:
    """Alerts, those that are open first, then the newest. state : ``open`` for firing and acknowledged ones."""
    async with pool.connection() as connection:
        rows = await connection.execute(
            f"SELECT {_COLUMNS} FROM alerts WHERE (%s::text IS NULL OR endpoint = %s)"
            " AND (%s::text IS NULL OR state = %s OR (%s = 'open' AND state <> 'resolved'))"
            " ORDER BY state = 'resolved', since DESC, number DESC LIMIT %s".encode(),
            (endpoint, endpoint, state, state, state, limit),
        )
        return [_stored(row) for row in await rows.fetchall()]


async def latest_alerts(pool: Pool) -> dict[tuple[str, str], StoredAlert]:
    """The newest alert of each rule of each endpoint."""
    async with pool.connection() as connection:
        rows = await connection.execute(
            f"SELECT DISTINCT ON (endpoint, rule) {_COLUMNS} FROM alerts ORDER BY endpoint, rule, since DESC, number DESC".encode()
        )
        return {(stored.alert.endpoint, stored.alert.rule): stored for stored in map(_stored, await rows.fetchall())}


async def save_alert(connection: AsyncConnection[TupleRow], alert: Alert, number: int | None) -> int:
    """Store an alert: a new one if ``number`` is None. Returns its number."""
    evidence = {
        "level": alert.reading.level,
        "summary": alert.reading.summary,
        "certainty": alert.reading.certainty,
        "probable_cause": alert.reading.probable_cause,
        "back_since": alert.back_since.isoformat() if alert.back_since else None,
    }
    if number is None:
        row = await connection.execute(
            "INSERT INTO alerts (endpoint, rule, cause, state, since, seen_at, resolved_at, evidence)"
            " VALUES (%s, %s, %s, %s, %s, %s, %s, %s) RETURNING number",
            (
                *(alert.endpoint, alert.rule, alert.reading.cause, alert.state, alert.since, alert.seen_at, alert.resolved_at),
                Json(evidence),
            ),
        )
        return int((await row.fetchone() or (0,))[0])
    await connection.execute(
        # an acknowledgement that came meanwhile stands
        "UPDATE alerts SET state = CASE WHEN state = 'acknowledged' AND %s = 'firing' THEN state ELSE %s END,"
        " seen_at = %s, resolved_at = %s, evidence = %s WHERE number = %s",
        (alert.state, alert.state, alert.seen_at, alert.resolved_at, Json(evidence), number),
    )
    return number


async def acknowledge_alert(pool: Pool, number: int, by: str, note: str | None) -> StoredAlert:
    """Acknowledge an alert: somebody looks after it. Raise NotFound, or Conflict if it is resolved."""
    async with pool.connection() as connection, connection.transaction():
        row = await (await connection.execute(f"SELECT {_COLUMNS} FROM alerts WHERE number = %s FOR UPDATE".encode(), (number,))).fetchone()
        if row is None:
            raise NotFound(f"there is no alert {number}; see lamppost alerts")
        if row[4] == "resolved":
            raise Conflict(f"alert {number} is resolved already")
        acknowledged = await connection.execute(
            f"UPDATE alerts SET state = 'acknowledged', acknowledged_by = %s, note = %s WHERE number = %s RETURNING {_COLUMNS}".encode(),
            (by, note, number),
        )
        return _stored((await acknowledged.fetchone()) or row)


async def resolve_alerts_of(connection: AsyncConnection[TupleRow], endpoint: str) -> None:
    """Resolve what is open of an endpoint that is deleted, and end its mute, inside the transaction of the deletion."""
    await connection.execute(
        "UPDATE alerts SET state = 'resolved', resolved_at = now() WHERE endpoint = %s AND state <> 'resolved'", (endpoint,)
    )
    await connection.execute("DELETE FROM mutes WHERE endpoint = %s", (endpoint,))


# -- mutes --------------------------------------------------------------------------------------------------------------


@dataclass(frozen=True, slots=True)
class Mute:
    """Until when no notices go out about an endpoint."""

    endpoint: str
    until: datetime
    muted_by: str
    note: str | None


async def list_mutes(pool: Pool) -> dict[str, Mute]:
    """The mutes that hold now, by endpoint."""
    async with pool.connection() as connection:
        rows = await connection.execute("SELECT endpoint, until, muted_by, note FROM mutes WHERE until > now()")
        return {row[0]: Mute(*row) for row in await rows.fetchall()}


async def mute_endpoint(connection: AsyncConnection[TupleRow], endpoint: str, until: datetime, by: str, note: str | None) -> None:
    """Begin or lengthen a mute, or end it with a time in the past."""
    await connection.execute(
        "INSERT INTO mutes (endpoint, until, muted_by, note) VALUES (%s, %s, %s, %s) ON CONFLICT (endpoint) DO UPDATE SET"
        " until = excluded.until, muted_by = excluded.muted_by, note = excluded.note",
        (endpoint, until, by, note),
    )


# -- channels and notices ------------------------------------------------------------------------------------------------


@dataclass(frozen=True, slots=True)
class Channel:
    """Where notices go. endpoints : which it is about, None for all. reports : how often it gets reports; mail only."""

    name: str
    kind: Literal["webhook", "mail"]
    target: str
    secret: str | None
    endpoints: list[str] | None
    reports: Reports
    reported_at: datetime | None
    made_by: str
    made_at: datetime

    def hears(self, endpoint: str) -> bool:
        """Whether the channel gets notices about an endpoint."""
        return self.endpoints is None or endpoint in self.endpoints


_CHANNEL = "SELECT name, kind, target, secret, endpoints, reports, reported_at, made_by, made_at FROM channels"


async def list_channels(pool: Pool) -> list[Channel]:
    """All channels by name."""
    async with pool.connection() as connection:
        return [Channel(*row) for row in await (await connection.execute(f"{_CHANNEL} ORDER BY name".encode())).fetchall()]


async def make_channel(connection: AsyncConnection[TupleRow], channel: Channel) -> None:
    """A new channel; raise Conflict where the name is taken."""
    existing = await connection.execute(
        "INSERT INTO channels (name, kind, target, secret, endpoints, reports, reported_at, made_by)"
        " VALUES (%s, %s, %s, %s, %s, %s, %s, %s)"
        " ON CONFLICT (name) DO NOTHING",
        (
            *(channel.name, channel.kind, channel.target, channel.secret, channel.endpoints),
            *(channel.reports, channel.reported_at, channel.made_by),
        ),
    )
    if not existing.rowcount:
        raise Conflict(f"there is a channel {channel.name!r} already; remove it first: lamppost channels remove {channel.name}")


async def remove_channel(connection: AsyncConnection[TupleRow], name: str) -> None:
    """Remove a channel and what waits to go out by it; raise NotFound."""
    if not (await connection.execute("DELETE FROM channels WHERE name = %s", (name,))).rowcount:
        raise NotFound(f"there is no channel {name!r}; see lamppost channels")


async def note_report_sent(pool: Pool, name: str, at: datetime) -> None:
    """Note that a scheduled report was sent."""
    async with pool.connection() as connection:
        await connection.execute("UPDATE channels SET reported_at = %s WHERE name = %s", (at, name))


@dataclass(frozen=True, slots=True)
class Notice:
    """A notice on its way to a channel. tries : attempts that failed."""

    id: UUID
    channel: Channel
    body: dict[str, Any]
    tries: int


async def add_notices(connection: AsyncConnection[TupleRow], names: Sequence[str], body: dict[str, Any]) -> None:
    """A notice for each of some channels, in the transaction that stores its alerts."""
    for name in names:
        await connection.execute("INSERT INTO notices (id, channel, body) VALUES (%s, %s, %s)", (uuid4(), name, Json(body)))


async def due_notices(pool: Pool, limit: int = 20) -> list[Notice]:
    """Notices that are due."""
    known = {channel.name: channel for channel in await list_channels(pool)}
    async with pool.connection() as connection:
        rows = await connection.execute(
            "SELECT id, channel, body, tries FROM notices WHERE done_at IS NULL AND NOT given_up AND next_try <= now()"
            " ORDER BY made_at LIMIT %s",
            (limit,),
        )
        return [Notice(row[0], known[row[1]], row[2], row[3]) for row in await rows.fetchall() if row[1] in known]


async def note_sent(pool: Pool, notice: Notice) -> None:
    """Note that a notice arrived."""
    async with pool.connection() as connection:
        await connection.execute("UPDATE notices SET done_at = now(), error = NULL, tries = tries + 1 WHERE id = %s", (notice.id,))


async def note_not_sent(pool: Pool, notice: Notice, error: str, wait_s: float | None) -> None:
    """Note that a notice did not arrive. wait_s : seconds until the next attempt, None to give up."""
    async with pool.connection() as connection:
        await connection.execute(
            "UPDATE notices SET tries = tries + 1, error = %s, given_up = %s, next_try = now() + make_interval(secs => %s) WHERE id = %s",
            (error[:500], wait_s is None, wait_s or 0.0, notice.id),
        )


async def list_notices(pool: Pool, limit: int = 50) -> list[dict[str, Any]]:
    """The newest notices, each with whether it arrived."""
    async with pool.connection() as connection:
        rows = await connection.execute(
            "SELECT id, channel, made_at, body, tries, done_at, given_up, error FROM notices ORDER BY made_at DESC LIMIT %s", (limit,)
        )
        names = ("id", "channel", "made_at", "body", "tries", "done_at", "given_up", "error")
        return [dict(zip(names, row, strict=True)) for row in await rows.fetchall()]
