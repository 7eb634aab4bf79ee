"""Notes every half minute the copies, queues and memory of this node's lanes, for charts over time."""

from __future__ import annotations

import asyncio
import logging

from lamppost.runtime.lane import Lane
from lamppost.runtime.worker_pool import WorkerPool
from lamppost.store import timeline
from lamppost.store.database import AWAY, Pool

log = logging.getLogger("lamppost.maintenance")

_EVERY_S = 30.0


async def sample_lanes(pool: Pool, node: str, workers: WorkerPool[Lane]) -> None:
    """Note the lanes of a node until it is cancelled. node : the name that its samples are kept under."""
    while True:
        await asyncio.sleep(_EVERY_S)
        try:
            lanes = [(lane.name, len(lane.seats), lane.waiting_rows, lane.memory_bytes / 1e6) for lane in workers.lanes]
            await timeline.note_lanes(pool, node, lanes)
        except AWAY:
            continue
        except Exception:
            log.exception("the lanes could not be noted; it is tried again in %g s", _EVERY_S)
