"""Proves a lamp file in a fresh process, with the worker, wire and comparison that a service uses."""

from __future__ import annotations

import asyncio
import tempfile
from concurrent.futures import ThreadPoolExecutor
from pathlib import Path

from lamppost.core.artifact.proof import ProofVerdict
from lamppost.core.errors import ProofFailed
from lamppost.package.read import Lamp
from lamppost.runtime.lane import Lane
from lamppost.runtime.lane_options import LaneSettings
from lamppost.runtime.seat_opening import LaneSpec
from lamppost.runtime.worker_pool import WorkerPool


def prove(lamp: Lamp, formats: frozenset[str] = frozenset({"skops", "pickle", "python", "torch"})) -> ProofVerdict:
    """Replay the proof in a new worker process; raise PackageRefused or ModelFault when it cannot even be opened."""
    # in a thread, because the caller's may have an event loop already, as in a notebook
    with tempfile.TemporaryDirectory(prefix="lamppost-prove-") as folder, ThreadPoolExecutor(1) as thread:
        return thread.submit(asyncio.run, _prove(lamp, Path(folder), formats)).result()


async def _prove(lamp: Lamp, folder: Path, formats: frozenset[str]) -> ProofVerdict:
    unpacked = await asyncio.to_thread(lamp.unpack, folder)
    pool: WorkerPool[Lane] = WorkerPool()
    lane = Lane(LaneSpec(lamp.manifest.name, unpacked, lamp.manifest, lamp.proof), LaneSettings(formats=formats), pool)
    try:
        return await lane.open()
    except ProofFailed:
        assert lane.proof_verdict is not None
        return lane.proof_verdict
    finally:
        await lane.close()
        await pool.close()
