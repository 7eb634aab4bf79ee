"""Stores sweeps: their plans, how far they are, and everything that they measured."""

from __future__ import annotations

from collections.abc import Awaitable, Callable, Sequence
from dataclasses import dataclass
from datetime import datetime
from typing import Literal

import orjson
from psycopg.errors import UniqueViolation
from psycopg.rows import TupleRow

from lamppost.core.errors import Conflict, NotFound
from lamppost.core.names import closest_name, parse_version
from lamppost.core.sweep.measurement import Measurement, read_measurement, write_measurement
from lamppost.core.sweep.sweep_plan import SweepPlan, read_plan, write_plan
from lamppost.store import trail
from lamppost.store.database import Pool
from lamppost.store.trail import ChangedBy

SweepState = Literal["waiting", "running", "stopping", "stopped", "finished", "failed"]
RESUMABLE: frozenset[SweepState] = frozenset({"stopped", "failed", "finished"})
UNDER_WAY: frozenset[SweepState] = frozenset({"waiting", "running", "stopping"})
_COLUMNS = (
    "name, number, plan, node, state, reason, combinations, cores, busy_s, made_by, made_at, started_at, ended_at,"
    " (SELECT count(DISTINCT (measured -> 'setting')::text) FROM sweep_measurements WHERE sweep = name),"
    " (SELECT count(*) FROM sweep_measurements WHERE sweep = name),"
    " (SELECT coalesce(max((measured ->> 'round')::integer), 0) FROM sweep_measurements WHERE sweep = name)"
)


@dataclass(frozen=True, slots=True)
class StoredSweep:
    """A sweep. combinations : that could be measured. busy_s : seconds spent on it. reason : why it is in its state, or None.

    settings : that were measured. repeats : of all of them together. rounds : in which every setting of interest was measured once.
    """

    name: str
    number: int
    plan: SweepPlan
    node: str
    state: SweepState
    reason: str | None
    combinations: int | None
    cores: int | None
    busy_s: float
    made_by: str
    made_at: datetime
    started_at: datetime | None
    ended_at: datetime | None
    settings: int
    repeats: int
    rounds: int


def _sweep(row: TupleRow) -> StoredSweep:
    name, number, plan, *others = row
    return StoredSweep(name, number, read_plan(plan), *others)


async def add_sweep(
    pool: Pool, plan: SweepPlan, name: str | None, node: str, by: ChangedBy, keep_rows: Callable[[str], Awaitable[None]]
) -> StoredSweep:
    """Keep a sweep that waits to be measured on a node; raise Conflict for a name that is taken.

    keep_rows : called with the name of the sweep before anybody can see it, so that a visible sweep has its rows.
    """
    async with pool.connection() as connection, connection.transaction():
        await connection.execute("LOCK TABLE sweeps IN SHARE ROW EXCLUSIVE MODE")
        if name is None:
            model = parse_version(plan.versions[0]).model[:50]
            rows = await connection.execute(
                "SELECT coalesce(max(substring(name FROM '-([0-9]{1,9})$')::int), 0) + 1 FROM sweeps WHERE name ~ %s",
                (f"^{model}-sweep-[0-9]{{1,9}}$",),
            )
            name = f"{model}-sweep-{(await rows.fetchone() or (1,))[0]}"
        document = orjson.dumps(write_plan(plan)).decode()
        try:
            rows = await connection.execute(
                f"INSERT INTO sweeps (name, plan, node, made_by) VALUES (%s, %s, %s, %s) RETURNING {_COLUMNS}".encode(),
                (name, document, node, by.token),
            )
        except UniqueViolation as error:
            raise Conflict(f"there is a sweep {name} already; choose another name, or leave it out") from error
        row = await rows.fetchone()
        assert row is not None
        await trail.add_entry(connection, by, "began sweep", name, after=write_plan(plan))
        await keep_rows(name)
    return _sweep(row)


async def list_sweeps(pool: Pool, version: str | None, limit: int) -> list[StoredSweep]:
    """Sweeps, the newest first. version : only those that measure it."""
    async with pool.connection() as connection:
        rows = await connection.execute(
            f"SELECT {_COLUMNS} FROM sweeps WHERE %(version)s::text IS NULL OR plan::jsonb -> 'versions' ? %(version)s"
            " ORDER BY number DESC LIMIT %(limit)s".encode(),
            {"version": version, "limit": limit},
        )
        return [_sweep(row) for row in await rows.fetchall()]


async def get_sweep(pool: Pool, name: str) -> StoredSweep:
    """One sweep; raise NotFound."""
    async with pool.connection() as connection:
        rows = await connection.execute(f"SELECT {_COLUMNS} FROM sweeps WHERE name = %s".encode(), (name,))
        if (row := await rows.fetchone()) is not None:
            return _sweep(row)
        latest = await connection.execute("SELECT name FROM sweeps ORDER BY number DESC LIMIT 200")
        like = closest_name(name, [row[0] for row in await latest.fetchall()])
    raise NotFound(f"there is no sweep {name}; " + (f"did you mean {like}?" if like else "see lamppost sweep list"))


async def sweeps_under_way(pool: Pool, node: str) -> list[StoredSweep]:
    """The sweeps that a node is measuring or has to measure, the oldest first."""
    async with pool.connection() as connection:
        rows = await connection.execute(
            f"SELECT {_COLUMNS} FROM sweeps WHERE node = %s AND state = ANY (%s) ORDER BY number".encode(), (node, sorted(UNDER_WAY))
        )
        return [_sweep(row) for row in await rows.fetchall()]


async def change_sweep(
    pool: Pool,
    name: str,
    state: SweepState,
    among: Sequence[SweepState],
    *,
    reason: str | None = None,
    add_busy_s: float = 0.0,
    combinations: int | None = None,
    cores: int | None = None,
) -> bool:
    """Bring a sweep from one of some states into another; returns whether it was in one of them."""
    async with pool.connection() as connection:
        done = await connection.execute(
            "UPDATE sweeps SET state = %(state)s, reason = %(reason)s, busy_s = busy_s + %(busy)s,"
            " combinations = coalesce(%(combinations)s, combinations), cores = coalesce(%(cores)s, cores),"
            " started_at = CASE WHEN %(state)s = 'running' THEN coalesce(started_at, now()) ELSE started_at END,"
            " ended_at = CASE WHEN %(state)s IN ('stopped', 'finished', 'failed') THEN now() END"
            " WHERE name = %(name)s AND state = ANY (%(among)s)",
            {
                "name": name,
                "state": state,
                "among": list(among),
                "reason": reason,
                "busy": add_busy_s,
                "combinations": combinations,
                "cores": cores,
            },
        )
        return done.rowcount > 0


async def change_sweep_by(
    pool: Pool, name: str, state: SweepState, among: frozenset[SweepState], by: ChangedBy, action: str, plan: SweepPlan | None = None
) -> StoredSweep:
    """Change the state of a sweep because somebody asked for it; raise NotFound, or Conflict for a sweep in another state.

    plan : replaces the plan, None leaves it.
    """
    sweep = await get_sweep(pool, name)
    if not await change_sweep(pool, name, state, sorted(among)):
        raise Conflict(f"the sweep {name} is {sweep.state}, so it cannot be {'resumed' if state == 'waiting' else 'stopped'}")
    async with pool.connection() as connection, connection.transaction():
        if plan is not None:
            await connection.execute("UPDATE sweeps SET plan = %s WHERE name = %s", (orjson.dumps(write_plan(plan)).decode(), name))
        await trail.add_entry(connection, by, action, name)
    return await get_sweep(pool, name)


async def note_time(pool: Pool, name: str, busy_s: float) -> SweepState:
    """Add to the time that a sweep took; returns the state that it is in."""
    async with pool.connection() as connection:
        rows = await connection.execute("UPDATE sweeps SET busy_s = busy_s + %s WHERE name = %s RETURNING state", (busy_s, name))
        row = await rows.fetchone()
    if row is None:
        raise NotFound(f"the sweep {name} was forgotten")
    state: SweepState = row[0]
    return state


async def add_measurement(pool: Pool, name: str, number: int, measured: Measurement) -> None:
    """Keep a measurement. number : of all of the sweep, from 0 on."""
    async with pool.connection() as connection:
        await connection.execute(
            "INSERT INTO sweep_measurements (sweep, number, measured) VALUES (%s, %s, %s) ON CONFLICT DO NOTHING",
            (name, number, orjson.dumps(write_measurement(measured)).decode()),
        )


async def list_measurements(pool: Pool, name: str) -> list[Measurement]:
    """Everything that a sweep has measured, in order."""
    async with pool.connection() as connection:
        rows = await connection.execute("SELECT measured FROM sweep_measurements WHERE sweep = %s ORDER BY number", (name,))
        return [read_measurement(row[0]) for row in await rows.fetchall()]


async def forget_sweep(pool: Pool, name: str, by: ChangedBy) -> None:
    """Delete a sweep with all that it measured; raise NotFound, or Conflict while it goes on."""
    sweep = await get_sweep(pool, name)
    if sweep.state in UNDER_WAY:
        raise Conflict(f"the sweep {name} goes on; stop it first: lamppost sweep stop {name}")
    async with pool.connection() as connection, connection.transaction():
        await connection.execute("DELETE FROM sweeps WHERE name = %s", (name,))
        await trail.add_entry(connection, by, "forgot sweep", name)
