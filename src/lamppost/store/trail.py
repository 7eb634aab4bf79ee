"""Stores the trail: who changed what, when, from what to what. Entries are only added, in the transaction of the change."""

from __future__ import annotations

from dataclasses import dataclass
from datetime import datetime
from typing import Any

import orjson
from psycopg import AsyncConnection
from psycopg.rows import TupleRow

from lamppost.store.database import Pool

_COLUMNS = "number, at, token, address, action, subject, before, after, note"


@dataclass(frozen=True, slots=True)
class ChangedBy:
    """Who makes a change: a token, and the address that it came from, None for the service itself."""

    token: str
    address: str | None = None


@dataclass(frozen=True, slots=True)
class TrailEntry:
    """One change. subject : the endpoint, model, version or token. before, after : JSON values; None for none."""

    number: int
    at: datetime
    token: str
    address: str | None
    action: str
    subject: str
    before: Any
    after: Any
    note: str | None


async def add_entry(
    connection: AsyncConnection[TupleRow],
    by: ChangedBy,
    action: str,
    subject: str,
    before: Any = None,
    after: Any = None,
    note: str | None = None,
) -> None:
    """Add one entry in the surrounding transaction."""
    await connection.execute(
        "SELECT add_trail_entry(%s, %s, %s, %s, %s::json, %s::json, %s)",
        (by.token, by.address, action, subject, _json(before), _json(after), note),
    )


def _json(value: Any) -> str | None:
    return None if value is None else orjson.dumps(value).decode()


@dataclass(frozen=True, slots=True)
class TrailSearch:
    """Which entries: of a subject, by a token, of an action, with words in any of it, within a time; None for all."""

    subject: str | None = None
    token: str | None = None
    action: str | None = None
    words: str | None = None
    since: datetime | None = None
    until: datetime | None = None


async def find_entries(pool: Pool, search: TrailSearch, limit: int, before: int | None = None) -> list[TrailEntry]:
    """Entries, the newest first; ``before`` goes on where an earlier look ended."""
    conditions = ["true"]
    values: dict[str, Any] = {"limit": limit, "before": before}
    for name, condition in (
        ("subject", "(subject = %(subject)s OR subject LIKE %(subject)s || '@%%')"),
        ("token", "token = %(token)s"),
        ("action", "action = %(action)s"),
        ("since", "at >= %(since)s"),
        ("until", "at < %(until)s"),
    ):
        if (value := getattr(search, name)) is not None:
            conditions.append(condition)
            values[name] = value
    if before is not None:
        conditions.append("number < %(before)s")
    for at, word in enumerate((search.words or "").split()):
        values[f"word{at}"] = word.replace("\\", "\\\\").replace("%", "\\%").replace("_", "\\_")
        conditions.append(
            f"concat_ws(' ', token, address, action, subject, before::text, after::text, note) ILIKE '%%' || %(word{at})s || '%%'"
        )
    query = f"SELECT {_COLUMNS} FROM trail WHERE {' AND '.join(conditions)} ORDER BY number DESC LIMIT %(limit)s"
    async with pool.connection() as connection:
        return [TrailEntry(*row) for row in await (await connection.execute(query.encode(), values)).fetchall()]
