"""Starts the runs of schedules, and turns their failures into alerts. The leading node does it, so each run is started once.

A time is claimed in the database before its run is started, and the run's name follows from the time: whoever leads after a node that was
killed in between finds the claim, and starts the run or finds it started.
"""

from __future__ import annotations

import logging
from collections.abc import Mapping
from datetime import datetime

from lamppost.core.bulk.schedule import Schedule, decide_due_times, order_at, run_name_at
from lamppost.core.errors import Conflict, LampPostError, NotFound
from lamppost.core.monitoring.alert_rules import RuleReading
from lamppost.service.bulk.run_starting import BulkRuns
from lamppost.store.bulk import bulk_runs, schedules
from lamppost.store.bulk.bulk_runs import UNDER_WAY
from lamppost.store.bulk.schedules import ScheduledTime, StoredSchedule
from lamppost.store.database import AWAY, Pool
from lamppost.store.trail import ChangedBy

log = logging.getLogger("lamppost.bulk")

RULE = "schedule "
"""What the rule of an alert about a schedule begins with, before its name."""


class Scheduling:
    """The leader's job about schedules."""

    def __init__(self, pool: Pool, runs: BulkRuns) -> None:
        self._pool = pool
        self._runs = runs

    async def start_due_runs(self, now: datetime) -> None:
        """Start the runs whose time has come, and those that were claimed and never started."""
        known = {stored.schedule.name: stored for stored in await schedules.list_schedules(self._pool)}
        for name, due_at in await schedules.times_to_start(self._pool):
            if name in known:
                await self._start(known[name].schedule, due_at)
        for stored in known.values():
            schedule = stored.schedule
            if schedule.paused or stored.next_at is None or stored.next_at > now:
                continue
            for due_at in await schedules.claim_times(self._pool, schedule, decide_due_times(schedule, stored.next_at, now), now):
                await self._start(schedule, due_at)

    async def start_now(self, stored: StoredSchedule, now: datetime) -> str:
        """Start a run because somebody asked for it; returns its name. Raise what it is refused for."""
        schedule = stored.schedule
        due_at = now.replace(second=0, microsecond=0)
        if (going := await schedules.going_run(self._pool, schedule.name, tuple(UNDER_WAY))) is not None:
            raise Conflict(f"the run {going} of {schedule.name} still goes on; wait for it, or stop it: lamppost bulk stop {going}")
        name = run_name_at(schedule.name, due_at)
        await schedules.claim_now(self._pool, schedule.name, due_at)
        await self._start(schedule, due_at, reraise=True)
        return name

    async def _start(self, schedule: Schedule, due_at: datetime, reraise: bool = False) -> None:
        name = run_name_at(schedule.name, due_at)
        going = await schedules.going_run(self._pool, schedule.name, tuple(UNDER_WAY))
        if going is not None and going != name:
            note = f"the run {going} still went on"
            log.warning("the schedule %s is not started at %s: %s", schedule.name, due_at, note)
            await schedules.settle_time(self._pool, schedule.name, due_at, "skipped", None, note)
            return
        if not await self._is_there(name):
            try:
                await self._runs.begin(order_at(schedule, due_at), name, ChangedBy(f"schedule {schedule.name}"))
            except AWAY:
                raise
            except LampPostError as error:
                if await self._is_there(name):  # another node began it meanwhile
                    await schedules.settle_time(self._pool, schedule.name, due_at, "started", name, None)
                    return
                log.error("the run of the schedule %s was refused: %s", schedule.name, error.detail)
                await schedules.settle_time(self._pool, schedule.name, due_at, "refused", None, error.detail)
                if reraise:
                    raise
                return
        await schedules.settle_time(self._pool, schedule.name, due_at, "started", name, None)

    async def _is_there(self, run: str) -> bool:
        try:
            await bulk_runs.get_run(self._pool, run)
        except NotFound:
            return False
        return True

    async def alert_readings(self, now: datetime) -> dict[tuple[str, str], RuleReading]:
        """How each schedule fares, by what its alert is about and its rule: wrong while its last run failed or was refused."""
        latest = await schedules.latest_times(self._pool)
        return _readings(latest, {stored.schedule.name: stored for stored in await schedules.list_schedules(self._pool)}, now)


def _readings(
    latest: Mapping[str, ScheduledTime], known: Mapping[str, StoredSchedule], now: datetime
) -> dict[tuple[str, str], RuleReading]:
    readings = {}
    for name, time in latest.items():
        if name not in known:
            continue
        about = known[name].schedule.order.questions[0].of.partition("@")[0]
        failed = time.state == "refused" or time.run_state == "failed"
        if not failed and time.run_state != "finished":
            continue  # it goes on, was stopped, or is forgotten: the alert stays as it is
        reason = time.note if time.state == "refused" else time.reason
        summary = f"the run of the schedule {name} {'was refused' if time.state == 'refused' else 'failed'}: {reason or 'see its page'}"
        readings[about, RULE + name] = RuleReading(now, "wrong" if failed else "back", summary, "certain", f"schedule {name}", reason)
    return readings
