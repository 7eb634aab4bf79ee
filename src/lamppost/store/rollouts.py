"""Stores rollouts: one at a time for each endpoint, moved by whichever node holds the row."""

from __future__ import annotations

from collections.abc import AsyncIterator
from contextlib import asynccontextmanager
from dataclasses import dataclass
from datetime import datetime
from typing import Any

import orjson
from psycopg import AsyncConnection
from psycopg.errors import UniqueViolation
from psycopg.rows import TupleRow

from lamppost.core.endpoint.rollout import Rollout, read_rollout, write_rollout
from lamppost.core.endpoint.rollout_guards import StepCounts, read_counts, write_counts
from lamppost.core.endpoint.rollout_steering import OVER
from lamppost.core.errors import Conflict, NotFound
from lamppost.store.database import Pool

_COLUMNS = "number, endpoint, rollout, before, revision, p99_ms, readings, begun_by, begun_at, step_since, ended_at"


@dataclass(frozen=True, slots=True)
class StoredRollout:
    """A rollout with its number. before : the revision in force before it. revision : of its present step, or of what it ended with.

    p99_ms : of the old version before it, None where it had too few calls. readings : what its guards said last, as JSON.
    """

    number: int
    endpoint: str
    rollout: Rollout
    before: int
    revision: int
    p99_ms: float | None
    readings: list[dict[str, Any]]
    begun_by: str
    begun_at: datetime
    step_since: datetime
    ended_at: datetime | None


async def begin_rollout(
    connection: AsyncConnection[TupleRow], endpoint: str, rollout: Rollout, before: int, p99_ms: float | None, by: str
) -> int:
    """A new rollout, inside the transaction of its first step; raise Conflict while another one goes on there."""
    try:
        row = await (
            await connection.execute(
                "INSERT INTO rollouts (endpoint, rollout, state, before, revision, p99_ms, begun_by)"
                " VALUES (%s, %s, %s, %s, %s, %s, %s) RETURNING number",
                (endpoint, orjson.dumps(write_rollout(rollout)).decode(), rollout.state, before, before + 1, p99_ms, by),
            )
        ).fetchone()
    except UniqueViolation:
        raise Conflict(f"a rollout of {endpoint} goes on already; finish it, take it back, or wait: lamppost rollout {endpoint}") from None
    assert row is not None
    return int(row[0])


async def save_rollout(
    connection: AsyncConnection[TupleRow], number: int, rollout: Rollout, revision: int, readings: list[dict[str, Any]], new_step: bool
) -> None:
    """Store where a rollout stands; a rollout that is over gets its end time."""
    await connection.execute(
        "UPDATE rollouts SET rollout = %s, state = %s, revision = %s, readings = %s,"
        " step_since = CASE WHEN %s THEN now() ELSE step_since END,"
        " ended_at = CASE WHEN %s THEN now() END WHERE number = %s",
        (
            orjson.dumps(write_rollout(rollout)).decode(),
            rollout.state,
            revision,
            orjson.dumps(readings).decode(),
            new_step,
            rollout.state in OVER,
            number,
        ),
    )


async def running_rollouts(pool: Pool) -> list[int]:
    """The numbers of all rollouts that are not over."""
    async with pool.connection() as connection:
        rows = await connection.execute("SELECT number FROM rollouts WHERE ended_at IS NULL ORDER BY number")
        return [number for (number,) in await rows.fetchall()]


Held = tuple[AsyncConnection[TupleRow], StoredRollout | None]


@asynccontextmanager
async def hold_rollout(pool: Pool, number: int | None = None, endpoint: str | None = None) -> AsyncIterator[Held]:
    """A rollout that goes on, by number (None if another node holds it) or by endpoint (waits for it), held until the transaction ends."""
    where, value, wait = ("number = %s", number, " SKIP LOCKED") if endpoint is None else ("endpoint = %s", endpoint, "")
    # the endpoint is locked first, as every change of one does
    query = f"SELECT {_COLUMNS} FROM endpoints JOIN rollouts ON endpoint = name WHERE {where} AND ended_at IS NULL FOR NO KEY UPDATE{wait}"
    async with pool.connection() as connection, connection.transaction():
        row = await (await connection.execute(query.encode(), (value,))).fetchone()
        if row is None and endpoint is not None:
            raise NotFound(f"no rollout of {endpoint} goes on; begin one with: lamppost rollout {endpoint} MODEL@N")
        yield connection, None if row is None else _stored(*row)


async def latest_rollouts(pool: Pool, endpoint: str, limit: int = 1) -> list[StoredRollout]:
    """The last rollouts of an endpoint, the newest first."""
    async with pool.connection() as connection:
        query = f"SELECT {_COLUMNS} FROM rollouts WHERE endpoint = %s ORDER BY number DESC LIMIT %s"
        return [_stored(*row) for row in await (await connection.execute(query.encode(), (endpoint, limit))).fetchall()]


def _stored(number: int, endpoint: str, rollout: Any, *more: Any) -> StoredRollout:
    return StoredRollout(number, endpoint, read_rollout(rollout), *more)


async def end_replaced_rollout(connection: AsyncConnection[TupleRow], endpoint: str, reason: str) -> int | None:
    """End a rollout of an endpoint that somebody changes otherwise, inside the transaction of that change."""
    query = f"SELECT {_COLUMNS} FROM rollouts WHERE endpoint = %s AND ended_at IS NULL FOR NO KEY UPDATE"
    row = await (await connection.execute(query.encode(), (endpoint,))).fetchone()
    if row is None:
        return None
    stored = _stored(*row)
    await save_rollout(connection, stored.number, stored.rollout.end(reason), stored.revision, stored.readings, new_step=False)
    return stored.number


async def save_node_counts(pool: Pool, number: int, step: int, node: str, counts: StepCounts) -> None:
    """Store everything that a node has counted at a step so far."""
    async with pool.connection() as connection:
        await connection.execute(
            "INSERT INTO rollout_counts (rollout, step, node, counts) VALUES (%s, %s, %s, %s)"
            " ON CONFLICT (rollout, step, node) DO UPDATE SET counts = excluded.counts",
            (number, step, node, orjson.dumps(write_counts(counts)).decode()),
        )


async def sum_counts(connection: AsyncConnection[TupleRow], number: int, rollout: Rollout) -> list[StepCounts]:
    """What all nodes have counted, for each step up to the present one."""
    steps = [StepCounts(step.share) for step in rollout.plan.steps[: rollout.step + 1]]
    rows = await connection.execute("SELECT step, counts FROM rollout_counts WHERE rollout = %s", (number,))
    for step, counts in await rows.fetchall():
        if step < len(steps):
            steps[step].add(read_counts(counts))
    return steps
