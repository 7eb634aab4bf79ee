"""Spreads the rows of a bulk run over an existing Dask cluster: reading, writing and marking stay on the node, models answer there.

A lane here stands for a version as any lane does, but it sends each block to the cluster. A block whose machine is lost is answered by
another one; nothing of it was written yet, so the guarantees of a run hold. What the cluster sends back is bytes that are checked as the
frames of a worker are, and is never unpickled.
"""

from __future__ import annotations

import asyncio
import logging
from collections.abc import AsyncIterator, Sequence
from contextlib import asynccontextmanager
from typing import Any

import orjson

import lamppost
from lamppost.core.errors import Conflict, LampPostError, ModelFault, PackageRefused, Unavailable
from lamppost.core.payload.validation_plan import Row
from lamppost.core.schema.columns import Column, columns_from_rows, rows_from_columns
from lamppost.core.schema.redaction import RedactionPolicy
from lamppost.runtime.cluster_worker import PackageTerms, answer_frame, split_frame, worker_facts
from lamppost.runtime.lane_options import LIVE_REQUEST, LaneAnswer, RequestOptions
from lamppost.runtime.seat_opening import LaneSpec
from lamppost.runtime.wire import WireError, pack_columns, pack_frame

log = logging.getLogger("lamppost.bulk")

_CONNECT_S = 20.0
_VERSION = lamppost.__version__
_TRIES = 5
_BYTES_ONLY = ["msgpack", "dask"]
"""How the cluster may write what it sends: bytes and plain values."""


class ClusterLane:
    """A version whose rows a cluster answers. It has what predictors need of a lane."""

    def __init__(self, cluster: Cluster, spec: LaneSpec, terms: PackageTerms, package: bytes) -> None:
        manifest = spec.manifest
        self.name = spec.name
        self.plan = spec.plan
        self.manifest = manifest
        self.columns = manifest.columns
        self.answers = manifest.answers
        self.redaction = RedactionPolicy(manifest.inputs, manifest.options, manifest.answers)
        self._frames = spec.frames
        self._cluster = cluster
        self._terms = terms.to_json()
        self._package = package

    async def predict_columns(
        self, columns: Sequence[Column], rows: int, size_bytes: int, terms: RequestOptions = LIVE_REQUEST
    ) -> LaneAnswer:
        """Answer rows as columns. Raise what a worker reports, or ModelFault for what is no answer."""
        del size_bytes, terms
        entries, body = pack_columns(columns)
        frame = pack_frame({"op": "run", "rows": rows, "columns": entries}, body)
        answered = await self._cluster.answer(self._terms, self._package, frame)
        try:
            header, answer = split_frame(answered)
        except WireError as error:
            raise ModelFault(f"{self.name}: the cluster sent what is no answer: {error}") from error
        try:
            return LaneAnswer([], 0.0, 0.0, rows, self._frames.read_columns(header, answer, rows))
        except PackageRefused as error:  # of the version, and not of a row
            raise Conflict(error.detail) from error

    async def predict(self, rows: Sequence[Row], size_bytes: int, terms: RequestOptions = LIVE_REQUEST) -> LaneAnswer:
        """Answer rows."""
        columns = columns_from_rows(self.columns, list(rows))
        answer = await self.predict_columns(columns, len(rows), size_bytes, terms)
        assert answer.columns is not None
        return answer._replace(rows=rows_from_columns(self.answers, answer.columns), columns=None)

    async def close(self, drain_s: float = 0.0) -> None:
        """Nothing is held here."""
        del drain_s


class Cluster:
    """A connection to the scheduler of a cluster. threads : blocks that it answers at the same time."""

    def __init__(self, client: Any, address: str) -> None:
        self._client = client
        self._address = address
        self._packages: dict[bytes, Any] = {}
        self._scattering = asyncio.Lock()

    @property
    def threads(self) -> int:
        """Threads of all workers that are there now."""
        workers = self._client.scheduler_info(n_workers=-1)["workers"]
        return sum(int(worker["nthreads"]) for worker in workers.values())

    async def check_workers(self) -> None:
        """Raise Conflict unless there are workers, and all of them have this version of the library."""
        try:
            await asyncio.wait_for(self._client.wait_for_workers(1), _CONNECT_S)
            found = await self._client.run(worker_facts)
        except TimeoutError:
            raise Conflict(f"the cluster at {self._address} has no workers; start some, then resume the run") from None
        except Exception as error:  # whatever a worker of somebody else's raises
            raise Conflict(
                f"the workers of the cluster at {self._address} cannot answer ({type(error).__name__}: {str(error)[:200]}); "
                f"install there: pip install 'lamppost[pack,dask]=={_VERSION}'"
            ) from error
        for worker, facts in found.items():
            version = orjson.loads(facts)["lamppost"]
            if version != _VERSION:
                raise Conflict(f"the worker {worker} of the cluster has lamppost {version}; install there what this node has, {_VERSION}")

    async def answer(self, terms: bytes, package: bytes, frame: bytes) -> bytes:
        """What a worker answers to a frame. A worker that is lost costs another try; raise Unavailable after five."""
        for attempt in range(_TRIES):
            lamp = await self._scattered(terms, package, anew=attempt > 0)
            future = self._client.submit(answer_frame, terms, lamp, frame, pure=False, retries=_TRIES)
            try:
                answered: bytes = bytes(await future)
                return answered
            except asyncio.CancelledError:
                if not future.cancelled() or (task := asyncio.current_task()) is None or task.cancelling():
                    future.cancel()
                    raise
                log.warning("the cluster at %s lost a block; it is asked again", self._address)
            except LampPostError:
                raise
            except Exception as error:  # of the cluster: a killed worker, a lost connection
                log.warning("the cluster at %s lost a block (%s: %s); it is asked again", self._address, type(error).__name__, error)
                await asyncio.sleep(min(5.0, 0.5 * 2**attempt))
        raise Unavailable(f"the cluster at {self._address} lost a block {_TRIES} times; look after its workers, then resume the run")

    async def _scattered(self, terms: bytes, package: bytes, anew: bool) -> Any:
        """The package on the workers, sent to each once."""
        async with self._scattering:
            known = self._packages.get(terms)
            if known is None or known.status in ("lost", "cancelled") or (anew and known.status != "finished"):
                known = self._packages[terms] = await self._client.scatter(package, broadcast=True, hash=False)
            return known


@asynccontextmanager
async def connected_cluster(address: str) -> AsyncIterator[Cluster]:
    """A connection to a scheduler; raise Conflict where there is none."""
    import distributed

    options = {"timeout": _CONNECT_S, "serializers": _BYTES_ONLY, "deserializers": _BYTES_ONLY, "set_as_default": False}
    connect: Any = distributed.Client
    try:
        client = await connect(address, asynchronous=True, name="lamppost", **options)
    except (OSError, TimeoutError, ValueError) as error:
        reason = str(error)[:200] or type(error).__name__
        raise Conflict(f"there is no scheduler at {address} ({reason}); start it, then resume the run") from error
    try:
        cluster = Cluster(client, address)
        await cluster.check_workers()
        yield cluster
    finally:
        await client.close(timeout=5)
