"""What holds for every request before anything of its body is read: whom it was sent to, who sends it, and how much may come.

A large body that was not read to its end when it is refused ends the connection, so that nobody makes the service read what it has refused.
"""

from __future__ import annotations

from collections.abc import Awaitable, Callable, MutableMapping
from typing import Any

import orjson

from lamppost.core.errors import BadRequest, BodyTooLarge, LampPostError, NotAllowed, NotSignedIn
from lamppost.core.limits import MAX_UNSIGNED_BODY_BYTES
from lamppost.core.names import holds_nul
from lamppost.service.auth import Auth
from lamppost.service.http.content_coding import unpacking_receive
from lamppost.service.http.known_hosts import KnownHosts
from lamppost.service.http.predict_handler import PREFIX
from lamppost.service.http.problems import PROBLEM_TYPE, problem_headers

Scope = MutableMapping[str, Any]
Message = MutableMapping[str, Any]
Receive = Callable[[], Awaitable[Message]]
Send = Callable[[Message], Awaitable[None]]
App = Callable[[Scope, Receive, Send], Awaitable[None]]

_PUSH = "/api/packages"
_LONGEST_ESCAPE = 64
"""Bytes of a piece that are looked at again with the next one, because an escape may stand across both."""


class RequestGate:
    """Lets requests through to an app. Predictions bound their bodies themselves, because they know their senders by then."""

    def __init__(self, auth: Auth, hosts: KnownHosts, max_body_bytes: int, max_package_bytes: int) -> None:
        self._auth = auth
        self._hosts = hosts
        self._max_body_bytes = max_body_bytes
        self._max_package_bytes = max_package_bytes

    async def pass_on(self, app: App, scope: Scope, receive: Receive, send: Send) -> None:
        """Hand a request to the app, or answer it with a problem."""
        length = _content_length(scope)
        body = _BodyCount(receive, unread=_announces_body(scope) and (length is None or length > MAX_UNSIGNED_BODY_BYTES))
        send = _closing(send, body)
        try:
            self._hosts.require(_host(scope))
            if b"%00" in scope.get("raw_path", b"") or b"%00" in scope.get("query_string", b""):
                raise BadRequest("the address holds the character NUL (%00), which no name has")
            body.unpack(scope["headers"])
            if not scope["path"].startswith(PREFIX):
                body.limit = await self._limit(scope)
                if length is not None and length > body.limit:
                    raise body.too_large()
                body.is_json = _is_json(scope)
        except LampPostError as error:
            await _send_problem(send, error)
            return
        await app(scope, body.receive, send)

    async def _limit(self, scope: Scope) -> int:
        """How many bytes the sender's body may have."""
        if not _announces_body(scope):
            return MAX_UNSIGNED_BODY_BYTES
        try:
            await self._auth.identify(scope["method"], scope["headers"])
        except (NotSignedIn, NotAllowed):
            return MAX_UNSIGNED_BODY_BYTES
        return self._max_package_bytes if scope["path"] == _PUSH else self._max_body_bytes


class _BodyCount:
    """Counts a body as it is received.

    limit : most bytes of it, None for no bound here. is_json : whether it is searched for the character NUL.
    unread : whether it is large, or of unknown size, and there is more of it.
    """

    def __init__(self, receive: Receive, unread: bool) -> None:
        self.limit: int | None = None
        self.is_json = False
        self._tail = b""
        self.unread = unread
        self._receive = receive
        self._size = 0

    def unpack(self, headers: list[tuple[bytes, bytes]]) -> None:
        """Read the body as it was before it was compressed; raise WrongContentType for another coding than gzip."""
        self._receive = unpacking_receive(headers, self._receive)

    async def receive(self) -> Message:
        """The next piece; raise BodyTooLarge past the limit."""
        message = await self._receive()
        if message["type"] == "http.request":
            self._size += len(message.get("body", b""))
            if self.limit is not None and self._size > self.limit:
                raise self.too_large()
            if self.is_json:
                piece = self._tail + message.get("body", b"")
                if holds_nul(piece):
                    raise BadRequest("a text of the body holds the character NUL (\\u0000), which is not kept; leave it out")
                self._tail = piece[-_LONGEST_ESCAPE:]
            self.unread = self.unread and bool(message.get("more_body", False))
        return message

    def too_large(self) -> BodyTooLarge:
        """The error of a body over the limit."""
        if self.limit == MAX_UNSIGNED_BODY_BYTES:
            return BodyTooLarge(f"without a token that is known a body may have {self.limit:,} bytes", max_bytes=self.limit)
        return BodyTooLarge(f"the body is over the limit of {self.limit:,} bytes", max_bytes=self.limit)


def _closing(send: Send, body: _BodyCount) -> Send:
    """Ends the connection with an answer that comes before the whole body has."""

    async def closing(message: Message) -> None:
        if message["type"] == "http.response.start" and body.unread and message["status"] >= 400:
            message = {**message, "headers": [*message.get("headers", ()), (b"connection", b"close")]}
        await send(message)

    return closing


def _host(scope: Scope) -> bytes:
    hosts = [value for name, value in scope["headers"] if name == b"host"]
    if len(hosts) > 1 or (not hosts and scope.get("http_version", "1.1") == "1.1"):
        raise BadRequest("a request has one Host header (RFC 9112, section 3.2)")
    return hosts[0] if hosts else b"localhost"


def _content_length(scope: Scope) -> int | None:
    value = next((value for name, value in scope["headers"] if name == b"content-length"), b"")
    return int(value) if value.isdigit() and len(value) < 20 else None


def _is_json(scope: Scope) -> bool:
    return any(name == b"content-type" and b"json" in value.lower() for name, value in scope["headers"])


def _announces_body(scope: Scope) -> bool:
    return any(
        name == b"transfer-encoding" or (name == b"content-length" and value.strip(b"0 ") != b"") for name, value in scope["headers"]
    )


async def _send_problem(send: Send, error: LampPostError) -> None:
    body = orjson.dumps(error.to_problem(), default=str)
    headers = [(b"content-type", PROBLEM_TYPE), (b"content-length", b"%d" % len(body)), *problem_headers(error)]
    await send({"type": "http.response.start", "status": error.status, "headers": headers})
    await send({"type": "http.response.body", "body": body})
