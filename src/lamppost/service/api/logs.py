"""API for the log of all nodes."""

from __future__ import annotations

import asyncio
from dataclasses import asdict
from datetime import UTC, datetime, timedelta
from typing import Annotated

from fastapi import APIRouter, Query, Request

from lamppost.core.log_lines import Level, LogFilter
from lamppost.service.api.access import PROBLEMS, Pusher, TheNode
from lamppost.service.api.schemas.base import InstantWithOffset
from lamppost.service.api.schemas.logs import LogLineAnswer, LogLinesAnswer, NodeEntryAnswer
from lamppost.service.logs.fleet_logs import FleetLines, gather_lines
from lamppost.store.database import AWAY
from lamppost.store.nodes import list_nodes

router = APIRouter(prefix="/api", tags=["logs"], responses=PROBLEMS)

_PASSED_ON = ("authorization", "cookie")
_USUAL = timedelta(hours=1)


@router.get("/logs")
async def get_logs(
    request: Request,
    node: TheNode,
    _: Pusher,
    since: InstantWithOffset | None = None,
    level: Level = "info",
    about: Annotated[str | None, Query(max_length=200, description="an endpoint, version, node, worker (process id) or source")] = None,
    contains: Annotated[str | None, Query(max_length=200, description="a text in the message")] = None,
    request_id: Annotated[str | None, Query(max_length=64, description="of the call that a line belongs to")] = None,
    limit: Annotated[int, Query(ge=1, le=5_000)] = 500,
    here: Annotated[bool, Query(description="only the lines of this node")] = False,
) -> LogLinesAnswer:
    """The newest lines that the service, its workers and their code, and its record writers have written: of all nodes, oldest first."""
    began = since or datetime.now(UTC) - _USUAL
    route = node.deployment.table.by_endpoint.get(about or "")
    versions = frozenset() if route is None else frozenset(str(version) for version in route.setup.versions)
    wanted = LogFilter(began.timestamp(), level, about, versions, contains, request_id)
    own = await asyncio.to_thread(node.log_files.find, wanted, limit)
    if here:
        found = FleetLines(own, [])
    else:
        try:
            others = [other for other in await list_nodes(node.pool) if other.name != node.settings.name]
        except AWAY:
            others = []  # then nobody knows who else there is
        params = {"since": began.isoformat(), "level": level, "limit": limit, "here": True}
        params |= {key: value for key, value in (("about", about), ("contains", contains), ("request_id", request_id)) if value}
        headers = {name: request.headers[name] for name in _PASSED_ON if name in request.headers}
        found = await gather_lines(own, others, params, headers, limit)
    return LogLinesAnswer(lines=[LogLineAnswer(**asdict(line)) for line in found.lines], silent=found.silent)


@router.get("/nodes")
async def get_nodes(node: TheNode, _: Pusher) -> list[NodeEntryAnswer]:
    """The nodes that work with this database and were seen within a minute."""
    return [NodeEntryAnswer(**asdict(other)) for other in await list_nodes(node.pool)]
