"""API of a node without a database: the endpoints that it serves."""

from __future__ import annotations

from fastapi import APIRouter

from lamppost.service.api.access import PROBLEMS, RequireView, TheNode
from lamppost.service.api.schemas.base import field_answers
from lamppost.service.api.schemas.standalone import ServedEndpointAnswer, ServedEndpointDetailAnswer
from lamppost.service.deployment.route_table import Route

router = APIRouter(prefix="/api", tags=["endpoints"], responses=PROBLEMS)


@router.get("/endpoints")
async def list_served_endpoints(node: TheNode, _: RequireView) -> list[ServedEndpointAnswer]:
    """The endpoints that this node serves, by name."""
    return [_answer(name, route) for name, route in sorted(node.deployment.table.by_endpoint.items())]


@router.get("/endpoints/{endpoint}")
async def get_served_endpoint(node: TheNode, _: RequireView, endpoint: str) -> ServedEndpointDetailAnswer:
    """One endpoint that this node serves, with its fields; a sleeping one is opened for it."""
    route, predictor = await node.deployment.waking.awake(endpoint)
    plan = predictor.plan
    return ServedEndpointDetailAnswer(
        **_answer(endpoint, route).model_dump(),
        inputs=field_answers(plan.schema),
        options=field_answers(plan.options or ()),
        answers=field_answers(predictor.answers),
        example=plan.example(),
        json_schema=plan.schema.to_json_schema(plan.options),
    )


def _answer(name: str, route: Route) -> ServedEndpointAnswer:
    status, revision = route.status, route.in_force
    return ServedEndpointAnswer(
        name=name,
        state=status.state,
        reasons=list(status.reasons),
        version=str(revision.version),
        summary=revision.setup.summary(),
        since=revision.since,
        digests={lane.name: lane.digest for lane in route.lanes},
    )
