"""Stores rollouts over outposts: one at a time for each endpoint, moved by whichever node holds the row."""

from __future__ import annotations

from collections.abc import AsyncIterator, Mapping, Sequence
from contextlib import asynccontextmanager
from dataclasses import dataclass
from datetime import datetime
from typing import Any

import orjson
from psycopg import AsyncConnection
from psycopg.errors import UniqueViolation
from psycopg.rows import TupleRow

from lamppost.core.endpoint.outpost_rollout import OutpostRollout, read_outpost_rollout, write_outpost_rollout
from lamppost.core.endpoint.rollout_counts import CountedRollout, read_counted_rollout, write_counted_rollout
from lamppost.core.endpoint.rollout_guards import StepCounts, read_counts, write_counts
from lamppost.core.endpoint.rollout_steering import OVER
from lamppost.core.errors import Conflict, NotFound
from lamppost.store.database import Pool

_COLUMNS = "number, endpoint, rollout, counted, readings, begun_by, begun_at, ended_at"
Connection = AsyncConnection[TupleRow]


@dataclass(frozen=True, slots=True)
class StoredOutpostRollout:
    """A rollout over outposts with its number. counted : what is counted. readings : what its guards said last, as JSON."""

    number: int
    endpoint: str
    rollout: OutpostRollout
    counted: CountedRollout
    readings: list[dict[str, Any]]
    begun_by: str
    begun_at: datetime
    ended_at: datetime | None


@dataclass(frozen=True, slots=True)
class OutpostTurn:
    """The turn of one outpost. since, until : while it gave both versions calls, until None while it does. counts : of those calls."""

    outpost: str
    since: datetime
    until: datetime | None
    counts: StepCounts


def _stored(number: int, endpoint: str, rollout: Any, counted: Any, *more: Any) -> StoredOutpostRollout:
    return StoredOutpostRollout(number, endpoint, read_outpost_rollout(rollout), read_counted_rollout(counted), *more)


def _json(value: Any) -> str:
    return orjson.dumps(value).decode()


async def begin_outpost_rollout(connection: Connection, endpoint: str, rollout: OutpostRollout, counted: CountedRollout, by: str) -> int:
    """A new rollout; raise Conflict while another one of the endpoint goes on."""
    try:
        rows = await connection.execute(
            "INSERT INTO outpost_rollouts (endpoint, target, rollout, state, counted, begun_by) VALUES (%s, %s, %s, %s, %s, %s)"
            " RETURNING number",
            (endpoint, rollout.target, _json(write_outpost_rollout(rollout)), rollout.state, _json(write_counted_rollout(counted)), by),
        )
    except UniqueViolation:
        raise Conflict(
            f"a rollout of {endpoint} over outposts goes on already; finish it or take it back first: "
            f"lamppost rollout {endpoint} --at OUTPOST|LABEL --finish or --back"
        ) from None
    row = await rows.fetchone()
    assert row is not None
    return int(row[0])


async def save_outpost_rollout(connection: Connection, number: int, rollout: OutpostRollout, readings: list[dict[str, Any]]) -> None:
    """Store where a rollout stands; one that is over gets its end, and so does the turn that went on."""
    await connection.execute(
        "UPDATE outpost_rollouts SET rollout = %s, state = %s, readings = %s, ended_at = CASE WHEN %s THEN now() END WHERE number = %s",
        (_json(write_outpost_rollout(rollout)), rollout.state, _json(readings), rollout.state in OVER, number),
    )
    present = rollout.at if rollout.under_way and rollout.state not in OVER else None
    await connection.execute(
        "UPDATE outpost_rollout_turns SET until = now() WHERE rollout_number = %s AND until IS NULL AND outpost IS DISTINCT FROM %s",
        (number, present),
    )
    if present is not None:
        await connection.execute(
            "INSERT INTO outpost_rollout_turns (rollout_number, outpost, since, counts) VALUES (%s, %s, now(), %s) ON CONFLICT DO NOTHING",
            (number, present, _json(write_counts(StepCounts(rollout.plan.step.share)))),
        )


async def running_outpost_rollouts(pool: Pool) -> list[StoredOutpostRollout]:
    """All that are not over."""
    async with pool.connection() as connection:
        rows = await connection.execute(f"SELECT {_COLUMNS} FROM outpost_rollouts WHERE ended_at IS NULL ORDER BY number".encode())
        return [_stored(*row) for row in await rows.fetchall()]


async def latest_outpost_rollouts(pool: Pool, endpoint: str | None, limit: int) -> list[StoredOutpostRollout]:
    """The last rollouts of an endpoint, or of all, the newest first."""
    async with pool.connection() as connection:
        rows = await connection.execute(
            f"SELECT {_COLUMNS} FROM outpost_rollouts WHERE %s::text IS NULL OR endpoint = %s ORDER BY number DESC LIMIT %s".encode(),
            (endpoint, endpoint, limit),
        )
        return [_stored(*row) for row in await rows.fetchall()]


@asynccontextmanager
async def hold_outpost_rollout(
    pool: Pool, number: int | None = None, endpoint: str | None = None
) -> AsyncIterator[tuple[Connection, StoredOutpostRollout | None]]:
    """One that goes on, by number (None if another node holds it) or by endpoint (waits for it), held until the transaction ends."""
    where, value, wait = ("number = %s", number, " SKIP LOCKED") if endpoint is None else ("endpoint = %s", endpoint, "")
    query = f"SELECT {_COLUMNS} FROM outpost_rollouts WHERE {where} AND ended_at IS NULL FOR NO KEY UPDATE{wait}"
    async with pool.connection() as connection, connection.transaction():
        row = await (await connection.execute(query.encode(), (value,))).fetchone()
        if row is None and endpoint is not None:
            raise NotFound(
                f"no rollout of {endpoint} over outposts goes on; begin one with: lamppost rollout {endpoint} MODEL@N --at OUTPOST|LABEL"
            )
        yield connection, None if row is None else _stored(*row)


async def end_replaced_outpost_rollout(connection: Connection, endpoint: str, target: str | None, reason: str) -> None:
    """End a rollout whose target is given another version otherwise, inside the transaction of that change; None ends any."""
    rows = await connection.execute(
        f"SELECT {_COLUMNS} FROM outpost_rollouts WHERE endpoint = %s AND (%s::text IS NULL OR target = %s) AND ended_at IS NULL"
        " FOR NO KEY UPDATE".encode(),
        (endpoint, target, target),
    )
    if (row := await rows.fetchone()) is not None:
        stored = _stored(*row)
        await save_outpost_rollout(connection, stored.number, stored.rollout.end(reason), stored.readings)


async def list_turns(connection: Connection, numbers: Sequence[int]) -> dict[int, list[OutpostTurn]]:
    """The turns of rollouts by their numbers, the first one first, with what was counted and judged."""
    rows = await connection.execute(
        "SELECT rollout_number, outpost, since, until, counts, judged FROM outpost_rollout_turns WHERE rollout_number = ANY (%s)"
        " ORDER BY since, outpost",
        (list(numbers),),
    )
    turns: dict[int, list[OutpostTurn]] = {number: [] for number in numbers}
    for number, outpost, since, until, counts, judged in await rows.fetchall():
        total = read_counts(counts)
        if judged is not None:
            total.add(read_counts(judged))
        turns[number].append(OutpostTurn(outpost, since, until, total))
    return turns


async def turns_of_outpost(
    connection: Connection, outpost: str, endpoints: Sequence[str]
) -> list[tuple[StoredOutpostRollout, OutpostTurn]]:
    """The turns that an outpost has had in rollouts that go on, without what is judged; held until the transaction ends."""
    rows = await connection.execute(
        f"SELECT since, until, counts, {_COLUMNS} FROM outpost_rollout_turns t JOIN outpost_rollouts r ON r.number = t.rollout_number"
        " WHERE outpost = %s AND ended_at IS NULL AND endpoint = ANY (%s) ORDER BY number FOR UPDATE OF t".encode(),
        (outpost, list(endpoints)),
    )
    return [
        (_stored(*columns), OutpostTurn(outpost, since, until, read_counts(counts)))
        for since, until, counts, *columns in await rows.fetchall()
    ]


async def save_turn_counts(connection: Connection, number: int, outpost: str, counts: StepCounts) -> None:
    """Store what was counted of a turn."""
    await connection.execute(
        "UPDATE outpost_rollout_turns SET counts = %s WHERE rollout_number = %s AND outpost = %s",
        (_json(write_counts(counts)), number, outpost),
    )


async def save_judged_counts(pool: Pool, number: int, judged: Mapping[str, StepCounts]) -> None:
    """Store, by outpost, what is known of the answers of a turn."""
    async with pool.connection() as connection:
        for outpost, counts in judged.items():
            await connection.execute(
                "UPDATE outpost_rollout_turns SET judged = %s WHERE rollout_number = %s AND outpost = %s",
                (_json(write_counts(counts)), number, outpost),
            )
