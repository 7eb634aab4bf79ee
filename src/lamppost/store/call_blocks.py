"""Calls as blocks: up to a thousand calls to one endpoint on one day, with an array for each column, which the server compresses.

A row for each call would take four times as much room. Each delivery makes blocks of its own, which are small when there is little
traffic; `merge_small_blocks` makes large ones of them. The views ``calls`` and ``call_heads`` show a row for each call.
"""

from __future__ import annotations

from collections.abc import Iterable, Sequence
from datetime import UTC, datetime, timedelta
from functools import lru_cache

import orjson

from lamppost.store.call_records import CallRecord
from lamppost.store.database import Pool

_BLOCK_WEIGHT = 1 << 20
_CALL_WEIGHT = _BLOCK_WEIGHT // 1_000
"""A call weighs as many bytes as its payloads have, and this at least; a block is closed before it weighs more than a block may."""
_SMALL_WEIGHT = _BLOCK_WEIGHT // 2
_FAN_IN = 16
"""So many small blocks of like size become one; so a call is written anew two or three times at most."""
_MERGED_CALLS = 50_000
"""Calls that one statement merges at most."""
_MERGED_DAYS = timedelta(days=3)
_LATE = timedelta(hours=1)
"""So long after midnight, records of the day before may still come in small deliveries."""
_DAY_S = 86_400

HEADS = ("endpoint", "first_at", "last_at", "ids", "calls", "small", "most_status", "most_us", "most_odd")
"""Columns that say what is in a block."""
COLUMNS = (
    *("at", "request_id", "version", "token", "status", "row_count", "batch_rows", "total_us", "phases_us", "shadow", "trace"),
    *("input", "answer", "odd", "odd_reason", "brought_by"),
)
"""Columns with a value for each call. How odd a call is, and whether it was answered elsewhere, is known when it is brought here."""
COPY_BLOCKS = f"COPY call_blocks ({', '.join((*HEADS, *COLUMNS))}) FROM STDIN".encode()
_NULL = b"NULL"
_NO_VALUE = b"\\N"
_SEPARATOR = b"\x1f"

Odd = tuple[float, str]
"""How odd a call is, and the reason."""
StoredCall = tuple[CallRecord, Odd | None, str | None]
"""A call, how odd it is, and who brought it in where it was answered elsewhere."""


def block_lines(calls: Iterable[StoredCall]) -> list[bytes]:
    """Blocks of calls as lines for `COPY_BLOCKS`."""
    groups: dict[tuple[str, float], list[StoredCall]] = {}
    for stored in calls:
        call = stored[0]
        groups.setdefault((call.endpoint, call.at // _DAY_S), []).append(stored)
    lines = []
    for group in groups.values():
        group.sort(key=_time)
        lines += [_line(block, weight < _SMALL_WEIGHT) for block, weight in _cut(group)]
    return lines


def _time(stored: StoredCall) -> float:
    return stored[0].at


def _weight(stored: StoredCall) -> int:
    call = stored[0]
    return max(_CALL_WEIGHT, len(call.input or b"") + len(call.answer or b""))


def _cut(calls: Sequence[StoredCall]) -> Iterable[tuple[Sequence[StoredCall], int]]:
    """Calls in order, cut where a block is full, each with its weight."""
    start = weight = 0
    for at, stored in enumerate(calls):
        more = _weight(stored)
        if at > start and weight + more > _BLOCK_WEIGHT:
            yield calls[start:at], weight
            start, weight = at, 0
        weight += more
    yield calls[start:], weight


def _line(block: Sequence[StoredCall], small: bool) -> bytes:
    records = [stored[0] for stored in block]
    scores = [stored[1] for stored in block]
    at, ids, endpoints, versions, tokens, statuses, rows, batches, took, phases, inputs, answers, shadows, traces = zip(
        *records, strict=True
    )
    odd = [score for score in scores if score is not None]
    times = [_timestamp(value) for value in at]
    fields = (
        _escaped(endpoints[0].encode()),
        times[0],
        times[-1],
        f"[{min(ids)},{max(ids)}]".encode(),
        b"%d" % len(block),
        b"t" if small else b"f",
        b"%d" % max(statuses),
        b"%d" % max(took),
        b"%.3f" % max(score for score, _ in odd) if odd else _NO_VALUE,
        _array(times),
        _array([value.encode() for value in ids]),
        _texts(versions),
        _texts(tokens),
        _numbers(statuses),
        _numbers(rows),
        _numbers(batches),
        _numbers(took),
        _quoted([orjson.dumps(spent) for spent in phases]),
        _array([b"t" if shadow else b"f" for shadow in shadows]),
        _array([_NULL if trace is None else trace[3:35].encode() for trace in traces]),
        _quoted(inputs),
        _quoted(answers),
        _array([_NULL if score is None else b"%.3f" % score[0] for score in scores]),
        _texts([score[1] or None if score is not None else None for score in scores]),
        _texts([stored[2] for stored in block]),
    )
    return b"\t".join(fields) + b"\n"


@lru_cache(maxsize=8)
def _second(at: int) -> bytes:
    """A whole second as the start of a timestamp."""
    return datetime.fromtimestamp(at, UTC).strftime("%Y-%m-%dT%H:%M:%S").encode()


def _timestamp(at: float) -> bytes:
    second = int(at // 1)
    return b"%s.%06d+00:00" % (_second(second), int((at - second) * 1e6))


def _array(values: Iterable[bytes]) -> bytes:
    return b"{" + b",".join(values) + b"}"


def _numbers(values: Iterable[int | None]) -> bytes:
    return _array([_NULL if value is None else b"%d" % value for value in values])


def _texts(values: Sequence[str | None]) -> bytes:
    return _escaped(_array([_text(value) for value in values]))


@lru_cache(maxsize=4_096)
def _text(value: str | None) -> bytes:
    """An element of an array, cached because names repeat."""
    return _NULL if value is None else _element(value.encode())


def _quoted(values: Sequence[bytes | None]) -> bytes:
    """Texts as an array, escaped: all of them at once where none lacks and the separator is in none, as in JSON it cannot be."""
    if None not in values:
        joined = _SEPARATOR.join(values)  # type: ignore[arg-type]
        if joined.count(_SEPARATOR) == len(values) - 1:
            if b"\\" in joined:
                joined = joined.replace(b"\\", b"\\\\")
            return _escaped(b'{"%s"}' % joined.replace(b'"', b'\\"').replace(_SEPARATOR, b'","'))
    return _escaped(_array([_NULL if value is None else _element(value) for value in values]))


def _element(value: bytes) -> bytes:
    if 92 in value:
        value = value.replace(b"\\", b"\\\\")
    return b'"' + value.replace(b'"', b'\\"') + b'"'


def _escaped(value: bytes) -> bytes:
    """A field as COPY reads it."""
    for plain, escaped in ((b"\\", b"\\\\"), (b"\n", b"\\n"), (b"\r", b"\\r"), (b"\t", b"\\t")):
        if plain in value:
            value = value.replace(plain, escaped)
    return value


_IN_ORDER = ", ".join(f"array_agg({name} ORDER BY at, place)" for name in COLUMNS)
_MERGE = f"""
WITH gone AS (DELETE FROM call_blocks WHERE number = ANY(%(numbers)s) AND first_at >= %(since)s RETURNING *),
one AS (
    SELECT b.endpoint, c.*, row_number() OVER () AS place,
        greatest({_CALL_WEIGHT}, coalesce(octet_length(c.input::text), 0) + coalesce(octet_length(c.answer::text), 0)) AS weight
    FROM gone b CROSS JOIN LATERAL unnest({", ".join(f"b.{name}" for name in COLUMNS)}) AS c ({", ".join(COLUMNS)})
),
cut AS (
    SELECT *, sum(weight) OVER (PARTITION BY endpoint ORDER BY at, place ROWS UNBOUNDED PRECEDING) / {_BLOCK_WEIGHT} AS block FROM one
)
INSERT INTO call_blocks ({", ".join((*HEADS, *COLUMNS))})
SELECT endpoint, min(at), max(at), id_span(min(request_id::text)::uuid, max(request_id::text)::uuid, '[]'), count(*),
    sum(weight) < {_SMALL_WEIGHT}, max(status), max(total_us), max(odd), {_IN_ORDER}
FROM cut GROUP BY endpoint, block
"""


async def merge_small_blocks(pool: Pool, now: datetime) -> int:
    """Make large blocks of small ones, of an endpoint and a day: of those of like size as soon as there are many, and of all of them
    once the day is over. Returns how many small blocks are gone. One node at a time may do this; readers see the calls all the while.
    """
    since = (now - _MERGED_DAYS).replace(hour=0, minute=0, second=0, microsecond=0)
    today = (now - _LATE).replace(hour=0, minute=0, second=0, microsecond=0)
    merged = 0
    async with pool.connection() as connection:
        found = await connection.execute(
            "SELECT array_agg(number ORDER BY first_at), array_agg(calls ORDER BY first_at) FROM call_blocks"
            " WHERE small AND first_at >= %(since)s GROUP BY endpoint, date_trunc('day', first_at, 'UTC'),"
            " CASE WHEN first_at >= %(today)s THEN floor(ln(calls) / ln(%(fan_in)s)) END"
            " HAVING count(*) >= CASE WHEN min(first_at) >= %(today)s THEN %(fan_in)s ELSE 2 END",
            {"since": since, "today": today, "fan_in": _FAN_IN},
        )
        for numbers, calls in await found.fetchall():
            for some in _portions(numbers, calls):
                await connection.execute(_MERGE.encode(), {"numbers": some, "since": since})
                merged += len(some)
    return merged


def _portions(numbers: Sequence[int], calls: Sequence[int]) -> list[list[int]]:
    """Blocks in portions of at most so many calls as one statement merges."""
    portions: list[list[int]] = [[]]
    size = 0
    for number, many in zip(numbers, calls, strict=True):
        if size + many > _MERGED_CALLS and portions[-1]:
            portions.append([])
            size = 0
        portions[-1].append(number)
        size += many
    return portions
