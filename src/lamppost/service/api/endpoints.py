"""API of endpoints: what they serve, their states, their calls."""

from __future__ import annotations

import asyncio
from collections import Counter
from typing import Annotated
from uuid import UUID

from fastapi import APIRouter, Query

from lamppost.core.endpoint.endpoint_schema import endpoint_schema
from lamppost.core.payload.validation_plan import ValidationPlan
from lamppost.service.api.access import PROBLEMS, RequireView, TheNode
from lamppost.service.api.mappers import review_answer, rollback_target, rollout_answer
from lamppost.service.api.openapi_document import manifests_of
from lamppost.service.api.schemas.base import Instant, field_answers
from lamppost.service.api.schemas.calls import CallAnswer, CallDetailAnswer
from lamppost.service.api.schemas.endpoints import (
    EndpointAnswer,
    EndpointDetailAnswer,
    GoingLoadAnswer,
    OverviewAnswer,
    RevisionAnswer,
    ShadowAnswer,
)
from lamppost.service.deployment.route_table import Route
from lamppost.service.monitoring.endpoint_summaries import LastHour, MonitoringSummary, SummariesByEndpoint
from lamppost.service.node import Node
from lamppost.service.prediction.answer_hooks import ShadowState
from lamppost.store import call_search, endpoints, reviews
from lamppost.store.call_search import CallFilter
from lamppost.store.measuring import loads

router = APIRouter(prefix="/api", tags=["endpoints"], responses=PROBLEMS)


@router.get("/endpoints")
async def list_endpoints(node: TheNode, _: RequireView) -> list[EndpointAnswer]:
    """Every endpoint with its state and its last hour."""
    seen = await node.endpoint_summaries.all_summaries()
    return [_endpoint_answer(node, route, seen) for _, route in sorted(node.deployment.table.by_endpoint.items())]


@router.get("/overview")
async def get_overview(
    node: TheNode,
    _: RequireView,
    search: Annotated[str, Query(max_length=100, description="a part of the name, or of what is served")] = "",
    limit: Annotated[int, Query(ge=1, le=1_000)] = 200,
) -> OverviewAnswer:
    """Figures of all endpoints, and the endpoints that match a search: by name, or, if more match than the limit, first those that need
    attention and then those with most calls.
    """
    seen, by_endpoint = await node.endpoint_summaries.all_summaries(), node.deployment.table.by_endpoint
    words = search.lower().split()
    matching = [
        (name, route)
        for name, route in sorted(by_endpoint.items())
        if all(word in f"{name} {route.setup.summary()}".lower() for word in words)
    ]
    shown = matching
    if len(matching) > limit:
        shown = sorted(matching, key=lambda pair: _need(pair[1], seen.hours.get(pair[0]), seen.monitoring.get(pair[0])))[:limit]
    statuses = {name: route.status for name, route in by_endpoint.items()}
    down = sorted(name for name, status in statuses.items() if status.state == "down")
    return OverviewAnswer(
        endpoints=len(by_endpoint),
        states=Counter(status.state for status in statuses.values()),
        down=down[:20],
        calls=sum(hour.calls for hour in seen.hours.values()),
        alerts=sum(summary.alerts for summary in seen.monitoring.values()),
        found=len(matching),
        shown=[_endpoint_answer(node, route, seen) for _, route in shown],
    )


def _need(route: Route, hour: LastHour | None, summary: MonitoringSummary | None) -> tuple[bool, int, bool, int, str]:
    """The sort key of an endpoint: those that need attention first, then by calls."""
    alerts, drifted = (summary.alerts, summary.drift == "drifted") if summary is not None else (0, False)
    return (
        route.status.state not in ("degraded", "down"),
        -alerts,
        not drifted,
        -(hour.calls if hour is not None else 0),
        route.in_force.endpoint,
    )


@router.get("/endpoints/{endpoint}")
async def get_endpoint(endpoint: str, node: TheNode, _: RequireView) -> EndpointDetailAnswer:
    """One endpoint: what it serves, its fields, its last hour, what it served before."""
    route = node.deployment.table.find_route(endpoint)
    manifests = await manifests_of(node, route.setup)
    schema = await asyncio.to_thread(endpoint_schema, route.setup, manifests)
    plan = await asyncio.to_thread(ValidationPlan, schema.inputs, options=schema.options)
    past = await endpoints.endpoint_history(node.pool, endpoint, 1_000)
    back = endpoints.find_rollback_target(past)
    load = await loads.going_load(node.pool, endpoint)
    return EndpointDetailAnswer(
        **_shape(node, route, *(await node.endpoint_summaries.summary_of(endpoint))).model_dump(),
        inputs=field_answers(schema.inputs),
        options=field_answers(schema.options or ()),
        answers=field_answers(schema.answers),
        example=plan.example(),
        json_schema=schema.inputs.to_json_schema(schema.options),
        setup=route.setup,
        history=[
            RevisionAnswer(
                revision=s.revision,
                version=str(s.version),
                summary=s.setup.summary(),
                setup=s.setup,
                since=s.since,
                changed_by=s.changed_by,
                restores=s.restores,
                rollout=s.rollout,
            )
            for s in past[:50]
        ],
        approvals=(await endpoints.list_demanded_approvals(node.pool)).get(endpoint, 0),
        back=None if back is None else rollback_target(back),
        rollout=rollout_answer(*going[0]) if (going := await node.rollout_driver.latest_rollouts(endpoint)) else None,
        load=GoingLoadAnswer(name=load.name, made_by=load.made_by, ends_at=load.ends_at) if load is not None else None,
        shadows=[_shadow(shadow) for shadow in route.hooks.shadows] if route.hooks is not None else [],
        reviews=[
            review_answer(review) for review in await reviews.list_reviews(node.pool, endpoint) if review.state in ("open", "approved")
        ],
    )


@router.get("/calls")
async def list_calls(
    node: TheNode,
    _: RequireView,
    endpoint: str | None = None,
    version: str | None = None,
    token: str | None = None,
    status: Annotated[int | None, Query(ge=100, le=599, description="this status and above")] = None,
    slower_ms: Annotated[float | None, Query(ge=0, le=86_400_000)] = None,
    limit: Annotated[int, Query(ge=1, le=1_000)] = 50,
    after: UUID | None = None,
    odd: Annotated[float | None, Query(ge=0, le=12, description="at least so odd; from 3 on one row of a thousand is by chance")] = None,
    contains: Annotated[str | None, Query(min_length=2, max_length=200, description="a text in the input or the answer")] = None,
    before: Instant | None = None,
    trace: Annotated[str | None, Query(pattern="^[0-9a-f]{32}$", description="id of a trace")] = None,
) -> list[CallAnswer]:
    """The newest calls first; with ``after``, only those later than that request id."""
    if endpoint is not None:
        node.deployment.table.find_route(endpoint)
    sought = CallFilter(endpoint, version, token, status, slower_ms, after, odd, contains, before, trace)
    return [CallAnswer(**call) for call in await call_search.latest_calls(node.pool, sought, limit)]


@router.get("/calls/{request_id}")
async def get_call(request_id: UUID, node: TheNode, _: RequireView) -> CallDetailAnswer:
    """One call: input, answer, version, phases, and what shadows answered."""
    call, shadows = await call_search.find_call(node.pool, request_id)
    return CallDetailAnswer(**call, shadows=[CallAnswer(**shadow) for shadow in shadows])


def _endpoint_answer(node: Node, route: Route, seen: SummariesByEndpoint) -> EndpointAnswer:
    name = route.in_force.endpoint
    return _shape(node, route, seen.hours.get(name, LastHour()), seen.monitoring.get(name, MonitoringSummary()))


def _shape(node: Node, route: Route, hour: LastHour, monitoring: MonitoringSummary) -> EndpointAnswer:
    revision, status = route.in_force, route.status
    installing = node.deployment.opener.installing_for(revision.setup)
    return EndpointAnswer(
        name=revision.endpoint,
        state=status.state,
        reasons=[*status.reasons, *([installing] if installing else [])],
        version=str(revision.version),
        versions=[str(name) for name in revision.setup.versions],
        summary=revision.setup.summary(),
        since=revision.since,
        changed_by=revision.changed_by,
        revision=revision.revision,
        last_hour=hour,
        monitoring=monitoring,
    )


def _shadow(state: ShadowState) -> ShadowAnswer:
    return ShadowAnswer(
        version=state.version,
        share=state.share,
        open=state.lane is not None,
        reason=state.reason,
        answered=state.answered,
        failed=state.failed,
        left_out=state.left_out,
    )
