"""Stores tokens, browser sessions and one-time sign-in links. Of a secret, 256 random bits, only the SHA-256 is stored."""

from __future__ import annotations

import hashlib
import logging
import secrets
from collections.abc import Mapping
from dataclasses import dataclass
from datetime import UTC, datetime, timedelta
from typing import Any

from lamppost.core.engine.rate_limit import MAX_RATE_PER_S, MIN_RATE_PER_S
from lamppost.core.errors import Conflict, NotFound, SetupError
from lamppost.core.instants import bounded_instant
from lamppost.core.roles import MAY, Principal, Role
from lamppost.store import trail
from lamppost.store.database import Pool, announce, connect
from lamppost.store.trail import ChangedBy

log = logging.getLogger("lamppost.tokens")

PREFIX = "lamp_"
_LEAST_SECRET = 32
SESSION_TIME = timedelta(hours=12)
LINK_TIME = timedelta(minutes=15)


@dataclass(frozen=True, slots=True)
class Token:
    """A token as it may be shown: everything but the secret."""

    name: str
    role: Role
    endpoints: tuple[str, ...] | None
    made_at: datetime
    made_by: str | None
    revoked_at: datetime | None
    expires_at: datetime | None
    rate_per_s: float | None
    last_used_at: datetime | None


def new_secret() -> str:
    """A new token's secret, recognisable by its start."""
    return PREFIX + secrets.token_urlsafe(32)


def hash_of(secret: str) -> bytes:
    """What is stored of a secret. Plain SHA-256 is enough for 256 random bits."""
    return hashlib.sha256(secret.encode()).digest()


def make_first_admin(url: str, given: str | None = None) -> str | None:
    """Make the token ``admin``, if no token was ever made. Returns its secret, None where it was given or there are tokens already.

    Raise SetupError for a given secret that is too short.
    """
    if given is not None and len(given) < _LEAST_SECRET:
        raise SetupError(f"the secret for the first admin token has {len(given)} characters; give at least {_LEAST_SECRET}, at random")
    with connect(url) as connection:
        connection.execute("LOCK TABLE tokens IN EXCLUSIVE MODE")
        if connection.execute("SELECT 1 FROM tokens LIMIT 1").fetchone():
            return None
        secret = given or new_secret()
        connection.execute(
            "INSERT INTO tokens (name, role, hash, made_by) VALUES ('admin', 'admin', %s, 'first start')", (hash_of(secret),)
        )
        return None if given else secret


def replace_admin(url: str) -> str:
    """Give the token ``admin`` a new secret; the old one ends at once. For somebody who holds the data folder."""
    secret = new_secret()
    with connect(url) as connection:
        connection.execute(
            "INSERT INTO tokens (name, role, hash, made_by) VALUES ('admin', 'admin', %s, 'data folder')"
            " ON CONFLICT (name) DO UPDATE SET hash = excluded.hash, role = 'admin', revoked_at = NULL, made_at = now(),"
            " former_hash = NULL, former_until = NULL",
            (hash_of(secret),),
        )
        connection.execute("DELETE FROM sessions WHERE token = 'admin'")
        connection.execute("SELECT pg_notify('lamppost_changes', 'tokens')")
    return secret


async def make_token(
    pool: Pool,
    name: str,
    role: str,
    endpoints: list[str] | None,
    by: ChangedBy,
    expires_at: datetime | None = None,
    rate_per_s: float | None = None,
) -> str:
    """Make a token and return its secret, which is shown this once; raise Conflict when the name is taken."""
    secret = new_secret()
    async with pool.connection() as connection, connection.transaction():
        inserted = await connection.execute(
            "INSERT INTO tokens (name, role, endpoints, hash, made_by, expires_at, rate_per_s)"
            " VALUES (%s, %s, %s, %s, %s, %s, %s) ON CONFLICT DO NOTHING",
            (name, role, endpoints, hash_of(secret), by.token, expires_at, rate_per_s),
        )
        if not inserted.rowcount:
            raise Conflict(f"there is a token {name!r} already; choose another name")
        about = {"role": role, "endpoints": endpoints, "expires_at": expires_at, "rate_per_s": rate_per_s}
        await trail.add_entry(connection, by, "made token", name, after={key: value for key, value in about.items() if value is not None})
        await announce(connection, "tokens")
    return secret


async def list_tokens(pool: Pool) -> list[Token]:
    """All tokens, revoked ones too, by name."""
    async with pool.connection() as connection:
        rows = await connection.execute(
            "SELECT name, role, endpoints, made_at, made_by, revoked_at, least(expires_at, '9998-12-31 23:59:59+00'), rate_per_s,"
            " last_used_at FROM tokens ORDER BY name"
        )
        return [_token(row) for row in await rows.fetchall()]


def _token(row: Any) -> Token:
    name, role, endpoints, *rest = row
    return Token(name, role, None if endpoints is None else tuple(endpoints), *rest)


async def note_used(pool: Pool, used: Mapping[str, datetime]) -> None:
    """Keep when tokens were last used."""
    async with pool.connection() as connection:
        for name, at in used.items():
            await connection.execute(
                "UPDATE tokens SET last_used_at = %s WHERE name = %s AND (last_used_at IS NULL OR last_used_at < %s)", (at, name, at)
            )


async def revoke_token(pool: Pool, name: str, by: ChangedBy) -> None:
    """End a token and its sessions, on every node; raise NotFound, or Conflict for the last admin's."""
    async with pool.connection() as connection, connection.transaction():
        await connection.execute("LOCK TABLE tokens IN EXCLUSIVE MODE")
        role_row = await (await connection.execute("SELECT role FROM tokens WHERE name = %s AND revoked_at IS NULL", (name,))).fetchone()
        if role_row is None:
            raise NotFound(f"there is no token {name!r} in force; see lamppost token list")
        lasting = "SELECT count(*) FROM tokens WHERE role = 'admin' AND revoked_at IS NULL AND expires_at IS NULL AND name <> %s"
        admins = await (await connection.execute(lasting, (name,))).fetchone()
        if role_row[0] == "admin" and admins is not None and admins[0] == 0:
            raise Conflict(f"{name!r} is the last admin token that does not expire; make another one first")
        await connection.execute("UPDATE tokens SET revoked_at = now() WHERE name = %s", (name,))
        await connection.execute("DELETE FROM sessions WHERE token = %s", (name,))
        await trail.add_entry(connection, by, "revoked token", name)
        await announce(connection, "tokens")


async def rotate_token(pool: Pool, name: str, keep_former: timedelta, by: ChangedBy) -> tuple[str, datetime]:
    """Give a token a new secret, which is shown this once. Returns the secret and until when the former one is in force too.

    The secret before the former one, if that was still in force, ends. Raise NotFound for a token that is not in force.
    """
    secret = new_secret()
    async with pool.connection() as connection, connection.transaction():
        rotated = await connection.execute(
            "UPDATE tokens SET former_hash = hash, former_until = now() + %s, hash = %s WHERE name = %s AND revoked_at IS NULL"
            " AND (expires_at IS NULL OR expires_at > now()) RETURNING former_until",
            (keep_former, hash_of(secret), name),
        )
        if (row := await rotated.fetchone()) is None:
            raise NotFound(f"there is no token {name!r} in force; see lamppost token list")
        await trail.add_entry(connection, by, "rotated token", name, after={"former_until": row[0]})
        await announce(connection, "tokens")
    return secret, row[0]


async def principals_by_hash(pool: Pool) -> dict[bytes, Principal]:
    """The principals of all tokens that were not revoked, by hash of the secret; by that of the former secret too, while it is in force."""
    async with pool.connection() as connection:
        rows = await connection.execute(
            f"SELECT hash, name, role, endpoints, {_EXPIRES}, rate_per_s FROM tokens WHERE revoked_at IS NULL"
            " UNION ALL SELECT former_hash, name, role, endpoints, extract(epoch FROM least(expires_at, former_until))::float8, rate_per_s"
            " FROM tokens WHERE revoked_at IS NULL AND former_until > now()".encode()
        )
        found = {row[0]: _principal(*row[1:]) for row in await rows.fetchall()}
    return {secret: principal for secret, principal in found.items() if principal is not None}


_EXPIRES = "extract(epoch FROM expires_at)::float8"
"""Not as a time: one row with a time that Python cannot hold would keep all the others from being read."""


def _principal(name: str, role: Role, endpoints: list[str] | None, expires_at: float | None, rate_per_s: float | None) -> Principal | None:
    """The principal of a row; None, with a line in the log, for a row that is none. The token counts as unknown then."""
    try:
        expires = None if expires_at is None else bounded_instant(datetime.fromtimestamp(expires_at, UTC))
        if role not in MAY:
            raise ValueError(f"there is no role {role!r}")
        if rate_per_s is not None and not MIN_RATE_PER_S <= rate_per_s <= MAX_RATE_PER_S:
            raise ValueError(f"a rate of {rate_per_s:g} a second is none")
    except (ValueError, OverflowError, OSError) as error:
        log.error("the token %r is left out, its row cannot be used: %s; revoke it and make another one", name, error)
        return None
    return Principal(name, role, None if endpoints is None else frozenset(endpoints), expires, rate_per_s)


async def open_session(pool: Pool, token: str, time: timedelta = SESSION_TIME) -> str:
    """Start a browser session for a token and return its secret. time : how long it lasts."""
    return await _admit(pool, token, "browser", time)


async def make_link(pool: Pool, token: str) -> str:
    """A secret that signs one browser in as this token, once, within a quarter of an hour."""
    return await _admit(pool, token, "link", LINK_TIME)


async def _admit(pool: Pool, token: str, kind: str, time: timedelta) -> str:
    """Store a new secret for a token with an expiry; expired secrets are deleted."""
    secret = secrets.token_urlsafe(32)
    async with pool.connection() as connection:
        await connection.execute("DELETE FROM sessions WHERE expires_at < now()")
        await connection.execute(
            "INSERT INTO sessions (hash, token, kind, expires_at) VALUES (%s, %s, %s, now() + %s)", (hash_of(secret), token, kind, time)
        )
    return secret


async def use_link(pool: Pool, secret: str) -> str | None:
    """Take a one-time link out of use and return its token's name; None when it was used, has expired or never was."""
    async with pool.connection() as connection:
        row = await (
            await connection.execute(
                "DELETE FROM sessions s USING tokens t WHERE s.hash = %s AND s.kind = 'link' AND s.expires_at > now()"
                " AND t.name = s.token AND t.revoked_at IS NULL RETURNING s.token",
                (hash_of(secret),),
            )
        ).fetchone()
        return None if row is None else str(row[0])


async def session_token(pool: Pool, secret: str) -> tuple[Principal, datetime] | None:
    """Whose browser session this is and until when, or None."""
    async with pool.connection() as connection:
        row = await (
            await connection.execute(
                "SELECT s.expires_at, t.name, t.role, t.endpoints, extract(epoch FROM t.expires_at)::float8, t.rate_per_s"
                " FROM sessions s JOIN tokens t ON t.name = s.token"
                " WHERE s.hash = %s AND s.kind = 'browser' AND s.expires_at > now() AND t.revoked_at IS NULL",
                (hash_of(secret),),
            )
        ).fetchone()
    principal = None if row is None else _principal(*row[1:])
    return None if row is None or principal is None else (principal, row[0])


async def close_session(pool: Pool, secret: str) -> None:
    """Forget a browser session."""
    async with pool.connection() as connection, connection.transaction():
        await connection.execute("DELETE FROM sessions WHERE hash = %s", (hash_of(secret),))
        await announce(connection, "tokens")
