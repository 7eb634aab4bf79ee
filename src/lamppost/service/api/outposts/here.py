"""API of an outpost itself: the truth about answers that it gave, which it keeps and brings to its hub."""

from __future__ import annotations

from fastapi import APIRouter

from lamppost.core.errors import NotFound
from lamppost.service.api.access import PROBLEMS, RequireCaller, TheNode
from lamppost.service.api.schemas.outcomes import KeptOutcomesAnswer, OutcomesRequest, check_identified
from lamppost.service.outpost.standalone_node import StandaloneNode

router = APIRouter(prefix="/api", tags=["watching"], responses=PROBLEMS)


@router.post("/endpoints/{endpoint}/outcomes", status_code=202)
async def keep_outcomes(endpoint: str, body: OutcomesRequest, node: TheNode, caller: RequireCaller) -> KeptOutcomesAnswer:
    """Report the truth about earlier answers. It is kept here, and held against the answers at the hub once their records are there."""
    caller.require_permission("predict", endpoint)
    node.deployment.table.find_route(endpoint)
    check_identified(body)
    if not isinstance(node, StandaloneNode) or node.outcomes is None:
        raise NotFound("this node keeps no records, so nothing is known of earlier answers")
    await node.outcomes.keep({"endpoint": endpoint, "by": caller.principal.token, "reported": body.model_dump(mode="json")})
    count = len(body.outcomes)
    return KeptOutcomesAnswer(kept=count, summary=f"{count:,} outcomes of {endpoint} are kept, and are brought to the hub.")
