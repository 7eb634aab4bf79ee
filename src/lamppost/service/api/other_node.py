"""Passes a request on to the node that has what it asks for: parts of bulk runs and uploaded files lie on one node's disk.

The other node gets the sender's own token or session, and checks it itself. A request is passed on once at most.
"""

from __future__ import annotations

from collections.abc import AsyncIterator, Mapping
from contextlib import AsyncExitStack
from typing import Any
from urllib.parse import quote

import httpx
from fastapi import Request
from fastapi.responses import StreamingResponse
from pydantic import BaseModel

from lamppost.core.errors import Conflict, Unavailable
from lamppost.service.node import Node
from lamppost.service.outgoing_http import outgoing_client
from lamppost.store.nodes import list_nodes

PASSED_ON = "passed-on-by"
"""Header of a request that another node has passed on, with its name."""
_SENT = ("authorization", "cookie", "content-type", "accept", "range", "if-range")
_RETURNED = frozenset(
    {"content-type", "content-length", "content-disposition", "content-range", "accept-ranges", "retry-after", "etag", "last-modified"}
)
_PATIENCE_S = 300.0


class OnOtherNode(Conflict):
    """What a request asks for is on another node. body : of a request that was read already; None where it is still to be read."""

    def __init__(self, node: str, what: str, body: BaseModel | None = None) -> None:
        super().__init__(f"{what} on the node {node}, which does not answer; start it, or ask again later", node=node)
        self.node = node
        self.body = body


def require_here(node: Node, owner: str, what: str, body: BaseModel | None = None) -> None:
    """Raise OnOtherNode unless something is on this node. owner : the node that it is on. what : such as "the files of a run are"."""
    if owner != node.settings.name:
        raise OnOtherNode(owner, what, body)


async def pass_on(request: Request, node: Node, error: OnOtherNode) -> StreamingResponse:
    """The other node's answer to a request. Raise the error where that node is not there, or Unavailable where it does not answer."""
    if PASSED_ON in request.headers:
        raise error
    owner = next((other for other in await list_nodes(node.pool) if other.name == error.node), None)
    if owner is None:
        raise error
    headers = {name: request.headers[name] for name in _SENT if name in request.headers}
    headers |= {PASSED_ON: node.settings.name, "accept-encoding": "identity"}  # this node compresses for the sender
    content: Any = request.stream() if error.body is None else error.body.model_dump_json().encode()
    async with AsyncExitStack() as stack:
        client = await stack.enter_async_context(await outgoing_client(owner.address, _PATIENCE_S))
        target = f"{owner.address.rstrip('/')}{quote(request.scope['path'])}"
        sending = client.build_request(
            request.method,
            target,
            params=httpx.QueryParams(request.url.query),
            headers=headers,
            content=None if request.method in ("GET", "HEAD", "DELETE") else content,
        )
        try:
            reply = await client.send(sending, stream=True)
        except (httpx.HTTPError, httpx.InvalidURL) as fault:
            raise Unavailable(f"{error.detail} ({type(fault).__name__})", retry_after_s=5) from fault
        stack.push_async_callback(reply.aclose)
        return StreamingResponse(_body_of(reply, stack.pop_all()), reply.status_code, _returned(reply.headers))


async def _body_of(reply: httpx.Response, held: AsyncExitStack) -> AsyncIterator[bytes]:
    async with held:
        async for piece in reply.aiter_raw():
            yield piece


def _returned(headers: Mapping[str, str]) -> dict[str, str]:
    return {name: headers[name] for name in _RETURNED if name in headers}
