"""Notices on their way to receivers that are slow, that never end, and that are well; the database is stood in for."""

import asyncio
import unittest
from datetime import UTC, datetime
from pathlib import Path
from typing import Any
from unittest import mock
from uuid import UUID, uuid4

from lamppost.service.monitoring import notices
from lamppost.service.monitoring.notices import NoticeSender, webhook_signature
from lamppost.service.settings import Settings
from lamppost.store.alerts import Channel, Notice

OK = b"HTTP/1.1 204 No Content\r\n\r\n"
NOW = datetime(2026, 5, 1, tzinfo=UTC)


class Stored:
    """What the database would hold of notices."""

    def __init__(self, *waiting: Notice) -> None:
        self.left = list(waiting)
        self.arrived: list[str] = []
        self.refused: list[tuple[str, str, int | None]] = []

    async def due_notices(self, _: Any) -> list[Notice]:
        return list(self.left)

    async def note_sent(self, _: Any, notice: Notice) -> None:
        self.left.remove(notice)
        self.arrived.append(notice.channel.name)

    async def note_not_sent(self, _: Any, notice: Notice, why: str, wait_s: int | None) -> None:
        self.left.remove(notice)
        self.refused.append((notice.channel.name, why, wait_s))


class Slow(unittest.IsolatedAsyncioTestCase):
    async def asyncSetUp(self) -> None:
        self.heads: list[bytes] = []
        self.notices = NoticeSender(None, Settings(data=Path("/nowhere"), database=""))  # type: ignore[arg-type]

    async def receiver(self, *pieces: bytes, then_wait: bool = False) -> str:
        """Answers each call with pieces, a tenth of a second apart; its address."""

        async def answer(reader: asyncio.StreamReader, writer: asyncio.StreamWriter) -> None:
            self.heads.append(await reader.readuntil(b"\r\n\r\n"))
            try:
                for piece in pieces:
                    writer.write(piece)
                    await writer.drain()
                    await asyncio.sleep(0.1)
                while then_wait:
                    await asyncio.sleep(0.1)
            except (ConnectionError, asyncio.CancelledError):
                pass
            finally:
                writer.close()

        server = await asyncio.start_server(answer, "127.0.0.1", 0)
        self.addAsyncCleanup(asyncio.sleep, 0.3)  # those that wait end with their connection
        self.addCleanup(server.close)
        return f"http://127.0.0.1:{server.sockets[0].getsockname()[1]}/hook"

    def notice(self, name: str, target: str, tries: int = 0) -> Notice:
        return Notice(uuid4(), Channel(name, "webhook", target, "whsec_AAAA", None, None, None, "ada", NOW), {"id": name}, tries)  # type: ignore[arg-type]

    async def bring(self, stored: Stored, patience_s: float) -> None:
        with mock.patch.object(notices, "alerts", stored), mock.patch.object(notices, "PATIENCE_S", patience_s):
            while stored.left:
                await self.notices.send_due()  # again and again, as the leader does: what is on its way does not go twice
                await asyncio.sleep(0.02)

    async def test_one_that_answers_nothing_or_never_ends_holds_up_nobody_and_is_tried_again(self) -> None:
        silent, well = await self.receiver(then_wait=True), await self.receiver(OK)
        endless = await self.receiver(b"HTTP/1.1 200 OK\r\n", *[b"x-more: 1\r\n"] * 100)
        stored = Stored(self.notice("silent", silent), self.notice("endless", endless, 2), self.notice("well", well))
        started = asyncio.get_running_loop().time()
        with self.assertLogs("lamppost.notices", "WARNING"):
            await self.bring(stored, 2.0)
        self.assertLess(asyncio.get_running_loop().time() - started, 8, "a byte now and then does not buy time")
        self.assertEqual(stored.arrived, ["well"])
        self.assertEqual({(name, wait) for name, _, wait in stored.refused}, {("silent", 5), ("endless", 60)})
        self.assertEqual((self.notices.sent, self.notices.failed, len(self.heads)), (1, 2, 3))

    async def test_one_that_is_slow_but_in_time_gets_it_once_and_signed(self) -> None:
        address = await self.receiver(b"HTTP/1.1 200 OK\r\n", b"content-length: 2\r\n\r\n", b"ok")
        notice = self.notice("slow", address)
        stored = Stored(notice)
        await self.bring(stored, 5.0)
        self.assertEqual((stored.arrived, stored.refused, len(self.heads)), (["slow"], [], 1))
        head = dict(line.split(": ", 1) for line in self.heads[0].decode().split("\r\n")[1:] if line)
        self.assertEqual(UUID(head["webhook-id"]), notice.id)
        self.assertEqual(
            head["webhook-signature"], webhook_signature("whsec_AAAA", head["webhook-id"], int(head["webhook-timestamp"]), b'{"id":"slow"}')
        )

    async def test_after_the_last_try_it_is_given_up(self) -> None:
        address = await self.receiver(b"HTTP/1.1 500 Down\r\ncontent-length: 0\r\n\r\n")
        stored = Stored(self.notice("down", address, tries=99))
        with self.assertLogs("lamppost.notices", "WARNING") as said:
            await self.bring(stored, 5.0)
        self.assertEqual(stored.refused, [("down", "the receiver answered 500", None)])
        self.assertIn("given up", said.output[0])
