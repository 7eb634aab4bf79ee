"""API for changing what endpoints serve: point, set up, roll back, roll out, demand approvals."""

from __future__ import annotations

from fastapi import APIRouter

from lamppost.core.endpoint.rollout_steering import RolloutAction
from lamppost.core.endpoint.setup import EndpointSetup
from lamppost.core.names import check_name, parse_version
from lamppost.service.api.access import PROBLEMS, Pointer, RequireView, TheNode, TokenKeeper
from lamppost.service.api.mappers import rollout_answer
from lamppost.service.api.schemas.base import OverridableRequest
from lamppost.service.api.schemas.endpoints import (
    ApprovalsRequest,
    PointAnswer,
    PointRequest,
    RollbackAnswer,
    RollbackRequest,
    SetupRequest,
)
from lamppost.service.api.schemas.rollouts import RolloutAnswer, RolloutRequest
from lamppost.service.deployment.changes import ChangeOverrides
from lamppost.store import endpoints
from lamppost.store.database import announce
from lamppost.store.endpoints import EndpointChange, EndpointRevision

router = APIRouter(prefix="/api", tags=["changes"], responses=PROBLEMS)


def _anyway(body: OverridableRequest) -> ChangeOverrides:
    return ChangeOverrides(body.break_callers, body.override)


@router.post("/endpoints/{endpoint}/point")
async def point_endpoint(endpoint: str, body: PointRequest, node: TheNode, caller: Pointer) -> PointAnswer:
    """Make an endpoint serve a version. The version is opened and proven first; until then the endpoint serves what it served before."""
    check_name(endpoint, "endpoint")
    version = parse_version(body.version)
    present = node.deployment.table.find_setup(endpoint)
    setup = EndpointSetup(version=str(version)) if present is None else present.with_version(version)
    (changed,) = await node.changes.make_changes(
        [EndpointChange(endpoint, setup, action="pointed")], caller.changed_by, caller.role, _anyway(body)
    )
    return _pointed(*changed)


@router.put("/endpoints/{endpoint}/setup")
async def set_up_endpoint(endpoint: str, body: SetupRequest, node: TheNode, caller: Pointer) -> PointAnswer:
    """Give an endpoint a whole setup: one version or several, shares, shadows, look-ups. Everything is opened, proven and checked first."""
    check_name(endpoint, "endpoint")
    (changed,) = await node.changes.make_changes(
        [EndpointChange(endpoint, body.setup, body.after)], caller.changed_by, caller.role, _anyway(body)
    )
    return _pointed(*changed)


def _pointed(revision: EndpointRevision, before: EndpointRevision | None) -> PointAnswer:
    endpoint, now = revision.endpoint, revision.setup.summary()
    if before is None:
        summary = f"{endpoint} is serving {now}; it is a new endpoint."
        undo: str | None = f"lamppost delete endpoint {endpoint}"
    else:
        then = before.setup.summary()
        same = then == now
        summary = f"{endpoint} serves {now} as before, in another way." if same else f"{endpoint} serves {now}; it served {then} before."
        undo = f"lamppost setup {endpoint} --as-of {before.revision}" if same else f"lamppost rollback {endpoint}"
        if before.rollout is not None and revision.rollout is None:
            summary, undo = f"{summary} The rollout that went on is ended.", f"lamppost setup {endpoint} --as-of {before.revision}"
    if revision.setup == (before.setup if before else None):
        summary, undo = f"{endpoint} serves {now} as before; nothing else changed.", None
    return PointAnswer(
        endpoint=endpoint,
        version=str(revision.version),
        before=before.setup.summary() if before else None,
        revision=revision.revision,
        summary=summary,
        undo=undo,
    )


@router.post("/endpoints/{endpoint}/rollback")
async def roll_back(endpoint: str, body: RollbackRequest, node: TheNode, caller: Pointer) -> RollbackAnswer:
    """Restore what was served before, at once. A second call in a row goes back one revision further. No review is needed."""
    back = await node.changes.roll_back(endpoint, caller.changed_by, body.note)
    now, then = back.split.setup.summary(), back.before.setup.summary()
    return RollbackAnswer(
        endpoint=endpoint,
        version=str(back.split.version),
        before=then,
        revision=back.split.revision,
        stored=back.stored,
        summary=f"{endpoint} is back at {now}; it served {then} before."
        + ("" if back.stored else " This node serves it already; other nodes follow as soon as the database answers."),
        undo=f"lamppost setup {endpoint} --as-of {back.before.revision}",
    )


@router.post("/endpoints/{endpoint}/rollout", status_code=201)
async def begin_rollout(endpoint: str, body: RolloutRequest, node: TheNode, caller: Pointer) -> RolloutAnswer:
    """Move an endpoint to a version step by step. If a guard is crossed, the rollout goes back by itself and gives the reason."""
    begun = await node.rollout_driver.begin_rollout(
        endpoint, parse_version(body.version), body.plan, body.sticky, caller.changed_by, caller.role, _anyway(body)
    )
    return rollout_answer(*begun)


@router.get("/endpoints/{endpoint}/rollouts")
async def list_rollouts(endpoint: str, node: TheNode, _: RequireView) -> list[RolloutAnswer]:
    """The last rollouts of an endpoint, the newest first."""
    node.deployment.table.find_route(endpoint)
    return [rollout_answer(*rollout) for rollout in await node.rollout_driver.latest_rollouts(endpoint, 20)]


@router.post("/endpoints/{endpoint}/rollout/{act}")
async def act_on_rollout(endpoint: str, act: RolloutAction, node: TheNode, caller: Pointer) -> RolloutAnswer:
    """Pause, resume, finish or take back the rollout of an endpoint."""
    return rollout_answer(*await node.rollout_driver.act_on_rollout(endpoint, act, caller.changed_by))


@router.put("/endpoints/{endpoint}/approvals", status_code=204)
async def demand_approvals(endpoint: str, body: ApprovalsRequest, node: TheNode, caller: TokenKeeper) -> None:
    """Set how many others must approve a version before it serves this endpoint."""
    async with node.pool.connection() as connection, connection.transaction():
        await endpoints.demand_approvals(connection, endpoint, body.approvals, caller.changed_by)
        await announce(connection, "routes")
