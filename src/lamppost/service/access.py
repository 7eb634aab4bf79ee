"""What API routes need of a request: the node, and somebody who may."""

from __future__ import annotations

from collections.abc import Awaitable, Callable
from typing import Annotated, Any

from fastapi import Depends, Request

from lamppost.core.roles import Permission, Principal
from lamppost.service.node import Node
from lamppost.service.shapes import Problem

PROBLEMS: dict[int | str, dict[str, Any]] = {
    status: {"model": Problem, "content": {"application/problem+json": {}}, "description": why}
    for status, why in {
        400: "the request cannot be read",
        401: "no token, or one that is not known or has expired",
        403: "the token's role does not cover this",
        429: "the token comes more often than it may",
        404: "no such name",
        409: "the present state forbids it",
        408: "the request did not come in time",
        413: "the body is too large",
        431: "headers over the bounds",
        422: "the request does not fit",
        503: "nothing can answer at the moment",
    }.items()
}


def the_node(request: Request) -> Node:
    """The node that the app was made for."""
    node: Node = request.app.state.node
    return node


async def the_caller(request: Request, node: Annotated[Node, Depends(the_node)]) -> Principal:
    """Whoever is asking; NotSignedIn becomes 401."""
    return await node.auth.check(request.method, request.scope["headers"])


def may(permission: Permission) -> Callable[[Principal], Awaitable[Principal]]:
    """A dependency that lets through whoever has the permission."""

    async def check(caller: Annotated[Principal, Depends(the_caller)]) -> Principal:
        caller.check(permission)
        return caller

    return check


TheNode = Annotated[Node, Depends(the_node)]
Looker = Annotated[Principal, Depends(may("look"))]
Pusher = Annotated[Principal, Depends(may("push"))]
Pointer = Annotated[Principal, Depends(may("point"))]
TokenKeeper = Annotated[Principal, Depends(may("tokens"))]
Caller = Annotated[Principal, Depends(the_caller)]
