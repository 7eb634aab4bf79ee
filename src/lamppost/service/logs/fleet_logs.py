"""Asks all nodes for log lines, with the token of whoever asks, and puts them in order."""

from __future__ import annotations

import asyncio
from collections.abc import Mapping, Sequence
from dataclasses import dataclass
from typing import Any

import httpx
import orjson

from lamppost.core.log_lines import LogLine
from lamppost.service.outgoing_http import outgoing_client
from lamppost.store.nodes import StoredNode

_PATIENCE_S = 3.0
_MOST_BYTES = 32 * 2**20


@dataclass(frozen=True, slots=True)
class FleetLines:
    """Lines of all nodes, oldest first. silent : nodes that did not answer."""

    lines: list[LogLine]
    silent: list[str]


async def gather_lines(
    own: list[LogLine], others: Sequence[StoredNode], params: Mapping[str, Any], headers: Mapping[str, str], limit: int
) -> FleetLines:
    """The newest lines of this node and of others. headers : by which the asker is known; every node checks them itself."""
    answers = await asyncio.gather(*(_ask(node, params, headers) for node in others))
    lines = [*own, *(line for answer in answers if answer is not None for line in answer)]
    lines.sort(key=lambda line: (line.at, line.node, line.number))
    silent = [node.name for node, answer in zip(others, answers, strict=True) if answer is None]
    return FleetLines(lines[-limit:], silent)


async def _ask(node: StoredNode, params: Mapping[str, Any], headers: Mapping[str, str]) -> list[LogLine] | None:
    """The lines of another node; None if it does not answer as it should."""
    try:
        client = await outgoing_client(node.address, _PATIENCE_S)
        async with client, client.stream("GET", f"{node.address}/api/logs", params=params, headers=headers) as response:
            if response.status_code != 200:
                return None
            body = bytearray()
            async for piece in response.aiter_bytes():
                body += piece
                if len(body) > _MOST_BYTES:
                    return None
        return [LogLine(**line) for line in orjson.loads(body)["lines"]]
    except (httpx.HTTPError, httpx.InvalidURL, orjson.JSONDecodeError, KeyError, TypeError, ValueError):
        return None
