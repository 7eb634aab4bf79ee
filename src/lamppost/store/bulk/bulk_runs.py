"""Stores bulk runs, and the blocks of each that are done."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass
from datetime import datetime
from typing import Any, Literal

import orjson
from psycopg import AsyncConnection
from psycopg.errors import UniqueViolation
from psycopg.rows import TupleRow

from lamppost.core.bulk.order import BulkOrder, read_order, write_order
from lamppost.core.endpoint.setup import EndpointSetup, read_setup, write_setup
from lamppost.core.errors import Conflict, NotFound
from lamppost.core.names import closest_name
from lamppost.store import trail
from lamppost.store.database import Pool
from lamppost.store.trail import ChangedBy
from lamppost.store.windows import WindowDelta, add_deltas

RunState = Literal["waiting", "running", "publishing", "stopping", "stopped", "failed", "finished"]
UNDER_WAY: frozenset[str] = frozenset({"waiting", "running", "publishing", "stopping"})
RESUMABLE: frozenset[str] = frozenset({"stopped", "failed"})

_COLUMNS = (
    "name, number, written, setups, endpoints, versions, node, state, reason, made_by, made_at, started_at, ended_at, busy_s, row_total,"
    " source, digest, result, reported_at, report_fault, desk, keep_until"
)


@dataclass(frozen=True, slots=True)
class BulkRun:
    """One run. setups : of each question, fixed at its start. endpoints : of each question, empty where a version is asked.

    versions : all that answer. node : that runs it. reason : why it failed or was stopped. busy_s : seconds that it ran. row_total : rows
    of the source, None while nobody knows. source : the files or the table that it reads, as they were found. digest : SHA-256 over them.
    result : where the output is. reported_at, report_fault : of the report that the order asks for. desk : the endpoint of the desk that
    the run was started at. keep_until : when the run is forgotten by itself, None for never.
    """

    name: str
    number: int
    order: BulkOrder
    setups: tuple[EndpointSetup, ...]
    endpoints: tuple[str, ...]
    versions: tuple[str, ...]
    node: str
    state: RunState
    reason: str | None
    made_by: str
    made_at: datetime
    started_at: datetime | None
    ended_at: datetime | None
    busy_s: float
    row_total: int | None
    source: dict[str, Any] | None
    digest: str | None
    result: dict[str, Any] | None
    reported_at: datetime | None = None
    report_fault: str | None = None
    desk: str | None = None
    keep_until: datetime | None = None

    @property
    def under_way(self) -> bool:
        """Whether it has not ended."""
        return self.state in UNDER_WAY


@dataclass(frozen=True, slots=True)
class RunCounts:
    """What the blocks of a run hold together. rows : that were read, rejected ones too. recent_rows, recent_s : of the last minute."""

    blocks: int = 0
    rows: int = 0
    rejects: int = 0
    recent_rows: int = 0
    recent_s: float = 0.0


@dataclass(frozen=True, slots=True)
class DoneBlock:
    """A block whose output is kept. sketches : for each version that is watched, the bytes of its window."""

    block: int
    rows: int
    rejects: int
    answers: dict[str, dict[str, int]]
    sketches: Sequence[bytes] = ()


_COUNTS = (
    "count(*), coalesce(sum(row_count), 0), coalesce(sum(rejects), 0),"
    " coalesce(sum(row_count) FILTER (WHERE at > now() - interval '1 minute'), 0),"
    " coalesce(extract(epoch FROM now() - min(at) FILTER (WHERE at > now() - interval '1 minute')), 0)"
)


def _counts(row: Sequence[Any]) -> RunCounts:
    return RunCounts(int(row[0]), int(row[1]), int(row[2]), int(row[3]), float(row[4]))


def _run(row: TupleRow) -> BulkRun:
    name, number, written, setups, endpoints, versions, *rest = row
    return BulkRun(name, number, read_order(written), tuple(map(read_setup, setups)), tuple(endpoints), tuple(versions), *rest)


@dataclass(frozen=True, slots=True)
class NewRun:
    """A run that is to be kept. name : None for the next name that is free. row_total, source : as they were found."""

    order: BulkOrder
    setups: tuple[EndpointSetup, ...]
    node: str
    name: str | None = None
    row_total: int | None = None
    source: dict[str, Any] | None = None
    desk: str | None = None
    keep_until: datetime | None = None


async def add_run(pool: Pool, new: NewRun, by: ChangedBy) -> BulkRun:
    """Keep a new run, waiting to be run; raise Conflict if its name is taken."""
    order = new.order
    stem = order.questions[0].of.partition("@")[0]
    endpoints = ["" if question.version is not None else question.of for question in order.questions]
    versions = list(dict.fromkeys(str(version) for setup in new.setups for version in setup.versions))
    values = (
        orjson.dumps(write_order(order)).decode(),
        orjson.dumps([write_setup(setup) for setup in new.setups]).decode(),
        endpoints,
        versions,
        new.node,
        by.token,
        new.row_total,
        None if new.source is None else orjson.dumps(new.source).decode(),
        new.desk,
        new.keep_until,
    )
    async with pool.connection() as connection, connection.transaction():
        name = new.name
        if name is None:
            await connection.execute("LOCK TABLE bulk_runs IN SHARE ROW EXCLUSIVE MODE")
            rows = await connection.execute(
                "SELECT coalesce(max(substring(name FROM '-([0-9]{1,9})$')::int), 0) + 1 FROM bulk_runs WHERE name ~ %s",
                (f"^{stem}-[0-9]{{1,9}}$",),
            )
            name = f"{stem}-{(await rows.fetchone() or (1,))[0]}"
        try:
            rows = await connection.execute(
                "INSERT INTO bulk_runs"
                " (name, written, setups, endpoints, versions, node, state, made_by, row_total, source, desk, keep_until)"
                f" VALUES (%s, %s, %s, %s, %s, %s, 'waiting', %s, %s, %s, %s, %s) RETURNING {_COLUMNS}".encode(),
                (name, *values),
            )
        except UniqueViolation as error:
            raise Conflict(f"there is a bulk run {name} already; choose another name, or leave it out") from error
        row = await rows.fetchone()
        assert row is not None
        await trail.add_entry(connection, by, "bulk start", name, after=write_order(order))
        return _run(row)


async def get_run(pool: Pool, name: str) -> BulkRun:
    """One run; raise NotFound."""
    async with pool.connection() as connection:
        rows = await connection.execute(f"SELECT {_COLUMNS} FROM bulk_runs WHERE name = %s".encode(), (name,))
        if (row := await rows.fetchone()) is not None:
            return _run(row)
        latest = await connection.execute("SELECT name FROM bulk_runs ORDER BY number DESC LIMIT 200")
        like = closest_name(name, [row[0] for row in await latest.fetchall()])
    raise NotFound(f"there is no bulk run {name}; " + (f"did you mean {like}?" if like else "see lamppost bulk list"))


async def list_runs(pool: Pool, of: str | None, limit: int, before: int | None = None) -> list[tuple[BulkRun, RunCounts]]:
    """Runs and how far each is, the newest first, without those of desks.

    of : an endpoint, model or version. before : only runs of lower numbers.
    """
    async with pool.connection() as connection:
        rows = await connection.execute(
            f"SELECT {_COLUMNS}, counts.* FROM bulk_runs LEFT JOIN LATERAL"
            f" (SELECT {_COUNTS} FROM bulk_blocks WHERE run = name) counts ON true"
            " WHERE desk IS NULL AND (%(of)s::text IS NULL OR %(of)s = ANY (endpoints) OR %(of)s = ANY (versions)"
            " OR EXISTS (SELECT 1 FROM unnest(versions) version WHERE split_part(version, '@', 1) = %(of)s))"
            " AND (%(before)s::bigint IS NULL OR number < %(before)s) ORDER BY number DESC LIMIT %(limit)s".encode(),
            {"of": of, "before": before, "limit": limit},
        )
        return [(_run(row[:-5]), _counts(row[-5:])) for row in await rows.fetchall()]


async def list_desk_runs(pool: Pool, desk: str, token: str | None, limit: int) -> list[tuple[BulkRun, RunCounts]]:
    """The files that were answered at a desk, and how far each is, the newest first. token : only those of one link; None for all."""
    async with pool.connection() as connection:
        rows = await connection.execute(
            f"SELECT {_COLUMNS}, counts.* FROM bulk_runs LEFT JOIN LATERAL"
            f" (SELECT {_COUNTS} FROM bulk_blocks WHERE run = name) counts ON true"
            " WHERE desk = %(desk)s AND (%(token)s::text IS NULL OR made_by = %(token)s) ORDER BY number DESC LIMIT %(limit)s".encode(),
            {"desk": desk, "token": token, "limit": limit},
        )
        return [(_run(row[:-5]), _counts(row[-5:])) for row in await rows.fetchall()]


async def runs_to_go_on(pool: Pool, node: str) -> list[BulkRun]:
    """The runs of a node that have not ended, the oldest first."""
    async with pool.connection() as connection:
        rows = await connection.execute(
            f"SELECT {_COLUMNS} FROM bulk_runs WHERE node = %s AND state = ANY (%s) AND ended_at IS NULL ORDER BY number".encode(),
            (node, list(UNDER_WAY)),
        )
        return [_run(row) for row in await rows.fetchall()]


async def runs_to_report(pool: Pool) -> list[BulkRun]:
    """The finished runs of the last day whose report is to be sent and was not."""
    async with pool.connection() as connection:
        rows = await connection.execute(
            f"SELECT {_COLUMNS} FROM bulk_runs WHERE state = 'finished' AND reported_at IS NULL"
            " AND ended_at > now() - interval '1 day' AND json_array_length(written->'report'->'to') > 0 ORDER BY number".encode()
        )
        return [_run(row) for row in await rows.fetchall()]


async def note_report(pool: Pool, name: str, fault: str | None) -> None:
    """Keep that the report of a run was sent, or why it was not."""
    async with pool.connection() as connection:
        await connection.execute(
            "UPDATE bulk_runs SET report_fault = %(fault)s::text,"
            " reported_at = CASE WHEN %(fault)s::text IS NULL THEN now() END WHERE name = %(name)s",
            {"fault": fault, "name": name},
        )


async def runs_to_forget(pool: Pool, node: str) -> list[str]:
    """The runs of a node that are kept no longer."""
    async with pool.connection() as connection:
        rows = await connection.execute(
            "SELECT name FROM bulk_runs WHERE node = %s AND keep_until < now() AND NOT state = ANY (%s)", (node, list(UNDER_WAY))
        )
        return [row[0] for row in await rows.fetchall()]


async def count_blocks(pool: Pool, name: str) -> RunCounts:
    """How far a run is."""
    async with pool.connection() as connection:
        rows = await connection.execute(f"SELECT {_COUNTS} FROM bulk_blocks WHERE run = %s".encode(), (name,))
        row = await rows.fetchone()
        assert row is not None
        return _counts(row)


async def done_blocks(pool: Pool, name: str) -> list[DoneBlock]:
    """The blocks of a run that are done, in order."""
    async with pool.connection() as connection:
        rows = await connection.execute(
            "SELECT block, row_count, rejects, answers, sketches FROM bulk_blocks WHERE run = %s ORDER BY block", (name,)
        )
        return [DoneBlock(*row) for row in await rows.fetchall()]


async def done_block_numbers(pool: Pool, name: str) -> list[int]:
    """The numbers of the blocks of a run that are done, ascending."""
    async with pool.connection() as connection:
        rows = await connection.execute("SELECT block FROM bulk_blocks WHERE run = %s ORDER BY block", (name,))
        return [row[0] for row in await rows.fetchall()]


async def add_block(pool: Pool, name: str, block: DoneBlock, deltas: Sequence[WindowDelta]) -> RunState:
    """Mark a block as done, count its rows into windows with it, and return the state that the run is in. A block is marked once."""
    async with pool.connection() as connection, connection.transaction():
        rows = await connection.execute("SELECT state FROM bulk_runs WHERE name = %s FOR SHARE", (name,))
        row = await rows.fetchone()
        if row is None:
            raise NotFound(f"there is no bulk run {name} any more")
        marked = await connection.execute(
            "INSERT INTO bulk_blocks (run, block, row_count, rejects, answers, sketches) VALUES (%s, %s, %s, %s, %s, %s)"
            " ON CONFLICT DO NOTHING",
            (name, block.block, block.rows, block.rejects, orjson.dumps(block.answers).decode(), list(block.sketches)),
        )
        if marked.rowcount:
            await add_deltas(connection, deltas)
        state: RunState = row[0]
        return state


async def rows_counted_as_traffic(pool: Pool, endpoint: str, version: str, since: datetime, until: datetime) -> list[tuple[datetime, int]]:
    """When blocks of runs by an endpoint were counted into its windows, and how many rows of each were answered."""
    async with pool.connection() as connection:
        rows = await connection.execute(
            "SELECT at, row_count - rejects FROM bulk_blocks JOIN bulk_runs ON name = run"
            " WHERE %s = ANY (endpoints) AND %s = ANY (versions) AND at >= %s AND at < %s",
            (endpoint, version, since, until),
        )
        return [(row[0], int(row[1])) for row in await rows.fetchall()]


async def change_state(
    pool: Pool, name: str, state: RunState, among: Sequence[RunState], reason: str | None = None, **columns: Any
) -> bool:
    """Bring a run into a state; False if it is in none of ``among``. columns : others that change with it."""
    async with pool.connection() as connection:
        return await _change_state(connection, name, state, among, reason, columns)


_SETTABLE = frozenset({"started_at", "ended_at", "busy_s", "row_total", "source", "digest", "result", "written"})


async def _change_state(
    connection: AsyncConnection[TupleRow],
    name: str,
    state: RunState,
    among: Sequence[RunState],
    reason: str | None,
    columns: dict[str, Any],
) -> bool:
    assert columns.keys() <= _SETTABLE
    values = {key: orjson.dumps(value).decode() if isinstance(value, dict) else value for key, value in columns.items()}
    sets = "".join(f", {key} = %({key})s" for key in columns)
    done = await connection.execute(
        f"UPDATE bulk_runs SET state = %(state)s, reason = %(reason)s{sets} WHERE name = %(name)s AND state = ANY (%(among)s)".encode(),
        {**values, "state": state, "reason": reason, "name": name, "among": list(among)},
    )
    return done.rowcount > 0


async def change_by(pool: Pool, name: str, state: RunState, among: Sequence[RunState], by: ChangedBy, action: str, **columns: Any) -> None:
    """The same on somebody's behalf, with an entry of the trail; raise NotFound or Conflict."""
    run = await get_run(pool, name)
    async with pool.connection() as connection, connection.transaction():
        if not await _change_state(connection, name, state, among, None, columns):
            raise Conflict(f"the bulk run {name} is {run.state}; it can be {_DONE_TO[action]} while it is {' or '.join(among)}")
        await trail.add_entry(connection, by, action, name)


_DONE_TO = {"bulk stop": "stopped", "bulk resume": "resumed"}


async def forget_run(pool: Pool, name: str, by: ChangedBy) -> BulkRun:
    """Delete a run that has ended; raise NotFound, or Conflict while it goes on."""
    run = await get_run(pool, name)
    async with pool.connection() as connection, connection.transaction():
        gone = await connection.execute("DELETE FROM bulk_runs WHERE name = %s AND NOT state = ANY (%s)", (name, list(UNDER_WAY)))
        if not gone.rowcount:
            raise Conflict(f"the bulk run {name} is {run.state}; stop it first: lamppost bulk stop {name}")
        await trail.add_entry(connection, by, "bulk forget", name)
    return run


async def latest_run_before(pool: Pool, run: BulkRun) -> BulkRun | None:
    """The last finished run before this one that asked the same, of the same source if there is one; None where there is none."""
    async with pool.connection() as connection:
        rows = await connection.execute(
            f"SELECT {_COLUMNS} FROM bulk_runs WHERE number < %s AND state = 'finished' AND endpoints = %s AND desk IS NULL"
            " AND (written->'questions')::text = (SELECT (written->'questions')::text FROM bulk_runs WHERE name = %s)"
            " ORDER BY (written->>'source' = %s) DESC, number DESC LIMIT 1".encode(),
            (run.number, list(run.endpoints), run.name, run.order.source),
        )
        row = await rows.fetchone()
        return None if row is None else _run(row)
