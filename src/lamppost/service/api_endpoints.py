"""Endpoints: what they serve, pointing them at a version, their calls."""

from __future__ import annotations

from datetime import UTC, datetime, timedelta
from typing import Annotated
from uuid import UUID

from fastapi import APIRouter, Query

from lamppost.core.histogram import quantiles
from lamppost.core.names import check_name, parse_version
from lamppost.core.plan import Plan
from lamppost.core.promise import promise_of
from lamppost.core.setup import Setup
from lamppost.service.access import PROBLEMS, Looker, Pointer, TheNode
from lamppost.service.api_contract import manifests_of
from lamppost.service.node import Node
from lamppost.service.routes import Route
from lamppost.service.shapes import CallShape, EndpointPage, EndpointShape, Hour, NewSetup, PastSplit, Point, Pointed, field_shapes
from lamppost.store import endpoints, records
from lamppost.store.endpoints import Split

router = APIRouter(prefix="/api", tags=["endpoints"], responses=PROBLEMS)


@router.get("/endpoints")
async def list_endpoints(node: TheNode, _: Looker) -> list[EndpointShape]:
    """Every endpoint with its state and its last hour."""
    hours = await _hours(node)
    return [_shape(node, route, hours.get(name, Hour())) for name, route in sorted(node.routes.by_endpoint.items())]


@router.get("/endpoints/{endpoint}")
async def get_endpoint(endpoint: str, node: TheNode, _: Looker) -> EndpointPage:
    """One endpoint: what it serves, its fields, its last hour, what it served before."""
    route = node.routes.route(endpoint)
    promise = promise_of(route.split.setup, await manifests_of(node, route.split.setup))
    past = await endpoints.history(node.pool, endpoint)
    hours = await _hours(node)
    return EndpointPage(
        **_shape(node, route, hours.get(endpoint, Hour())).model_dump(),
        inputs=field_shapes(promise.inputs),
        options=field_shapes(promise.options or ()),
        answers=field_shapes(promise.answers),
        example=Plan(promise.inputs, options=promise.options).example(),
        json_schema=promise.inputs.to_json_schema(promise.options),
        setup=route.split.setup,
        history=[
            PastSplit(
                revision=s.revision, version=str(s.version), says=s.setup.says(), setup=s.setup, since=s.since, changed_by=s.changed_by
            )
            for s in past
        ],
    )


@router.post("/endpoints/{endpoint}/point")
async def point_endpoint(endpoint: str, wanted: Point, node: TheNode, caller: Pointer) -> Pointed:
    """Make an endpoint serve a version: it is opened and proven first, and what was served goes on until then."""
    check_name(endpoint, "endpoint")
    version = parse_version(wanted.version)
    present = node.routes.setup(endpoint)
    setup = Setup(version=str(version)) if present is None else present.pointed(version)
    return _pointed(*await node.routes.set_up(endpoint, setup, caller.token))


@router.put("/endpoints/{endpoint}/setup")
async def set_up_endpoint(endpoint: str, wanted: NewSetup, node: TheNode, caller: Pointer) -> Pointed:
    """Give an endpoint a whole setup: one version or several, look-ups, leniency. Everything is opened, proven and checked first."""
    check_name(endpoint, "endpoint")
    return _pointed(*await node.routes.set_up(endpoint, wanted.setup, caller.token, wanted.after))


def _pointed(split: Split, before: Split | None) -> Pointed:
    endpoint, now = split.endpoint, split.setup.says()
    if before is None:
        says, undo = f"{endpoint} is lit and serves {now}.", None
    else:
        then = before.setup.says()
        same = then == now
        says = f"{endpoint} serves {now} as before, in another way." if same else f"{endpoint} serves {now}; it served {then} before."
        plain = before.setup.version is not None and split.setup.pointed(before.version) == before.setup
        undo = f"lamppost point {endpoint} {before.version}" if plain else f"lamppost setup {endpoint} --as-of {before.revision}"
    if split.setup == (before.setup if before else None):
        says, undo = f"{endpoint} serves {now} as before; nothing else changed.", None
    return Pointed(
        endpoint=endpoint,
        version=str(split.version),
        before=before.setup.says() if before else None,
        revision=split.revision,
        says=says,
        undo=undo,
    )


@router.get("/calls")
async def list_calls(
    node: TheNode, _: Looker, endpoint: str | None = None, limit: Annotated[int, Query(ge=1, le=1_000)] = 50, after: UUID | None = None
) -> list[CallShape]:
    """The newest calls first; with ``after``, only those later than that request id."""
    if endpoint is not None:
        node.routes.route(endpoint)
    return [CallShape(**call) for call in await records.latest_calls(node.pool, endpoint, limit, after)]


async def _hours(node: Node) -> dict[str, Hour]:
    found = await records.latency(node.pool, datetime.now(UTC) - timedelta(hours=1))
    hours = {}
    for endpoint, past in found.items():
        p50, p95, p99 = (None if us is None else round(us / 1e3, 3) for us in quantiles(past.histogram, (0.5, 0.95, 0.99)))
        hours[endpoint] = Hour(calls=past.calls, refused=past.refused, failed=past.failed, p50_ms=p50, p95_ms=p95, p99_ms=p99)
    return hours


def _shape(node: Node, route: Route, hour: Hour) -> EndpointShape:
    split = route.split
    return EndpointShape(
        name=split.endpoint,
        state=route.state,
        why=route.reason or node.routes.being_made(split.setup),
        version=str(split.version),
        versions=[str(name) for name in split.setup.versions],
        says=split.setup.says(),
        since=split.since,
        changed_by=split.changed_by,
        revision=split.revision,
        hour=hour,
    )
