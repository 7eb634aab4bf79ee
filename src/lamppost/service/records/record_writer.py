"""The record writer: a process beside the service that counts records and stores them in the database.

It has an interpreter of its own, so that counting never holds up an answer, and a low priority: while the machine is busy answering,
records wait in the spool. The service tells it where they lie there and hears how many calls the database could not hold. It ends with
the service, and is started again when it ends before.
"""

from __future__ import annotations

import asyncio
import gc
import logging
import sys
from collections.abc import Sequence
from dataclasses import asdict
from datetime import date
from pathlib import Path
from typing import Any, BinaryIO, Protocol

import orjson
import psycopg

from lamppost.service.packages.package_cache import PackageCache
from lamppost.service.processes.child_process import ChildEnded, ChildProcess, read_message, run_beside_service, write_message
from lamppost.service.records.window_counting import WindowCounting
from lamppost.store.call_records import days_of_calls
from lamppost.store.database import Pool, is_away, make_pool
from lamppost.store.records import forget_segments, last_stored_frame, make_partition, skip_frame, store_frames
from lamppost.store.set_aside import SetAsideFrames
from lamppost.store.spool import SpoolFrame, SpoolPortion

log = logging.getLogger("lamppost.records")

_RARELY = 100_000


class RecordSink(Protocol):
    """Brings a portion of a segment to the database; returns how many of its calls the database could not hold.

    Raises psycopg.OperationalError or PoolTimeout while the database does not take them.
    """

    async def __call__(self, portion: SpoolPortion) -> int:
        """Each frame once, however often it is brought."""

    async def close(self) -> None:
        """No more will come."""


class InProcessSink:
    """In this process."""

    def __init__(self, pool: Pool, window_counting: WindowCounting) -> None:
        self._pool = pool
        self._counting = window_counting
        self._days: set[date] = set()

    async def __call__(self, portion: SpoolPortion) -> int:
        """Read, count, store."""
        frames = await asyncio.to_thread(portion.read_frames)
        unread = 0
        if not frames or frames[-1].number < portion.until:
            unread = portion.calls - sum(map(_count_or_none, frames))
            log.error("%d calls of %s cannot be read any more", unread, portion.path)
        return unread + (await self._store_or_set_aside(frames, SetAsideFrames(Path(portion.path).parent)) if frames else 0)

    async def _store_or_set_aside(self, frames: Sequence[SpoolFrame], aside: SetAsideFrames) -> int:
        """Store frames together; if that fails on what they hold, each by itself, and set aside the one that fails."""
        try:
            return await self.bring(frames)
        except Exception as error:
            if is_away(error):
                raise
            if len(frames) > 1:
                return sum([await self._store_or_set_aside([frame], aside) for frame in frames])
            (frame,) = frames
            log.error("frame %d of %s is set aside; see lamppost records: %s", frame.number, frame.segment, error)
            await asyncio.to_thread(aside.add_frame, frame, error)
            await skip_frame(self._pool, frame.segment, frame.number)
            return 0

    async def bring(self, frames: Sequence[SpoolFrame], brought_by: str | None = None) -> int:
        """Count, then store. brought_by : who brought in calls that were answered elsewhere."""
        for day in set().union(*(days_of_calls(frame.calls) for frame in frames)) - self._days:
            await make_partition(self._pool, day)
            await forget_segments(self._pool)
            self._days.add(day)
        new = list(frames)
        while new:
            lost = await store_frames(self._pool, await self._counting.count_frames(new, brought_by))
            if lost is not None:
                return lost
            # some are stored by now, and what is counted of frames together can only be stored together: once more, without those
            through = await last_stored_frame(self._pool, frames[0].segment)
            new = [frame for frame in new if frame.number > through]
        return 0

    async def close(self) -> None:
        """Nothing is to be done."""


def _count_or_none(frame: SpoolFrame) -> int:
    """The calls of a frame; none where they cannot be read, in which case the frame is set aside."""
    try:
        return frame.total
    except Exception:
        return 0


class WriterProcess:
    """In a process of its own."""

    def __init__(self, database: str, packages: Path, window_counting: WindowCounting) -> None:
        self._counting = window_counting
        # the URL goes through the pipe, because an environment can be read by others
        self._child = ChildProcess("lamppost.service.records.record_writer", str(packages), first=database.encode())

    async def __call__(self, portion: SpoolPortion) -> int:
        """Say where it lies, and wait until it is stored."""
        sent = {name: sorted(fields) for name, fields in self._counting.sent.items()}
        try:
            reply: dict[str, Any] = orjson.loads(await self._child.ask(orjson.dumps({"portion": asdict(portion), "sent": sent})))
        except ChildEnded as error:
            raise psycopg.OperationalError("the record writer ended; another one is started") from error
        if "away" in reply:
            raise psycopg.OperationalError(reply["away"])
        if "failed" in reply:
            raise RuntimeError(f"the record writer failed: {reply['failed']}")
        return int(reply["lost"])

    async def close(self) -> None:
        """Let it end."""
        await self._child.close()


# -- the other side -----------------------------------------------------------------------------------------------------


async def _serve(database: str, packages: Path) -> None:
    pool = make_pool(database)
    await pool.open()
    window_counting = WindowCounting(pool, PackageCache(pool, packages))
    sink = InProcessSink(pool, window_counting)
    try:
        while (asked := await asyncio.to_thread(_read, sys.stdin.buffer)) is not None:
            portion, window_counting.sent = asked
            try:
                reply: dict[str, Any] = {"lost": await sink(portion)}
            except Exception as error:
                text = str(error).strip() or type(error).__name__
                if not is_away(error):
                    log.exception("a portion could not be delivered")
                reply = {"away" if is_away(error) else "failed": text}
            write_message(sys.stdout.buffer, orjson.dumps(reply))
    finally:
        await pool.close()


def _read(pipe: BinaryIO) -> tuple[SpoolPortion, dict[str, frozenset[str]]] | None:
    """What the service asks for; None when it has ended."""
    data = read_message(pipe)
    if data is None:
        return None
    message = orjson.loads(data)
    return SpoolPortion(**message["portion"]), {name: frozenset(fields) for name, fields in message["sent"].items()}


def main() -> int:
    """Count and store until the pipe ends. The first message is the URL of the database."""
    run_beside_service()
    # what it makes of a frame is gone with the frame: to look for cycles among thousands of rows again and again is a tenth of its work
    gc.set_threshold(_RARELY)
    url = read_message(sys.stdin.buffer)
    if url is not None:
        asyncio.run(_serve(url.decode(), Path(sys.argv[1])))
    return 0


if __name__ == "__main__":
    raise SystemExit(main())
