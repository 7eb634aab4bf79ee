"""API of loads: begins and keeps them. The calls themselves come over HTTP as any others do."""

from __future__ import annotations

from dataclasses import asdict
from typing import Annotated, Any, Literal

from fastapi import APIRouter, Query

from lamppost.core.errors import BadRequest
from lamppost.core.load.load_plan import write_plan
from lamppost.core.load.load_result import LoadStep, compare_steps, read_steps, summarize_step
from lamppost.core.monitoring.latency_histogram import quantiles
from lamppost.core.names import check_name
from lamppost.service.api.access import PROBLEMS, Pointer, RequireView, TheNode
from lamppost.service.api.schemas.loads import (
    FigureDifferenceAnswer,
    LoadAnswer,
    LoadPlanRequest,
    LoadResultRequest,
    LoadRowsAnswer,
    LoadStartRequest,
    StartedLoadAnswer,
    StepFiguresAnswer,
)
from lamppost.service.measuring.sweep_rows import LEAST_RECORDS, recorded_rows
from lamppost.service.node import Node
from lamppost.store.measuring import loads
from lamppost.store.measuring.loads import StoredLoad

router = APIRouter(prefix="/api/loads", tags=["loads"], responses=PROBLEMS)


@router.post("", status_code=201)
async def begin_load(body: LoadStartRequest, node: TheNode, caller: Pointer) -> StartedLoadAnswer:
    """Begin a load. The answer has a token for its calls, which may ask these endpoints only, and ends with the load."""
    plan = body.plan.to_plan()
    serves = {name: node.deployment.table.find_route(name).setup.summary() for name in plan.endpoints}
    if body.name is not None:
        check_name(body.name, "load")
    load, secret = await loads.begin_load(node.pool, plan, body.name, serves, caller.changed_by)
    await node.auth.reload()
    return StartedLoadAnswer(**_facts(load), token=secret)


@router.put("/{name}/result")
async def end_load(name: str, body: LoadResultRequest, node: TheNode, _: Pointer) -> LoadAnswer:
    """Keep what came of a load; its token ends."""
    ended = await loads.end_load(node.pool, name, read_steps(body.steps))
    await node.auth.reload()
    return LoadAnswer(**_facts(ended))


@router.get("")
async def list_loads(
    node: TheNode,
    _: RequireView,
    endpoint: Annotated[str | None, Query(max_length=63)] = None,
    limit: Annotated[int, Query(ge=1, le=200)] = 50,
) -> list[LoadAnswer]:
    """Loads, the newest first."""
    return [LoadAnswer(**_facts(load)) for load in await loads.list_loads(node.pool, endpoint, limit)]


@router.get("/rows")
async def list_load_rows(
    node: TheNode,
    _: Pointer,
    endpoint: Annotated[str, Query(max_length=63)],
    of: Literal["records", "reference"] | None = None,
    limit: Annotated[int, Query(ge=1, le=2_000)] = 500,
) -> LoadRowsAnswer:
    """Real rows to put load on an endpoint with: inputs of recorded calls, or rows of its version's reference.

    of : left out, records where there are enough of them. Raise BadRequest where there are none that are whole.
    """
    route = node.deployment.table.find_route(endpoint)
    private = any(field.private for field in route.predictor.plan.schema) if route.predictor is not None else False
    bodies: list[dict[str, Any]] = []
    if of != "reference" and not private:
        for version in route.setup.versions:
            bodies += await recorded_rows(node.pool, endpoint, str(version), limit)
        if of == "records" and not bodies:
            raise BadRequest(f"no input of a call to {endpoint} is recorded; take rows of the reference, or a file")
        if len(bodies) >= LEAST_RECORDS or of == "records":
            return LoadRowsAnswer(endpoint=endpoint, of="records", bodies=bodies[:limit])
    bodies = await _reference_rows(node, endpoint, limit)
    return LoadRowsAnswer(endpoint=endpoint, of="reference", bodies=bodies)


async def _reference_rows(node: Node, endpoint: str, limit: int) -> list[dict[str, Any]]:
    async with node.explainer.of_endpoint(endpoint) as explained:
        lanes, plan = explained.lanes, explained.inputs
        reference = (await node.deployment.package_cache.lamp_of(lanes[0].digest)).reference
    rows = [] if reference is None else [row for row in reference.sample if set(plan.names) <= row.keys()]
    if not rows:
        raise BadRequest(
            f"{endpoint} has no rows to ask it with: none of its calls are recorded, and its reference has none that are whole "
            "(private fields are in neither); send rows of your own: --rows FILE"
        )
    return [{name: row[name] for name in plan.names} for row in rows[:limit]]


@router.get("/{name}")
async def get_load(name: str, node: TheNode, _: RequireView) -> LoadAnswer:
    """One load."""
    return LoadAnswer(**_facts(await loads.get_load(node.pool, name)))


@router.get("/{name}/against/{other}")
async def compare_loads(name: str, other: str, node: TheNode, _: RequireView) -> list[FigureDifferenceAnswer]:
    """How a load differs from another one, by steps with as many clients."""
    after, before = await loads.get_load(node.pool, name), await loads.get_load(node.pool, other)
    if not after.steps or not before.steps:
        raise BadRequest(f"{name if not after.steps else other} has no result to compare; it goes on, or was broken off")
    return [FigureDifferenceAnswer(**asdict(one), differs=one.differs) for one in compare_steps(before.steps, after.steps)]


@router.delete("/{name}", status_code=204)
async def forget_load(name: str, node: TheNode, caller: Pointer) -> None:
    """Delete a load; one that goes on loses its token, so its calls are refused."""
    await loads.forget_load(node.pool, name, caller.changed_by)
    await node.auth.reload()


def _facts(load: StoredLoad) -> dict[str, Any]:
    return {
        "name": load.name,
        "plan": LoadPlanRequest.model_validate(write_plan(load.plan)),
        "serves": load.serves,
        "made_by": load.made_by,
        "made_at": load.made_at,
        "ends_at": load.ends_at,
        "ended_at": load.ended_at,
        "steps": [step_figures(step) for step in load.steps],
    }


def step_figures(step: LoadStep) -> StepFiguresAnswer:
    """A step as the API gives it."""
    parts = {name: [None if us is None else us / 1e3 for us in quantiles(counts, (0.5, 0.99))] for name, counts in step.phases.items()}
    slowest = {name: quantiles(counts, (0.99,))[0] for name, counts in step.endpoints.items()}
    return StepFiguresAnswer(
        **asdict(summarize_step(step)),
        errors_by_kind=step.errors,
        versions=step.versions,
        phases_p50_ms={name: round(p50, 3) for name, (p50, _) in parts.items() if p50 is not None},
        phases_p99_ms={name: round(p99, 3) for name, (_, p99) in parts.items() if p99 is not None},
        endpoints_p99_ms={name: round(us / 1e3, 3) for name, us in slowest.items() if us is not None},
        late=step.late,
    )
