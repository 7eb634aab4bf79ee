"""Where lanes get their worker processes from: one spare is kept started, with the slow imports done, so that opening a
version takes the time of loading it and not of starting an interpreter.
"""

from __future__ import annotations

import asyncio
import logging

from lamppost.runtime.process import WorkerGone, WorkerProcess
from lamppost.runtime.wire import pack_frame

log = logging.getLogger("lamppost.worker")

_WARM_S = 120.0


class WorkerSupply:
    """Starts workers. With ``spare``, one is always ready or on its way; `close` ends it."""

    def __init__(self, spare: bool) -> None:
        self._keeps_spare = spare
        self._spare: asyncio.Task[WorkerProcess] | None = None

    def prepare(self) -> None:
        """Begin to start the spare, if one is kept and none is there."""
        if self._keeps_spare and self._spare is None:
            self._spare = asyncio.create_task(self._warm(), name="spare worker")

    async def take(self, name: str) -> WorkerProcess:
        """A worker for the lane ``name``; the caller closes it."""
        spare, self._spare = self._spare, None
        worker = None
        if spare is not None:
            try:
                worker = await spare
            except (WorkerGone, OSError) as error:
                log.warning("the spare worker was of no use (%s)", error)
            else:
                if worker.gone is not None:
                    await worker.close()
                    worker = None
        self.prepare()
        if worker is None:
            return await WorkerProcess.start(name)
        worker.name = name
        return worker

    async def close(self) -> None:
        """End the spare."""
        self._keeps_spare = False
        spare, self._spare = self._spare, None
        if spare is not None:
            results = await asyncio.gather(spare, return_exceptions=True)
            for worker in results:
                if isinstance(worker, WorkerProcess):
                    await worker.close()

    async def _warm(self) -> WorkerProcess:
        worker = await WorkerProcess.start("spare")
        try:
            await worker.call(pack_frame({"op": "warm"}), _WARM_S)
        except BaseException:
            await worker.close()
            raise
        return worker
