"""API of health, metrics, this node and its lanes. Health needs no token."""

from __future__ import annotations

import asyncio
from dataclasses import asdict
from datetime import datetime
from typing import Annotated, Literal

from fastapi import APIRouter, Header, Query
from fastapi.responses import Response

import lamppost
from lamppost.core.errors import Unavailable
from lamppost.core.names import parse_version
from lamppost.runtime.lane import Lane
from lamppost.service.api.access import PROBLEMS, Pointer, RequireView, TheNode
from lamppost.service.api.schemas.node import (
    BatchSizeCount,
    ConfinementAnswer,
    CopiesSince,
    FrontAnswer,
    LanesAnswer,
    LaneStateAnswer,
    NodeAnswer,
    ReadyAnswer,
    RetriedAnswer,
    SetAsideFrameAnswer,
)

_NAMED = 20

router = APIRouter(tags=["node"], responses=PROBLEMS)


@router.get("/health/live")
async def live() -> dict[str, str]:
    """Whether the process answers."""
    return {"status": "live"}


@router.get("/health/ready")
async def ready(
    node: TheNode,
    endpoint: Annotated[str | None, Query(max_length=200, description="whether this one answers, or opens with its next call")] = None,
) -> ReadyAnswer:
    """Whether this node takes calls: not while it starts, and not while it is about to end.

    An endpoint that is down is named and does not make the node unready, because it would be down on every node; ``endpoint`` asks about
    one, and a node that was started with ``--ready-needs all`` is ready only while every endpoint answers.
    """
    table = node.deployment.table
    if node.ending:
        raise Unavailable("this node is about to end, and takes no new callers")
    if not (table.settled and node.deployment.waking.warm):
        raise Unavailable("this node is starting")
    if endpoint is not None and not table.find_route(endpoint).status.answers:
        raise Unavailable(f"{endpoint} is down on this node", down=[endpoint])
    down = sorted(name for name, route in table.by_endpoint.items() if not route.status.answers)
    if down and node.settings.ready_needs_all:
        raise Unavailable(f"these endpoints are down: {', '.join(down[:_NAMED])}", down=down)
    database: Literal["none", "there", "away"] = "none" if node.pool.there_is_none else "there" if node.pool.away is None else "away"
    return ReadyAnswer(status="ready", database=database, down=down[:_NAMED])


@router.get("/metrics", response_class=Response, responses={200: {"content": {"application/openmetrics-text": {}}}})
async def get_metrics(node: TheNode, _: RequireView, accept: Annotated[str, Header()] = "") -> Response:
    """Counts and histograms of this node since its start, as OpenMetrics text with exemplars; for readers that take ``text/plain`` only,
    in the format of before.
    """
    from lamppost.service.api.metrics_exposition import OPENMETRICS, PLAIN, write_metrics

    plain = "text/plain" in accept and "openmetrics" not in accept
    content_type = PLAIN if plain else OPENMETRICS
    return Response(await asyncio.to_thread(write_metrics, node, content_type), headers={"content-type": content_type})


@router.get("/api/node")
async def get_node(node: TheNode, _: RequireView) -> NodeAnswer:
    """This node and its records."""
    spool, confinement = node.recorder.spool, node.settings.confinement
    return NodeAnswer(
        version=lamppost.__version__,
        records_waiting=node.recorder.waiting,
        records_dropped=node.recorder.dropped,
        records_set_aside=await asyncio.to_thread(lambda: node.recorder.set_aside.calls),
        spool_bytes=spool.size,
        spool_most_bytes=spool.most_bytes,
        payloads_given_up=spool.payloads_given_up,
        calls_given_up=spool.calls_given_up,
        formats=sorted(node.settings.lane.formats),
        fronts=[FrontAnswer(**asdict(front)) for front in node.fronts.facts],
        confinement=ConfinementAnswer(**asdict(confinement), summary=confinement.summary),
    )


@router.get("/api/records/set-aside")
async def list_set_aside(node: TheNode, _: RequireView) -> list[SetAsideFrameAnswer]:
    """Records of this node that could not be stored and were set aside, with their errors."""
    frames = await asyncio.to_thread(node.recorder.set_aside.list_frames)
    return [SetAsideFrameAnswer(name=f.name, calls=f.calls, at=datetime.fromisoformat(f.at), error=f.error) for f in frames]


@router.post("/api/records/set-aside/retry")
async def retry_set_aside(node: TheNode, _: Pointer) -> RetriedAnswer:
    """Bring the records that were set aside to the database once more."""
    return RetriedAnswer(calls=await node.recorder.retry_set_aside())


@router.get("/api/lanes")
async def list_lanes(
    node: TheNode,
    _: RequireView,
    limit: Annotated[int | None, Query(ge=1)] = None,
    endpoint: Annotated[str | None, Query(max_length=200, description="only the lanes of the versions that this endpoint serves")] = None,
) -> LanesAnswer:
    """The open lanes of this node: copies, queues, batches, memory. The busiest first, then the most recently used."""
    deployment, pool = node.deployment, node.deployment.workers
    now = asyncio.get_running_loop().time()
    lanes = sorted(pool.lanes, key=lambda lane: (-lane.waiting, -lane.used_at))
    if endpoint is not None:
        served = {str(version) for version in deployment.table.find_route(endpoint).setup.versions}
        lanes = [lane for lane in lanes if lane.name in served]
    return LanesAnswer(
        memory_bytes=pool.memory_bytes,
        budget_bytes=pool.budget_bytes,
        workers=len(pool.drivers),
        asleep=sum(route.status.state == "asleep" for route in deployment.table.by_endpoint.values()),
        open=len(pool.lanes),
        lanes=[
            _lane_shape(lane, [route.in_force.endpoint for route in deployment.table.routes_naming(parse_version(lane.name))], now)
            for lane in lanes[:limit]
        ],
    )


def _lane_shape(lane: Lane, endpoints: list[str], now: float) -> LaneStateAnswer:
    load, condition = lane.load, lane.condition
    return LaneStateAnswer(
        version=lane.name,
        endpoints=endpoints,
        state=condition.state,
        reason=condition.reason,
        copies=len(lane.seats),
        copies_most=lane.settings.copies.most,
        pids=[driver.worker.pid for driver in lane.seats],
        shared=any(not driver.dedicated for driver in lane.seats),
        waiting=lane.waiting,
        waiting_rows=lane.waiting_rows,
        max_rows=load.max_rows,
        target_ms=lane.settings.target_ms,
        rows_s=round(load.rows_s, 1),
        memory_bytes=lane.memory_bytes,
        keep_warm=lane.keep_warm,
        requests=load.requests,
        used_s_ago=round(max(0.0, now - lane.used_at), 1),
        batches=[BatchSizeCount(rows=rows, batches=count) for rows, count in sorted(load.batches.items())],
        copies_past=[CopiesSince(seconds_ago=round(now - at, 1), copies=copies) for at, copies in load.copies],
    )
