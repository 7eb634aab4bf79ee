"""FastAPI dependencies: the node, and a caller with a permission."""

from __future__ import annotations

from collections.abc import Awaitable, Callable
from dataclasses import dataclass
from typing import Annotated, Any

from fastapi import Depends, Request

from lamppost.core.roles import Permission, Principal, Role
from lamppost.service.node import Node
from lamppost.store.trail import ChangedBy

_PROBLEM = {"application/problem+json": {"schema": {"$ref": "#/components/schemas/Problem"}}}
PROBLEMS: dict[int | str, dict[str, Any]] = {
    # a reference: FastAPI would make a model of its own for each status of each address, a third of the time that a service takes to start
    status: {"content": _PROBLEM, "description": meaning}
    for status, meaning in {
        400: "the request cannot be read",
        401: "no token, or one that is not known or has expired",
        403: "the token's role does not cover this",
        429: "the token comes more often than it may",
        404: "no such name",
        409: "the present state forbids it",
        408: "the request did not come in time",
        413: "the body is too large",
        421: "the header Host is of another host",
        431: "headers over the bounds",
        422: "the request does not fit",
        503: "nothing can answer at the moment",
    }.items()
}
FILE_ANSWER: dict[int | str, dict[str, Any]] = {
    200: {"content": {"application/octet-stream": {"schema": {"type": "string", "format": "binary"}}}}
}
"""The answer of an address that gives a file of any kind."""


def the_node(request: Request) -> Node:
    """The node that the app was made for."""
    node: Node = request.app.state.node
    return node


@dataclass(frozen=True, slots=True)
class Caller:
    """The sender of an API request, and the address it came from."""

    principal: Principal
    address: str | None

    @property
    def token(self) -> str:
        """The name of the token."""
        return self.principal.token

    @property
    def role(self) -> Role:
        """Its role."""
        return self.principal.role

    @property
    def changed_by(self) -> ChangedBy:
        """The caller, as the trail records it."""
        return ChangedBy(self.token, self.address)

    def require_permission(self, permission: Permission, endpoint: str | None = None) -> None:
        """Raise NotAllowed unless the role covers it."""
        self.principal.require_permission(permission, endpoint)


async def the_caller(request: Request, node: Annotated[Node, Depends(the_node)]) -> Caller:
    """The caller of a request; raise NotSignedIn (401) for an unknown one."""
    address = request.client.host if request.client is not None else None
    return Caller(await node.auth.check(request.method, request.scope["headers"], address), address)


def require_permission(permission: Permission) -> Callable[[Caller], Awaitable[Caller]]:
    """A FastAPI dependency that requires the permission."""

    async def check(caller: Annotated[Caller, Depends(the_caller)]) -> Caller:
        caller.require_permission(permission)
        return caller

    return check


TheNode = Annotated[Node, Depends(the_node)]
RequireView = Annotated[Caller, Depends(require_permission("view"))]
Pusher = Annotated[Caller, Depends(require_permission("push"))]
Pointer = Annotated[Caller, Depends(require_permission("point"))]
Reviewer = Annotated[Caller, Depends(require_permission("review"))]
TokenKeeper = Annotated[Caller, Depends(require_permission("tokens"))]
DeskGuest = Annotated[Caller, Depends(require_permission("desk"))]
OutpostCaller = Annotated[Caller, Depends(require_permission("outpost"))]
RequireCaller = Annotated[Caller, Depends(the_caller)]
