"""Ends background tasks for certain."""

from __future__ import annotations

import asyncio
from collections.abc import Iterable
from typing import Any

_AGAIN_S = 1.0


async def end_tasks(tasks: Iterable[asyncio.Task[Any]]) -> None:
    """Cancel tasks until all have ended.

    One cancellation is not enough for a task that asks over HTTP again and again: where a connection fails at the moment of the
    cancellation, the failure takes its place.
    """
    left = {task for task in tasks if not task.done()}
    while left:
        for task in left:
            task.cancel()
        _, left = await asyncio.wait(left, timeout=_AGAIN_S)
