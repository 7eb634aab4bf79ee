"""Where lanes get their worker processes from. For each kind of work one spare is kept started, with its slow imports done, so
that opening a version takes the time of loading it and not of starting an interpreter.
"""

from __future__ import annotations

import asyncio
import logging
from pathlib import Path
from typing import Literal

from lamppost.runtime.wire import pack_frame
from lamppost.runtime.worker_process import WorkerGone, WorkerProcess

log = logging.getLogger("lamppost.worker")

Needs = Literal["graphs", "sklearn"]
"""What a worker must have imported: compiled graphs need a tenth of the time and a third of the memory."""

_WARM_S = 120.0


class WorkerSupply:
    """Starts workers. With ``spares``, one of each kind is always ready or on its way; `close` ends them."""

    def __init__(self, spares: bool) -> None:
        self._kinds: tuple[Needs, ...] = ("graphs", "sklearn") if spares else ()
        self._spares: dict[Needs, asyncio.Task[WorkerProcess]] = {}

    def prepare_spares(self) -> None:
        """Begin to start the spares that are not there."""
        for needs in self._kinds:
            if needs not in self._spares:
                self._spares[needs] = asyncio.create_task(self._warm(needs), name=f"spare worker for {needs}")

    async def take_worker(self, name: str, needs: Needs, overlay: Path | None = None) -> WorkerProcess:
        """A worker for the lane ``name``, with other libraries where an environment is given; the caller closes it."""
        if overlay is not None:
            return await WorkerProcess.start(name, overlay)
        worker = await self._take_spare(needs)
        self.prepare_spares()
        if worker is None:
            return await WorkerProcess.start(name)
        worker.name = name
        return worker

    async def _take_spare(self, needs: Needs) -> WorkerProcess | None:
        spare = self._spares.pop(needs, None)
        if spare is None:
            return None
        try:
            worker = await spare
        except (WorkerGone, OSError) as error:
            log.warning("the spare worker was of no use (%s)", error)
            return None
        if worker.end_reason is None:
            return worker
        await worker.close()
        return None

    async def close(self) -> None:
        """End the spares."""
        self._kinds = ()
        spares, self._spares = list(self._spares.values()), {}
        for worker in await asyncio.gather(*spares, return_exceptions=True):
            if isinstance(worker, WorkerProcess):
                await worker.close()

    async def _warm(self, needs: Needs) -> WorkerProcess:
        worker = await WorkerProcess.start("spare")
        try:
            await worker.call(pack_frame({"op": "warm", "needs": needs}), _WARM_S)
        except BaseException:
            await worker.close()
            raise
        return worker
