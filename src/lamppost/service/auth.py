"""Identifies who sent a request, by a bearer token or a browser's session cookie, and charges the token's rate. Principals are cached until
tokens change.
"""

from __future__ import annotations

import asyncio
import logging
import math
import time
from collections.abc import Callable, Mapping, Sequence
from datetime import UTC, datetime
from urllib.parse import urlsplit

from cachetools import TTLCache

from lamppost.core.engine.rate_limit import TokenBucket
from lamppost.core.errors import NotAllowed, NotSignedIn, RateLimited
from lamppost.core.roles import Principal
from lamppost.store import tokens
from lamppost.store.database import Pool

log = logging.getLogger("lamppost.auth")

COOKIE = "lamppost_session"
DESK_COOKIE = "lamppost_desk"
"""Of a desk. Browsers send it to the addresses of that desk only, where it goes before the session of a console that is open too."""
_MOST_ADDRESSES = 10_000
_FORGET_S = 600
_FREE_FAILURES = 10
"""Failed sign-ins of one address that are answered at once; each later one waits longer."""
_WAIT_S = 0.1
_LONGEST_WAIT_S = 3.0
_LOGGED_FAILURES = frozenset((1, 10, 100))
_SAFE = frozenset({"GET", "HEAD", "OPTIONS"})
Headers = Sequence[tuple[bytes, bytes]]


class UnknownSecret(NotSignedIn):
    """A token or session that nobody has: a guess, perhaps."""


class TokenPrincipals:
    """The principals in force, by their tokens, and the rates that are charged to them.

    anonymous : who sends requests without a token; None where a token is needed.
    """

    def __init__(self) -> None:
        self.anonymous: Principal | None = None
        self._by_hash: dict[bytes, Principal] = {}
        self._by_token: dict[str, Principal] = {}
        self._buckets: dict[str, TokenBucket] = {}
        self._used: dict[str, float] = {}

    @property
    def principals(self) -> Mapping[bytes, Principal]:
        """The principals in force, by the hashes of their tokens."""
        return self._by_hash

    def put_in_force(self, by_hash: Mapping[bytes, Principal]) -> None:
        """Put principals in force in place of those before. by_hash : by the hashes of their tokens."""
        self._by_hash = dict(by_hash)
        self._by_token = {principal.token: principal for principal in self._by_hash.values()}
        rates = {known.token: known.rate_per_s for known in self._by_hash.values()}
        self._buckets = {token: bucket for token, bucket in self._buckets.items() if rates.get(token) == bucket.rate_per_s}

    def principal_of_token(self, secret: str) -> Principal:
        """The principal of a token; raise NotSignedIn for an unknown, revoked or expired one. Its rate is not charged."""
        principal = self._by_hash.get(tokens.hash_of(secret))
        if principal is None:
            raise UnknownSecret("this token is not known here, or was revoked; ask an admin for another one")
        _check_expiry(principal)
        return principal

    def charge(self, principal: Principal) -> None:
        """Charge one request to a principal's rate; raise RateLimited, charging nothing, if the rate is used up."""
        now = time.time()
        if principal.rate_per_s is not None:
            bucket = self._buckets.get(principal.token) or self._buckets.setdefault(
                principal.token, TokenBucket.full(principal.rate_per_s, now)
            )
            if wait_s := bucket.wait_before_next(now):
                raise RateLimited(
                    f"the token {principal.token!r} may come {principal.rate_per_s:g} times a second; try again in {wait_s:.2g} s",
                    retry_after_s=math.ceil(wait_s),
                )
        self._used[principal.token] = now

    def require_in_force(self, principal: Principal) -> None:
        """Raise NotSignedIn for a principal whose token was revoked or has expired since it was identified."""
        self.principal_named(principal.token)

    def principal_named(self, token: str) -> Principal:
        """The principal with a token of this name; raise NotSignedIn for a token that was revoked or has expired."""
        principal = self._by_token.get(token)
        if principal is None and self.anonymous is not None and token == self.anonymous.token:
            return self.anonymous
        if principal is None:
            raise NotSignedIn(f"the token {token!r} was revoked")
        _check_expiry(principal)
        return principal


class Auth(TokenPrincipals):
    """The principals in force, and the sessions of browsers. `reload` after every change of tokens.

    own_origins : of the console, behind a proxy. changed : is called after other principals were put in force.
    """

    def __init__(self, pool: Pool, own_origins: frozenset[str] = frozenset()) -> None:
        super().__init__()
        self._pool = pool
        self._own_origins = own_origins
        self._failures: TTLCache[str, int] = TTLCache(_MOST_ADDRESSES, _FORGET_S)
        self._sessions: dict[str, tuple[Principal, datetime]] = {}
        self.changed: Callable[[], None] | None = None

    async def reload(self) -> None:
        """Read all tokens anew and forget cached sessions, so that what was revoked ends at once."""
        self.put_in_force(await tokens.principals_by_hash(self._pool))

    def put_in_force(self, by_hash: Mapping[bytes, Principal]) -> None:
        """Put principals in force in place of those before, and forget cached sessions."""
        before = self._by_hash
        super().put_in_force(by_hash)
        self._sessions.clear()
        if self.changed is not None and self._by_hash != before:
            self.changed()

    async def note_used(self) -> None:
        """Store when tokens were last used, for those used since the last call of this method."""
        used, self._used = self._used, {}
        if used:
            await tokens.note_used(self._pool, {token: datetime.fromtimestamp(at, UTC) for token, at in used.items()})

    async def check(self, method: str, headers: Headers, address: str | None = None) -> Principal:
        """The sender of these request headers, charged for the request; raises as `identify` and `charge` do."""
        principal = await self.identify(method, headers, address)
        self.charge(principal)
        return principal

    async def note_failure(self, address: str | None) -> None:
        """Note that a secret which nobody has came from an address: the log tells it, and the more there were, the later the answer."""
        place = address or "?"
        failures = self._failures[place] = self._failures.get(place, 0) + 1
        if failures in _LOGGED_FAILURES or failures % 1_000 == 0:
            log.warning("%d failed sign-ins from %s within %d minutes", failures, place, _FORGET_S // 60)
        if failures > _FREE_FAILURES:
            await asyncio.sleep(min(_LONGEST_WAIT_S, _WAIT_S * (failures - _FREE_FAILURES)))

    async def identify(self, method: str, headers: Headers, address: str | None = None) -> Principal:
        """The sender of these request headers; raise NotSignedIn, or NotAllowed for a cookie used from a foreign page. Not charged.

        address : where they came from, so that guessing is slowed and logged; None where that was done for the request before.
        """
        try:
            return await self._identify(method, headers)
        except UnknownSecret:
            if address is not None:
                await self.note_failure(address)
            raise

    async def _identify(self, method: str, headers: Headers) -> Principal:
        cookie = host = origin = b""
        authorization: bytes | None = None
        for name, value in headers:
            if name == b"authorization":
                if authorization is not None:
                    raise NotSignedIn("the request has two Authorization headers; send one")
                authorization = value
            elif name == b"cookie":
                cookie = value
            elif name == b"host":
                host = value
            elif name == b"origin":
                origin = value
        if authorization is not None:
            scheme, _, secret = authorization.decode("latin-1").partition(" ")
            if scheme.lower() != "bearer" or not secret:
                raise NotSignedIn("the Authorization header is not of the form: Bearer <token>")
            return self.principal_of_token(secret.strip())
        session = session_of(cookie.decode("latin-1"))
        if session is None and self.anonymous is not None:
            _check_page(origin, host)
            return self.anonymous
        if session is None:
            raise NotSignedIn("send a token in the header Authorization: Bearer <token>, or sign in on the console")
        principal = await self._by_session(session)
        if method not in _SAFE and origin and urlsplit(origin).netloc != host and origin.decode("latin-1").lower() not in self._own_origins:
            raise NotAllowed("a page of another origin may not use this session; send a token instead")
        return principal

    async def _by_session(self, secret: str) -> Principal:
        cached = self._sessions.get(secret)
        if cached is None:
            cached = await tokens.session_token(self._pool, secret)
            if cached is None:
                raise UnknownSecret("the session has ended; sign in again")
            self._sessions[secret] = cached
        if cached[1] < datetime.now(UTC):
            del self._sessions[secret]
            raise NotSignedIn("the session has ended; sign in again")
        _check_expiry(cached[0])
        return cached[0]


def _check_page(origin: bytes, host: bytes) -> None:
    """Raise NotAllowed for a request without a token that a page of another origin has sent."""
    if origin and urlsplit(origin).netloc != host:
        raise NotAllowed("a page of another origin may not ask this service")


def _check_expiry(principal: Principal) -> None:
    if principal.expires_at is not None and principal.expires_at.timestamp() <= time.time():
        raise NotSignedIn(
            f"the token {principal.token!r} expired at {principal.expires_at:%Y-%m-%d %H:%M} UTC; ask an admin for another one"
        )


def session_of(cookie_header: str) -> str | None:
    """The session's secret in a Cookie header (RFC 6265, section 4.2), or None."""
    found: str | None = None
    for part in cookie_header.split(";"):
        name, _, value = part.strip().partition("=")
        if name == DESK_COOKIE and value:
            return value
        if name == COOKIE and value:
            found = found or value
    return found
