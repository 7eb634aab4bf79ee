"""Stores that explanations were made, not what they said."""

from __future__ import annotations

from dataclasses import dataclass
from datetime import datetime
from uuid import UUID

from lamppost.store.database import Pool


@dataclass(frozen=True, slots=True)
class MadeExplanation:
    """An explanation that was made. call : whose answer was explained, None for a row that was sent. asked : rows that the model was asked
    about. stopped : why no more were (see `lamppost.core.explanation.contributions`).
    """

    request_id: UUID
    at: datetime
    endpoint: str
    version: str
    token: str
    call: UUID | None
    asked: int
    took_ms: float
    stopped: str


async def add_explanation(pool: Pool, made: MadeExplanation) -> None:
    """Keep a note of one."""
    async with pool.connection() as connection:
        await connection.execute(
            "INSERT INTO explanations (request_id, at, endpoint, version, token, call, asked, took_ms, stopped)"
            " VALUES (%s, %s, %s, %s, %s, %s, %s, %s, %s)",
            (made.request_id, made.at, made.endpoint, made.version, made.token, made.call, made.asked, made.took_ms, made.stopped),
        )


async def list_explanations(pool: Pool, endpoint: str, limit: int) -> list[MadeExplanation]:
    """The last explanations of an endpoint's answers, the newest first."""
    async with pool.connection() as connection:
        rows = await connection.execute(
            "SELECT request_id, at, endpoint, version, token, call, asked, took_ms, stopped FROM explanations"
            " WHERE endpoint = %s ORDER BY at DESC LIMIT %s",
            (endpoint, limit),
        )
        return [MadeExplanation(*row) for row in await rows.fetchall()]
