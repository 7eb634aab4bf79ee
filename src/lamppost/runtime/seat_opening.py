"""Opens a lane's package in a worker: find a worker, load the package, replay its proof, measure its speed.

`open_seat` takes a `LaneSpec` and returns an `OpenedSeat`; it does not know lanes.
"""

from __future__ import annotations

import time
from collections.abc import Sequence
from dataclasses import dataclass, field
from pathlib import Path
from statistics import median
from typing import Any

from lamppost.core.artifact.manifest import Manifest
from lamppost.core.artifact.proof import Proof, ProofVerdict, compare_answers
from lamppost.core.artifact.steps import NetworkStep
from lamppost.core.engine.opening_measurement import BATCH_ROWS, OpeningMeasurement
from lamppost.core.errors import Unavailable
from lamppost.core.payload.validation_plan import Row, ValidationPlan
from lamppost.runtime.lane_frames import LaneFrames, reported_error
from lamppost.runtime.lane_options import LaneSettings
from lamppost.runtime.worker_driver import WorkerDriver
from lamppost.runtime.worker_pool import Tenant, WorkerPool
from lamppost.runtime.worker_process import WorkerGone

MAX_SINGLE_ROWS = 32
"""Most proof rows that are also asked one by one."""
MEASURE_S = 0.12
"""How long a version is measured where few are opened at a time; three batches of each size at least, however short it is."""
_NEEDS_TIMES = 4
_LEAST_ROOM_BYTES = 2**30
_RESERVED_BYTES = 2**29
"""Address space that allocators and threads reserve and do not use."""
_TORCH_BYTES = 2**30
"""Address space that PyTorch takes when it is imported."""


@dataclass(slots=True)
class LaneSpec:
    """What a lane is opened from.

    name : of the version, for messages and logs.
    folder : the unpacked package.
    overlay : folder of libraries to lay over what is installed, None for none.
    expected_bytes : memory that opening needs; 0 if unknown.
    dedicated_worker : whether it gets a worker of its own, whatever is in the package.
    """

    name: str
    folder: Path
    manifest: Manifest
    proof: Proof
    overlay: Path | None = None
    expected_bytes: int = 0
    dedicated_worker: bool = False
    plan: ValidationPlan = field(init=False)
    frames: LaneFrames = field(init=False)

    def __post_init__(self) -> None:
        self.plan = ValidationPlan(self.manifest.inputs, options=self.manifest.options)
        self.frames = LaneFrames(self.name, self.manifest.columns, self.manifest.answers)


@dataclass(frozen=True, slots=True)
class OpenedSeat:
    """A worker in which a package is open. verdict : what replaying the proof there showed, passed or not.

    memory_bytes : what the package adds to a shared worker, or all that a dedicated worker holds. measurement : None where not asked for.
    """

    driver: WorkerDriver
    verdict: ProofVerdict
    memory_bytes: int
    measurement: OpeningMeasurement | None = None


async def open_seat(spec: LaneSpec, settings: LaneSettings, tenant: Tenant, pool: WorkerPool[Any], measure_s: float) -> OpenedSeat:
    """Open a package in a worker of the pool, replay its proof, and measure it for so long if the proof passed; 0 for not at all.

    Raise Unavailable where the worker ends or the package is too large, or the error that the worker reports; the seat is given up then.
    """
    start = time.perf_counter()
    driver = await pool.place_lane(tenant)
    driver.opening += 1
    try:
        ask = {
            "formats": sorted(settings.formats),
            **settings.opening._asdict(),
            "memory_bytes": _memory_bound(spec, driver, pool.budget_bytes),
        }
        header = await driver.open_lane(tenant, spec.folder, ask, settings.open_s)
        if header.get("op") != "opened":
            raise reported_error(header)
        held = int(header.get("memory_bytes", 0)) if driver.dedicated else int(header.get("grew_bytes", 0))
        if held > pool.budget_bytes:
            raise Unavailable(
                f"{spec.name} holds {held / 1e6:,.0f} MB, over this node's budget for models of {pool.budget_bytes / 1e6:,.0f} MB; "
                "start it with a larger one: lamppost up --memory"
            )
        batches = _Batches(spec, tenant, driver, settings.run_s)
        verdict = await _replay_proof(spec, batches)
        measurement = None
        if measure_s and verdict.passed:
            measurement = await _measure(batches, measure_s, time.perf_counter() - start, int(header.get("memory_bytes", 0)))
    except WorkerGone as error:
        pool.give_up_seat(tenant, driver)
        raise Unavailable(f"the worker for {spec.name} ended while opening it: {error}") from error
    except BaseException:
        pool.give_up_seat(tenant, driver)
        raise
    finally:
        driver.opening -= 1
    return OpenedSeat(driver, verdict, held, measurement)


def _memory_bound(spec: LaneSpec, driver: WorkerDriver, budget_bytes: int) -> int:
    """How much memory a worker may hold from its first package on, in bytes.

    A dedicated worker of a package that was measured gets several times what it needed, because batches differ.
    """
    room = budget_bytes
    if driver.dedicated and spec.expected_bytes:
        room = min(room, _NEEDS_TIMES * spec.expected_bytes + _LEAST_ROOM_BYTES)
    torch = any(isinstance(step, NetworkStep) and step.format != "onnx" for step in spec.manifest.steps)
    return room + _RESERVED_BYTES + (_TORCH_BYTES if torch else 0)


class _Batches:
    """Asks an open package for answers apart from its queue. rows : those of the proof, as the validation plan reads them."""

    def __init__(self, spec: LaneSpec, tenant: Tenant, driver: WorkerDriver, run_s: float) -> None:
        self.rows = spec.plan.read_rows(spec.proof.rows)
        self._frames = spec.frames
        self._tenant = tenant
        self._driver = driver
        self._run_s = run_s

    async def run(self, requests: Sequence[Sequence[Row]]) -> list[list[dict[str, Any]]]:
        """Answers to several requests, each a batch of its own, in one frame."""
        packed = [(len(rows), *self._frames.pack(rows)) for rows in requests]
        most = sum(self._frames.most_bytes(len(rows)) for rows in requests)
        answers = await self._driver.run_batches(self._tenant, packed, self._run_s, most)
        if len(answers) != len(requests):
            raise WorkerGone("it answered another number of batches than it was asked")
        return [self._frames.read_rows(header, body, len(rows)) for (header, body), rows in zip(answers, requests, strict=True)]


async def _replay_proof(spec: LaneSpec, batches: _Batches) -> ProofVerdict:
    """Replay the proof the way requests go: validated, as columns, over the wire; as one batch, and row by row.

    Row by row matters: preprocessing that is fitted again on each request is right on a large batch and wrong on a single row.
    """
    rows, answers = batches.rows, spec.manifest.answers
    together, *singles = await batches.run([rows, *([row] for row in rows[:MAX_SINGLE_ROWS])])
    verdict = compare_answers(answers, spec.proof, together)
    if not verdict.passed:
        return verdict
    return compare_answers(answers, spec.proof, [single[0] for single in singles] + together[len(singles) :])


async def _measure(batches: _Batches, measure_s: float, open_s: float, memory_bytes: int) -> OpeningMeasurement:
    """How long one row takes and how long 64 take, rows of the proof in turn, there and back."""
    rows = batches.rows
    took = [await _median_ms(batches, [rows[at % len(rows)] for at in range(count)], measure_s / 2) for count in (1, BATCH_ROWS)]
    return OpeningMeasurement(round(open_s, 4), memory_bytes, round(took[0], 4), round(took[1], 4))


async def _median_ms(batches: _Batches, rows: Sequence[Row], lasts_s: float) -> float:
    took: list[float] = []
    end = time.perf_counter() + lasts_s
    while len(took) < 3 or time.perf_counter() < end:
        start = time.perf_counter()
        await batches.run([rows])
        took.append((time.perf_counter() - start) * 1e3)
    return median(took)
