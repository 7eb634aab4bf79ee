"""Does the same for many things, some at the same time."""

from __future__ import annotations

import asyncio
from collections.abc import Awaitable, Callable, Iterable
from typing import TypeVar

Given = TypeVar("Given")
Found = TypeVar("Found")


async def do_for_each(things: Iterable[Given], do: Callable[[Given], Awaitable[Found]], at_once: int) -> list[Found]:
    """What ``do`` returns for each thing, in their order. Where one fails, the others are cancelled, and its error is raised."""
    turns = asyncio.Semaphore(at_once)

    async def take_turn(thing: Given) -> Found:
        async with turns:
            return await do(thing)

    tasks = [asyncio.create_task(take_turn(thing)) for thing in things]
    try:
        return await asyncio.gather(*tasks)
    finally:
        for task in tasks:
            task.cancel()
        await asyncio.gather(*tasks, return_exceptions=True)
