"""Draws a few calls from a span that may hold millions; histograms choose which, so that only those are read."""

from __future__ import annotations

from collections import Counter
from collections.abc import Sequence
from datetime import UTC, datetime, timedelta
from typing import Any

from lamppost.core.monitoring.call_sampling import draw_instants
from lamppost.store.call_search import NO_LOAD, RECORDED_INPUT, RecordedInput
from lamppost.store.database import Pool

_STEP_S = 10.0
_FINE = timedelta(days=1)
"""Histograms of so long ago are still by ten seconds."""
_FEW = 4
"""Calls for each one wanted, up to which all are looked at."""
_CALLERS = 1_000
_THERE = f"endpoint = %(endpoint)s AND NOT shadow AND {NO_LOAD} AND at >= %(since)s AND at < %(until)s"
_ANSWERED = "AND input IS NOT NULL AND status = 200 AND version = %(version)s"


async def sample_inputs(pool: Pool, endpoint: str, version: str, since: datetime, until: datetime, limit: int) -> list[RecordedInput]:
    """Answered calls of a span whose input was kept, drawn evenly."""
    rows = await _drawn(pool, (RECORDED_INPUT, _ANSWERED), endpoint, version, (since, until), limit)
    return [RecordedInput(*row) for row in rows]


async def count_callers(pool: Pool, endpoint: str, since: datetime, until: datetime) -> dict[str, int]:
    """Calls of a span by token; of more than a thousand calls, an even sample of a thousand."""
    rows = await _drawn(pool, (("coalesce(token, '')",), ""), endpoint, None, (since, until), _CALLERS)
    return Counter(row[0] for row in rows)


async def _drawn(
    pool: Pool, query: tuple[Sequence[str], str], endpoint: str, version: str | None, span: tuple[datetime, datetime], many: int
) -> list[tuple[Any, ...]]:
    """Rows of a query on calls, its columns and its conditions, of calls drawn from a span."""
    columns, conditions = ", ".join(query[0]), query[1]
    since, until = span
    asked: dict[str, Any] = {"endpoint": endpoint, "version": version, "since": since, "until": until, "many": many}
    async with pool.connection() as connection:
        drawn = await connection.execute(
            "SELECT extract(epoch FROM at)::float8, sum(calls)::bigint FROM latency WHERE endpoint = %(endpoint)s AND NOT shadow"
            " AND (%(version)s::text IS NULL OR (version = %(version)s AND status = 200))"
            " AND at >= %(since)s AND at < %(until)s GROUP BY at ORDER BY at",
            asked,
        )
        counts: list[tuple[float, int]] = await drawn.fetchall()
        if sum(calls for _, calls in counts) > _FEW * many and since > datetime.now(UTC) - _FINE:
            asked["instants"] = [datetime.fromtimestamp(at, UTC) for at in draw_instants(counts, _STEP_S, many)]
            # each block is opened once, for all instants that lie before its end and after that of the one before it
            rows = await connection.execute(
                f"SELECT one.* FROM (SELECT block, array_agg(drawn.at) AS instants FROM unnest(%(instants)s::timestamptz[]) AS drawn (at)"
                f" CROSS JOIN LATERAL (SELECT number AS block FROM call_blocks WHERE endpoint = %(endpoint)s AND last_at >= drawn.at"
                f" AND first_at < %(until)s ORDER BY last_at LIMIT 1) following GROUP BY block) opened"
                f" CROSS JOIN LATERAL (SELECT DISTINCT ON (drawn.at) {columns} FROM unnest(opened.instants) AS drawn (at)"
                f" JOIN (SELECT * FROM calls WHERE block = opened.block AND {_THERE} {conditions}) there ON there.at >= drawn.at"
                f" ORDER BY drawn.at, there.at) one".encode(),
                asked,
            )
        else:  # in an order that has to do with nothing: by the random part of their ids
            rows = await connection.execute(
                f"SELECT {columns} FROM calls WHERE last_at >= %(since)s AND first_at < %(until)s AND {_THERE} {conditions}"
                " ORDER BY right(request_id::text, 8) LIMIT %(many)s".encode(),
                asked,
            )
        return await rows.fetchall()
