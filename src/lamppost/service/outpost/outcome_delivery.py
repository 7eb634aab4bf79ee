"""Keeps outcomes that are reported at an outpost on its disk, and brings them to the hub behind the records that they are about."""

from __future__ import annotations

import asyncio
import contextlib
import logging
from collections.abc import Callable
from pathlib import Path
from typing import Any

import orjson

from lamppost.core.errors import HubAway, LampPostError, Unavailable
from lamppost.service.ended_tasks import end_tasks
from lamppost.service.outpost.hub_link import HubLink

log = logging.getLogger("lamppost.outpost")

MAX_WAITING_BYTES = 64 * 2**20
_AGAIN_S = 5.0
_MOST_TRIES = 60


class OutcomeDelivery:
    """`start`, `keep` lists of outcomes, `close`. records_waiting : how many calls of this outpost have not come to the hub.

    A list lies in a file of its own, numbered in their order; one that the hub refuses is set aside beside the others.
    """

    def __init__(self, folder: Path, link: HubLink, records_waiting: Callable[[], int]) -> None:
        self._folder = folder
        self._link = link
        self._records_waiting = records_waiting
        self._kept = asyncio.Event()
        self._task: asyncio.Task[None] | None = None
        self._number = max((int(path.stem) for path in folder.glob("*.*")), default=0)  # also of those that are set aside

    def start(self) -> None:
        """Begin to bring what waits."""
        self._kept.set()
        self._task = asyncio.create_task(self._bring_all(), name="outcomes")

    async def close(self) -> None:
        """Bring nothing more; what waits is kept."""
        if self._task is not None:
            await end_tasks([self._task])

    async def keep(self, reported: dict[str, Any]) -> None:
        """Keep a list until the hub has it. Raise Unavailable where too much waits."""
        self._number += 1
        await asyncio.to_thread(self._write, self._folder / f"{self._number:012d}.json", orjson.dumps(reported))
        self._kept.set()

    def _write(self, path: Path, content: bytes) -> None:
        self._folder.mkdir(mode=0o700, parents=True, exist_ok=True)
        if sum(one.stat().st_size for one in self._folder.glob("*.json")) + len(content) > MAX_WAITING_BYTES:
            raise Unavailable(
                f"outcomes of {MAX_WAITING_BYTES // 2**20} MiB wait for the hub already; report them again when it answers",
                retry_after_s=60,
            )
        part = path.with_suffix(".part")
        part.write_bytes(content)
        part.replace(path)

    async def _bring_all(self) -> None:
        while True:
            await self._kept.wait()
            self._kept.clear()
            for path in sorted(await asyncio.to_thread(lambda: list(self._folder.glob("*.json")))):
                tries = 1
                while not await self._brought(path, tries):
                    tries += 1
                    await asyncio.sleep(_AGAIN_S)

    async def _brought(self, path: Path, tries: int) -> bool:
        """Whether a list needs to be brought no more. tries : how often it was, this time included."""
        try:
            reported = orjson.loads(await asyncio.to_thread(path.read_bytes))
            taken = await self._link.bring_outcomes(reported)
        except HubAway:
            return False
        except (LampPostError, ValueError, OSError) as error:
            log.error("the outcomes in %s are set aside, the hub does not take them: %s", path, error)
            with contextlib.suppress(OSError):
                await asyncio.to_thread(path.rename, path.with_suffix(".refused"))
            return True
        if taken["unknown"] and self._records_waiting() and tries < _MOST_TRIES:
            return False  # the records of these answers may be on their way
        if taken["unknown"]:
            log.warning("%s: %s", reported.get("endpoint"), taken["summary"])
        await asyncio.to_thread(path.unlink, missing_ok=True)
        return True
