"""The process of sweeps: carries out one after the other, and keeps each measurement as soon as it is made. It ends with the service.

What is measured next follows from what was measured (`lamppost.core.sweep.sweep_search`), so a sweep that was stopped, or whose process was
killed, goes on where it was.
"""

from __future__ import annotations

import asyncio
import gc
import logging
import os
import sys
import threading
import time
from pathlib import Path
from typing import Any

import orjson
import uvloop

from lamppost.core.errors import Conflict, LampPostError
from lamppost.core.names import parse_version
from lamppost.core.sweep.measurement import Measurement
from lamppost.core.sweep.sweep_plan import sweep_grid
from lamppost.core.sweep.sweep_search import next_settings
from lamppost.runtime.lane_options import LaneSettings
from lamppost.runtime.seat_opening import LaneSpec
from lamppost.service.bulk.run_setup import NodeFacts, read_facts
from lamppost.service.deployment.scratch_lanes import ScratchLanes
from lamppost.service.measuring.setting_meter import SettingMeter
from lamppost.service.measuring.sweep_rows import rows_file
from lamppost.service.processes.child_process import forked_servers, leave_with_service, read_message, run_beside_service, write_message
from lamppost.store import packages
from lamppost.store.database import Pool, make_pool
from lamppost.store.measuring import sweeps
from lamppost.store.measuring.sweeps import StoredSweep

log = logging.getLogger("lamppost.sweeps")


class SweepStopped(Exception):
    """The sweep ends before all is known. state : that it is then in; the message says why."""

    def __init__(self, state: sweeps.SweepState, reason: str) -> None:
        super().__init__(reason)
        self.state = state


class SweepWork:
    """Carries out one sweep; its state in the database says how it ended."""

    def __init__(self, pool: Pool, facts: NodeFacts, scratch: ScratchLanes, base: LaneSettings, sweep: StoredSweep) -> None:
        self._pool = pool
        self._facts = facts
        self._scratch = scratch
        self._base = base
        self._sweep = sweep
        self._private = False

    async def carry_out(self) -> None:
        """From where it is to its end."""
        name = self._sweep.name
        try:
            await self._measure_all()
            await self._end("finished", None)
        except SweepStopped as stop:
            await self._end(stop.state, str(stop))
        except LampPostError as error:
            await self._end("failed", error.detail)
        except Exception as error:
            log.exception("the sweep %s failed on a fault of our own", name)
            await self._end("failed", f"it failed on a fault of the service ({type(error).__name__}); its log has more")

    async def _end(self, state: sweeps.SweepState, reason: str | None) -> None:
        await sweeps.change_sweep(self._pool, self._sweep.name, state, ("waiting", "running", "stopping"), reason=reason)
        if self._private:
            await asyncio.to_thread(rows_file(self._facts.data, self._sweep.name).unlink, missing_ok=True)

    async def _measure_all(self) -> None:
        sweep, plan = self._sweep, self._sweep.plan
        specs = {version: await self._scratch.find_spec(parse_version(version)) for version in plan.versions}
        cores = os.cpu_count() or 1
        self._private = any(field.private for spec in specs.values() for field in spec.manifest.inputs)
        manifests = {version: spec.manifest for version, spec in specs.items()}
        threaded = [version for version, manifest in manifests.items() if manifest.computes_in_threads]
        grid = sweep_grid(plan, {version: manifest.forms for version, manifest in manifests.items()}, threaded, cores)
        if not await sweeps.change_sweep(
            self._pool, sweep.name, "running", ("waiting", "running"), combinations=len(grid.settings()), cores=cores
        ):
            raise SweepStopped("stopped", "it was stopped")
        bodies = await asyncio.to_thread(_read_bodies, rows_file(self._facts.data, sweep.name), specs, plan.request_rows)
        measured = await sweeps.list_measurements(self._pool, sweep.name)
        meter = SettingMeter(self._scratch, self._base, plan, bodies)
        spent_s = sweep.busy_s
        try:
            while True:
                number, settings = next_settings(plan, grid, measured)
                if not settings:
                    return
                for setting in settings:
                    if spent_s >= plan.whole_s:
                        raise SweepStopped("finished", f"its {plan.whole_s:g} s were over; resume it to measure more")
                    began = time.monotonic()
                    one = await meter.measure(setting, number)
                    took_s = time.monotonic() - began
                    spent_s += took_s
                    await self._keep(one, len(measured), took_s)
                    measured.append(one)
        finally:
            await meter.close()

    async def _keep(self, one: Measurement, number: int, took_s: float) -> None:
        """Keep a measurement. Raise SweepStopped where the sweep is not to go on."""
        await sweeps.add_measurement(self._pool, self._sweep.name, number, one)
        state = await sweeps.note_time(self._pool, self._sweep.name, took_s)
        for version in self._sweep.plan.versions:
            if (await packages.get_version(self._pool, parse_version(version))).retired_at is not None:
                raise SweepStopped("failed", f"{version} was retired meanwhile; what was measured before is kept")
        if state != "running":
            raise SweepStopped("stopped", "it was stopped")


def _read_bodies(file: Path, specs: dict[str, LaneSpec], request_rows: int) -> dict[str, list[bytes]]:
    """Bodies of requests by version, of rows that the version takes. Raise Conflict where it takes none."""
    try:
        rows: dict[str, list[dict[str, Any]]] = orjson.loads(file.read_bytes())
    except FileNotFoundError:
        raise Conflict("its rows are not on this node any more; begin another sweep") from None
    bodies: dict[str, list[bytes]] = {}
    for version, spec in specs.items():
        taken, refused = [], ""
        for at, row in enumerate(rows.get(version, [])):
            try:
                spec.plan.read_body(orjson.dumps(row))
                taken.append(row)
            except LampPostError as error:
                refused = refused or f"row {at}: {error.detail}"
        if not taken:
            raise Conflict(f"{version} takes none of the rows; {refused or 'there are none'}")
        bodies[version] = [_body(taken, at, request_rows) for at in range(len(taken))]
    return bodies


def _body(rows: list[dict[str, Any]], at: int, many: int) -> bytes:
    if many == 1:
        return orjson.dumps(rows[at])
    return orjson.dumps(
        {"rows": [{key: value for key, value in rows[(at + more) % len(rows)].items() if key != "options"} for more in range(many)]}
    )


# -- messages -----------------------------------------------------------------------------------------------------------


async def _serve(facts: NodeFacts) -> None:
    base = LaneSettings(formats=frozenset(facts.formats))
    pool = make_pool(facts.database)
    await pool.open()
    forked = forked_servers()
    try:
        while (message := await asyncio.to_thread(read_message, sys.stdin.buffer)) is not None:
            name = orjson.loads(message)["sweep"]
            scratch = ScratchLanes(pool, facts.settings(base), forked=forked)
            forked = []  # they end with the lanes that have them
            try:
                await SweepWork(pool, facts, scratch, base, await sweeps.get_sweep(pool, name)).carry_out()
                reply = {"ended": name}
            except Exception as error:
                log.exception("the sweep %s could not be carried out", name)
                reply = {"failed": type(error).__name__}
            finally:
                await scratch.close()
            write_message(sys.stdout.buffer, orjson.dumps(reply))
    finally:
        await pool.close()


def main() -> int:
    """Carry out messages until the pipe ends. The first message holds the facts of the node."""
    run_beside_service()
    threading.Thread(target=leave_with_service, daemon=True).start()
    gc.set_threshold(50_000)
    first = read_message(sys.stdin.buffer)
    if first is not None:
        with asyncio.Runner(loop_factory=uvloop.new_event_loop) as runner:
            runner.run(_serve(read_facts(first)))
    return 0


if __name__ == "__main__":
    raise SystemExit(main())
