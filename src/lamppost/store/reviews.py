"""Stores reviews: a version is asked for at an endpoint, and others approve or refuse it."""

from __future__ import annotations

from collections.abc import Iterable
from dataclasses import dataclass, field
from datetime import datetime

from psycopg.errors import UniqueViolation

from lamppost.core.errors import Conflict, NotAllowed, NotFound
from lamppost.core.names import VersionName
from lamppost.store import trail
from lamppost.store.database import Pool, announce
from lamppost.store.trail import ChangedBy

_COLUMNS = "number, endpoint, version, note, asked_by, asked_at, state"


@dataclass(frozen=True, slots=True)
class ReviewVerdict:
    """The verdict of one reviewer."""

    token: str
    approves: bool
    reason: str
    at: datetime


@dataclass(frozen=True, slots=True)
class Review:
    """A version that somebody wants an endpoint to serve. needed : approvals that the endpoint demands now."""

    number: int
    endpoint: str
    version: str
    note: str
    asked_by: str
    asked_at: datetime
    state: str
    needed: int = 0
    verdicts: list[ReviewVerdict] = field(default_factory=list)


async def ask_review(pool: Pool, endpoint: str, version: VersionName, note: str, by: ChangedBy) -> int:
    """Ask for a review; raise Conflict where one is open or was approved, NotFound for an endpoint or a version that is not there."""
    async with pool.connection() as connection, connection.transaction():
        approvals = await connection.execute("SELECT approvals FROM endpoints WHERE name = %s AND deleted_at IS NULL", (endpoint,))
        if (row := await approvals.fetchone()) is None:
            raise NotFound(f"there is no endpoint {endpoint!r}")
        if not row[0]:
            raise Conflict(f"{endpoint} demands no approvals; point it at {version} with: lamppost point {endpoint} {version}")
        query = "SELECT retired_at FROM versions WHERE model = %s AND number = %s AND deleted_at IS NULL"
        version_row = await (await connection.execute(query, (version.model, version.number))).fetchone()
        if version_row is None or version_row[0] is not None:
            raise Conflict(f"{version} {'does not exist' if version_row is None else 'is retired'}; see lamppost models {version.model}")
        try:
            insert = "INSERT INTO reviews (endpoint, version, note, asked_by) VALUES (%s, %s, %s, %s) RETURNING number"
            number = await (await connection.execute(insert, (endpoint, str(version), note, by.token))).fetchone()
        except UniqueViolation:
            raise Conflict(f"a review of {version} for {endpoint} is open, or was approved; see lamppost review list {endpoint}") from None
        assert number is not None
        await trail.add_entry(connection, by, "asked for review", endpoint, after={"version": str(version), "review": number[0]}, note=note)
        await announce(connection, "reviews")
        return int(number[0])


async def decide_review(pool: Pool, number: int, approves: bool, reason: str, by: ChangedBy) -> Review:
    """Approve or refuse an open review. Raise NotAllowed for whoever asked for it or pushed the version, Conflict once it is decided."""
    async with pool.connection() as connection, connection.transaction():
        rows = await connection.execute(f"SELECT {_COLUMNS} FROM reviews WHERE number = %s FOR UPDATE".encode(), (number,))
        row = await rows.fetchone()
        if row is None:
            raise NotFound(f"there is no review {number}; see lamppost review list")
        review = Review(*row)
        if review.state != "open":
            raise Conflict(f"review {number} of {review.version} is {review.state} already")
        model, _, version = review.version.partition("@")
        pushed = await connection.execute("SELECT pushed_by FROM versions WHERE model = %s AND number = %s", (model, int(version)))
        author = await pushed.fetchone()
        if by.token == review.asked_by or (author is not None and by.token == author[0]):
            did = "asked for this review" if by.token == review.asked_by else f"pushed {review.version}"
            raise NotAllowed(f"token {by.token!r} {did}, and somebody else has to decide on it")
        try:
            insert = "INSERT INTO verdicts (review, token, approves, reason) VALUES (%s, %s, %s, %s)"
            await connection.execute(insert, (number, by.token, approves, reason))
        except UniqueViolation:
            raise Conflict(f"token {by.token!r} has approved review {number} already; another reviewer is needed") from None
        query = "SELECT count(*) FILTER (WHERE approves), (SELECT approvals FROM endpoints WHERE name = %s) FROM verdicts WHERE review = %s"
        counted = await (await connection.execute(query, (review.endpoint, number))).fetchone()
        assert counted is not None
        state = "refused" if not approves else "approved" if counted[0] >= counted[1] else "open"
        await connection.execute("UPDATE reviews SET state = %s WHERE number = %s", (state, number))
        action = "approved" if approves else "refused"
        await trail.add_entry(connection, by, action, review.endpoint, after={"version": review.version, "review": number}, note=reason)
        await announce(connection, "reviews")
    return (await list_reviews(pool, number=number))[0]


async def withdraw_review(pool: Pool, number: int, by: ChangedBy) -> None:
    """Withdraw an open or approved review."""
    async with pool.connection() as connection, connection.transaction():
        query = "UPDATE reviews SET state = 'withdrawn' WHERE number = %s AND state IN ('open', 'approved') RETURNING endpoint, version"
        row = await (await connection.execute(query, (number,))).fetchone()
        if row is None:
            raise Conflict(f"review {number} is over, or there is none; see lamppost review list")
        await trail.add_entry(connection, by, "withdrew review", row[0], after={"version": row[1], "review": number})
        await announce(connection, "reviews")


async def list_reviews(pool: Pool, endpoint: str | None = None, number: int | None = None, limit: int = 50) -> list[Review]:
    """Reviews with their verdicts, the newest first."""
    async with pool.connection() as connection:
        query = (
            "SELECT number, endpoint, version, note, asked_by, asked_at, state, approvals FROM reviews JOIN endpoints ON name = endpoint"
            " WHERE (%(endpoint)s::text IS NULL OR endpoint = %(endpoint)s) AND (%(number)s::int IS NULL OR number = %(number)s)"
            " ORDER BY number DESC LIMIT %(limit)s"
        )
        values = {"endpoint": endpoint, "number": number, "limit": limit}
        rows = await (await connection.execute(query.encode(), values)).fetchall()
        reviews = {row[0]: Review(*row) for row in rows}
        verdicts = await connection.execute(
            "SELECT review, token, approves, reason, at FROM verdicts WHERE review = ANY(%s) ORDER BY at", (list(reviews),)
        )
        for review, *verdict in await verdicts.fetchall():
            reviews[review].verdicts.append(ReviewVerdict(*verdict))
    return list(reviews.values())


async def unapproved_versions(pool: Pool, endpoint: str, versions: Iterable[VersionName]) -> tuple[int, list[str]]:
    """How many approvals an endpoint demands, and which of these versions do not have them."""
    names = [str(version) for version in versions]
    async with pool.connection() as connection:
        row = await (await connection.execute("SELECT approvals FROM endpoints WHERE name = %s", (endpoint,))).fetchone()
        if row is None or not row[0]:
            return 0, []
        rows = await connection.execute(
            "SELECT version FROM reviews r WHERE endpoint = %s AND state = 'approved' AND version = ANY(%s)"
            " AND (SELECT count(*) FROM verdicts v WHERE v.review = r.number AND v.approves) >= %s",
            (endpoint, names, row[0]),
        )
        approved = {version for (version,) in await rows.fetchall()}
    return row[0], [version for version in names if version not in approved]
