"""Health, and what this node says of itself. Health needs no token."""

from __future__ import annotations

from fastapi import APIRouter

import lamppost
from lamppost.core.errors import Unavailable
from lamppost.service.access import PROBLEMS, Looker, TheNode
from lamppost.service.shapes import NodeShape

router = APIRouter(tags=["node"], responses=PROBLEMS)


@router.get("/health/live")
async def live() -> dict[str, str]:
    """Whether the process answers."""
    return {"status": "live"}


@router.get("/health/ready")
async def ready(node: TheNode) -> dict[str, str]:
    """Whether every endpoint is lit, or will be with its first request; 503 with the names of those that are not."""
    if not (node.routes.settled and node.routes.warm):
        raise Unavailable("this node is starting")
    if dark := sorted(name for name, route in node.routes.by_endpoint.items() if route.state == "out"):
        raise Unavailable(f"not lit: {', '.join(dark[:20])}", out=dark)
    return {"status": "ready"}


@router.get("/api/node")
async def get_node(node: TheNode, _: Looker) -> NodeShape:
    """This node and its records."""
    return NodeShape(
        version=lamppost.__version__,
        records_waiting=node.recorder.waiting,
        records_dropped=node.recorder.dropped,
        formats=sorted(node.settings.lane.formats),
    )
