"""Watches whether PostgreSQL answers, so that nothing waits for it while it is away, and that everything knows when it is back.

A connection of its own asks every second. One that does not answer within three counts as away: a frozen server keeps its connections open
and says nothing.
"""

from __future__ import annotations

import asyncio
import logging
import time
from collections.abc import Callable

import psycopg
from psycopg import AsyncConnection
from psycopg.rows import TupleRow

from lamppost.core.errors import SetupError
from lamppost.store.database import DatabasePool

log = logging.getLogger("lamppost.database")

_EVERY_S = 1.0
_PATIENCE_S = 3.0
_SAID_AGAIN_S = 60.0


class DatabaseWatch:
    """The watch of one node. before_return : is called in a thread before the database counts as back, after a start without it."""

    def __init__(self, pool: DatabasePool, url: str, before_return: Callable[[], object] | None = None) -> None:
        self._pool = pool
        self._url = url
        self._before_return = before_return
        self._connection: AsyncConnection[TupleRow] | None = None
        self._look_now = asyncio.Event()
        self._task: asyncio.Task[None] | None = None
        self._said_at = 0.0
        pool.on_failure = self._look_now.set

    async def start(self) -> None:
        """Ask once, then go on asking."""
        await self.ask_database()
        self._task = asyncio.create_task(self._run(), name="database watch")

    async def close(self) -> None:
        """Stop."""
        if self._task is not None:
            self._task.cancel()
            await asyncio.gather(self._task, return_exceptions=True)
        await self._disconnect()

    async def _run(self) -> None:
        while True:
            try:
                async with asyncio.timeout(_EVERY_S):
                    await self._look_now.wait()
            except TimeoutError:
                pass
            self._look_now.clear()
            try:
                await self.ask_database()
            except Exception:
                log.exception("looking after the database failed on a fault of our own, trying again")

    async def ask_database(self) -> None:
        """Ask the database once, and note whether it is away or back."""
        try:
            async with asyncio.timeout(_PATIENCE_S):
                if self._connection is None:
                    self._connection = await AsyncConnection.connect(self._url, autocommit=True)
                await self._connection.execute("SELECT 1")
        except (psycopg.Error, OSError, TimeoutError) as error:
            await self._disconnect()
            self._note_away(str(error).strip() or f"it does not answer within {_PATIENCE_S:g} s")
            return
        if self._pool.away is not None:
            await self._note_back()

    def _note_away(self, reason: str) -> None:
        now = time.monotonic()
        first = self._pool.away is None
        self._pool.away = reason
        if first or now - self._said_at >= _SAID_AGAIN_S:
            self._said_at = now
            log.error("the database is away: %s; predictions go on from what this node knows", reason.splitlines()[0][:300])

    async def _note_back(self) -> None:
        if self._before_return is not None:
            try:
                await asyncio.to_thread(self._before_return)
            except (psycopg.Error, SetupError, OSError) as error:
                self._note_away(f"it is back, and cannot be used: {error}")
                return
            self._before_return = None
        self._pool.away = None
        await self._pool.drain()  # connections that were made before lead nowhere
        log.warning("the database is back")

    async def _disconnect(self) -> None:
        connection, self._connection = self._connection, None
        if connection is not None:
            try:
                async with asyncio.timeout(_EVERY_S):
                    await connection.close()
            except (psycopg.Error, OSError, TimeoutError):
                pass
