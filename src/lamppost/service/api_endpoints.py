"""Endpoints: what they serve, pointing them at a version, their calls."""

from __future__ import annotations

from datetime import UTC, datetime, timedelta
from typing import Annotated
from uuid import UUID

from fastapi import APIRouter, Query

from lamppost.core.histogram import quantiles
from lamppost.core.plan import Plan
from lamppost.core.promise import promise_of
from lamppost.core.quality import part
from lamppost.service.access import PROBLEMS, Looker, TheNode
from lamppost.service.after import Shadowing
from lamppost.service.api_contract import manifests_of
from lamppost.service.node import Node
from lamppost.service.routes import Route
from lamppost.service.shapes import CallPage, CallShape, EndpointShape, Hour, Known, Looks, PastSplit, field_shapes
from lamppost.service.shapes_changes import EndpointPage, ShadowShape
from lamppost.service.shaping import back_shape, review_shape, rollout_shape
from lamppost.store import alerts, endpoints, outcomes, records, reviews, windows
from lamppost.store.records import Sought

router = APIRouter(prefix="/api", tags=["endpoints"], responses=PROBLEMS)


@router.get("/endpoints")
async def list_endpoints(node: TheNode, _: Looker) -> list[EndpointShape]:
    """Every endpoint with its state and its last hour."""
    hours, looks = await _hours(node), await looks_of(node)
    return [
        _shape(node, route, hours.get(name, Hour()), looks.get(name, Looks())) for name, route in sorted(node.routes.by_endpoint.items())
    ]


@router.get("/endpoints/{endpoint}")
async def get_endpoint(endpoint: str, node: TheNode, _: Looker) -> EndpointPage:
    """One endpoint: what it serves, its fields, its last hour, what it served before."""
    route = node.routes.route(endpoint)
    promise = promise_of(route.split.setup, await manifests_of(node, route.split.setup))
    past = await endpoints.history(node.pool, endpoint, 1_000)
    back = endpoints.earlier(past)
    hours = await _hours(node)
    return EndpointPage(
        **_shape(node, route, hours.get(endpoint, Hour()), (await looks_of(node, endpoint)).get(endpoint, Looks())).model_dump(),
        inputs=field_shapes(promise.inputs),
        options=field_shapes(promise.options or ()),
        answers=field_shapes(promise.answers),
        example=Plan(promise.inputs, options=promise.options).example(),
        json_schema=promise.inputs.to_json_schema(promise.options),
        setup=route.split.setup,
        history=[
            PastSplit(
                revision=s.revision,
                version=str(s.version),
                says=s.setup.says(),
                setup=s.setup,
                since=s.since,
                changed_by=s.changed_by,
                restores=s.restores,
                rollout=s.rollout,
            )
            for s in past[:50]
        ],
        approvals=(await endpoints.approvals(node.pool)).get(endpoint, 0),
        back=None if back is None else back_shape(back),
        rollout=rollout_shape(*going[0]) if (going := await node.rolling.latest(endpoint)) else None,
        shadows=[_shadow(one) for one in route.after.shadows] if route.after is not None else [],
        reviews=[review_shape(one) for one in await reviews.listed(node.pool, endpoint) if one.state in ("open", "approved")],
    )


@router.get("/calls")
async def list_calls(
    node: TheNode,
    _: Looker,
    endpoint: str | None = None,
    version: str | None = None,
    token: str | None = None,
    status: Annotated[int | None, Query(ge=100, le=599, description="this status and above")] = None,
    slower_ms: Annotated[float | None, Query(ge=0, le=86_400_000)] = None,
    limit: Annotated[int, Query(ge=1, le=1_000)] = 50,
    after: UUID | None = None,
    odd: Annotated[float | None, Query(ge=0, le=12, description="at least so odd; from 3 on one row of a thousand is by chance")] = None,
    contains: Annotated[str | None, Query(min_length=2, max_length=200, description="a text in the input or the answer")] = None,
    before: datetime | None = None,
    trace: Annotated[str | None, Query(pattern="^[0-9a-f]{32}$", description="id of a trace")] = None,
) -> list[CallShape]:
    """The newest calls first; with ``after``, only those later than that request id."""
    if endpoint is not None:
        node.routes.route(endpoint)
    sought = Sought(endpoint, version, token, status, slower_ms, after, odd, contains, before, trace)
    return [CallShape(**call) for call in await records.latest_calls(node.pool, sought, limit)]


@router.get("/calls/{request_id}")
async def get_call(request_id: UUID, node: TheNode, _: Looker) -> CallPage:
    """One call: input, answer, version, phases, and what shadows answered."""
    call, shadows = await records.one_call(node.pool, request_id)
    return CallPage(**call, shadows=[CallShape(**one) for one in shadows])


async def _hours(node: Node) -> dict[str, Hour]:
    found = await records.latency(node.pool, datetime.now(UTC) - timedelta(hours=1))
    hours = {}
    for endpoint, past in found.items():
        p50, p95, p99 = (None if us is None else round(us / 1e3, 3) for us in quantiles(past.histogram, (0.5, 0.95, 0.99)))
        hours[endpoint] = Hour(calls=past.calls, refused=past.refused, failed=past.failed, p50_ms=p50, p95_ms=p95, p99_ms=p99)
    return hours


async def looks_of(node: Node, endpoint: str | None = None) -> dict[str, Looks]:
    """Drift, quality and alerts of all endpoints, or of one, in four queries however many there are."""
    now = datetime.now(UTC)
    looks: dict[str, Looks] = {name: Looks() for name in node.routes.by_endpoint}
    for one in await windows.newest(node.pool, endpoint):
        route, look = node.routes.by_endpoint.get(one.endpoint), looks.get(one.endpoint)
        if route is None or look is None or one.version not in {str(name) for name in route.split.setup.versions}:
            continue
        if look.drift is None or _ORDER.index(one.state) > _ORDER.index(look.drift):
            look.drift, look.drift_says, look.drift_until = one.verdict["state"], one.verdict["says"], one.until
    for name, (right, known) in (await outcomes.right(node.pool, now - timedelta(days=30), now, endpoint)).items():
        found = part(right, known)
        if name in looks and found is not None:
            looks[name].quality = Known(right=right, of=known, low=found.low, high=found.high)
    for stored in await alerts.listed(node.pool, endpoint, "open", 1_000):
        if (look := looks.get(stored.alert.endpoint)) is not None:
            look.alerts += 1
            look.alert_says = look.alert_says or stored.alert.reading.says
    for name, mute in (await alerts.mutes(node.pool)).items():
        if name in looks:
            looks[name].muted = mute.until
    return looks


_ORDER = ("too few", "steady", "shifting", "drifted")


def _shape(node: Node, route: Route, hour: Hour, looks: Looks) -> EndpointShape:
    split = route.split
    return EndpointShape(
        name=split.endpoint,
        state=route.state,
        why=route.reason or node.routes.opener.being_made(split.setup),
        version=str(split.version),
        versions=[str(name) for name in split.setup.versions],
        says=split.setup.says(),
        since=split.since,
        changed_by=split.changed_by,
        revision=split.revision,
        hour=hour,
        looks=looks,
    )


def _shadow(one: Shadowing) -> ShadowShape:
    return ShadowShape(
        version=one.version,
        share=one.share,
        open=one.lane is not None,
        why=one.why,
        answered=one.answered,
        failed=one.failed,
        left_out=one.left_out,
    )
