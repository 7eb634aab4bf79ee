"""Stores window counts by tick, and the verdicts on windows."""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from dataclasses import dataclass
from datetime import datetime
from functools import cache
from typing import NamedTuple

from psycopg import AsyncConnection
from psycopg.rows import TupleRow
from pydantic import TypeAdapter

from lamppost.core.drift.window_verdict import DriftExplanation, WindowState, WindowVerdict
from lamppost.store.database import Pool


class WindowDelta(NamedTuple):
    """Rows that were counted at once. at : start of their tick. data : of `lamppost.core.drift.windows`. brought_by : who brought in rows
    that were answered elsewhere.
    """

    endpoint: str
    version: str
    at: datetime
    rows: int
    odd: int
    data: bytes
    brought_by: str | None = None


async def add_deltas(connection: AsyncConnection[TupleRow], deltas: Sequence[WindowDelta]) -> None:
    """Store window counts, in the transaction that stores their calls."""
    if deltas:
        columns = [list(column) for column in zip(*deltas, strict=True)]
        await connection.execute(
            "INSERT INTO sketches (endpoint, version, at, row_count, odd_count, data, brought_by)"
            " SELECT * FROM unnest(%s::text[], %s::text[], %s::timestamptz[], %s::int[], %s::int[], %s::bytea[], %s::text[])",
            columns,
        )


async def deltas_between(
    pool: Pool, endpoint: str, version: str, since: datetime, until: datetime, brought_by: str | None = None
) -> list[WindowDelta]:
    """Deltas whose tick begins in a span, the oldest first. brought_by : those of one origin."""
    async with pool.connection() as connection:
        rows = await connection.execute(
            "SELECT endpoint, version, at, row_count, odd_count, data, brought_by FROM sketches"
            " WHERE endpoint = %s AND version = %s AND at >= %s AND at < %s AND (%s::text IS NULL OR brought_by = %s) ORDER BY at, number",
            (endpoint, version, since, until, brought_by, brought_by),
        )
        return [WindowDelta(*row) for row in await rows.fetchall()]


class UnjudgedWindows(NamedTuple):
    """Windows with counts that were added since they were judged. at : starts of the ticks. first, number : first and last new delta."""

    endpoint: str
    version: str
    at: list[datetime]
    first: int
    number: int


async def unjudged_windows(pool: Pool, after: int = 0) -> list[UnjudgedWindows]:
    """The windows to be judged, the longest waiting first. after : deltas up to this number are known to be judged, and are skipped."""
    async with pool.connection() as connection:
        rows = await connection.execute(
            "SELECT s.endpoint, s.version, array_agg(DISTINCT s.at ORDER BY s.at), min(s.number), max(s.number) FROM sketches s"
            " LEFT JOIN judged_through j ON j.endpoint = s.endpoint AND j.version = s.version"
            " WHERE s.number > %s AND s.number > coalesce(j.number, 0) GROUP BY s.endpoint, s.version ORDER BY min(s.number)",
            (after,),
        )
        return [UnjudgedWindows(*row) for row in await rows.fetchall()]


@dataclass(frozen=True, slots=True)
class JudgedWindow:
    """A window and its verdict. at, until : its span. odd : rows with a high outlier score. explanation : of one that is not steady."""

    endpoint: str
    version: str
    at: datetime
    until: datetime
    rows: int
    odd: int
    verdict: WindowVerdict
    explanation: DriftExplanation | None = None

    @property
    def state(self) -> WindowState:
        """The verdict's state."""
        return self.verdict.state


@cache
def _verdicts() -> TypeAdapter[WindowVerdict]:
    return TypeAdapter(WindowVerdict)


@cache
def _explanations() -> TypeAdapter[DriftExplanation]:
    return TypeAdapter(DriftExplanation)


def _judged_window(row: TupleRow) -> JudgedWindow:
    endpoint, version, at, until, rows, odd, verdict, explanation = row
    return JudgedWindow(
        *(endpoint, version, at, until, rows, odd),
        verdict=_verdicts().validate_python(verdict),
        explanation=None if explanation is None else _explanations().validate_python(explanation),
    )


_JUDGED = "SELECT endpoint, version, at, until, row_count, odd_count, verdict, explanation FROM judged_windows"


async def store_verdicts(pool: Pool, judged: Sequence[JudgedWindow], through: UnjudgedWindows) -> None:
    """Store verdicts; they replace earlier verdicts on the same windows."""
    async with pool.connection() as connection, connection.transaction():
        async with connection.cursor() as cursor:
            await cursor.executemany(
                "INSERT INTO judged_windows (endpoint, version, at, until, row_count, odd_count, state, verdict, explanation)"
                " VALUES (%s, %s, %s, %s, %s, %s, %s, %s, %s) ON CONFLICT (endpoint, version, at) DO UPDATE SET"
                " until = excluded.until, row_count = excluded.row_count, odd_count = excluded.odd_count, state = excluded.state,"
                " verdict = excluded.verdict, explanation = coalesce(excluded.explanation, judged_windows.explanation)",
                [
                    (
                        *(
                            window.endpoint,
                            window.version,
                            window.at,
                            window.until,
                            window.rows,
                            window.odd,
                            window.state,
                            _verdicts().dump_json(window.verdict).decode(),
                        ),
                        None if window.explanation is None else _explanations().dump_json(window.explanation).decode(),
                    )
                    for window in judged
                ],
            )
        await connection.execute(
            "INSERT INTO judged_through (endpoint, version, number) VALUES (%s, %s, %s)"
            " ON CONFLICT (endpoint, version) DO UPDATE SET number = excluded.number",
            (through.endpoint, through.version, through.number),
        )


async def judged_windows(pool: Pool, endpoint: str, version: str | None, since: datetime, until: datetime) -> list[JudgedWindow]:
    """Judged windows of an endpoint that begin in a span, the oldest first."""
    async with pool.connection() as connection:
        rows = await connection.execute(
            f"{_JUDGED} WHERE endpoint = %s AND (%s::text IS NULL OR version = %s) AND at >= %s AND at < %s ORDER BY at, version".encode(),
            (endpoint, version, version, since, until),
        )
        return [_judged_window(row) for row in await rows.fetchall()]


async def judged_windows_by_endpoint(pool: Pool, since: Mapping[str, datetime], until: datetime) -> dict[str, list[JudgedWindow]]:
    """The same of several endpoints at once, each since a time of its own."""
    async with pool.connection() as connection:
        rows = await connection.execute(
            f"SELECT one.* FROM unnest(%s::text[], %s::timestamptz[]) AS asked (endpoint, since) CROSS JOIN LATERAL ({_JUDGED}"
            " WHERE judged_windows.endpoint = asked.endpoint AND at >= asked.since AND at < %s) one ORDER BY at, version".encode(),
            (list(since), list(since.values()), until),
        )
        by_endpoint: dict[str, list[JudgedWindow]] = {}
        for row in await rows.fetchall():
            by_endpoint.setdefault(row[0], []).append(_judged_window(row))
        return by_endpoint


async def newest_judged_windows(pool: Pool, endpoint: str | None = None) -> list[JudgedWindow]:
    """The newest window of each version at each endpoint, or at one; a look at the end of the index for each."""
    async with pool.connection() as connection:
        rows = await connection.execute(
            f"SELECT one.* FROM judged_through known CROSS JOIN LATERAL ({_JUDGED}"
            " WHERE judged_windows.endpoint = known.endpoint AND judged_windows.version = known.version ORDER BY at DESC LIMIT 1) one"
            " WHERE %s::text IS NULL OR known.endpoint = %s".encode(),
            (endpoint, endpoint),
        )
        return [_judged_window(row) for row in await rows.fetchall()]


async def store_explanation(pool: Pool, window: JudgedWindow, explanation: DriftExplanation) -> None:
    """Store the explanation of a window."""
    async with pool.connection() as connection:
        await connection.execute(
            "UPDATE judged_windows SET explanation = %s WHERE endpoint = %s AND version = %s AND at = %s",
            (_explanations().dump_json(explanation).decode(), window.endpoint, window.version, window.at),
        )


class CrowdedTick(NamedTuple):
    """A finished tick of which there are several deltas of one origin. at : its start. brought_by : see `WindowDelta`."""

    endpoint: str
    version: str
    at: datetime
    brought_by: str | None


async def ticks_to_merge(pool: Pool, after: int, limit: int) -> list[CrowdedTick]:
    """Finished ticks with several deltas. after : deltas up to this number are known to be merged, and are skipped."""
    async with pool.connection() as connection:
        rows = await connection.execute(
            "SELECT endpoint, version, at, brought_by FROM sketches WHERE number > %s AND at < now() - interval '15 minutes'"
            " GROUP BY endpoint, version, at, brought_by HAVING count(*) > 1 LIMIT %s",
            (after, limit),
        )
        return [CrowdedTick(*row) for row in await rows.fetchall()]


async def replace_deltas(pool: Pool, merged: WindowDelta, taken: int) -> None:
    """One delta in place of the ``taken`` ones of its tick; nothing where others came or went meanwhile."""
    key = (merged.endpoint, merged.version, merged.at, merged.brought_by)
    async with pool.connection() as connection, connection.transaction():
        deleted = await connection.execute(
            "SELECT number FROM sketches WHERE endpoint = %s AND version = %s AND at = %s AND brought_by IS NOT DISTINCT FROM %s"
            " ORDER BY number FOR UPDATE",
            key,
        )
        numbers = [row[0] for row in await deleted.fetchall()]
        if len(numbers) != taken:
            return
        # the last keeps its number: a window is judged again only when something new was counted
        await connection.execute("DELETE FROM sketches WHERE number = ANY(%s)", (numbers[:-1],))
        await connection.execute(
            "UPDATE sketches SET row_count = %s, odd_count = %s, data = %s WHERE number = %s",
            (merged.rows, merged.odd, merged.data, numbers[-1]),
        )
