"""Finds calls: the newest that fulfil conditions, and one by its id."""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from dataclasses import asdict, dataclass
from datetime import UTC, datetime, timedelta
from typing import Any
from uuid import UUID

from lamppost.core.errors import NotFound
from lamppost.core.roles import LOAD_TOKEN
from lamppost.store.call_blocks import COLUMNS
from lamppost.store.database import Pool

_FOUND = ("endpoint", *(name for name in COLUMNS if name != "shadow"))
_NAMES = ["rows" if name == "row_count" else name for name in _FOUND]
_SOUGHT = timedelta(days=30)
"""How far back calls are looked for."""
_MOST_BLOCKS = 256
"""Blocks that are opened at once: one at first, because the newest calls are wanted, and more where these do not fulfil the conditions."""


NO_LOAD = f"(token IS NULL OR NOT starts_with(token, '{LOAD_TOKEN}'))"
"""Of calls: those that did not come from a load."""


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


@dataclass(frozen=True, slots=True)
class _Condition:
    """call : on one call. head : which blocks can hold such a call, by what is said of them. columns : the same by whole columns."""

    call: str
    head: str = ""
    columns: str = ""


_CONDITIONS = {
    "endpoint": _Condition("", "endpoint = %(endpoint)s"),
    "version": _Condition("version = %(version)s", columns="%(version)s = ANY(version)"),
    "token": _Condition("token = %(token)s", columns="%(token)s = ANY(token)"),
    "status": _Condition("status >= %(status)s", "most_status >= %(status)s"),
    "slower_ms": _Condition("total_us >= %(slower_ms)s * 1000", "most_us >= %(slower_ms)s * 1000"),
    "after": _Condition("request_id > %(after)s", "upper(ids) >= %(after)s"),
    "odd": _Condition("odd >= %(odd)s", "most_odd >= %(odd)s"),
    "trace": _Condition("trace = %(trace)s::text", columns="%(trace)s::text::uuid = ANY(trace)"),
    "before": _Condition("at < %(before)s", "first_at < %(before)s"),
    "since": _Condition("at >= %(since)s", "last_at >= %(since)s"),
    "statuses": _Condition("status = ANY(%(statuses)s)"),
    "contains": _Condition(
        "(position(%(contains)s in input::text) > 0 OR position(%(contains)s in answer::text) > 0)",
        columns="(position(%(contains)s in array_to_string(input, ' ')) > 0 OR position(%(contains)s in array_to_string(answer, ' ')) > 0)",
    ),
}
"""By the name of what is asked for."""


async def latest_calls(pool: Pool, sought: CallFilter, limit: int) -> list[dict[str, Any]]:
    """The newest calls first."""
    asked = {name: value for name, value in asdict(sought).items() if value is not None}
    rows = await _newest(pool, _FOUND, {**asked, "since": datetime.now(UTC) - _SOUGHT}, limit)
    return [dict(zip(_NAMES, row, strict=True)) for row in rows]


async def _newest(pool: Pool, columns: Sequence[str], asked: Mapping[str, Any], limit: int, also: str = "") -> list[tuple[Any, ...]]:
    """Columns of the newest calls that are as asked, and are no shadows, the newest first. also : one more condition on calls.

    Blocks are opened from the newest on, until no older one can hold a newer call than those that were found.
    """
    conditions = [_CONDITIONS[name] for name in asked]
    heads, whole_columns, calls = (
        " AND ".join(filter(None, parts))
        for parts in (
            [one.head for one in conditions],
            ["number = ANY(%(blocks)s)", *(one.columns for one in conditions)],
            ["NOT shadow", "" if "token" in asked else NO_LOAD, also, *(one.call for one in conditions)],
        )
    )
    query = (
        f"SELECT at, request_id, {', '.join(columns)} FROM calls"
        f" WHERE block = ANY(ARRAY(SELECT number FROM call_blocks WHERE {whole_columns}"
        f" AND first_at BETWEEN %(low)s AND %(high)s)) AND first_at BETWEEN %(low)s AND %(high)s AND {calls}"
        " ORDER BY at DESC, request_id DESC LIMIT %(limit)s"
    )
    found: list[tuple[Any, ...]] = []
    async with pool.connection() as connection, connection.transaction():
        # one view of all blocks: they may be merged meanwhile
        await connection.execute("SET TRANSACTION ISOLATION LEVEL REPEATABLE READ READ ONLY")
        async with connection.cursor(name="blocks") as blocks:
            await blocks.execute(f"SELECT number, first_at, last_at FROM call_blocks WHERE {heads} ORDER BY last_at DESC".encode(), asked)
            many = 1
            while opened := await blocks.fetchmany(many):
                if len(found) == limit and opened[0][2] < found[-1][0]:
                    break
                numbers, first_times, _ = zip(*opened, strict=True)
                rows = await connection.execute(
                    query.encode(), {**asked, "blocks": list(numbers), "low": min(first_times), "high": max(first_times), "limit": limit}
                )
                found = sorted([*found, *await rows.fetchall()], key=_moment, reverse=True)[:limit]
                many = min(2 * many, _MOST_BLOCKS)
    return [row[2:] for row in found]


def _moment(row: tuple[Any, ...]) -> tuple[Any, ...]:
    return row[:2]


async def find_call(pool: Pool, request_id: UUID) -> tuple[dict[str, Any], list[dict[str, Any]]]:
    """One call, and what shadows answered to it; raise NotFound."""
    async with pool.connection() as connection:
        rows = await connection.execute(
            f"SELECT {', '.join(_FOUND)} FROM calls WHERE ids @> %(id)s AND %(id)s = ANY(block_ids) AND request_id = %(id)s"
            " ORDER BY shadow, version".encode(),
            {"id": request_id},
        )
        calls = [dict(zip(_NAMES, row, strict=True)) for row in await rows.fetchall()]
    if not calls:
        raise NotFound(f"there is no call {request_id}; calls are in the records a moment after they are answered, see lamppost tail")
    return calls[0], calls[1:]


@dataclass(frozen=True, slots=True)
class RecordedInput:
    """The recorded input of one call. version : the version that answered."""

    request_id: UUID
    version: str | None
    status: int
    input: Any
    answer: Any


RECORDED_INPUT = ("request_id", "version", "status", "input", "answer")


async def recorded_inputs(pool: Pool, endpoint: str, since: datetime, limit: int, statuses: Sequence[int] = (200,)) -> list[RecordedInput]:
    """The last calls to an endpoint whose input was kept, the newest first."""
    asked = {"endpoint": endpoint, "since": since, "statuses": list(statuses)}
    rows = await _newest(pool, RECORDED_INPUT, asked, limit, "input IS NOT NULL")
    return [RecordedInput(*row) for row in rows]
