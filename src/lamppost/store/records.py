"""Stores records of calls with their histograms, and finds calls."""

from __future__ import annotations

import asyncio
import logging
from collections import Counter
from collections.abc import Mapping, Sequence
from dataclasses import dataclass
from datetime import date, datetime
from itertools import chain
from typing import Any
from uuid import UUID

import psycopg
from psycopg import AsyncConnection
from psycopg.rows import TupleRow

from lamppost.core.errors import NotFound
from lamppost.core.monitoring.latency_histogram import quantiles
from lamppost.store import windows
from lamppost.store.call_records import CallCount, CallRecord, PhaseCount, count_calls, count_phases
from lamppost.store.copy_lines import STORED, copy_line
from lamppost.store.database import Pool
from lamppost.store.spool import SpoolFrame
from lamppost.store.windows import WindowDelta

log = logging.getLogger("lamppost.records")

_P99_CALLS = 100
_COPY = f"COPY calls ({', '.join(STORED)}) FROM STDIN".encode()


async def recently_called_endpoints(pool: Pool, most: int) -> list[str]:
    """Endpoints by their last call, the latest first."""
    async with pool.connection() as connection:
        query = "SELECT endpoint FROM latency GROUP BY endpoint ORDER BY max(at) DESC LIMIT %s"
        return [row[0] for row in await (await connection.execute(query, (most,))).fetchall()]


@dataclass(frozen=True, slots=True)
class CountedFrames:
    """Frames of one segment, and the counts of all their rows. odd : by index of the call, its outlier score and the reason. brought_by :
    who imported calls that were answered elsewhere.
    """

    frames: Sequence[SpoolFrame]
    deltas: list[WindowDelta]
    odd: Mapping[int, tuple[float, str]]
    brought_by: str | None = None

    @property
    def lines(self) -> list[tuple[CallRecord, bytes]]:
        """Their calls, each with the line that the database gets."""
        calls = chain.from_iterable(frame.calls for frame in self.frames)
        return [(call, copy_line(call, self.odd.get(at), self.brought_by)) for at, call in enumerate(calls)]


async def last_stored_frame(pool: Pool, segment: str) -> int:
    """The number of the last frame of a segment that is stored, 0 for none."""
    async with pool.connection() as connection:
        row = await (await connection.execute("SELECT number FROM spooled WHERE segment = %s", (segment,))).fetchone()
        return 0 if row is None else int(row[0])


async def store_frames(pool: Pool, counted: CountedFrames) -> int | None:
    """Store frames in one transaction, each exactly once however often it is delivered; None when one of them is stored by now.

    The partitions of their days must exist. Returns how many calls the database could not hold; each is logged and left out.
    """
    first, last = counted.frames[0], counted.frames[-1]
    async with pool.connection() as connection, connection.transaction():
        stored = await connection.execute("SELECT number FROM spooled WHERE segment = %s FOR UPDATE", (first.segment,))
        row = await stored.fetchone()
        if row is not None and row[0] >= first.number:
            return None
        lines = await asyncio.to_thread(lambda: counted.lines)
        kept = await _copy(connection, lines)
        counts, phases = await asyncio.to_thread(_counts, counted.frames, kept)
        await _add_latency(connection, counts)
        await _add_phases(connection, phases)
        await windows.add_deltas(connection, counted.deltas)
        await connection.execute(
            "INSERT INTO spooled (segment, number) VALUES (%s, %s)"
            " ON CONFLICT (segment) DO UPDATE SET number = excluded.number, at = now()",
            (first.segment, last.number),
        )
        return len(lines) - len(kept)


async def skip_frame(pool: Pool, segment: str, number: int) -> None:
    """Note a frame as done that was set aside."""
    async with pool.connection() as connection:
        await connection.execute(
            "INSERT INTO spooled (segment, number) VALUES (%s, %s)"
            " ON CONFLICT (segment) DO UPDATE SET number = greatest(spooled.number, excluded.number), at = now()",
            (segment, number),
        )


def _counts(frames: Sequence[SpoolFrame], kept: Sequence[CallRecord]) -> tuple[Counter[CallCount], Counter[PhaseCount]]:
    counts = count_calls(kept)
    for frame in frames:
        if frame.kind == "counts":
            counts += frame.counts
    return counts, count_phases(kept)


async def _copy(connection: AsyncConnection[TupleRow], lines: Sequence[tuple[CallRecord, bytes]]) -> list[CallRecord]:
    """Copy calls into the table; returns those that were stored. A call that the database cannot hold does not affect the others."""
    if not lines:
        return []
    try:
        async with connection.transaction(), connection.cursor().copy(_COPY) as copy:
            await copy.write(b"".join(line for _, line in lines))
    except psycopg.DataError as error:
        if len(lines) == 1:
            log.error("record %s was left out: %s", lines[0][0].request_id, str(error).strip())
            return []
        middle = len(lines) // 2
        return await _copy(connection, lines[:middle]) + await _copy(connection, lines[middle:])
    return [call for call, _ in lines]


async def _add_latency(connection: AsyncConnection[TupleRow], counts: Mapping[CallCount, int]) -> None:
    if not counts:
        return
    columns = [list(column) for column in zip(*((*kind, calls) for kind, calls in sorted(counts.items())), strict=True)]
    await connection.execute(
        "INSERT INTO latency (endpoint, version, status, at, bucket, shadow, calls)"
        " SELECT endpoint, version, status, to_timestamp(at), bucket, shadow, calls"
        " FROM unnest(%s::text[], %s::text[], %s::smallint[], %s::bigint[], %s::smallint[], %s::boolean[], %s::bigint[])"
        " AS new (endpoint, version, status, at, bucket, shadow, calls)"
        " ON CONFLICT (endpoint, at, version, status, bucket, shadow) DO UPDATE SET calls = latency.calls + excluded.calls",
        columns,
    )


async def _add_phases(connection: AsyncConnection[TupleRow], counts: Mapping[PhaseCount, int]) -> None:
    if not counts:
        return
    columns = [list(column) for column in zip(*((*kind, calls) for kind, calls in sorted(counts.items())), strict=True)]
    await connection.execute(
        "INSERT INTO phases (endpoint, version, at, phase, bucket, calls)"
        " SELECT endpoint, version, to_timestamp(at), phase, bucket, calls"
        " FROM unnest(%s::text[], %s::text[], %s::bigint[], %s::text[], %s::smallint[], %s::bigint[])"
        " AS new (endpoint, version, at, phase, bucket, calls)"
        " ON CONFLICT (endpoint, at, version, phase, bucket) DO UPDATE SET calls = phases.calls + excluded.calls",
        columns,
    )


async def forget_segments(pool: Pool) -> None:
    """Forget which segments were delivered a month ago: their files are long gone."""
    async with pool.connection() as connection:
        await connection.execute("DELETE FROM spooled WHERE at < now() - interval '30 days'")


async def make_partition(pool: Pool, day: date) -> None:
    """Make the partition of a day (UTC) unless it exists; concurrent callers wait for one another."""
    async with pool.connection() as connection:
        await connection.execute("SELECT make_calls_partition(%s)", (day,))


_COLUMNS = tuple(name for name in STORED if name != "shadow")
_NAMES = ["rows" if name == "row_count" else name for name in _COLUMNS]
_SELECT = f"SELECT {', '.join(_COLUMNS)} FROM calls"


@dataclass(frozen=True, slots=True)
class CallFilter:
    """Which calls: to an endpoint, by a token, a version, with a status from ``status`` on, that took so long; None for all.

    after : only those that came later than that request id; ids are ordered by time. odd : at least so odd. contains : a text in the
    input or the answer. before : only those that came earlier. trace : of this trace.
    """

    endpoint: str | None = None
    version: str | None = None
    token: str | None = None
    status: int | None = None
    slower_ms: float | None = None
    after: UUID | None = None
    odd: float | None = None
    contains: str | None = None
    before: datetime | None = None
    trace: str | None = None


async def latest_calls(pool: Pool, sought: CallFilter, limit: int) -> list[dict[str, Any]]:
    """The newest calls first."""
    conditions: list[str] = ["at > now() - interval '30 days'", "NOT shadow"]
    values: dict[str, Any] = {"limit": limit}
    for name, condition in (
        ("endpoint", "endpoint = %(endpoint)s"),
        ("version", "version = %(version)s"),
        ("token", "token = %(token)s"),
        ("status", "status >= %(status)s"),
        ("slower_ms", "total_us >= %(slower_ms)s * 1000"),
        ("after", "request_id > %(after)s"),
        ("odd", "odd >= %(odd)s"),
        ("trace", "trace = %(trace)s"),
        ("before", "at < %(before)s"),
        ("contains", "(position(%(contains)s in input::text) > 0 OR position(%(contains)s in answer::text) > 0)"),
    ):
        if (value := getattr(sought, name)) is not None:
            conditions.append(condition)
            values[name] = value
    query = f"{_SELECT} WHERE {' AND '.join(conditions)} ORDER BY at DESC, request_id DESC LIMIT %(limit)s"
    async with pool.connection() as connection:
        rows = await connection.execute(query.encode(), values)
        return [dict(zip(_NAMES, row, strict=True)) for row in await rows.fetchall()]


async def find_call(pool: Pool, request_id: UUID) -> tuple[dict[str, Any], list[dict[str, Any]]]:
    """One call, and what shadows answered to it; raise NotFound."""
    async with pool.connection() as connection:
        rows = await connection.execute(f"{_SELECT} WHERE request_id = %s ORDER BY shadow, version".encode(), (request_id,))
        calls = [dict(zip(_NAMES, row, strict=True)) for row in await rows.fetchall()]
    if not calls:
        raise NotFound(f"there is no call {request_id}; calls are in the records a moment after they are answered, see lamppost tail")
    return calls[0], calls[1:]


@dataclass(slots=True)
class EndpointLoad:
    """A stretch of time of one endpoint. histogram : of answered calls (status below 400), bucket to count."""

    histogram: dict[int, int]
    calls: int = 0
    refused: int = 0
    failed: int = 0


async def endpoint_load(pool: Pool, since: datetime, endpoints: Sequence[str]) -> dict[str, EndpointLoad]:
    """Calls of endpoints since a time: refused are those of status 400 to 499, failed those of 500 and up."""
    async with pool.connection() as connection:
        rows = await connection.execute(  # name by name, so that only the end of the index is read and not what was kept of years
            "SELECT one.* FROM unnest(%s::text[]) AS asked (name) CROSS JOIN LATERAL ("
            " SELECT endpoint, bucket, status / 100, sum(calls) FROM latency WHERE endpoint = asked.name AND at >= %s AND NOT shadow"
            " GROUP BY endpoint, bucket, status / 100) one",
            (list(endpoints), since),
        )
        load: dict[str, EndpointLoad] = {}
        for endpoint, bucket, hundreds, calls in await rows.fetchall():
            past = load.setdefault(endpoint, EndpointLoad({}))
            past.calls += int(calls)
            if hundreds < 4:
                past.histogram[bucket] = past.histogram.get(bucket, 0) + int(calls)
            elif hundreds == 4:
                past.refused += int(calls)
            else:
                past.failed += int(calls)
        return load


async def version_p99_ms(pool: Pool, endpoint: str, version: str, since: datetime) -> float | None:
    """The 99th percentile of what a version answered for an endpoint since a time, in milliseconds; None below 100 calls."""
    async with pool.connection() as connection:
        rows = await connection.execute(
            "SELECT bucket, sum(calls)::bigint FROM latency"
            " WHERE endpoint = %s AND version = %s AND at >= %s AND status < 400 AND NOT shadow GROUP BY bucket",
            (endpoint, version, since),
        )
        counts: dict[int, int] = dict(await rows.fetchall())
    us = quantiles(counts, (0.99,))[0] if sum(counts.values()) >= _P99_CALLS else None
    return None if us is None else us / 1e3


@dataclass(frozen=True, slots=True)
class RecordedInput:
    """The recorded input of one call. version : the version that answered."""

    request_id: UUID
    version: str | None
    status: int
    input: Any
    answer: Any


async def recorded_inputs(pool: Pool, endpoint: str, since: datetime, limit: int, statuses: Sequence[int] = (200,)) -> list[RecordedInput]:
    """The last calls to an endpoint whose input was kept, the newest first."""
    async with pool.connection() as connection:
        rows = await connection.execute(
            "SELECT request_id, version, status, input, answer FROM calls WHERE endpoint = %s AND at >= %s AND NOT shadow"
            " AND input IS NOT NULL AND status = ANY(%s) ORDER BY at DESC LIMIT %s",
            (endpoint, since, list(statuses), limit),
        )
        return [RecordedInput(*row) for row in await rows.fetchall()]
