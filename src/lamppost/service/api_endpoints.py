"""Endpoints: what they serve, pointing them at a version, their calls."""

from __future__ import annotations

from datetime import UTC, datetime, timedelta
from typing import Annotated
from uuid import UUID

from fastapi import APIRouter, Query

from lamppost.core.histogram import quantiles
from lamppost.core.manifest import read_manifest
from lamppost.core.names import check_name, parse_version
from lamppost.core.plan import Plan
from lamppost.service.access import PROBLEMS, Looker, Pointer, TheNode
from lamppost.service.node import Node
from lamppost.service.routes import Route
from lamppost.service.shapes import CallShape, EndpointPage, EndpointShape, Hour, PastSplit, Point, Pointed, field_shapes
from lamppost.store import endpoints, packages, records

router = APIRouter(prefix="/api", tags=["endpoints"], responses=PROBLEMS)


@router.get("/endpoints")
async def list_endpoints(node: TheNode, _: Looker) -> list[EndpointShape]:
    """Every endpoint with its state and its last hour."""
    hours = await _hours(node)
    return [_shape(route, hours.get(name, Hour())) for name, route in sorted(node.routes.by_endpoint.items())]


@router.get("/endpoints/{endpoint}")
async def get_endpoint(endpoint: str, node: TheNode, _: Looker) -> EndpointPage:
    """One endpoint: what it serves, its fields, its last hour, what it served before."""
    route = node.routes.route(endpoint)
    version = await packages.get_version(node.pool, route.split.version)
    manifest = read_manifest(version.manifest.encode())
    past = await endpoints.history(node.pool, endpoint)
    hours = await _hours(node)
    return EndpointPage(
        **_shape(route, hours.get(endpoint, Hour())).model_dump(),
        inputs=field_shapes(manifest.inputs),
        options=field_shapes(manifest.options or ()),
        answers=field_shapes(manifest.answers),
        example=Plan(manifest.inputs, options=manifest.options).example(),
        json_schema=manifest.inputs.to_json_schema(manifest.options),
        history=[PastSplit(revision=s.revision, version=str(s.version), since=s.since, changed_by=s.changed_by) for s in past],
    )


@router.post("/endpoints/{endpoint}/point")
async def point_endpoint(endpoint: str, wanted: Point, node: TheNode, caller: Pointer) -> Pointed:
    """Make an endpoint serve a version: it is opened and proven first, and what was served goes on until then."""
    check_name(endpoint, "endpoint")
    version = parse_version(wanted.version)
    split, before = await node.routes.point(endpoint, version, caller.token)
    if before is None:
        says, undo = f"{endpoint} is lit and serves {version}.", None
    else:
        says = f"{endpoint} serves {version}; it served {before.version} before."
        undo = f"lamppost point {endpoint} {before.version}"
    return Pointed(
        endpoint=endpoint,
        version=str(version),
        before=str(before.version) if before else None,
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


def _shape(route: Route, hour: Hour) -> EndpointShape:
    split = route.split
    return EndpointShape(
        name=split.endpoint,
        state=route.state,
        why=route.reason,
        version=str(split.version),
        since=split.since,
        changed_by=split.changed_by,
        revision=split.revision,
        hour=hour,
    )
