"""Stores loads: their plans, the tokens that they come with, and what came of them."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass
from datetime import datetime, timedelta

import orjson
from psycopg import AsyncConnection
from psycopg.errors import UniqueViolation
from psycopg.rows import TupleRow

from lamppost.core.errors import Conflict, NotFound
from lamppost.core.load.load_plan import LoadPlan, read_plan, write_plan
from lamppost.core.load.load_result import LoadStep, read_steps, write_steps
from lamppost.core.names import closest_name
from lamppost.core.roles import LOAD_TOKEN
from lamppost.store import trail
from lamppost.store.database import Pool, announce
from lamppost.store.tokens import hash_of, new_secret
from lamppost.store.trail import ChangedBy

_SPARE = timedelta(minutes=2)
"""Beyond its steps, a load may take so long; then its token ends, and the endpoint is free for another one."""
_COLUMNS = "name, number, endpoints, plan, serves, made_by, made_at, ends_at, ended_at, result"


@dataclass(frozen=True, slots=True)
class StoredLoad:
    """A load. serves : what each endpoint served at its start, in words. steps : what came of it, empty while it goes on."""

    name: str
    number: int
    endpoints: tuple[str, ...]
    plan: LoadPlan
    serves: dict[str, str]
    made_by: str
    made_at: datetime
    ends_at: datetime
    ended_at: datetime | None
    steps: list[LoadStep]


def _load(row: TupleRow) -> StoredLoad:
    name, number, endpoints, plan, serves, made_by, made_at, ends_at, ended_at, result = row
    steps = [] if result is None else read_steps(result)
    return StoredLoad(name, number, tuple(endpoints), read_plan(plan), serves, made_by, made_at, ends_at, ended_at, steps)


async def begin_load(pool: Pool, plan: LoadPlan, name: str | None, serves: dict[str, str], by: ChangedBy) -> tuple[StoredLoad, str]:
    """Keep a load that begins now, and make the token that its calls come with; returns both.

    Raise Conflict for a name that is taken, or while another load goes on at one of the endpoints.
    """
    secret = new_secret()
    async with pool.connection() as connection, connection.transaction():
        await connection.execute("LOCK TABLE loads IN SHARE ROW EXCLUSIVE MODE")
        going = await connection.execute(
            "SELECT name, made_by FROM loads WHERE ended_at IS NULL AND ends_at > now() AND endpoints && %s::text[] LIMIT 1",
            (list(plan.endpoints),),
        )
        if (other := await going.fetchone()) is not None:
            raise Conflict(f"the load {other[0]} of {other[1]} goes on there; two at once would measure each other, so wait for its end")
        if name is None:
            rows = await connection.execute(
                "SELECT coalesce(max(substring(name FROM '-([0-9]{1,9})$')::int), 0) + 1 FROM loads WHERE name ~ %s",
                (f"^{plan.endpoints[0]}-load-[0-9]{{1,9}}$",),
            )
            name = f"{plan.endpoints[0][:50]}-load-{(await rows.fetchone() or (1,))[0]}"
        try:
            rows = await connection.execute(
                "INSERT INTO loads (name, endpoints, plan, serves, made_by, ends_at)"
                f" VALUES (%s, %s, %s, %s, %s, now() + %s) RETURNING {_COLUMNS}".encode(),
                (
                    name,
                    list(plan.endpoints),
                    orjson.dumps(write_plan(plan)).decode(),
                    orjson.dumps(serves).decode(),
                    by.token,
                    timedelta(seconds=plan.whole_s) + _SPARE,
                ),
            )
        except UniqueViolation as error:
            raise Conflict(f"there is a load {name} already; choose another name, or leave it out") from error
        row = await rows.fetchone()
        assert row is not None
        load = _load(row)
        await connection.execute(
            "INSERT INTO tokens (name, role, endpoints, hash, made_by, expires_at) VALUES (%s, 'caller', %s, %s, %s, %s)",
            (LOAD_TOKEN + name, list(plan.endpoints), hash_of(secret), by.token, load.ends_at),
        )
        await trail.add_entry(connection, by, "began load", name, after=write_plan(plan))
        await announce(connection, "tokens")
    return load, secret


async def end_load(pool: Pool, name: str, steps: Sequence[LoadStep]) -> StoredLoad:
    """Keep what came of a load, and end its token. Raise NotFound."""
    async with pool.connection() as connection, connection.transaction():
        rows = await connection.execute(
            f"UPDATE loads SET result = %s, ended_at = coalesce(ended_at, now()) WHERE name = %s RETURNING {_COLUMNS}".encode(),
            (orjson.dumps(write_steps(steps)).decode(), name),
        )
        row = await rows.fetchone()
        if row is None:
            raise NotFound(f"there is no load {name}; see lamppost loads")
        await _end_tokens(connection, [name])
    return _load(row)


async def end_overdue_loads(pool: Pool) -> None:
    """End the loads whose time is over and of which nothing was heard."""
    async with pool.connection() as connection, connection.transaction():
        ended = await connection.execute("UPDATE loads SET ended_at = ends_at WHERE ended_at IS NULL AND ends_at < now() RETURNING name")
        names = [row[0] for row in await ended.fetchall()]
        if names:
            await _end_tokens(connection, names)


async def _end_tokens(connection: AsyncConnection[TupleRow], names: Sequence[str]) -> None:
    await connection.execute("DELETE FROM tokens WHERE name = ANY (%s)", ([LOAD_TOKEN + name for name in names],))
    await announce(connection, "tokens")


async def list_loads(pool: Pool, endpoint: str | None, limit: int) -> list[StoredLoad]:
    """Loads, the newest first. endpoint : only those that asked it."""
    async with pool.connection() as connection:
        rows = await connection.execute(
            f"SELECT {_COLUMNS} FROM loads WHERE %(endpoint)s::text IS NULL OR %(endpoint)s = ANY (endpoints)"
            " ORDER BY number DESC LIMIT %(limit)s".encode(),
            {"endpoint": endpoint, "limit": limit},
        )
        return [_load(row) for row in await rows.fetchall()]


async def going_load(pool: Pool, endpoint: str) -> StoredLoad | None:
    """The load that goes on at an endpoint; None where none does."""
    async with pool.connection() as connection:
        rows = await connection.execute(
            f"SELECT {_COLUMNS} FROM loads WHERE ended_at IS NULL AND ends_at > now() AND %s = ANY (endpoints)".encode(), (endpoint,)
        )
        row = await rows.fetchone()
    return None if row is None else _load(row)


async def get_load(pool: Pool, name: str) -> StoredLoad:
    """One load; raise NotFound."""
    async with pool.connection() as connection:
        rows = await connection.execute(f"SELECT {_COLUMNS} FROM loads WHERE name = %s".encode(), (name,))
        if (row := await rows.fetchone()) is not None:
            return _load(row)
        latest = await connection.execute("SELECT name FROM loads ORDER BY number DESC LIMIT 200")
        like = closest_name(name, [row[0] for row in await latest.fetchall()])
    raise NotFound(f"there is no load {name}; " + (f"did you mean {like}?" if like else "see lamppost loads"))


async def forget_load(pool: Pool, name: str, by: ChangedBy) -> None:
    """Delete a load; raise NotFound."""
    await get_load(pool, name)
    async with pool.connection() as connection, connection.transaction():
        await connection.execute("DELETE FROM loads WHERE name = %s", (name,))
        await _end_tokens(connection, [name])
        await trail.add_entry(connection, by, "forgot load", name)
