"""API of rollouts over outposts."""

from __future__ import annotations

from collections.abc import Sequence
from typing import Annotated

from fastapi import APIRouter, Query

from lamppost.core.endpoint.rollout_steering import RolloutAction
from lamppost.core.names import parse_version
from lamppost.service.api.access import PROBLEMS, Pointer, RequireView, TheNode
from lamppost.service.api.outposts.hub import check_target
from lamppost.service.api.schemas.outposts import OutpostRolloutAnswer, OutpostRolloutRequest, OutpostTurnAnswer
from lamppost.service.api.schemas.rollouts import GuardReadingAnswer
from lamppost.service.deployment.changes import ChangeOverrides
from lamppost.service.node import Node
from lamppost.store.hub import outpost_rollouts
from lamppost.store.hub.outpost_rollouts import OutpostTurn, StoredOutpostRollout

router = APIRouter(prefix="/api", tags=["outposts"], responses=PROBLEMS)


@router.get("/outpost-rollouts")
async def list_outpost_rollouts(
    node: TheNode,
    _: RequireView,
    endpoint: Annotated[str | None, Query(max_length=200)] = None,
    limit: Annotated[int, Query(ge=1, le=200)] = 20,
) -> list[OutpostRolloutAnswer]:
    """The last rollouts over outposts, of one endpoint or of all, the newest first."""
    if endpoint is not None:
        node.deployment.table.find_route(endpoint)
    return await _answers(node, await outpost_rollouts.latest_outpost_rollouts(node.pool, endpoint, limit))


@router.post("/endpoints/{endpoint}/outposts/rollout", status_code=201)
async def begin_outpost_rollout(endpoint: str, body: OutpostRolloutRequest, node: TheNode, caller: Pointer) -> OutpostRolloutAnswer:
    """Move the outposts of a target to a version, one after the other. If a guard is crossed, all of them go back by themselves."""
    node.deployment.table.find_route(endpoint)
    target = await check_target(node, body.at)
    overrides = ChangeOverrides(body.break_callers, body.override)
    begun = await node.outpost_rollouts.begin_rollout(
        endpoint, target, parse_version(body.version), body.plan, caller.changed_by, caller.role, overrides
    )
    return (await _answers(node, [begun]))[0]


@router.post("/endpoints/{endpoint}/outposts/rollout/{act}")
async def act_on_outpost_rollout(endpoint: str, act: RolloutAction, node: TheNode, caller: Pointer) -> OutpostRolloutAnswer:
    """Pause, resume, finish or take back the rollout of an endpoint over outposts."""
    return (await _answers(node, [await node.outpost_rollouts.act_on_rollout(endpoint, act, caller.changed_by)]))[0]


async def _answers(node: Node, rollouts: Sequence[StoredOutpostRollout]) -> list[OutpostRolloutAnswer]:
    turns = await node.outpost_rollouts.list_turns([stored.number for stored in rollouts])
    return [_answer(stored, turns[stored.number]) for stored in rollouts]


def _answer(stored: StoredOutpostRollout, turns_had: Sequence[OutpostTurn]) -> OutpostRolloutAnswer:
    rollout = stored.rollout
    turns = {turn.outpost: turn for turn in turns_had}
    return OutpostRolloutAnswer(
        number=stored.number,
        endpoint=stored.endpoint,
        target=rollout.target,
        old=rollout.old,
        new=rollout.new,
        plan=rollout.plan,
        state=rollout.state,
        reason=rollout.reason,
        readings=[GuardReadingAnswer.model_validate(reading) for reading in stored.readings],
        turns=[
            OutpostTurnAnswer(
                outpost=name,
                state="done" if name in rollout.done else "has its turn" if name == rollout.at else "waits",
                since=turns[name].since if name in turns else None,
                until=turns[name].until if name in turns else None,
                calls=turns[name].counts.calls if name in turns else [0, 0],
            )
            for name in rollout.outposts
        ],
        begun_by=stored.begun_by,
        begun_at=stored.begun_at,
        ended_at=stored.ended_at,
    )
