"""Stores outcomes beside the answers that they are about."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass
from datetime import datetime
from typing import Any
from uuid import UUID

import orjson
from psycopg.types.json import Json

from lamppost.core.errors import NotAllowed
from lamppost.core.monitoring.quality import JudgedAnswer
from lamppost.store.database import Pool


@dataclass(frozen=True, slots=True)
class AnsweredCall:
    """A recorded call, or a shadow's answer to it. input, answer : as recorded. caller : the token that it came with.

    brought_by : who brought in a call that was answered elsewhere.
    """

    request_id: UUID
    endpoint: str
    version: str
    shadow: bool
    at: datetime
    input: Any
    answer: Any
    caller: str | None = None
    brought_by: str | None = None


@dataclass(frozen=True, slots=True)
class Outcome:
    """The truth about one row of one answer."""

    of: AnsweredCall
    row: int
    truth: Any
    answer: dict[str, Any]
    slices: dict[str, Any]
    correct: bool = False


_ANSWERED = (
    "SELECT request_id, endpoint, version, shadow, at, input, answer, token, brought_by FROM calls"
    " WHERE status = 200 AND version IS NOT NULL"
)


async def answered_calls(pool: Pool, request_ids: Sequence[UUID]) -> list[AnsweredCall]:
    """The calls with these ids, and the answers of shadows."""
    async with pool.connection() as connection:
        rows = await connection.execute(
            f"{_ANSWERED} AND request_id = ANY(%(ids)s) AND block = ANY(ARRAY("
            "SELECT DISTINCT b.number FROM unnest(%(ids)s) AS asked (id) JOIN call_blocks b ON b.ids @> asked.id"
            " WHERE asked.id = ANY(b.request_id)))".encode(),
            {"ids": list(request_ids)},
        )
        return [AnsweredCall(*row) for row in await rows.fetchall()]


async def calls_by_key(pool: Pool, endpoint: str, key: str, values: Sequence[str], since: datetime, until: datetime) -> list[AnsweredCall]:
    """Calls of a span that sent one of these values in a field, in any of their rows; the newest first."""
    async with pool.connection() as connection:
        rows = await connection.execute(
            f"{_ANSWERED} AND endpoint = %(endpoint)s AND last_at >= %(since)s AND first_at < %(until)s AND at >= %(since)s"
            " AND at < %(until)s AND NOT shadow AND input IS NOT NULL AND (input->>%(key)s = ANY(%(values)s)"
            " OR (json_typeof(input->'rows') = 'array' AND EXISTS"
            " (SELECT 1 FROM json_array_elements(CASE WHEN json_typeof(input->'rows') = 'array' THEN input->'rows' END) one"
            " WHERE one->>%(key)s = ANY(%(values)s)))) ORDER BY at DESC LIMIT 20000".encode(),
            {"endpoint": endpoint, "since": since, "until": until, "key": key, "values": list(values)},
        )
        return [AnsweredCall(*row) for row in await rows.fetchall()]


async def store_outcomes(pool: Pool, outcomes: Sequence[Outcome], by: str, replace_others: bool = True) -> int:
    """Store outcomes; a later outcome of the same row replaces an earlier one. Returns how many are new or changed.

    replace_others : whether outcomes may be replaced that another token reported; raise NotAllowed, and store nothing, for such otherwise.
    """
    if not outcomes:
        return 0
    async with pool.connection() as connection, connection.transaction(), connection.cursor() as cursor:
        if not replace_others:
            await cursor.execute(
                "SELECT count(*) FROM outcomes o"
                " JOIN unnest(%s::uuid[], %s::int[], %s::text[], %s::text[]) AS n (request_id, row, version, truth)"
                " USING (request_id, row, version) WHERE o.reported_by <> %s AND o.truth::text <> n.truth::jsonb::text",
                (
                    [outcome.of.request_id for outcome in outcomes],
                    [outcome.row for outcome in outcomes],
                    [outcome.of.version for outcome in outcomes],
                    [orjson.dumps(outcome.truth).decode() for outcome in outcomes],
                    by,
                ),
            )
            others = await cursor.fetchone()
            if others is not None and others[0]:
                raise NotAllowed(
                    f"{others[0]:,} of these outcomes were reported by another token, and a caller replaces its own only; "
                    "nothing was stored"
                )
        await cursor.executemany(
            "INSERT INTO outcomes (request_id, row, version, endpoint, shadow, answered_at, reported_by, truth, answer, slices, correct,"
            " caller, brought_by) VALUES (%s, %s, %s, %s, %s, %s, %s, %s, %s, %s, %s, %s, %s)"
            " ON CONFLICT (request_id, row, version) DO UPDATE SET"
            " truth = excluded.truth, correct = excluded.correct, reported_at = now(), reported_by = excluded.reported_by"
            " WHERE outcomes.truth::text <> excluded.truth::text",
            [
                (
                    *(outcome.of.request_id, outcome.row, outcome.of.version, outcome.of.endpoint, outcome.of.shadow, outcome.of.at, by),
                    *(Json(outcome.truth), Json(outcome.answer), Json(outcome.slices), outcome.correct, outcome.of.caller),
                    outcome.of.brought_by,
                )
                for outcome in outcomes
            ],
        )
        return cursor.rowcount


@dataclass(frozen=True, slots=True)
class KnownOutcome:
    """An outcome with the answer that it is about."""

    version: str
    shadow: bool
    at: datetime
    reported_at: datetime
    judged: JudgedAnswer
    request_id: UUID
    brought_by: str | None = None

    @property
    def place(self) -> tuple[UUID, str]:
        """The call and the version that answered it."""
        return self.request_id, self.version


async def outcomes_between(
    pool: Pool, endpoint: str, since: datetime, until: datetime, limit: int = 100_000, brought_by: str | None = None
) -> list[KnownOutcome]:
    """Outcomes of answers given in a span, the oldest first. brought_by : only of calls that this one brought in."""
    async with pool.connection() as connection:
        rows = await connection.execute(
            "SELECT version, shadow, answered_at, reported_at, answer, truth, slices, request_id, caller, brought_by FROM outcomes"
            " WHERE endpoint = %s AND answered_at >= %s AND answered_at < %s AND (%s::text IS NULL OR brought_by = %s)"
            " ORDER BY answered_at, request_id, row LIMIT %s",
            (endpoint, since, until, brought_by, brought_by, limit),
        )
        return [
            KnownOutcome(row[0], row[1], row[2], row[3], JudgedAnswer(row[4], row[5], row[6], row[8] or str(row[7])), row[7], row[9])
            for row in await rows.fetchall()
        ]


async def last_known_answer(pool: Pool, endpoint: str, before: datetime) -> datetime | None:
    """When the last answer was given whose truth is known; None where none is. Shadows do not count."""
    async with pool.connection() as connection:
        rows = await connection.execute(
            "SELECT max(answered_at) FROM outcomes WHERE endpoint = %s AND answered_at < %s AND NOT shadow", (endpoint, before)
        )
        row = await rows.fetchone()
        return None if row is None else row[0]


async def count_answered_rows(pool: Pool, endpoint: str, since: datetime, until: datetime, brought_by: str | None = None) -> dict[str, int]:
    """Rows answered in a span, by version. brought_by : only of calls that this one brought in."""
    async with pool.connection() as connection:
        rows = await connection.execute(
            "SELECT version, sum(row_count)::bigint FROM call_heads WHERE endpoint = %(endpoint)s AND last_at >= %(since)s"
            " AND first_at < %(until)s AND at >= %(since)s AND at < %(until)s AND status = 200 AND version IS NOT NULL"
            " AND (%(brought_by)s::text IS NULL OR brought_by = %(brought_by)s) GROUP BY version",
            {"endpoint": endpoint, "since": since, "until": until, "brought_by": brought_by},
        )
        return dict(await rows.fetchall())


async def count_right_reported(
    pool: Pool, endpoint: str, since: datetime, until: datetime, brought_by: str | None = None
) -> tuple[int, int]:
    """Right answers, and all, of those whose truth was reported in a span, whenever they were given; shadows do not count. brought_by :
    only of calls that this one brought in.
    """
    async with pool.connection() as connection:
        row = await connection.execute(
            "SELECT count(*) FILTER (WHERE correct), count(*) FROM outcomes WHERE endpoint = %s AND reported_at >= %s AND reported_at < %s"
            " AND NOT shadow AND (%s::text IS NULL OR brought_by = %s)",
            (endpoint, since, until, brought_by, brought_by),
        )
        return await row.fetchone() or (0, 0)


async def count_right_answers(pool: Pool, since: datetime, until: datetime, endpoint: str | None = None) -> dict[str, tuple[int, int]]:
    """Right answers of those given in a span whose truth is known, by endpoint; shadows do not count."""
    async with pool.connection() as connection:
        rows = await connection.execute(
            "SELECT endpoint, count(*) FILTER (WHERE correct), count(*) FROM outcomes"
            " WHERE answered_at >= %s AND answered_at < %s AND NOT shadow AND (%s::text IS NULL OR endpoint = %s) GROUP BY endpoint",
            (since, until, endpoint, endpoint),
        )
        return {row[0]: (row[1], row[2]) for row in await rows.fetchall()}
