"""Assigns lanes to the workers of a node: which worker a lane is opened in, how many copies it has, and what is closed when memory is
short.

A small lane that is data only (a graph, tables) shares a worker with others of its kind, so that thousands of small models do not need
thousands of processes; any other lane has a worker of its own. If a shared worker ends over a lane's batch, that lane gets a dedicated
worker from then on.
"""

from __future__ import annotations

import asyncio
import logging
import os
import time
from collections.abc import Callable
from pathlib import Path
from typing import Generic, Protocol, TypeVar, cast

from lamppost.core.engine.batch_queue import QueuedTotals
from lamppost.core.errors import Unavailable
from lamppost.runtime.fork_server import Needs
from lamppost.runtime.worker_driver import FRAME_ROWS, SeatedLane, WorkerDriver
from lamppost.runtime.worker_supply import WorkerSupply

log = logging.getLogger("lamppost.pool")

_TICK_S = 0.5
_LOOK_EVERY = 4
_LISTEN_S = 0.25
_TIMES_USUAL = 4.0
SILENT_S = 1.0
"""After so long without an answer, and four times as long as its batches usually take, a worker counts as hanging, and what waits for it
goes elsewhere. It is stopped after ``run_s``.
"""
SCRATCH_BYTES = 2**30
"""Most that a worker may leave in its scratch folder."""
MAX_QUEUED_BYTES = 512 * 2**20
"""Most bytes of requests that wait on a node, in all its lanes."""


class Tenant(SeatedLane, Protocol):
    """What the pool needs of a lane, in addition to what a driver needs.

    overlay : folder of libraries to lay over what is installed. dedicated_worker : whether it must not share a worker.
    seats : the workers that it is open in. used_at : when a request last came, on the loop's clock. memory_bytes : what it holds.
    """

    overlay: Path | None
    dedicated_worker: bool
    seats: list[WorkerDriver]
    used_at: float
    memory_bytes: int

    @property
    def serving(self) -> bool:
        """Whether it takes requests now."""

    @property
    def needs(self) -> Needs:
        """The kind of worker that it needs."""

    @property
    def light(self) -> bool:
        """Whether it may share a worker."""

    @property
    def idle(self) -> bool:
        """Whether nothing waits or runs."""

    @property
    def keep_warm(self) -> bool:
        """Whether it is never let go for want of memory."""

    def needs_maintenance(self, since: float) -> bool:
        """Whether the lane was used since that time, has requests in hand, or has copies that it may not need."""

    def relieve(self) -> None:
        """Let requests that wait for a silent worker go elsewhere."""

    def adapt_to_load(self, now: float) -> int:
        """Adapt to the load since the last call; returns how many copies there should be, 0 for none."""


L = TypeVar("L", bound=Tenant)


def usable_memory() -> int:
    """The memory that this machine, or this container, may use, in bytes."""
    total = os.sysconf("SC_PAGE_SIZE") * os.sysconf("SC_PHYS_PAGES")
    for limit in ("/sys/fs/cgroup/memory.max", "/sys/fs/cgroup/memory/memory.limit_in_bytes"):
        try:
            total = min(total, int(Path(limit).read_text()))
        except (OSError, ValueError):
            continue
    return total


def default_budget() -> int:
    """Half of the memory that there is, in bytes."""
    return usable_memory() // 2


def memory_of_all_workers() -> int:
    """What the kernel bounds all workers of a service to, in bytes; bulk runs and sweeps have the budget once more each.

    The rest is left to the service and its database, which the kernel would end for want of memory otherwise.
    """
    return usable_memory() * 9 // 10


class WorkerPool(Generic[L]):
    """Workers for lanes. budget_bytes : memory that all workers together may hold. put_to_sleep : closes a lane, False if it is needed.

    frame_rows : most rows that a worker gets at once.

    `start` begins to maintain lanes and workers, `close` ends the workers.
    """

    def __init__(
        self, supply: WorkerSupply | None = None, budget_bytes: int | None = None, cores: int | None = None, frame_rows: int = FRAME_ROWS
    ) -> None:
        self.supply = supply or WorkerSupply()
        self.budget_bytes = budget_bytes or default_budget()
        self.cores = cores or os.cpu_count() or 1
        self.frame_rows = frame_rows
        self.put_to_sleep: Callable[[L], bool] = lambda _: False
        self.lanes: set[L] = set()
        self.drivers: set[WorkerDriver] = set()
        self.queued = QueuedTotals()
        self._places = asyncio.Lock()
        self._maintaining: asyncio.Task[None] | None = None
        self._listening: asyncio.Task[None] | None = None
        self._ending: set[asyncio.Task[None]] = set()

    def start(self, expected: Needs | None = "graphs") -> None:
        """Begin to maintain lanes and workers. expected : the kind of worker that will be needed first, None where nobody knows."""
        if expected is not None:
            self.supply.expect(expected)
        self._maintaining = asyncio.create_task(self._maintain(), name="pool")
        self._listening = asyncio.create_task(self._listen(), name="silent workers")

    async def place_lane(self, lane: Tenant) -> WorkerDriver:
        """A worker that the lane may be opened in, and in which it has no seat yet."""
        if not lane.light or lane.dedicated_worker:
            return self._register_driver(
                WorkerDriver(
                    await self.supply.take_worker(lane.name, lane.needs, lane.overlay),
                    lane.needs,
                    dedicated=True,
                    frame_rows=self.frame_rows,
                )
            )
        async with self._places:
            shared = [
                driver
                for driver in self.drivers
                if driver.needs == lane.needs
                and not driver.dedicated
                and not driver.end_reason
                and not driver.hangs
                and lane not in driver.slots
            ]
            most = max(1, self.cores // 2) + (1 if lane.seats else 0)
            if len(shared) >= most or (shared and not lane.seats):
                return min(shared, key=lambda worker: len(worker.slots))
            return self._register_driver(WorkerDriver(await self.supply.take_worker("shared", lane.needs), lane.needs, dedicated=False))

    def _register_driver(self, driver: WorkerDriver) -> WorkerDriver:
        self.drivers.add(driver)
        return driver

    def give_up_seat(self, lane: Tenant, driver: WorkerDriver) -> None:
        """Take a lane out of a worker; a worker that is dedicated to the lane ends."""
        driver.unseat_lane(lane)
        if driver.dedicated or driver.end_reason:
            self.end_worker(driver)

    def end_worker(self, driver: WorkerDriver) -> None:
        """End a worker, in the background."""
        self.drivers.discard(driver)
        task = asyncio.create_task(driver.close())
        self._ending.add(task)
        task.add_done_callback(self._ending.discard)

    # -- memory -------------------------------------------------------------------------------------------------------

    @property
    def memory_bytes(self) -> int:
        """Memory of all workers beside what they share, in bytes."""
        return sum(driver.worker.memory_bytes for driver in self.drivers)

    async def make_room(self, lane: Tenant, expected_bytes: int) -> None:
        """Put idle lanes to sleep, the least recently used first, until ``expected_bytes`` more fit into the budget.

        Raise Unavailable when the lane alone is too large for it.
        """
        if expected_bytes > self.budget_bytes:
            raise Unavailable(
                f"{lane.name} needs {expected_bytes / 1e6:,.0f} MB and this node's budget for models is {self.budget_bytes / 1e6:,.0f} MB; "
                "start it with a larger one: lamppost up --memory"
            )
        over = self.memory_bytes + expected_bytes - self.budget_bytes
        for other in sorted(self.lanes, key=lambda lane: lane.used_at):
            if over <= 0:
                return
            if other is not lane and other.idle and not other.keep_warm and other.serving:
                freed = other.memory_bytes
                if self.put_to_sleep(other):
                    log.info("%s is let go to make room for %s", other.name, lane.name)
                    over -= freed

    # -- looking after the lanes --------------------------------------------------------------------------------------

    async def _maintain(self) -> None:
        turn = 0
        before = 0.0
        while True:
            await asyncio.sleep(_TICK_S)
            turn += 1
            now = asyncio.get_running_loop().time()
            everywhere = turn % _LOOK_EVERY == 0  # of thousands of lanes most are quiet
            lanes = [lane for lane in self.lanes if everywhere or lane.needs_maintenance(before)]
            before = now
            for lane in lanes:
                try:
                    if lane.adapt_to_load(now) == 0 and lane.idle:
                        self.put_to_sleep(lane)
                except Exception:
                    log.exception("%s could not be looked after", lane.name)
            if everywhere:
                self._look_at_workers()

    async def _listen(self) -> None:
        """Find workers that are silent while others wait for them, and let these go elsewhere."""
        while True:
            await asyncio.sleep(_LISTEN_S)
            now = time.monotonic()
            for driver in list(self.drivers):
                if driver.silent_s(now) >= max(SILENT_S, _TIMES_USUAL * driver.usual_s) and not driver.end_reason:
                    self._relieve(driver)

    def _relieve(self, driver: WorkerDriver) -> None:
        if not driver.hangs:
            driver.hangs = True
            names = ", ".join(lane.name for lane in driver.lanes_in_hand[:5])
            log.warning("the worker of %s has not answered for %g s; what waits goes to another worker", names, SILENT_S)
        for lane in list(driver.slots):
            try:
                cast(L, lane).relieve()
            except Exception:
                log.exception("%s could not be relieved of a silent worker", lane.name)

    def _look_at_workers(self) -> None:
        """End workers that hold more than they may, and shared workers without lanes."""
        for driver in list(self.drivers):
            if driver.end_reason:
                self.drivers.discard(driver)
            elif not driver.slots and not driver.dedicated and not driver.busy and not driver.opening:
                self.end_worker(driver)
            elif (held := driver.worker.memory_bytes) > self.budget_bytes:
                driver.worker.stop(f"it held {held / 1e6:,.0f} MB, over the budget of {self.budget_bytes / 1e6:,.0f} MB, and was stopped")
            elif (left := driver.worker.home.scratch_bytes()) > SCRATCH_BYTES:
                driver.worker.stop(
                    f"it wrote {left / 1e6:,.0f} MB of files, over the limit of {SCRATCH_BYTES / 1e6:,.0f} MB, and was stopped"
                )
        if self.memory_bytes > self.budget_bytes:
            for other in sorted(self.lanes, key=lambda lane: lane.used_at):
                if other.idle and not other.keep_warm and other.serving and self.put_to_sleep(other):
                    log.info("%s is let go, memory is short", other.name)
                    return

    async def close(self) -> None:
        """End every worker."""
        for task in (self._maintaining, self._listening):
            if task is not None:
                task.cancel()
                await asyncio.gather(task, return_exceptions=True)
        for driver in list(self.drivers):
            self.end_worker(driver)
        await asyncio.gather(*self._ending, return_exceptions=True)
        await self.supply.close()
