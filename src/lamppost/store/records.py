"""Records of calls and their latency histograms."""

from __future__ import annotations

from collections import Counter
from collections.abc import Sequence
from dataclasses import dataclass
from datetime import UTC, date, datetime, timedelta
from typing import Any, NamedTuple
from uuid import UUID

from psycopg import sql

from lamppost.core.histogram import bucket_of
from lamppost.store.database import Pool

WINDOW_S = 10


class Call(NamedTuple):
    """One answered or refused request.

    at : seconds since 1970.
    version : ``model@number``, None when none was reached. batch_rows : rows the model ran together, None when it did
    not run. total_us : microseconds from the first byte read to the answer made.
    phases_us : JSON object of microseconds by phase. input, answer : JSON as bytes, None when not kept.
    """

    at: float
    request_id: str
    endpoint: str
    version: str | None
    token: str | None
    status: int
    rows: int
    batch_rows: int | None
    total_us: int
    phases_us: bytes
    input: bytes | None
    answer: bytes | None


_COPY = (
    "COPY calls (at, request_id, endpoint, version, token, status, row_count, batch_rows, total_us, phases_us, input, answer) FROM STDIN"
)


async def last_used(pool: Pool, most: int) -> list[str]:
    """Endpoints by their last call, the latest first."""
    async with pool.connection() as connection:
        query = "SELECT endpoint FROM latency GROUP BY endpoint ORDER BY max(at) DESC LIMIT %s"
        return [row[0] for row in await (await connection.execute(query, (most,))).fetchall()]


async def write_calls(pool: Pool, calls: Sequence[Call]) -> None:
    """Store calls and add them to the histograms, in one transaction. The partitions of their days must exist."""
    async with pool.connection() as connection, connection.transaction():
        async with connection.cursor().copy(_COPY) as copy:
            await copy.write(b"".join(map(_line, calls)))
        counts = Counter((call.endpoint, call.version or "", call.status, _window(call.at), bucket_of(call.total_us)) for call in calls)
        columns = [list(column) for column in zip(*((*key, count) for key, count in sorted(counts.items())), strict=True)]
        await connection.execute(
            "INSERT INTO latency (endpoint, version, status, at, bucket, calls)"
            " SELECT * FROM unnest(%s::text[], %s::text[], %s::smallint[], %s::timestamptz[], %s::smallint[], %s::bigint[])"
            " ON CONFLICT (endpoint, at, version, status, bucket) DO UPDATE SET calls = latency.calls + excluded.calls",
            columns,
        )


def _line(call: Call) -> bytes:
    """A call as a line of COPY's text format, which is a third of the work of giving it value by value."""
    at = datetime.fromtimestamp(call.at, UTC).isoformat()
    rows = b"\\N" if call.batch_rows is None else b"%d" % call.batch_rows
    return b"%s\t%s\t%s\t%s\t%s\t%d\t%d\t%s\t%d\t%s\t%s\t%s\n" % (
        at.encode(),
        call.request_id.encode(),
        _escaped(call.endpoint.encode()),
        b"\\N" if call.version is None else _escaped(call.version.encode()),
        b"\\N" if call.token is None else _escaped(call.token.encode()),
        call.status,
        call.rows,
        rows,
        call.total_us,
        call.phases_us,
        b"\\N" if call.input is None else _escaped(call.input),
        b"\\N" if call.answer is None else _escaped(call.answer),
    )


def _escaped(value: bytes) -> bytes:
    if b"\\" in value:
        value = value.replace(b"\\", b"\\\\")
    if b"\n" in value or b"\r" in value or b"\t" in value:
        value = value.replace(b"\n", b"\\n").replace(b"\r", b"\\r").replace(b"\t", b"\\t")
    return value


def _window(at: float) -> datetime:
    return datetime.fromtimestamp(at // WINDOW_S * WINDOW_S, UTC)


async def make_partition(pool: Pool, day: date) -> None:
    """Make the partition of a day (UTC) unless it is there; concurrent makers wait for one another."""
    name = sql.Identifier(f"calls_{day:%Y%m%d}")
    start = datetime(day.year, day.month, day.day, tzinfo=UTC)
    async with pool.connection() as connection, connection.transaction():
        await connection.execute("SELECT pg_advisory_xact_lock(8421)")
        await connection.execute(
            sql.SQL("CREATE TABLE IF NOT EXISTS {} PARTITION OF calls FOR VALUES FROM ({}) TO ({})").format(
                name, sql.Literal(start), sql.Literal(start + timedelta(days=1))
            )
        )


async def latest_calls(pool: Pool, endpoint: str | None, limit: int, after: UUID | None = None) -> list[dict[str, Any]]:
    """The newest calls first; with ``after``, only those that came later than that request id (ids are ordered by time)."""
    conditions: list[str] = ["at > now() - interval '30 days'"]
    values: dict[str, Any] = {"limit": limit}
    if endpoint is not None:
        conditions.append("endpoint = %(endpoint)s")
        values["endpoint"] = endpoint
    if after is not None:
        conditions.append("request_id > %(after)s")
        values["after"] = after
    query = (
        "SELECT at, request_id, endpoint, version, token, status, row_count, batch_rows, total_us, phases_us, input, answer FROM calls"
        f" WHERE {' AND '.join(conditions)} ORDER BY at DESC, request_id DESC LIMIT %(limit)s"
    )
    names = ("at", "request_id", "endpoint", "version", "token", "status", "rows", "batch_rows", "total_us", "phases_us", "input", "answer")
    async with pool.connection() as connection:
        rows = await connection.execute(query.encode(), values)
        return [dict(zip(names, row, strict=True)) for row in await rows.fetchall()]


@dataclass(slots=True)
class Past:
    """A stretch of time of one endpoint. histogram : of answered calls (status below 400), bucket to count."""

    histogram: dict[int, int]
    calls: int = 0
    refused: int = 0
    failed: int = 0


async def latency(pool: Pool, since: datetime) -> dict[str, Past]:
    """Each endpoint's calls since a time: refused are those of status 400 to 499, failed those of 500 and up."""
    async with pool.connection() as connection:
        rows = await connection.execute(
            "SELECT endpoint, bucket, status / 100, sum(calls) FROM latency WHERE at >= %s GROUP BY endpoint, bucket, status / 100",
            (since,),
        )
        out: dict[str, Past] = {}
        for endpoint, bucket, hundreds, calls in await rows.fetchall():
            past = out.setdefault(endpoint, Past({}))
            past.calls += int(calls)
            if hundreds < 4:
                past.histogram[bucket] = past.histogram.get(bucket, 0) + int(calls)
            elif hundreds == 4:
                past.refused += int(calls)
            else:
                past.failed += int(calls)
        return out
