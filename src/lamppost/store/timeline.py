"""Reads load over time: calls, errors, percentiles by phase, batch sizes, lanes; rolls histograms up and deletes expired ones."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass, field
from datetime import datetime, timedelta
from typing import Any

from lamppost.core.monitoring.latency_histogram import bucket_of, bucket_value
from lamppost.store.database import Pool

Histogram = dict[int, int]


@dataclass(slots=True)
class LoadStep:
    """One step of time. latency : of answered calls, by bucket. statuses : calls by status."""

    at: datetime
    latency: Histogram = field(default_factory=dict)
    statuses: dict[int, int] = field(default_factory=dict)
    versions: dict[str, int] = field(default_factory=dict)
    rows: float = 0.0

    @property
    def calls(self) -> int:
        """All calls."""
        return sum(self.statuses.values())

    @property
    def refused(self) -> int:
        """Those with a status of 400 to 499."""
        return sum(many for status, many in self.statuses.items() if 400 <= status < 500)

    @property
    def failed(self) -> int:
        """Those with a status of 500 and up."""
        return sum(many for status, many in self.statuses.items() if status >= 500)

    def add(self, other: LoadStep) -> None:
        """Add the calls of another step."""
        for mine, theirs in ((self.latency, other.latency), (self.statuses, other.statuses)):
            for key, calls in theirs.items():
                mine[key] = mine.get(key, 0) + calls


def sum_steps(several: Sequence[LoadStep], at: datetime) -> LoadStep:
    """Latency and statuses of stretches together, beginning at that time."""
    total = LoadStep(at)
    for step in several:
        total.add(step)
    return total


async def load_steps(pool: Pool, endpoint: str, since: datetime, until: datetime, step_s: int) -> list[LoadStep]:
    """Calls of an endpoint, step by step; steps without calls are left out."""
    async with pool.connection() as connection:
        rows = await connection.execute(
            "SELECT date_bin(make_interval(secs => %s), at, 'epoch'), version, status, bucket, sum(calls)::bigint FROM latency"
            " WHERE endpoint = %s AND at >= %s AND at < %s AND NOT shadow GROUP BY 1, 2, 3, 4 ORDER BY 1",
            (step_s, endpoint, since, until),
        )
        steps: dict[datetime, LoadStep] = {}
        for at, version, status, bucket, calls in await rows.fetchall():
            step_load = steps.setdefault(at, LoadStep(at))
            step_load.statuses[status] = step_load.statuses.get(status, 0) + calls
            if version:
                step_load.versions[version] = step_load.versions.get(version, 0) + calls
            if status < 400:
                step_load.latency[bucket] = step_load.latency.get(bucket, 0) + calls
        more = await connection.execute(
            "SELECT date_bin(make_interval(secs => %s), at, 'epoch'), bucket, sum(calls)::bigint FROM phases"
            " WHERE endpoint = %s AND at >= %s AND at < %s AND phase = 'rows' GROUP BY 1, 2",
            (step_s, endpoint, since, until),
        )
        for at, bucket, calls in await more.fetchall():
            if at in steps:
                steps[at].rows += round(bucket_value(bucket)) * calls
    return list(steps.values())


async def phase_histograms(pool: Pool, endpoint: str, since: datetime, until: datetime) -> dict[str, Histogram]:
    """Microseconds by phase over a span, and under ``batch`` and ``rows`` numbers of rows."""
    async with pool.connection() as connection:
        rows = await connection.execute(
            "SELECT phase, bucket, sum(calls)::bigint FROM phases WHERE endpoint = %s AND at >= %s AND at < %s GROUP BY 1, 2",
            (endpoint, since, until),
        )
        histograms: dict[str, Histogram] = {}
        for phase, bucket, calls in await rows.fetchall():
            histograms.setdefault(phase, {})[bucket] = calls
        return histograms


Totals = tuple[int, int, int]


async def service_level_totals(pool: Pool, endpoint: str, since: datetime, slow_ms: float | None) -> Totals:
    """Calls that a service level counts since a time (refused ones are the caller's), failed ones, and answered ones that were slow."""
    return (await service_level_totals_by_endpoint(pool, [endpoint], since, slow_ms)).get(endpoint, (0, 0, 0))


async def service_level_totals_by_endpoint(
    pool: Pool, endpoints: Sequence[str], since: datetime, slow_ms: float | None = None
) -> dict[str, Totals]:
    """The same of several endpoints at once; those without calls are left out."""
    limit = bucket_of(slow_ms * 1e3) if slow_ms is not None else 32_767
    async with pool.connection() as connection:
        rows = await connection.execute(
            "SELECT endpoint, sum(calls)::bigint, coalesce(sum(calls) FILTER (WHERE status >= 500), 0)::bigint,"
            " coalesce(sum(calls) FILTER (WHERE status < 400 AND bucket > %s), 0)::bigint FROM latency"
            " WHERE endpoint = ANY(%s) AND at >= %s AND NOT shadow AND (status < 400 OR status >= 500) GROUP BY endpoint",
            (limit, list(endpoints), since),
        )
        return {endpoint: (calls, failed, slow) for endpoint, calls, failed, slow in await rows.fetchall()}


async def last_call_times(pool: Pool) -> dict[str, datetime]:
    """When each endpoint was called last, to ten seconds; a look at the end of the index for each."""
    async with pool.connection() as connection:
        rows = await connection.execute(
            "SELECT name, (SELECT max(at) FROM latency WHERE endpoint = name AND NOT shadow) AS last FROM endpoints"
        )
        return {name: last for name, last in await rows.fetchall() if last is not None}


async def note_lanes(pool: Pool, node: str, lanes: Sequence[tuple[str, int, int, float]]) -> None:
    """What the lanes of a node look like now: version, copies, waiting rows, megabytes."""
    if lanes:
        columns = [list(column) for column in zip(*lanes, strict=True)]
        async with pool.connection() as connection:
            await connection.execute(
                "INSERT INTO lane_history (at, node, version, copies, waiting, memory_mb) SELECT now(), %s, *"
                " FROM unnest(%s::text[], %s::smallint[], %s::int[], %s::real[]) ON CONFLICT DO NOTHING",
                (node, *columns),
            )


async def lane_samples(pool: Pool, versions: Sequence[str], since: datetime, until: datetime, step_s: int) -> list[dict[str, Any]]:
    """Copies, waiting rows and memory of versions over time, all nodes together."""
    async with pool.connection() as connection:
        rows = await connection.execute(
            "SELECT at, sum(copies)::int, sum(waiting)::int, sum(memory_mb)::float8 FROM ("
            " SELECT date_bin(make_interval(secs => %s), at, 'epoch') AS at, node, version, max(copies) AS copies, max(waiting) AS waiting,"
            " max(memory_mb) AS memory_mb FROM lane_history WHERE version = ANY(%s) AND at >= %s AND at < %s GROUP BY 1, 2, 3) one"
            " GROUP BY at ORDER BY at",
            (step_s, list(versions), since, until),
        )
        return [dict(zip(("at", "copies", "waiting", "memory_mb"), row, strict=True)) for row in await rows.fetchall()]


async def roll_up_histograms(pool: Pool, now: datetime) -> None:
    """Windows of ten seconds become windows of ten minutes after two days, and of an hour after thirty."""
    for table, kinds in (("latency", "endpoint, version, status, bucket, shadow"), ("phases", "endpoint, version, phase, bucket")):
        for age, step in ((timedelta(days=2), 600), (timedelta(days=30), 3_600)):
            async with pool.connection() as connection, connection.transaction():
                await connection.execute(
                    f"WITH old AS (DELETE FROM {table} WHERE at < date_bin('1 hour', %s::timestamptz, 'epoch')"
                    f" AND at <> date_bin(make_interval(secs => %s), at, 'epoch') RETURNING *)"
                    f" INSERT INTO {table} (at, {kinds}, calls)"
                    f" SELECT date_bin(make_interval(secs => %s), at, 'epoch'), {kinds}, sum(calls) FROM old GROUP BY 1, {kinds}"
                    f" ON CONFLICT (at, {kinds}) DO UPDATE SET calls = {table}.calls + excluded.calls".encode(),
                    (now - age, step, step),
                )


async def delete_expired(pool: Pool, keep_days: dict[str, tuple[int, int]], now: datetime) -> int:
    """Delete calls and statistics that are older than their endpoints keep them. keep : by endpoint, days of calls and days of statistics.
    A block of calls is deleted as a whole when its last one is old, up to a day after its first one. Returns how many calls were deleted.
    """
    gone = 0
    longest = max((days for days, _ in keep_days.values()), default=30)
    async with pool.connection() as connection:
        await connection.execute("SELECT drop_calls_partitions(%s)", ((now - timedelta(days=longest + 1)).date(),))
        alike: dict[tuple[int, int], list[str]] = {}
        for endpoint, kept in keep_days.items():
            alike.setdefault(kept, []).append(endpoint)
        for (days, statistics), endpoints in alike.items():
            if days < longest:
                settled = await connection.execute(
                    "WITH gone AS (DELETE FROM call_blocks WHERE endpoint = ANY(%s) AND last_at < %s RETURNING calls)"
                    " SELECT coalesce(sum(calls), 0)::bigint FROM gone",
                    (endpoints, now - timedelta(days=days)),
                )
                gone += (await settled.fetchall())[0][0]
            await connection.execute(
                "DELETE FROM explanations WHERE endpoint = ANY(%s) AND at < %s", (endpoints, now - timedelta(days=days))
            )
            for table, column in (
                ("latency", "at"),
                ("phases", "at"),
                ("sketches", "at"),
                ("judged_windows", "at"),
                ("outcomes", "answered_at"),
            ):
                await connection.execute(
                    f"DELETE FROM {table} WHERE endpoint = ANY(%s) AND {column} < %s".encode(),
                    (endpoints, now - timedelta(days=statistics)),
                )
        await connection.execute("DELETE FROM lane_history WHERE at < %s", (now - timedelta(days=14),))
        await connection.execute(
            "DELETE FROM notices WHERE made_at < %s AND (done_at IS NOT NULL OR given_up)", (now - timedelta(days=30),)
        )
    return gone
