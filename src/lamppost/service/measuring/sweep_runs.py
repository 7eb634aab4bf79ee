"""Begins, stops and goes on with the sweeps of a node: one at a time, in a process of its own."""

from __future__ import annotations

import asyncio
import contextlib
import logging
from collections.abc import Sequence
from dataclasses import replace
from typing import Any

import orjson

from lamppost.core.errors import Conflict
from lamppost.core.names import check_name, parse_version
from lamppost.core.sweep.sweep_plan import Limit, SweepPlan
from lamppost.service.bulk.run_setup import node_facts, write_facts
from lamppost.service.deployment.route_table import RouteTable
from lamppost.service.measuring.sweep_rows import rows_file, rows_of_version, write_rows
from lamppost.service.packages.package_cache import PackageCache
from lamppost.service.processes.child_process import ChildEnded, ChildProcess, ForkWarmServers
from lamppost.service.settings import Settings
from lamppost.store import packages
from lamppost.store.database import AWAY, Pool
from lamppost.store.measuring import sweeps
from lamppost.store.measuring.sweeps import RESUMABLE, StoredSweep
from lamppost.store.trail import ChangedBy

log = logging.getLogger("lamppost.sweeps")

MODULE = "lamppost.service.measuring.sweep_process"
MOST_ROWS = 2_000
_OWN_ROWS = frozenset({"recorded calls", "the reference", "recorded calls and the reference", "the reference and recorded calls"})
"""What `SweepPlan.rows` says of rows that the service has itself, so that it can take such rows again."""
_LOOK_S = 5.0
_MOST_ENDS = 3
"""Times that the process of a sweep may end by itself before the sweep counts as failed."""


class SweepRuns:
    """The sweeps of one node. fork_servers : for the processes of sweeps."""

    def __init__(
        self, pool: Pool, settings: Settings, cache: PackageCache, table: RouteTable, fork_servers: ForkWarmServers | None = None
    ) -> None:
        self._fork_servers = fork_servers
        self._pool = pool
        self._settings = settings
        self._cache = cache
        self._table = table
        self._first = write_facts(node_facts(settings))
        self._looking: asyncio.Task[None] | None = None
        self._look_now = asyncio.Event()
        self._ended_by_itself: dict[str, int] = {}

    def start(self) -> None:
        """Begin to carry out sweeps: new ones, and the one that went on when the node ended."""
        self._looking = asyncio.create_task(self._look(), name="sweeps")

    async def close(self) -> None:
        """End the process; the sweep goes on with the next start of the node."""
        if self._looking is not None:
            self._looking.cancel()
            await asyncio.gather(self._looking, return_exceptions=True)

    async def begin(self, plan: SweepPlan, name: str | None, rows: list[dict[str, Any]] | None, by: ChangedBy) -> StoredSweep:
        """Keep a sweep, which begins as soon as no other one goes on. rows : to ask with, None for recorded calls or the reference.

        Raise NotFound for an unknown version, Conflict for a retired one, BadRequest where there are no rows.
        """
        if name is not None:
            check_name(name, "sweep")
        for version in plan.versions:
            if (await packages.get_version(self._pool, parse_version(version))).retired_at is not None:
                raise Conflict(f"{version} is retired; take it out of retirement first: lamppost retire {version} --undo")
        if rows is None:
            by_version, source = await self._own_rows(plan.versions)
            plan = replace(plan, rows=source)
        else:
            by_version = dict.fromkeys(plan.versions, rows[:MOST_ROWS])

        async def keep_rows(sweep: str) -> None:
            await asyncio.to_thread(write_rows, self._settings.data, sweep, by_version)

        sweep = await sweeps.add_sweep(self._pool, plan, name, self._settings.name, by, keep_rows)
        self._look_now.set()
        return sweep

    async def stop(self, name: str, by: ChangedBy) -> StoredSweep:
        """Have a sweep stop after the setting that it measures; raise NotFound or Conflict."""
        sweep = await sweeps.get_sweep(self._pool, name)
        state: sweeps.SweepState = "stopped" if sweep.state == "waiting" else "stopping"
        return await sweeps.change_sweep_by(self._pool, name, state, frozenset({"waiting", "running"}), by, "stopped sweep")

    async def resume(self, name: str, more_s: float, limits: tuple[Limit, ...] | None, by: ChangedBy) -> StoredSweep:
        """Have a sweep go on from what it has measured. more_s : how much longer. limits : instead of those that it had.

        Raise NotFound, or Conflict for a sweep that goes on, or whose rows are not kept.
        """
        sweep = await sweeps.get_sweep(self._pool, name)
        plan = replace(sweep.plan, whole_s=sweep.busy_s + more_s, limits=sweep.plan.limits if limits is None else limits)
        if not await asyncio.to_thread(rows_file(self._settings.data, name).exists):
            await self._write_rows_again(sweep)
        resumed = await sweeps.change_sweep_by(self._pool, name, "waiting", RESUMABLE, by, "resumed sweep", plan)
        self._ended_by_itself.pop(name, None)
        self._look_now.set()
        return resumed

    async def _write_rows_again(self, sweep: StoredSweep) -> None:
        if sweep.plan.rows not in _OWN_ROWS:
            raise Conflict(f"{sweep.name} was asked with rows of {sweep.plan.rows}, which are not kept; begin another sweep with them")
        by_version, _ = await self._own_rows(sweep.plan.versions)
        await asyncio.to_thread(write_rows, self._settings.data, sweep.name, by_version)

    async def _own_rows(self, versions: Sequence[str]) -> tuple[dict[str, list[dict[str, Any]]], str]:
        """Rows that the service has for each version, and where they are from."""
        by_version: dict[str, list[dict[str, Any]]] = {}
        sources = []
        for version in versions:
            parsed = parse_version(version)
            endpoints = [route.in_force.endpoint for route in self._table.routes_naming(parsed)]
            by_version[version], source = await rows_of_version(self._pool, self._cache, endpoints, parsed, MOST_ROWS)
            sources.append(source)
        return by_version, " and ".join(dict.fromkeys(sources))

    async def forget(self, name: str, by: ChangedBy) -> None:
        """Delete a sweep that has ended."""
        await sweeps.forget_sweep(self._pool, name, by)
        await asyncio.to_thread(rows_file(self._settings.data, name).unlink, missing_ok=True)

    async def _look(self) -> None:
        """Carry out what waits, one after the other; looks again when something was asked for, and every five seconds."""
        while True:
            try:
                while found := await sweeps.sweeps_under_way(self._pool, self._settings.name):
                    await self._carry_out(found[0])
            except AWAY as error:
                log.debug("sweeps wait for the database: %s", error)
            except Exception:
                log.exception("sweeps cannot be looked at; trying again")
            with contextlib.suppress(TimeoutError):
                await asyncio.wait_for(self._look_now.wait(), _LOOK_S)
            self._look_now.clear()

    async def _carry_out(self, sweep: StoredSweep) -> None:
        child = ChildProcess(MODULE, first=self._first, fork_servers=self._fork_servers)
        try:
            reply = orjson.loads(await child.ask(orjson.dumps({"sweep": sweep.name})))
            if "ended" not in reply:
                log.error("the sweep %s could not be carried out: %s", sweep.name, reply)
                await asyncio.sleep(_LOOK_S)
            self._ended_by_itself.pop(sweep.name, None)
        except ChildEnded:
            ends = self._ended_by_itself[sweep.name] = self._ended_by_itself.get(sweep.name, 0) + 1
            log.warning("the process of the sweep %s ended; it goes on in another one", sweep.name)
            if ends >= _MOST_ENDS:
                reason = f"its process ended {ends} times; the log has more. Resume it when the cause is mended"
                with contextlib.suppress(*AWAY):
                    await sweeps.change_sweep(self._pool, sweep.name, "failed", ("waiting", "running", "stopping"), reason=reason)
        finally:
            await child.kill()
