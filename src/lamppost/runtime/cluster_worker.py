"""Answers blocks of rows in a worker of somebody's Dask cluster: the part of a bulk run that is spread over machines.

A process of the cluster unpacks a package once, proves it, and keeps it open in workers that are confined as those of a service are. Rows
come and answers go as the frames that a lane and its workers exchange, so the receiver checks them by the same rules. Knows no service and
no Dask: `answer_frame` is a plain function.
"""

from __future__ import annotations

import asyncio
import atexit
import os
import sys
import tempfile
import threading
from collections.abc import Coroutine
from dataclasses import dataclass
from functools import cache
from importlib.metadata import version
from pathlib import Path
from typing import Any, TypeVar

import orjson

from lamppost.core.engine.batch_queue import BatchPolicy
from lamppost.core.engine.scaling import CopyBounds
from lamppost.core.errors import LampPostError, PackageRefused, ProofFailed
from lamppost.package.read import read_unpacked, unpack_lamp
from lamppost.runtime.confinement.worker_home import WorkerRules
from lamppost.runtime.lane import Lane
from lamppost.runtime.lane_options import LaneSettings
from lamppost.runtime.seat_opening import LaneSpec
from lamppost.runtime.wire import HEAD, WireError, frame_size, pack_columns, pack_frame, read_header, unpack_columns
from lamppost.runtime.worker_pool import WorkerPool
from lamppost.runtime.worker_supply import WorkerSupply

T = TypeVar("T")
_BLOCK_ROWS = 16_384


@dataclass(frozen=True, slots=True)
class PackageTerms:
    """How a package is opened. name : of the version. digest : of its lamp file. formats : that may be opened. run_s : for a block."""

    name: str
    digest: str
    formats: tuple[str, ...]
    confined: bool
    run_s: float

    def to_json(self) -> bytes:
        """As they travel."""
        return orjson.dumps(self)


class _OpenPackages:
    """The packages that are open in this process, on an event loop in a thread of its own."""

    def __init__(self) -> None:
        self._folder = tempfile.TemporaryDirectory(prefix="lamppost-cluster-")
        self._loop = asyncio.new_event_loop()
        threading.Thread(target=self._loop.run_forever, name="lamppost", daemon=True).start()
        self._lanes: dict[PackageTerms, asyncio.Task[Lane]] = {}
        atexit.register(self._close)

    def run(self, work: Coroutine[Any, Any, T]) -> T:
        """Wait in this thread for work on the loop."""
        return asyncio.run_coroutine_threadsafe(work, self._loop).result()

    async def lane(self, terms: PackageTerms, package: bytes) -> Lane:
        """The open, proven lane of a package. Raise PackageRefused."""
        opening = self._lanes.get(terms)
        if opening is None or (opening.done() and (opening.cancelled() or opening.exception() is not None)):
            opening = self._lanes[terms] = asyncio.create_task(self._open(terms, package))
        return await asyncio.shield(opening)

    async def _open(self, terms: PackageTerms, package: bytes) -> Lane:
        folder = Path(self._folder.name)
        file = folder / f"{terms.digest}.lamp"
        await asyncio.to_thread(file.write_bytes, package)
        unpacked = await asyncio.to_thread(unpack_lamp, file, terms.digest, folder)
        manifest, proof = await asyncio.to_thread(read_unpacked, unpacked, terms.digest)
        pool: WorkerPool[Lane] = WorkerPool(
            WorkerSupply(None, WorkerRules(folder / "workers", None, terms.confined)), None, frame_rows=_BLOCK_ROWS
        )
        settings = LaneSettings(
            formats=frozenset(terms.formats),
            batch=BatchPolicy(max_rows=_BLOCK_ROWS, queue_rows=1_000_000, queue_bytes=2**30),
            copies=CopyBounds(1, os.cpu_count() or 1),
            run_s=terms.run_s,
        )
        lane = Lane(LaneSpec(terms.name, unpacked, manifest, proof, dedicated_worker=True), settings, pool)
        pool.start(None)
        try:
            await lane.open()
        except ProofFailed as error:
            await pool.close()
            raise PackageRefused(f"{terms.name} fails its proof on a machine of the cluster: {error.detail}") from error
        except BaseException:
            await pool.close()
            raise
        return lane

    def _close(self) -> None:
        self._loop.call_soon_threadsafe(self._loop.stop)
        self._folder.cleanup()


@cache
def _packages() -> _OpenPackages:
    return _OpenPackages()


def worker_facts() -> bytes:
    """What a process of a cluster is: the versions of this library and of Python, as JSON."""
    return orjson.dumps({"lamppost": version("lamppost"), "python": f"{sys.version_info.major}.{sys.version_info.minor}"})


def answer_frame(terms: bytes, package: bytes, frame: bytes) -> bytes:
    """The answers to a block of rows, as a frame; an error is a frame that names it.

    terms : `PackageTerms` as JSON. package : the lamp file, which is opened with the first block. frame : the rows as columns.
    """
    try:
        given = orjson.loads(terms)
        wanted = PackageTerms(given["name"], given["digest"], tuple(given["formats"]), given["confined"], given["run_s"])
        return _packages().run(_answer(wanted, package, frame))
    except LampPostError as error:
        faults = {"faults": error.extra["faults"]} if error.extra.get("faults") else {}
        return pack_frame({"op": "error", "code": error.code, "detail": error.detail, **faults})


async def _answer(terms: PackageTerms, package: bytes, frame: bytes) -> bytes:
    lane = await _packages().lane(terms, package)
    header, body = split_frame(frame)
    rows = int(header["rows"])
    columns = unpack_columns(lane.columns, rows, header["columns"], body)
    answer = await lane.predict_columns(columns, rows, len(frame))
    assert answer.columns is not None
    entries, packed = pack_columns(answer.columns)
    return pack_frame({"op": "answers", "rows": rows, "columns": entries}, packed)


def split_frame(frame: bytes) -> tuple[dict[str, Any], bytes]:
    """Header and body of a whole frame; raise WireError for what is none."""
    if len(frame) < HEAD.size:
        raise WireError("a frame is cut short")
    header_bytes, body_bytes = frame_size(frame[: HEAD.size])
    if len(frame) != HEAD.size + header_bytes + body_bytes:
        raise WireError("a frame is cut short")
    start = HEAD.size + header_bytes
    return read_header(frame[HEAD.size : start]), frame[start:]
