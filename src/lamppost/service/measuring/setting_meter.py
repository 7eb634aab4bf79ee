"""Measures one setting of a lane: opens the lane beside the live ones, has clients ask it, and counts.

Clients do what the service does with a call, but for the connection: they read a JSON body against the version's schema, wait for the lane,
and write its answer. Each asks again as soon as it has its answer.
"""

from __future__ import annotations

import asyncio
import gc
import os
import time
from collections import OrderedDict
from collections.abc import Mapping, Sequence
from contextlib import suppress
from dataclasses import dataclass, field, replace
from pathlib import Path

import orjson

from lamppost.core.engine.scaling import CopyBounds
from lamppost.core.errors import LampPostError
from lamppost.core.monitoring.latency_histogram import bucket_of, quantiles
from lamppost.core.names import parse_version
from lamppost.core.sweep.measurement import Measurement
from lamppost.core.sweep.sweep_plan import SweepPlan, SweepSetting
from lamppost.runtime.lane import Lane
from lamppost.runtime.lane_options import LaneSettings
from lamppost.service.deployment.scratch_lanes import ScratchLanes

WARM_S = 0.5
_OPEN_AT_ONCE = 2
"""Lanes that stay open after they were measured, in case the next setting differs in its queue only."""
_COPIES_S = 60.0
_LOOK_S = 0.05
_TICKS = os.sysconf("SC_CLK_TCK")
_PARTS = (0.5, 0.9, 0.95, 0.99)

LaneKey = tuple[str, str, int, int]


@dataclass(slots=True)
class _Tally:
    """What clients have counted since it was cleared. Latencies by bucket, microseconds."""

    latency: dict[int, int] = field(default_factory=dict)
    phases: dict[str, dict[int, int]] = field(default_factory=dict)
    most_us: float = 0.0
    calls: int = 0
    rows: int = 0
    batches: float = 0.0
    errors: int = 0
    error: str = ""

    def note(self, took_s: float, phases: Mapping[str, float], rows: int, batch_rows: int) -> None:
        """Count an answer."""
        us = took_s * 1e6
        _count(self.latency, us)
        for name, phase_s in phases.items():
            _count(self.phases.setdefault(name, {}), phase_s * 1e6)
        self.most_us = max(self.most_us, us)
        self.calls += 1
        self.rows += rows
        self.batches += rows / max(1, batch_rows)


@dataclass(slots=True)
class _Tallies:
    """The tally that clients count in now, and whether they are to stop."""

    present: _Tally = field(default_factory=_Tally)
    stopped: bool = False


def _count(counts: dict[int, int], us: float) -> None:
    bucket = bucket_of(us)
    counts[bucket] = counts.get(bucket, 0) + 1


class SettingMeter:
    """Measures the settings of one sweep. bodies : JSON bodies of requests, by version."""

    def __init__(self, scratch: ScratchLanes, base: LaneSettings, plan: SweepPlan, bodies: Mapping[str, Sequence[bytes]]) -> None:
        self._scratch = scratch
        self._base = base
        self._plan = plan
        self._bodies = bodies
        self._open: OrderedDict[LaneKey, Lane] = OrderedDict()

    async def measure(self, setting: SweepSetting, number: int) -> Measurement:
        """The setting as it does now; one that cannot be opened, or answers nothing, is a measurement that says why. number : the round."""
        try:
            lane = await self._lane(setting)
        except (LampPostError, OSError) as error:
            return Measurement(setting, number, failed=getattr(error, "detail", None) or str(error))
        try:
            return await self._ask(lane, setting, number)
        finally:
            if not lane.serving:
                await self._close_lane(next(key for key, known in self._open.items() if known is lane))

    async def close(self) -> None:
        """Close all lanes."""
        for key in list(self._open):
            await self._close_lane(key)

    # -- lanes ----------------------------------------------------------------------------------------------------------

    async def _lane(self, setting: SweepSetting) -> Lane:
        settings = replace(
            self._base,
            original=setting.form == "original",
            threads=setting.threads,
            batch=replace(self._base.batch, max_rows=setting.max_rows, linger_s=setting.linger_ms / 1e3),
            copies=CopyBounds(setting.copies, setting.copies),
        )
        key = (setting.version, setting.form, setting.threads, setting.copies)
        if (lane := self._open.get(key)) is not None:
            lane.apply_settings(settings)
            self._open.move_to_end(key)
            return lane
        while len(self._open) >= _OPEN_AT_ONCE:
            await self._close_lane(next(iter(self._open)))
        lane = await self._scratch.open_lane(parse_version(setting.version), settings)
        self._open[key] = lane
        try:
            await self._all_copies(lane, setting.copies)
        except BaseException:
            await self._close_lane(key)
            raise
        return lane

    async def _all_copies(self, lane: Lane, copies: int) -> None:
        """Wait until a lane has all its copies; raise LampPostError where they do not fit into memory or cannot be opened."""
        workers, deadline = self._scratch.workers, time.monotonic() + _COPIES_S
        while len(lane.seats) < copies:
            if workers.memory_bytes + lane.memory_bytes > workers.budget_bytes:
                raise LampPostError(
                    f"{copies} copies do not fit into memory: {len(lane.seats)} hold {workers.memory_bytes / 1e6:,.0f} MB, one more needs"
                    f" {lane.memory_bytes / 1e6:,.0f} MB, and the node's budget for models is {workers.budget_bytes / 1e6:,.0f} MB"
                )
            if time.monotonic() > deadline or not lane.serving:
                raise LampPostError(f"{copies} copies could not be opened within {_COPIES_S:g} s; {lane.reason or 'the log has more'}")
            await asyncio.sleep(_LOOK_S)

    async def _close_lane(self, key: LaneKey) -> None:
        await self._open.pop(key).close(drain_s=1.0)

    # -- clients --------------------------------------------------------------------------------------------------------

    async def _ask(self, lane: Lane, setting: SweepSetting, number: int) -> Measurement:
        tallies = _Tallies()
        bodies = self._bodies[setting.version]
        clients = [asyncio.create_task(_client(lane, bodies, at, self._plan.clients, tallies)) for at in range(self._plan.clients)]
        pids = [seat.worker.pid for seat in lane.seats]
        try:
            await asyncio.sleep(WARM_S)
            gc.collect()
            tallies.present = _Tally()  # what the warm-up counted is left behind
            began, used, machine, own = time.perf_counter(), _cpu_s(pids), _machine_s(), time.process_time()
            await asyncio.sleep(self._plan.seconds)
            took = time.perf_counter() - began
            worked, busy, own = _cpu_s(pids) - used, _machine_s() - machine, time.process_time() - own
            counted, tallies.present = tallies.present, _Tally()
        finally:
            tallies.stopped = True
            _, late = await asyncio.wait(clients, timeout=lane.run_s)
            for task in late:
                task.cancel()
            await asyncio.gather(*clients, return_exceptions=True)
        if not counted.calls:
            return Measurement(setting, number, errors=counted.errors, failed=counted.error or f"it gave no answer within {took:.1f} s")
        p50, p90, p95, p99 = (round((us or 0) / 1e3, 4) for us in quantiles(counted.latency, _PARTS))
        phases = {name: [(us or 0) / 1e3 for us in quantiles(counts, (0.5, 0.99))] for name, counts in counted.phases.items()}
        return Measurement(
            setting,
            number,
            throughput=round(counted.calls / took, 2),
            p50=p50,
            p90=p90,
            p95=p95,
            p99=p99,
            max=round(counted.most_us / 1e3, 4),
            memory=float(sum(seat.worker.memory_bytes for seat in lane.seats)),
            cpu=round(worked / max(1, counted.rows) * 1e6, 2),
            calls=counted.calls,
            errors=counted.errors,
            batch_rows=round(counted.rows / counted.batches, 2) if counted.batches else 0.0,
            phases={name: (round(p50, 4), round(p99, 4)) for name, (p50, p99) in phases.items()},
            others=round(max(0.0, (busy - worked - own) / took), 2),
        )


async def _client(lane: Lane, bodies: Sequence[bytes], start: int, step: int, tallies: _Tallies) -> None:
    """One client. start, step : which bodies are its own."""
    at = start
    while not tallies.stopped:
        body = bodies[at % len(bodies)]
        at += step
        begun = time.perf_counter()
        try:
            rows = lane.plan.read_body(body).rows
            read = time.perf_counter()
            answer = await lane.predict(rows, len(body))
            answered = time.perf_counter()
            orjson.dumps(answer.rows)
        except LampPostError as error:
            tallies.present.errors += 1
            tallies.present.error = error.detail
            await asyncio.sleep(_LOOK_S)
            continue
        ended = time.perf_counter()
        phases = {"read and write": read - begun + ended - answered, "queue": answer.queue_s, "worker": answer.worker_s}
        tallies.present.note(ended - begun, phases, len(rows), answer.batch_rows)


def _cpu_s(pids: Sequence[int]) -> float:
    """Processor time of processes so far, in seconds; 0 for those that have ended."""
    ticks = 0
    for pid in pids:
        with suppress(OSError, IndexError, ValueError):
            fields = Path(f"/proc/{pid}/stat").read_text().rsplit(")", 1)[1].split()
            ticks += int(fields[11]) + int(fields[12])
    return ticks / _TICKS


def _machine_s() -> float:
    """Time that all processors of the machine have been busy so far, in seconds (proc(5), /proc/stat)."""
    try:
        first = Path("/proc/stat").read_text().split("\n", 1)[0].split()[1:]
    except OSError:
        return 0.0
    user, nice, system, _, _, irq, softirq = map(int, first[:7])
    return (user + nice + system + irq + softirq) / _TICKS
