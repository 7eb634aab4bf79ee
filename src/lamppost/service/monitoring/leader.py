"""Runs the background jobs that one node does for all: whichever node holds an advisory lock of the database leads.

A leader that ends loses the lock with its connection, and another node takes over within seconds. Under load a leader sleeps nine times as
long as its last turn took, so that answers do not wait for background work.
"""

from __future__ import annotations

import asyncio
import logging
import time
from collections.abc import Awaitable, Callable, Sequence
from dataclasses import dataclass
from datetime import UTC, datetime

from lamppost.store.database import AWAY, LEADER_LOCK, Pool

log = logging.getLogger("lamppost.maintenance")

TURN_S = 2.0
_REST_TIMES = 9
_BUSY_CALLS_PER_S = 100.0
_LONGEST_REST_S = 30.0


@dataclass(frozen=True, slots=True)
class Job:
    """A recurring job of the leader. every_s : seconds between two runs; 0 for each turn. run : takes the present time."""

    name: str
    every_s: float
    run: Callable[[datetime], Awaitable[object]]


class Leader:
    """Runs jobs in their order while this node leads.

    count_calls : how many calls this node has taken since its start. on_following : called on each turn that another node leads.
    """

    def __init__(self, pool: Pool, jobs: Sequence[Job], count_calls: Callable[[], int], on_following: Callable[[], None]) -> None:
        self._pool = pool
        self._jobs = jobs
        self._count_calls = count_calls
        self._on_following = on_following
        self._ran_at: dict[str, float] = {}
        self._task: asyncio.Task[None] | None = None

    def start(self) -> None:
        """Begin to take turns."""
        self._task = asyncio.create_task(self._take_turns(), name="maintenance")

    async def close(self) -> None:
        """Stop; the next leader repeats unfinished work."""
        if self._task is not None:
            self._task.cancel()
            await asyncio.gather(self._task, return_exceptions=True)

    async def _take_turns(self) -> None:
        took, calls, at = 0.0, 0, time.monotonic()
        while True:
            await asyncio.sleep(TURN_S)
            before, since = calls, at
            calls, at = self._count_calls(), time.monotonic()
            if calls - before > _BUSY_CALLS_PER_S * (at - since):
                await asyncio.sleep(max(0.0, min(_LONGEST_REST_S, _REST_TIMES * took) - TURN_S))
            begun = time.monotonic()
            try:
                await self._lead_once()
            except AWAY as error:
                log.debug("background jobs wait for the database: %s", error)
            except Exception:
                log.exception("a background job failed; it is tried again on the next turn")
            took = time.monotonic() - begun

    async def _lead_once(self) -> None:
        """Run the jobs that are due, if no other node leads."""
        async with self._pool.connection() as connection:
            held = await connection.execute("SELECT pg_try_advisory_lock(%s)", (LEADER_LOCK,))
            if not (await held.fetchone() or (False,))[0]:
                self._on_following()
                return
            try:
                await self.run_due_jobs(time.monotonic())
            finally:
                await connection.execute("SELECT pg_advisory_unlock(%s)", (LEADER_LOCK,))

    async def run_due_jobs(self, now_s: float) -> None:
        """Run each job whose time has come. now_s : on any clock that does not go back."""
        for job in self._jobs:
            last = self._ran_at.get(job.name)
            if last is None or now_s - last >= job.every_s:
                self._ran_at[job.name] = now_s
                await job.run(datetime.now(UTC))
