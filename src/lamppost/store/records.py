"""Stores records of calls with their histograms, and reads the load of endpoints from these."""

from __future__ import annotations

import asyncio
import logging
from collections import Counter
from collections.abc import Awaitable, Callable, Mapping, Sequence
from dataclasses import dataclass
from datetime import date, datetime
from itertools import chain

import psycopg
from psycopg import AsyncConnection
from psycopg.rows import TupleRow

from lamppost.core.monitoring.latency_histogram import quantiles
from lamppost.store import windows
from lamppost.store.call_blocks import COPY_BLOCKS, StoredCall, block_lines
from lamppost.store.call_records import CallCount, CallRecord, PhaseCount, count_calls, count_phases, without_loads
from lamppost.store.database import Pool
from lamppost.store.spool import SpoolFrame
from lamppost.store.windows import WindowDelta

log = logging.getLogger("lamppost.records")

_P99_CALLS = 100


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
    def calls(self) -> list[StoredCall]:
        """Their calls with what is known of them by now."""
        calls = chain.from_iterable(frame.calls for frame in self.frames)
        return [(call, self.odd.get(at), self.brought_by) for at, call in enumerate(calls)]


async def last_stored_frame(pool: Pool, segment: str) -> int:
    """The number of the last frame of a segment that is stored, 0 for none."""
    async with pool.connection() as connection:
        row = await (await connection.execute("SELECT number FROM spooled WHERE segment = %s", (segment,))).fetchone()
        return 0 if row is None else int(row[0])


CountCalls = Callable[[AsyncConnection[TupleRow], Sequence[CallRecord]], Awaitable[None]]
"""Counts stored calls inside the transaction that stores them."""


async def store_frames(pool: Pool, counted: CountedFrames, also_count: CountCalls | None = None) -> int | None:
    """Store frames in one transaction, each exactly once however often it is delivered; None when one of them is stored by now.

    The partitions of their days must exist. Returns how many calls the database could not hold; each is logged and left out.
    """
    first, last = counted.frames[0], counted.frames[-1]
    async with pool.connection() as connection, connection.transaction():
        stored = await connection.execute("SELECT number FROM spooled WHERE segment = %s FOR UPDATE", (first.segment,))
        row = await stored.fetchone()
        if row is not None and row[0] >= first.number:
            return None
        calls = counted.calls
        kept = await _copy(connection, calls)
        counts, phases = await asyncio.to_thread(_counts, counted.frames, kept)
        await _add_latency(connection, counts)
        await _add_phases(connection, phases)
        if also_count is not None and kept:
            await also_count(connection, kept)
        await windows.add_deltas(connection, [delta._replace(brought_by=counted.brought_by) for delta in counted.deltas])
        await connection.execute(
            "INSERT INTO spooled (segment, number) VALUES (%s, %s)"
            " ON CONFLICT (segment) DO UPDATE SET number = excluded.number, at = now()",
            (first.segment, last.number),
        )
        return len(calls) - len(kept)


async def skip_frame(pool: Pool, segment: str, number: int) -> None:
    """Note a frame as done that was set aside."""
    async with pool.connection() as connection:
        await connection.execute(
            "INSERT INTO spooled (segment, number) VALUES (%s, %s)"
            " ON CONFLICT (segment) DO UPDATE SET number = greatest(spooled.number, excluded.number), at = now()",
            (segment, number),
        )


def _counts(frames: Sequence[SpoolFrame], kept: Sequence[CallRecord]) -> tuple[Counter[CallCount], Counter[PhaseCount]]:
    kept = without_loads(kept)
    counts = count_calls(kept)
    for frame in frames:
        if frame.kind == "counts":
            counts += frame.counts
    return counts, count_phases(kept)


async def _copy(connection: AsyncConnection[TupleRow], calls: Sequence[StoredCall]) -> list[CallRecord]:
    """Store calls as blocks; returns those that were stored. A call that the database cannot hold does not affect the others."""
    if not calls:
        return []
    lines = await asyncio.to_thread(block_lines, calls)
    try:
        async with connection.transaction(), connection.cursor().copy(COPY_BLOCKS) as copy:
            await copy.write(b"".join(lines))
    except psycopg.DataError as error:
        if len(calls) == 1:
            log.error("record %s was left out: %s", calls[0][0].request_id, str(error).strip())
            return []
        middle = len(calls) // 2
        return await _copy(connection, calls[:middle]) + await _copy(connection, calls[middle:])
    return [call for call, _, _ in calls]


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
