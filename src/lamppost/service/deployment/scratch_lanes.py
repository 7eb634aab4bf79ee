"""Opens lanes in a process beside the service, apart from those that answer calls."""

from __future__ import annotations

from collections.abc import Iterable

from lamppost.core.names import VersionName
from lamppost.runtime.fork_server import ForkedServer
from lamppost.runtime.lane import Lane
from lamppost.runtime.lane_options import LaneSettings
from lamppost.runtime.seat_opening import LaneSpec
from lamppost.runtime.worker_pool import WorkerPool
from lamppost.runtime.worker_supply import ForkServers, WorkerSupply
from lamppost.service.deployment.lane_opening import LaneOpener
from lamppost.service.deployment.node_memory import NodeMemory
from lamppost.service.packages.package_cache import PackageCache
from lamppost.service.settings import Settings
from lamppost.store.database import Pool


class ScratchLanes:
    """Lanes of one process; `close` ends every worker. frame_rows : most rows that a worker gets at once, None for the usual number.

    forked : what its workers may be forked from.
    """

    def __init__(self, pool: Pool, settings: Settings, frame_rows: int | None = None, forked: Iterable[ForkedServer] = ()) -> None:
        self.package_cache = PackageCache(pool, settings.packages_folder)
        supply = WorkerSupply(ForkServers(forked, settings.workers.groups), settings.workers)
        if frame_rows is None:
            self.workers: WorkerPool[Lane] = WorkerPool(supply, settings.memory_bytes)
        else:
            self.workers = WorkerPool(supply, settings.memory_bytes, frame_rows=frame_rows)
        memory = NodeMemory(pool, settings.data, self.package_cache)
        self.opener = LaneOpener(pool, settings, self.package_cache, memory, self.workers)
        self.workers.start(None)

    async def open_lane(self, version: VersionName, settings: LaneSettings) -> Lane:
        """An open, proven lane in workers of its own; raise what opening it raises."""
        return await self.opener.open_lane(version, settings, apart=True)

    async def find_spec(self, version: VersionName) -> LaneSpec:
        """What lanes of a version are opened from; raise NotFound or PackageRefused."""
        return (await self.opener.find_spec(version))[0]

    async def close(self) -> None:
        """End every worker."""
        await self.workers.close()
