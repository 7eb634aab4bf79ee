"""API of sweeps: begins them, tells what they measured, and picks from it with any limits."""

from __future__ import annotations

from dataclasses import asdict, dataclass
from typing import Annotated, Any

from fastapi import APIRouter, Query, Response

from lamppost.core.endpoint.setup import LaneRules
from lamppost.core.sweep.measurement import SettingSummary, frontier, summarize
from lamppost.core.sweep.sweep_pick import is_within, pick_sentences, pick_setting
from lamppost.core.sweep.sweep_plan import Goal, Limit, limit_text, parse_limit, write_plan
from lamppost.service.api.access import PROBLEMS, Pointer, RequireView, TheNode
from lamppost.service.api.other_node import require_here
from lamppost.service.api.schemas.sweeps import (
    SettingAnswer,
    SweepAnswer,
    SweepDetailAnswer,
    SweepFigureAnswer,
    SweepPickAnswer,
    SweepPlanRequest,
    SweepResumeRequest,
    SweepStartRequest,
)
from lamppost.service.node import Node
from lamppost.service.pages.draw import MEDIA_TYPES, Form, draw_page, in_turn
from lamppost.store.measuring import sweeps
from lamppost.store.measuring.sweeps import StoredSweep

router = APIRouter(prefix="/api/sweeps", tags=["sweeps"], responses=PROBLEMS)

FIGURES = ("throughput", "p50", "p90", "p95", "p99", "max", "memory", "cpu")
_REPORT: dict[int | str, dict[str, Any]] = {200: {"content": {"text/html": {}, "application/pdf": {}}}}
Limits = Annotated[list[str] | None, Query(alias="limit", max_length=8, description="such as p99=50ms; left out, the sweep's own")]


@router.post("", status_code=201)
async def begin_sweep(body: SweepStartRequest, node: TheNode, caller: Pointer) -> SweepAnswer:
    """Begin a sweep on this node; it waits while another one is measured."""
    sweep = await node.sweep_runs.begin(body.plan.to_plan(), body.name, body.rows, caller.changed_by)
    return SweepAnswer(**await _facts(node, sweep))


@router.get("")
async def list_sweeps(
    node: TheNode,
    _: RequireView,
    version: Annotated[str | None, Query(max_length=100)] = None,
    limit: Annotated[int, Query(ge=1, le=100)] = 50,
) -> list[SweepAnswer]:
    """Sweeps, the newest first."""
    found = await sweeps.list_sweeps(node.pool, version, limit)
    return [SweepAnswer(**await _facts(node, sweep)) for sweep in found]


@router.get("/{name}")
async def get_sweep(name: str, node: TheNode, _: RequireView, limit: Limits = None, goal: Goal | None = None) -> SweepDetailAnswer:
    """One sweep with all that it measured, and the best setting within limits."""
    return await _detail(node, name, limit, goal)


@router.get("/{name}/pick")
async def pick_from_sweep(name: str, node: TheNode, _: RequireView, limit: Limits = None, goal: Goal | None = None) -> SweepPickAnswer:
    """The best setting within limits, from what was measured already."""
    return _pick(await _read(node, name, limit, goal))


@router.get("/{name}/report", response_class=Response, responses=_REPORT)
async def get_sweep_report(
    name: str, node: TheNode, _: RequireView, form: Form = "html", limit: Limits = None, goal: Goal | None = None
) -> Response:
    """The report about a sweep, as HTML or PDF."""
    found = await _detail(node, name, limit, goal)
    async with in_turn():
        page = await draw_page("sweep_report", found.model_dump(mode="json"), form)
    return Response(page, media_type=MEDIA_TYPES[form], headers={"content-disposition": f'inline; filename="{name}.{form}"'})


@router.post("/{name}/stop")
async def stop_sweep(name: str, node: TheNode, caller: Pointer) -> SweepAnswer:
    """Stop a sweep after the setting that it measures now; what was measured stays."""
    sweep = await node.sweep_runs.stop(name, caller.changed_by)
    return SweepAnswer(**await _facts(node, sweep))


@router.post("/{name}/resume")
async def resume_sweep(name: str, body: SweepResumeRequest, node: TheNode, caller: Pointer) -> SweepAnswer:
    """Go on from what was measured."""
    require_here(node, (await sweeps.get_sweep(node.pool, name)).node, f"the rows of {name} are", body)
    limits = None if body.limits is None else tuple(map(parse_limit, body.limits))
    sweep = await node.sweep_runs.resume(name, body.more_s, limits, caller.changed_by)
    return SweepAnswer(**await _facts(node, sweep))


@router.delete("/{name}", status_code=204)
async def forget_sweep(name: str, node: TheNode, caller: Pointer) -> None:
    """Delete a sweep with all that it measured."""
    require_here(node, (await sweeps.get_sweep(node.pool, name)).node, f"the rows of {name} are")
    await node.sweep_runs.forget(name, caller.changed_by)


# -- mapping ------------------------------------------------------------------------------------------------------------


@dataclass(frozen=True, slots=True)
class ReadSweep:
    """A sweep, the settings that it measured, and how one is picked."""

    sweep: StoredSweep
    settings: list[SettingSummary]
    limits: tuple[Limit, ...]
    goal: Goal


async def _read(node: Node, name: str, limits: list[str] | None, goal: Goal | None) -> ReadSweep:
    sweep = await sweeps.get_sweep(node.pool, name)
    measured = await sweeps.list_measurements(node.pool, name)
    wanted = sweep.plan.limits if limits is None else tuple(parse_limit(text) for text in limits if text)
    return ReadSweep(sweep, list(summarize(measured).values()), wanted, goal or sweep.plan.goal)


async def _detail(node: Node, name: str, limits: list[str] | None, goal: Goal | None) -> SweepDetailAnswer:
    found = await _read(node, name, limits, goal)
    return SweepDetailAnswer(**await _facts(node, found.sweep), settings=_settings(found), picked=_pick(found))


async def _facts(node: Node, sweep: StoredSweep) -> dict[str, Any]:
    before = [one.name for one in await sweeps.sweeps_under_way(node.pool, sweep.node)] if sweep.state == "waiting" else []
    at = before.index(sweep.name) if sweep.name in before else 0
    plan = write_plan(sweep.plan)
    plan["limits"] = [limit_text(limit) for limit in sweep.plan.limits]
    return {
        "name": sweep.name,
        "plan": SweepPlanRequest.model_validate(plan),
        "node": sweep.node,
        "state": sweep.state,
        "reason": sweep.reason,
        "combinations": sweep.combinations,
        "cores": sweep.cores,
        "busy_s": sweep.busy_s,
        "measured": sweep.settings,
        "repeats": sweep.repeats,
        "rounds": sweep.rounds,
        "waits_for": before[at - 1] if at else None,
        "made_by": sweep.made_by,
        "made_at": sweep.made_at,
        "started_at": sweep.started_at,
        "ended_at": sweep.ended_at,
    }


def _settings(found: ReadSweep) -> list[SettingAnswer]:
    edge = frontier([one for one in found.settings if one.rounds])
    many = len(found.sweep.plan.versions) > 1
    return [
        SettingAnswer(
            number=number,
            **asdict(one.setting),
            sentence=one.setting.sentence(many),
            repeats=len(one.rounds),
            errors=sum(repeat.errors for repeat in one.rounds.values()),
            figures={name: _figure(one, name) for name in FIGURES} if one.rounds else {},
            phases_p50_ms={name: round(p50, 3) for name, (p50, _) in one.phases().items()},
            phases_p99_ms={name: round(p99, 3) for name, (_, p99) in one.phases().items()},
            batch_rows=round(one.figure("batch_rows"), 1) if one.rounds else None,
            others=round(one.figure("others"), 2) if one.rounds else None,
            on_frontier=one.setting in edge,
            within=bool(one.rounds) and is_within(one, found.limits),
            failed=one.failed,
        )
        for number, one in enumerate(found.settings)
    ]


def _figure(one: SettingSummary, name: str) -> SweepFigureAnswer:
    low, high = one.interval(name)
    return SweepFigureAnswer(median=round(one.figure(name), 4), low=round(low, 4), high=round(high, 4))


def _pick(found: ReadSweep) -> SweepPickAnswer:
    picked = pick_setting(found.settings, found.limits, found.goal)
    numbers = {one.setting: number for number, one in enumerate(found.settings)}

    def number_of(one: SettingSummary | None) -> int | None:
        return None if one is None else numbers[one.setting]

    return SweepPickAnswer(
        sentences=pick_sentences(picked, found.limits, found.goal, len(found.sweep.plan.versions) > 1),
        pick=number_of(picked.pick),
        second=number_of(picked.second),
        unlimited=number_of(picked.unlimited),
        nearest=number_of(picked.nearest),
        equals=[numbers[one.setting] for one in picked.equals],
        rules=None if picked.pick is None else picked.pick.setting.lane_rules(LaneRules()),
        limits=[limit_text(limit) for limit in found.limits],
        goal=found.goal,
    )
