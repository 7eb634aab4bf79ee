"""Opening a lane's package in a worker: place, load, prove, measure."""

from __future__ import annotations

import time
from collections.abc import Sequence
from statistics import median
from typing import TYPE_CHECKING, Any

from lamppost.core.artifact.proof import USUAL_CAUSES, ProofVerdict, compare_answers
from lamppost.core.engine.opening_measurement import BATCH_ROWS, OpeningMeasurement
from lamppost.core.errors import ProofFailed, Unavailable
from lamppost.core.payload.validation_plan import Row
from lamppost.runtime.worker_driver import WorkerDriver
from lamppost.runtime.worker_process import WorkerGone

if TYPE_CHECKING:
    from lamppost.runtime.lane import Lane
    from lamppost.runtime.worker_pool import WorkerPool

ALONE = 32
"""Most proof rows that are also asked one by one."""

_MEASURE_S = 0.06


async def open_seat(lane: Lane, pool: WorkerPool, measure: bool) -> WorkerDriver:
    """A worker in which the lane is open and proven. Raise ProofFailed, Unavailable, or whatever the worker says."""
    start = time.perf_counter()
    driver = await pool.place(lane)
    driver.opening += 1
    try:
        settings = lane.settings
        ask = {"folder": str(lane.folder), "formats": sorted(settings.formats), "original": settings.original}
        header = await driver.open(lane, ask, settings.open_s)
        if header.get("op") != "opened":
            raise lane.refusal(header)
        held = int(header.get("memory_bytes", 0)) if driver.kept else int(header.get("grew_bytes", 0))
        lane.memory_bytes = max(lane.memory_bytes, held)
        if held > pool.budget_bytes:
            raise Unavailable(
                f"{lane.name} holds {held / 1e6:,.0f} MB, over this node's budget for models of {pool.budget_bytes / 1e6:,.0f} MB; "
                "start it with a larger one: lamppost up --memory"
            )
        lane.verdict = await _prove(lane, driver)
        if not lane.verdict.passed:
            raise ProofFailed(
                f"{lane.name} does not reproduce its training: {lane.verdict.sentence()}; it takes no traffic. {USUAL_CAUSES}",
                differences=[difference.sentence() for difference in lane.verdict.differences],
            )
        if measure:
            lane.measured = await _measure(lane, driver, time.perf_counter() - start, int(header.get("memory_bytes", 0)))
    except WorkerGone as error:
        pool.leave(lane, driver)
        raise Unavailable(f"the worker for {lane.name} ended while opening it: {error}") from error
    except BaseException:
        pool.leave(lane, driver)
        raise
    finally:
        driver.opening -= 1
    return driver


async def _prove(lane: Lane, driver: WorkerDriver) -> ProofVerdict:
    """Replay the proof the way requests go: validated, as columns, over the wire; as one batch, and row by row alone.

    Alone matters: preprocessing that is fitted again on the request is right on a large batch and wrong on a single row.
    """
    rows = lane.plan.read_rows(lane.proof.rows)
    together, *alone = await _ask(lane, driver, [rows, *([row] for row in rows[:ALONE])])
    verdict = compare_answers(lane.answers, lane.proof, together)
    if not verdict.passed:
        return verdict
    return compare_answers(lane.answers, lane.proof, [one[0] for one in alone] + together[len(alone) :])


async def _measure(lane: Lane, driver: WorkerDriver, open_s: float, memory_bytes: int) -> OpeningMeasurement:
    """How long one row takes and how long 64 take, rows of the proof in turn, there and back."""
    rows = lane.plan.read_rows(lane.proof.rows)
    took = [await _median_ms(lane, driver, [rows[at % len(rows)] for at in range(count)]) for count in (1, BATCH_ROWS)]
    return OpeningMeasurement(round(open_s, 4), memory_bytes, round(took[0], 4), round(took[1], 4))


async def _median_ms(lane: Lane, driver: WorkerDriver, rows: Sequence[Row]) -> float:
    took: list[float] = []
    end = time.perf_counter() + _MEASURE_S
    while len(took) < 3 or time.perf_counter() < end:
        start = time.perf_counter()
        await _ask(lane, driver, [rows])
        took.append((time.perf_counter() - start) * 1e3)
    return median(took)


async def _ask(lane: Lane, driver: WorkerDriver, requests: Sequence[Sequence[Row]]) -> list[list[dict[str, Any]]]:
    """Answers to several requests, each a batch of its own, in one frame."""
    packed = [(len(rows), *lane.pack(rows)) for rows in requests]
    answers = await driver.ask(lane, packed, lane.settings.run_s)
    if len(answers) != len(requests):
        raise WorkerGone("it answered another number of batches than it was asked")
    return [lane.read_rows(header, body, len(rows)) for (header, body), rows in zip(answers, requests, strict=True)]
