"""API of schedules: when bulk runs are started by themselves."""

from __future__ import annotations

from dataclasses import replace
from datetime import UTC, datetime
from typing import Annotated

from fastapi import APIRouter, Query

from lamppost.core.bulk.schedule import Schedule, next_times
from lamppost.core.names import check_name
from lamppost.service.api.access import PROBLEMS, Pointer, RequireView, TheNode
from lamppost.service.api.schemas.schedules import (
    NextTimesAnswer,
    NextTimesRequest,
    ScheduleAnswer,
    ScheduledTimeAnswer,
    ScheduleRequest,
    ScheduleRunAnswer,
    order_request,
)
from lamppost.service.monitoring.run_reports import check_receivers
from lamppost.store.bulk import schedules
from lamppost.store.bulk.schedules import ScheduledTime, StoredSchedule

router = APIRouter(prefix="/api/schedules", tags=["bulk runs"], responses=PROBLEMS)

_SHOWN_TIMES = 5


@router.get("")
async def list_schedules(node: TheNode, _: RequireView) -> list[ScheduleAnswer]:
    """All schedules, each with its next five times and the last one that was due."""
    latest = await schedules.latest_times(node.pool)
    return [_answer(stored, latest.get(stored.schedule.name)) for stored in await schedules.list_schedules(node.pool)]


@router.post("/next")
async def list_next_times(body: NextTimesRequest, _: RequireView) -> NextTimesAnswer:
    """The next five times of a cron expression in a zone; nothing is kept."""
    return NextTimesAnswer(times=next_times(body.every, body.zone, datetime.now(UTC), _SHOWN_TIMES))


@router.put("/{name}")
async def save_schedule(name: str, body: ScheduleRequest, node: TheNode, caller: Pointer) -> ScheduleAnswer:
    """Make a schedule, or change it. Its order is checked as that of a run is, but for a source that a later day will bring."""
    schedule = Schedule(check_name(name, "schedule"), body.every, body.zone, body.run.to_order(), body.missed, body.paused)
    node.bulk_runs.check_questions(schedule.order)
    await check_receivers(node.pool, schedule.order.report)
    await schedules.save_schedules(node.pool, [schedule], caller.changed_by)
    return _answer(await schedules.get_schedule(node.pool, name), None)


@router.get("/{name}/times")
async def list_times(
    name: str, node: TheNode, _: RequireView, limit: Annotated[int, Query(ge=1, le=500)] = 30
) -> list[ScheduledTimeAnswer]:
    """The last times of a schedule, the newest first: what was started, and what was not and why."""
    await schedules.get_schedule(node.pool, name)
    return [_time(time) for time in await schedules.list_times(node.pool, name, limit)]


@router.post("/{name}/pause")
async def pause_schedule(name: str, node: TheNode, caller: Pointer) -> ScheduleAnswer:
    """Start nothing until the schedule goes on; a run that goes on is not touched."""
    return await _set_paused(node, name, caller, True)


@router.post("/{name}/resume")
async def resume_schedule(name: str, node: TheNode, caller: Pointer) -> ScheduleAnswer:
    """Let a schedule go on, from now; times that passed meanwhile are not caught up."""
    return await _set_paused(node, name, caller, False)


async def _set_paused(node: TheNode, name: str, caller: Pointer, paused: bool) -> ScheduleAnswer:
    stored = await schedules.get_schedule(node.pool, name)
    changed = replace(stored.schedule, paused=paused)
    await schedules.save_schedules(node.pool, [changed], caller.changed_by, "schedule pause" if paused else "schedule resume")
    return _answer(await schedules.get_schedule(node.pool, name), None)


@router.post("/{name}/run", status_code=202)
async def run_schedule(name: str, node: TheNode, _: Pointer) -> ScheduleRunAnswer:
    """Start a run of the schedule now."""
    stored = await schedules.get_schedule(node.pool, name)
    return ScheduleRunAnswer(run=await node.scheduling.start_now(stored, datetime.now(UTC)))


@router.delete("/{name}", status_code=204)
async def remove_schedule(name: str, node: TheNode, caller: Pointer) -> None:
    """Delete a schedule; its runs stay."""
    await schedules.delete_schedule(node.pool, name, caller.changed_by)


def _answer(stored: StoredSchedule, latest: ScheduledTime | None) -> ScheduleAnswer:
    schedule = stored.schedule
    return ScheduleAnswer(
        name=schedule.name,
        every=schedule.every,
        zone=schedule.zone,
        missed=schedule.missed,
        paused=schedule.paused,
        run=order_request(schedule.order),
        made_by=stored.made_by,
        made_at=stored.made_at,
        next_times=[] if schedule.paused else next_times(schedule.every, schedule.zone, datetime.now(UTC), _SHOWN_TIMES),
        latest=None if latest is None else _time(latest),
    )


def _time(time: ScheduledTime) -> ScheduledTimeAnswer:
    return ScheduledTimeAnswer(due_at=time.due_at, state=time.state, run=time.run, run_state=time.run_state, note=time.note or time.reason)
