"""The demo's four models as packages: packing, opening, memory, and rows a second before and after compiling."""

from __future__ import annotations

import asyncio
import tempfile
import time
import warnings
from pathlib import Path
from typing import Any

from demo import feeders, lamps, notes, poles
from demo.train import train_outage_risk
from lamppost.core.engine.opening_measurement import OpeningMeasurement
from lamppost.package.read import Lamp
from lamppost.packing.pack import pack_with_remarks
from lamppost.packing.recipe import Recipe
from lamppost.runtime.lane import Lane
from lamppost.runtime.lane_options import LaneSettings
from lamppost.runtime.seat_opening import LaneSpec
from lamppost.runtime.wire import pack_frame
from lamppost.runtime.worker_pool import WorkerPool
from lamppost.runtime.worker_process import WorkerProcess
from lamppost.runtime.worker_supply import ForkServers, WorkerSupply


def _packages(folder: Path) -> list[tuple[Lamp, float]]:
    """Each of the demo's models packed and proven, with the seconds that took."""
    load, note, photo, risk = feeders.train_evening_load(), notes.train_fault_note(), poles.train_pole_photo(), train_outage_risk()
    recipes: list[tuple[Any, Any, Recipe]] = [
        (risk[0], risk[1], Recipe("outage-risk", "failed", labels={0: "holds", 1: "fails"}, fields=lamps.FIELDS)),
        (load[0], load[1], Recipe("evening-load", feeders.TARGET, fields=feeders.FIELDS, unit="kWh")),
        (note[0], note[1], Recipe("fault-note", notes.TARGET, fields=notes.FIELDS)),
        (photo[0], photo[1], Recipe("pole-photo", poles.TARGET, fields=poles.FIELDS, before=[poles.pixels()])),
    ]
    made = []
    for model, frame, recipe in recipes:
        start = time.perf_counter()
        lamp, _ = pack_with_remarks(model, frame, folder / f"{recipe.name}.lamp", recipe)
        made.append((lamp, time.perf_counter() - start))
    return made


async def _opened(lamp: Lamp, folder: Path, original: bool) -> tuple[OpeningMeasurement, float]:
    """What a lane measures with a worker whose imports are done, and the megabytes that the package adds to it."""
    unpacked = lamp.unpack(folder)
    graphs = lamp.manifest.serves_graphs and not original
    worker = await WorkerProcess.start("bench")
    lent = worker.home.put_package(unpacked, "1")
    warm, _ = await worker.call(pack_frame({"op": "warm", "needs": "graphs" if graphs else "sklearn"}), 60)
    formats = ["pickle", "python", "skops"]
    opened, _ = await worker.call(
        pack_frame({"op": "open", "slot": 1, "folder": str(lent), "memory_bytes": 2**33, "formats": formats, "original": original}), 60
    )
    await worker.close()
    supply = WorkerSupply(ForkServers())
    supply.expect("graphs")
    supply.expect("sklearn")
    pool: WorkerPool[Lane] = WorkerPool(supply)
    lane = Lane(LaneSpec(lamp.manifest.name, unpacked, lamp.manifest, lamp.proof), LaneSettings(frozenset(formats), original), pool)
    await (await supply.take_worker("first", "graphs" if graphs else "sklearn")).close()  # once the imports are done
    await lane.open(measure_s=0.12)
    await lane.close()
    await pool.close()
    assert lane.measurement is not None
    return lane.measurement, (opened["memory_bytes"] - warm["memory_bytes"]) / 1e6


def measure() -> None:
    """Print the table."""
    print(f"{'':14s}{'pack s':>8s}{'file MB':>9s}{'':>14s}{'open s':>8s}{'adds MB':>9s}{'rows/s alone':>14s}{'rows/s in 64s':>15s}")
    with tempfile.TemporaryDirectory(prefix="lamppost-bench-") as name, warnings.catch_warnings():
        warnings.simplefilter("ignore")
        for lamp, took in _packages(Path(name)):
            found = {}
            compiled = any(getattr(step, "compiled", None) for step in lamp.manifest.steps)
            for form, original in (("compiled", False), ("as fitted", True)):
                if form == "compiled" and not compiled:
                    continue
                found[form] = measured, added = asyncio.run(_opened(lamp, Path(name), original))
                first = f"{lamp.manifest.name:14s}{took:8.1f}{lamp.size_bytes / 1e6:9.2f}" if len(found) == 1 else " " * 31
                figures = f"{measured.open_s:8.2f}{added:9.1f}{measured.rows_s:14,.0f}{measured.batch_rows_s:15,.0f}"
                print(f"{first}{form:>14s}{figures}", flush=True)
            if len(found) == 2:
                (after, _), (before, _) = found["compiled"], found["as fitted"]
                alone, batch = after.rows_s / before.rows_s, after.batch_rows_s / before.batch_rows_s
                print(f"{'':45s}   there and back: {alone:.0f} times as fast alone, {batch:.0f} times in 64s", flush=True)


if __name__ == "__main__":
    measure()
