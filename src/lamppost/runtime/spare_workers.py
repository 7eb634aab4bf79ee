"""Starts worker processes for lanes, and keeps a spare of each kind that is in use.

A spare has its slow imports done, so that opening a version takes the time of loading the package and not of starting an interpreter. A
spare with the libraries of models costs seconds to start and hundreds of megabytes to keep, so it is made only once a package needs one.
"""

from __future__ import annotations

import asyncio
import logging
from pathlib import Path
from typing import Literal

from lamppost.core.artifact.manifest import Manifest
from lamppost.runtime.confinement.worker_home import USUAL_RULES, WorkerRules
from lamppost.runtime.lane_options import LaneSettings
from lamppost.runtime.wire import pack_frame
from lamppost.runtime.worker_process import WorkerGone, WorkerProcess

log = logging.getLogger("lamppost.worker")

Needs = Literal["graphs", "sklearn"]
"""What a worker must have imported: compiled graphs need a tenth of the time and a third of the memory."""

_WARM_S = 120.0
_REFILL_S = 3.0
"""Pause before a spare that was taken is replaced: its imports must not compete with the package that is being opened."""


def needed_worker(manifest: Manifest, settings: LaneSettings) -> Needs:
    """The kind of worker that a package is opened in."""
    return "graphs" if not settings.original and manifest.serves_graphs else "sklearn"


class WorkerSupply:
    """Starts workers; `close` ends the spares. spares : whether to keep any. rules : what all workers are confined to."""

    def __init__(self, spares: bool, rules: WorkerRules = USUAL_RULES) -> None:
        self._keeps_spares = spares
        self._rules = rules
        self._kinds: set[Needs] = set()
        self._spares: dict[Needs, asyncio.Task[WorkerProcess]] = {}
        self._refill: asyncio.TimerHandle | None = None

    def expect(self, needs: Needs) -> None:
        """Keep a spare of this kind from now on: a package that needs one was pushed, or is being opened."""
        if self._keeps_spares:
            self._kinds.add(needs)
            self.prepare_spares()

    def prepare_spares(self) -> None:
        """Begin to start the spares that are not there."""
        for needs in sorted(self._kinds):
            if needs not in self._spares:
                self._spares[needs] = asyncio.create_task(self._warm("spare", needs), name=f"spare worker for {needs}")

    async def take_worker(self, name: str, needs: Needs, overlay: Path | None = None) -> WorkerProcess:
        """A worker for the lane ``name``, with other libraries where an environment is given; the caller closes it."""
        if overlay is not None:
            return await self._warm(name, needs, overlay)
        worker = await self._take_spare(needs)
        self._refill_later(needs)
        if worker is None:
            return await self._warm(name, needs)
        worker.name = name
        return worker

    def _refill_later(self, needs: Needs) -> None:
        if self._keeps_spares:
            self._kinds.add(needs)
            if self._refill is None:
                self._refill = asyncio.get_running_loop().call_later(_REFILL_S, self._refill_now)

    def _refill_now(self) -> None:
        self._refill = None
        self.prepare_spares()

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
        self._keeps_spares, self._kinds = False, set()
        if self._refill is not None:
            self._refill.cancel()
        spares, self._spares = list(self._spares.values()), {}
        for worker in await asyncio.gather(*spares, return_exceptions=True):
            if isinstance(worker, WorkerProcess):
                await worker.close()

    async def _warm(self, name: str, needs: Needs, overlay: Path | None = None) -> WorkerProcess:
        """A worker whose slow imports are done."""
        worker = await WorkerProcess.start(name, self._rules, overlay)
        try:
            await worker.call(pack_frame({"op": "warm", "needs": needs}), _WARM_S)
        except BaseException:
            await worker.close()
            raise
        return worker
