"""Reads what a process beside prints, line by line."""

from __future__ import annotations

import asyncio
from collections.abc import AsyncIterator


async def lines_of(stream: asyncio.StreamReader) -> AsyncIterator[bytes]:
    """The lines of a stream until it ends, each with its line break. A line over the stream's limit comes in pieces."""
    while True:
        try:
            yield await stream.readuntil(b"\n")
        except asyncio.LimitOverrunError as error:
            yield await stream.readexactly(max(1, error.consumed))
        except asyncio.IncompleteReadError as error:
            if error.partial:
                yield error.partial
            return
