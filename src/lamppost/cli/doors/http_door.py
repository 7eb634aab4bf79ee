"""The part of a door that HTTP goes through: forwards requests from this machine to a service, with the client's own token added.

For browsers, notebooks and tools that cannot sign in. Each request has a connection of its own: its head is read and written anew, and
everything after it passes both ways as it comes, so that streams work.
"""

from __future__ import annotations

import asyncio
import contextlib
import ssl
from dataclasses import dataclass
from urllib.parse import urlsplit

from lamppost.cli.out import DIM, paint, print_line

LOOPBACK = "127.0.0.1"
_MOST_HEAD = 64 * 1024
_HEAD_S = 30.0
_PIECE = 64 * 1024
USUAL = ("/predict/", "/health/", "/openapi.json")
_LEFT_OUT = frozenset(
    ("host", "authorization", "cookie", "connection", "keep-alive", "proxy-connection", "upgrade", "http2-settings", "origin")
)


@dataclass(frozen=True, slots=True)
class Door:
    """Where a door leads. port : of the door. address, token : of the service. paths : beginnings of what is let through, None for all."""

    port: int
    address: str
    token: str
    paths: tuple[str, ...] | None


class Refused(Exception):
    """A request that the door does not let through. status : of the answer."""

    def __init__(self, status: str, why: str) -> None:
        super().__init__(why)
        self.status = status


def rewrite_head(door: Door, head: bytes) -> tuple[bytes, str]:
    """The head of a request as it goes on, and its first line without the version; raise Refused.

    A head may be for the door alone: its Host is the door's, and its Origin, if any, too (a page elsewhere can make a browser send
    requests to loopback, and its name can be made to mean loopback).

    >>> door = Door(9000, "https://lamps.example", "secret", ("/predict/",))
    >>> head = b"POST /predict/x HTTP/1.1|Host: localhost:9000|Content-Length: 2||".replace(b"|", bytes([13, 10]))
    >>> sent, said = rewrite_head(door, head)
    >>> said, sent.split(bytes([13, 10]))[1:3]
    ('POST /predict/x', [b'host: lamps.example', b'authorization: Bearer secret'])
    """
    lines = head.decode("latin-1").split("\r\n")
    parts = lines[0].split(" ")
    if len(parts) != 3 or not parts[2].startswith("HTTP/1.") or not parts[1].startswith("/"):
        raise Refused("400 Bad Request", "this is no HTTP request")
    method, target, _ = parts
    headers: list[tuple[str, str]] = []
    for line in lines[1:]:
        if not line:
            break
        name, colon, value = line.partition(":")
        if not colon or name != name.strip() or not name:
            raise Refused("400 Bad Request", "a header is not of the form name: value")
        headers.append((name.lower(), value.strip()))
    own = {f"{name}:{door.port}" for name in (LOOPBACK, "localhost")}
    hosts = [value for name, value in headers if name == "host"]
    if len(hosts) != 1 or hosts[0].lower() not in own:
        raise Refused("421 Misdirected Request", f"this door is asked as {LOOPBACK}:{door.port} or localhost:{door.port}")
    origins = [value for name, value in headers if name == "origin"]
    if any(urlsplit(origin).netloc.lower() not in own for origin in origins):
        raise Refused("403 Forbidden", "a page of another origin may not use this door")
    path = target.partition("?")[0]
    if door.paths is not None and (not path.startswith(door.paths) or ".." in path or "%" in path):
        raise Refused("403 Forbidden", f"this door lets {', '.join(door.paths)} through; start it with --all for everything")
    service = urlsplit(door.address)
    kept = [f"{name}: {value}" for name, value in headers if name not in _LEFT_OUT]
    base = service.path.rstrip("/")
    sent = [
        f"{method} {base}{target} HTTP/1.1",
        f"host: {service.netloc}",
        f"authorization: Bearer {door.token}",
        *kept,
        "connection: close",
    ]
    return ("\r\n".join(sent) + "\r\n\r\n").encode("latin-1"), f"{method} {target}"


async def serve_door(door: Door) -> asyncio.Server:
    """Listen on loopback; the server that is returned is to be closed."""
    service = urlsplit(door.address)
    secure = ssl.create_default_context() if service.scheme == "https" else None
    port = service.port or (443 if secure else 80)

    async def handle(reader: asyncio.StreamReader, writer: asyncio.StreamWriter) -> None:
        said, status = "", ""
        try:
            try:
                async with asyncio.timeout(_HEAD_S):
                    head = await reader.readuntil(b"\r\n\r\n")
                sent, said = rewrite_head(door, head)
            except Refused as error:
                status = error.status
                await _answer(writer, error.status, str(error))
                return
            except (asyncio.IncompleteReadError, asyncio.LimitOverrunError, TimeoutError):
                return
            try:
                out_reader, out_writer = await asyncio.open_connection(service.hostname, port, ssl=secure)
            except (OSError, ssl.SSLError) as error:
                status = "502 Bad Gateway"
                await _answer(writer, status, f"{door.address} cannot be reached: {error}")
                return
            out_writer.write(sent)
            sending = asyncio.ensure_future(_pass_on(reader, out_writer))
            first = await _pass_on(out_reader, writer)
            sending.cancel()
            await asyncio.gather(sending, return_exceptions=True)
            out_writer.close()
            status = first.split(b"\r\n", 1)[0].decode("latin-1").partition(" ")[2]
        except (ConnectionError, ssl.SSLError):
            status = status or "the connection broke"
        finally:
            writer.close()
            with contextlib.suppress(ConnectionError, ssl.SSLError):
                await writer.wait_closed()
            if said or status:
                print_line(paint(f"  {said or 'refused'}  {status}", DIM))

    return await asyncio.start_server(handle, LOOPBACK, door.port, limit=_MOST_HEAD)


async def _pass_on(reader: asyncio.StreamReader, writer: asyncio.StreamWriter) -> bytes:
    """Pass bytes on as they come, until there are no more; the first of them."""
    first = b""
    while piece := await reader.read(_PIECE):
        first = first or piece[:200]
        writer.write(piece)
        await writer.drain()
    if writer.can_write_eof():
        with contextlib.suppress(OSError):
            writer.write_eof()
    return first


async def _answer(writer: asyncio.StreamWriter, status: str, why: str) -> None:
    body = f"{why}\n".encode()
    head = f"HTTP/1.1 {status}\r\ncontent-type: text/plain; charset=utf-8\r\ncontent-length: {len(body)}\r\nconnection: close\r\n\r\n"
    writer.write(head.encode() + body)
    await writer.drain()
