"""Callers that hold a connection: slow ones, floods of headers, and what is no HTTP. A server of our own protocol, with short clocks."""

import asyncio
import json
import socket
import threading
import time
import unittest
from typing import Any

import uvicorn

from lamppost.service.http.connection import HttpConnection
from tests.support.service import free_port, until


class Quick(HttpConnection):
    head_s, pause_s = 0.4, 0.5


async def app(scope: Any, receive: Any, send: Any) -> None:
    """Says how many bytes the body had."""
    size, more = 0, True
    while more:
        message = await receive()
        if message["type"] == "http.disconnect":
            return
        size, more = size + len(message.get("body", b"")), message.get("more_body", False)
        if scope["path"] == "/busy":
            await asyncio.sleep(0.01)
    body = b"%d" % size
    await send({"type": "http.response.start", "status": 200, "headers": [(b"content-length", b"%d" % len(body))]})
    await send({"type": "http.response.body", "body": body})


class Holding(unittest.TestCase):
    @classmethod
    def setUpClass(cls) -> None:
        cls.port = free_port()
        cls.server = uvicorn.Server(
            uvicorn.Config(app, port=cls.port, http=Quick, log_level="critical", lifespan="off", timeout_keep_alive=5)
        )
        thread = threading.Thread(target=cls.server.run)
        thread.start()
        cls.addClassCleanup(thread.join)
        cls.addClassCleanup(lambda: setattr(cls.server, "should_exit", True))
        until(lambda: cls.server.started, what="the server")

    def open(self) -> socket.socket:
        made = socket.create_connection(("127.0.0.1", self.port), timeout=10)
        self.addCleanup(made.close)
        return made

    def answer(self, held: socket.socket) -> tuple[int, Any]:
        """Status and body of all that comes until the end of the connection; 0 for nothing."""
        got = b"".join(iter(lambda: held.recv(65_536), b""))
        if not got:
            return 0, None
        head, _, body = got.partition(b"\r\n\r\n")
        return int(head.split()[1]), json.loads(body) if b"problem+json" in head else body

    def test_headers_that_do_not_come_to_an_end(self) -> None:
        silent, slow = self.open(), self.open()
        slow.sendall(b"POST / HTTP/1.1\r\nhost: localhost\r\n")
        start = time.monotonic()
        self.assertEqual(self.answer(slow)[0], 408)
        self.assertEqual(self.answer(silent)[0], 0)
        self.assertLess(time.monotonic() - start, 3)
        dripping = self.open()
        dripping.sendall(b"POST / HTTP/1.1\r\n")
        with self.assertRaises(OSError):
            for _ in range(30):
                dripping.sendall(b"a: b\r\n")
                time.sleep(0.1)  # a drop now and then does not buy more time

    def test_floods_of_headers(self) -> None:
        for head in (b"".join(b"h%d: x\r\n" % at for at in range(200)), b"cookie: " + b"x" * 70_000 + b"\r\n"):
            held = self.open()
            held.sendall(b"GET / HTTP/1.1\r\nhost: localhost\r\n" + head + b"\r\n")
            status, problem = self.answer(held)
            self.assertEqual((status, problem["type"]), (431, "urn:lamppost:headers-too-large"))
        endless = self.open()
        endless.sendall(b"GET / HTTP/1.1\r\ncookie: ")
        with self.assertRaises(OSError):
            for _ in range(2_000):
                endless.sendall(b"x" * 10_000)
        wide = self.open()
        wide.sendall(b"POST / HTTP/1.1\r\nconnection: close\r\ncontent-length: 90000\r\n\r\n" + b"x" * 90_000)
        self.assertEqual(self.answer(wide), (200, b"90000"))

    def test_bodies_that_do_not_come_to_an_end(self) -> None:
        held = self.open()
        held.sendall(b"POST / HTTP/1.1\r\ncontent-length: 100\r\n\r\nabc")
        status, problem = self.answer(held)
        self.assertEqual((status, "nothing of the body came for 0.5 s" in problem["detail"]), (408, True))
        steady = self.open()
        steady.sendall(b"POST / HTTP/1.1\r\nconnection: close\r\ncontent-length: 10\r\n\r\n")
        for _ in range(10):
            steady.sendall(b"x")
            time.sleep(0.1)
        self.assertEqual(self.answer(steady), (200, b"10"))

    def test_a_body_that_waits_for_us_is_not_late(self) -> None:
        held = self.open()
        held.sendall(b"POST /busy HTTP/1.1\r\nconnection: close\r\ncontent-length: 20000000\r\n\r\n")
        held.sendall(b"x" * 20_000_000)
        self.assertEqual(self.answer(held), (200, b"20000000"))

    def test_a_kept_connection_is_used_again_and_what_is_no_http_is_said(self) -> None:
        held = self.open()
        for _ in range(3):
            held.sendall(b"POST / HTTP/1.1\r\ncontent-length: 2\r\n\r\nab")
            self.assertIn(b"200 OK", held.recv(65_536))
            time.sleep(0.6)
        held.sendall(b"POST / HTTP/1.1\r\nconnection: close\r\n\r\n")
        self.assertEqual(self.answer(held)[0], 200)
        for junk in (b"\x16\x03\x01\x02\x00", b"HELLO\r\n\r\n"):
            held = self.open()
            held.sendall(junk)
            status, problem = self.answer(held)
            self.assertEqual((status, problem["type"]), (400, "urn:lamppost:bad-request"))
