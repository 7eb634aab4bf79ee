"""Stores schedules of bulk runs, and what was done at each time that was due."""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from dataclasses import dataclass
from datetime import UTC, datetime, timedelta
from typing import Any, Literal

import orjson
from psycopg import AsyncConnection
from psycopg.rows import TupleRow

from lamppost.core.bulk.order import read_order, write_order
from lamppost.core.bulk.schedule import DueTime, Schedule, next_times, run_name_at, write_schedules
from lamppost.core.errors import NotFound
from lamppost.core.names import closest_name
from lamppost.store import trail
from lamppost.store.database import Pool
from lamppost.store.trail import ChangedBy

TimeState = Literal["starting", "started", "skipped", "refused"]
_KEPT_TIMES = 500
"""Times of a schedule that are kept; older ones are deleted."""
_CLAIM_HOLDS = timedelta(minutes=3)
"""For so long a claim is its claimant's: looking at a source takes up to two minutes."""
_COLUMNS = "name, every, zone, written, missed, paused, made_by, made_at, next_at"


@dataclass(frozen=True, slots=True)
class StoredSchedule:
    """next_at : the first time that was not decided yet; None where it is never due again."""

    schedule: Schedule
    made_by: str
    made_at: datetime
    next_at: datetime | None


@dataclass(frozen=True, slots=True)
class ScheduledTime:
    """A time that was due. run : that was started for it. run_state : of that run now, if it is still known."""

    schedule: str
    due_at: datetime
    decided_at: datetime
    state: TimeState
    run: str | None
    note: str | None
    run_state: str | None = None
    reason: str | None = None


def _stored(row: TupleRow) -> StoredSchedule:
    name, every, zone, written, missed, paused, made_by, made_at, next_at = row
    return StoredSchedule(Schedule(name, every, zone, read_order(written), missed, paused), made_by, made_at, next_at)


async def list_schedules(pool: Pool) -> list[StoredSchedule]:
    """All schedules, by name."""
    async with pool.connection() as connection:
        rows = await connection.execute(f"SELECT {_COLUMNS} FROM schedules ORDER BY name".encode())
        return [_stored(row) for row in await rows.fetchall()]


async def get_schedule(pool: Pool, name: str) -> StoredSchedule:
    """One schedule; raise NotFound."""
    async with pool.connection() as connection:
        rows = await connection.execute(f"SELECT {_COLUMNS} FROM schedules WHERE name = %s".encode(), (name,))
        if (row := await rows.fetchone()) is not None:
            return _stored(row)
        others = await connection.execute("SELECT name FROM schedules")
        like = closest_name(name, [row[0] for row in await others.fetchall()])
    raise NotFound(f"there is no schedule {name}; " + (f"did you mean {like}?" if like else "see lamppost schedule list"))


async def save_schedules(pool: Pool, schedules: Sequence[Schedule], by: ChangedBy, action: str = "schedule") -> None:
    """Keep schedules, all or none; they are due from now on."""
    async with pool.connection() as connection, connection.transaction():
        for schedule in schedules:
            await _save(connection, schedule, by, action)


async def _save(connection: AsyncConnection[TupleRow], schedule: Schedule, by: ChangedBy, action: str) -> None:
    rows = await connection.execute(f"SELECT {_COLUMNS} FROM schedules WHERE name = %s FOR UPDATE".encode(), (schedule.name,))
    row = await rows.fetchone()
    before = _stored(row).schedule if row is not None else None
    if before == schedule:
        return
    due = next_times(schedule.every, schedule.zone, datetime.now(UTC), 1)
    await connection.execute(
        "INSERT INTO schedules (name, every, zone, written, missed, paused, made_by, next_at) VALUES (%s, %s, %s, %s, %s, %s, %s, %s)"
        " ON CONFLICT (name) DO UPDATE SET every = excluded.every, zone = excluded.zone, written = excluded.written,"
        " missed = excluded.missed, paused = excluded.paused, next_at = excluded.next_at",
        (
            *(schedule.name, schedule.every, schedule.zone, orjson.dumps(write_order(schedule.order)).decode()),
            *(schedule.missed, schedule.paused, by.token, due[0] if due else None),
        ),
    )
    await trail.add_entry(
        connection, by, action, schedule.name, None if before is None else write_schedules([before]), write_schedules([schedule])
    )


async def delete_schedule(pool: Pool, name: str, by: ChangedBy) -> None:
    """Delete a schedule; its runs stay. Raise NotFound."""
    stored = await get_schedule(pool, name)
    async with pool.connection() as connection, connection.transaction():
        await connection.execute("DELETE FROM schedules WHERE name = %s", (name,))
        await trail.add_entry(connection, by, "schedule remove", name, before=write_schedules([stored.schedule]))


async def claim_times(pool: Pool, schedule: Schedule, decided: Sequence[DueTime], now: datetime) -> list[datetime]:
    """Note what is done about times that have come; returns those whose runs are to be started. Of two who claim a time, one gets it."""
    claimed = []
    async with pool.connection() as connection, connection.transaction():
        for due in decided:
            state: TimeState = "starting" if due.start else "skipped"
            done = await connection.execute(
                "INSERT INTO schedule_times (schedule, due_at, state, run, note) VALUES (%s, %s, %s, %s, %s) ON CONFLICT DO NOTHING",
                (schedule.name, due.at, state, run_name_at(schedule.name, due.at) if due.start else None, due.note),
            )
            if done.rowcount and due.start:
                claimed.append(due.at)
        following = next_times(schedule.every, schedule.zone, max([now, *(due.at for due in decided)]), 1)
        await connection.execute("UPDATE schedules SET next_at = %s WHERE name = %s", (following[0] if following else None, schedule.name))
        await connection.execute(
            "DELETE FROM schedule_times WHERE schedule = %s AND due_at < (SELECT due_at FROM schedule_times WHERE schedule = %s"
            " ORDER BY due_at DESC OFFSET %s LIMIT 1)",
            (schedule.name, schedule.name, _KEPT_TIMES),
        )
    return claimed


async def claim_now(pool: Pool, name: str, at: datetime) -> None:
    """Note a time that somebody asked for."""
    async with pool.connection() as connection:
        await connection.execute(
            "INSERT INTO schedule_times (schedule, due_at, state, run, note) VALUES (%s, %s, 'starting', %s, 'asked for')"
            " ON CONFLICT DO NOTHING",
            (name, at, run_name_at(name, at)),
        )


async def times_to_start(pool: Pool) -> list[tuple[str, datetime]]:
    """Times that were claimed some minutes ago and whose runs were not started, because whoever claimed them has ended meanwhile."""
    async with pool.connection() as connection:
        rows = await connection.execute(
            "SELECT schedule, due_at FROM schedule_times WHERE state = 'starting' AND decided_at < now() - %s ORDER BY due_at",
            (_CLAIM_HOLDS,),
        )
        return [(row[0], row[1]) for row in await rows.fetchall()]


async def settle_time(pool: Pool, schedule: str, due_at: datetime, state: TimeState, run: str | None, note: str | None) -> None:
    """Note what came of a time."""
    async with pool.connection() as connection:
        await connection.execute(
            "UPDATE schedule_times SET state = %s, run = %s, note = coalesce(%s, note) WHERE schedule = %s AND due_at = %s",
            (state, run, note, schedule, due_at),
        )


async def list_times(pool: Pool, schedule: str, limit: int) -> list[ScheduledTime]:
    """The last times of a schedule, the newest first."""
    async with pool.connection() as connection:
        rows = await connection.execute(
            "SELECT t.schedule, t.due_at, t.decided_at, t.state, t.run, t.note, r.state, r.reason FROM schedule_times t"
            " LEFT JOIN bulk_runs r ON r.name = t.run WHERE t.schedule = %s ORDER BY t.due_at DESC LIMIT %s",
            (schedule, limit),
        )
        return [ScheduledTime(*row) for row in await rows.fetchall()]


async def latest_times(pool: Pool) -> Mapping[str, ScheduledTime]:
    """By schedule, the last time that was not skipped."""
    async with pool.connection() as connection:
        rows = await connection.execute(
            "SELECT DISTINCT ON (t.schedule) t.schedule, t.due_at, t.decided_at, t.state, t.run, t.note, r.state, r.reason"
            " FROM schedule_times t LEFT JOIN bulk_runs r ON r.name = t.run WHERE t.state <> 'skipped' ORDER BY t.schedule, t.due_at DESC"
        )
        times = [ScheduledTime(*row) for row in await rows.fetchall()]
    return {time.schedule: time for time in times}


async def going_run(pool: Pool, schedule: str, among: Sequence[str]) -> str | None:
    """The name of a run of a schedule that goes on; None where there is none. among : states of runs that go on."""
    async with pool.connection() as connection:
        rows = await connection.execute(
            "SELECT r.name FROM schedule_times t JOIN bulk_runs r ON r.name = t.run WHERE t.schedule = %s AND r.state = ANY (%s) LIMIT 1",
            (schedule, list(among)),
        )
        row = await rows.fetchone()
        return None if row is None else str(row[0])


def schedule_document(stored: Sequence[StoredSchedule]) -> dict[str, Any]:
    """All schedules as the declared document holds them."""
    return write_schedules([one.schedule for one in stored])
