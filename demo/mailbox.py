"""A small mail server for the demo and the tests: it takes whatever comes, and keeps it in a folder or in memory."""

from __future__ import annotations

import asyncio
from pathlib import Path
from typing import Any

from aiosmtpd.controller import Controller


class Mailbox:
    """Listens on loopback from `start` to `stop`. got : the mails that came, as text."""

    def __init__(self, port: int, folder: Path | None = None) -> None:
        self.got: list[str] = []
        self.port = port
        self._folder = folder
        self._controller = Controller(self, hostname="127.0.0.1", port=port)

    def start(self) -> None:
        """Begin to listen."""
        self._controller.start()

    def stop(self) -> None:
        """End, if it listens."""
        if not self._controller.loop.is_closed():
            self._controller.stop()

    async def handle_DATA(self, _: Any, __: Any, envelope: Any) -> str:  # noqa: N802 - the library's name for it
        """Take one mail."""
        self.got.append(envelope.content.decode("utf-8", "replace"))
        if self._folder is not None:
            self._folder.mkdir(parents=True, exist_ok=True)
            await asyncio.to_thread((self._folder / f"{len(self.got):04d}.eml").write_bytes, envelope.content)
        return "250 kept"
