"""``lamppost door``: requests of this machine go on with the client's token, both ways as they come; nobody else's do."""

import asyncio
import contextlib
import io
import unittest

from lamppost.cli.doors.http_door import Door, serve_door
from tests.support.service import eventually, free_port

END = b"\r\n\r\n"


class Doors(unittest.IsolatedAsyncioTestCase):
    async def asyncSetUp(self) -> None:
        self.heads: list[bytes] = []
        service = await asyncio.start_server(self.answer, "127.0.0.1", 0)
        self.addAsyncCleanup(self.end, service)
        self.service = f"http://127.0.0.1:{service.sockets[0].getsockname()[1]}"
        self.said = io.StringIO()
        self.enterContext(contextlib.redirect_stdout(self.said))

    @staticmethod
    async def end(server: asyncio.Server) -> None:
        server.close()
        await server.wait_closed()

    async def answer(self, reader: asyncio.StreamReader, writer: asyncio.StreamWriter) -> None:
        """Stands in for the service: sends a body back, and the pieces of a chunked one as they come."""
        head = await reader.readuntil(END)
        self.heads.append(head)
        if b"chunked" in head:
            writer.write(b"HTTP/1.1 200 OK\r\nconnection: close\r\n\r\n")
            while not (await reader.readline()).startswith(b"0"):
                writer.write(b"got " + await reader.readline())
                await writer.drain()
        else:
            lengths = [line.partition(b":")[2] for line in head.split(b"\r\n") if line.startswith(b"content-length")]
            body = await reader.readexactly(int(lengths[0]) if lengths else 0)
            writer.write(b"HTTP/1.1 200 OK\r\ncontent-length: %d\r\nconnection: close\r\n\r\n%s" % (len(body), body))
        await writer.drain()
        writer.close()

    async def open_door(self, paths: tuple[str, ...] | None = ("/predict/", "/health/")) -> int:
        port = free_port()
        door = await serve_door(Door(port, self.service, "the-secret", paths))
        self.addAsyncCleanup(self.end, door)
        return port

    async def ask(self, port: int, *lines: str, body: bytes = b"") -> bytes:
        reader, writer = await asyncio.open_connection("127.0.0.1", port)
        writer.write("\r\n".join(lines).encode() + END + body)
        await writer.drain()
        said = await asyncio.wait_for(reader.read(), 20)
        writer.close()
        return said

    async def test_a_request_goes_on_with_the_token_of_the_door(self) -> None:
        port = await self.open_door()
        head = ("POST /predict/x HTTP/1.1", f"Host: localhost:{port}", "Content-Length: 3", "Authorization: Bearer guessed", "Cookie: a=b")
        self.assertTrue((await self.ask(port, *head, body=b"abc")).endswith(b"\r\n\r\nabc"))
        sent = self.heads[0].split(b"\r\n")
        self.assertIn(b"authorization: Bearer the-secret", sent)
        self.assertIn(b"host: " + self.service.removeprefix("http://").encode(), sent)
        self.assertFalse(any(b"guessed" in line or line.startswith(b"cookie") for line in sent))
        await eventually(lambda: "POST /predict/x  200 OK" in self.said.getvalue())
        self.assertNotIn("the-secret", self.said.getvalue())

    async def test_answers_come_while_a_body_is_still_sent(self) -> None:
        port = await self.open_door()
        reader, writer = await asyncio.open_connection("127.0.0.1", port)
        writer.write(f"POST /predict/x HTTP/1.1\r\nHost: 127.0.0.1:{port}\r\nTransfer-Encoding: chunked\r\n\r\n".encode())
        await asyncio.wait_for(reader.readuntil(END), 20)
        for piece in (b"ab", b"cd", b"ef"):
            writer.write(b"2\r\n%s\r\n" % piece)
            await writer.drain()
            self.assertEqual(await asyncio.wait_for(reader.readline(), 20), b"got %s\r\n" % piece)
        writer.write(b"0\r\n\r\n")
        self.assertEqual(await asyncio.wait_for(reader.read(), 20), b"")
        writer.close()

    async def test_what_it_does_not_let_through(self) -> None:
        port = await self.open_door()
        own = f"Host: localhost:{port}"
        for lines, status in (
            (("GET /predict/x HTTP/1.1", "Host: lamps.example"), 421),
            (("GET /predict/x HTTP/1.1", "Host: localhost"), 421),
            (("GET /predict/x HTTP/1.1", own, own), 421),
            (("GET /predict/x HTTP/1.1",), 421),
            (("GET /predict/x HTTP/1.1", own, "Origin: https://lamps.example"), 403),
            (("GET /predict/x HTTP/1.1", own, "Origin: null"), 403),
            (("GET /api/tokens HTTP/1.1", own), 403),
            (("GET /predict/../api/tokens HTTP/1.1", own), 403),
            (("GET /predict/%2e%2e/api/tokens HTTP/1.1", own), 403),
            (("GET http://lamps.example/ HTTP/1.1", own), 400),
            (("CONNECT lamps.example:443 HTTP/1.1", own), 400),
            (("GET /predict/x HTTP/1.1", own, "Authorization : Bearer x"), 400),
            (("nothing",), 400),
        ):
            with self.subTest(str(lines)):
                self.assertIn(f"HTTP/1.1 {status} ".encode(), await self.ask(port, *lines))
        self.assertEqual(self.heads, [], "the service has heard of none")
        both = await self.ask(port, "GET /health/live HTTP/1.1", own, body=f"GET /api/tokens HTTP/1.1\r\n{own}\r\n\r\n".encode())
        self.assertEqual((both.count(b"HTTP/1.1"), len(self.heads)), (1, 1), "a second request behind the first is not taken")
        everything = await self.open_door(None)
        self.assertIn(b" 200 ", await self.ask(everything, "GET /api/tokens HTTP/1.1", f"Host: localhost:{everything}"))

    async def test_a_service_that_is_away(self) -> None:
        self.service = f"http://127.0.0.1:{free_port()}"
        port = await self.open_door()
        self.assertIn(b" 502 ", await self.ask(port, "GET /health/live HTTP/1.1", f"Host: localhost:{port}"))
