"""Runs what takes more than some milliseconds in a thread beside the event loop: large bodies are read there, and large answers written.

One thread for all of them: several would take the interpreter from the loop several times as often, and be no faster together.
"""

from __future__ import annotations

import asyncio
from collections.abc import Callable
from concurrent.futures import ThreadPoolExecutor
from typing import TypeVar

from lamppost.core.payload.text_formats import JSON

T = TypeVar("T")

_SMALL_JSON_BYTES = 64 * 2**10
_SMALL_BYTES = 8 * 2**10
"""Of other types, which are read cell by cell."""
_SMALL_ROWS = 500
_thread = ThreadPoolExecutor(1, thread_name_prefix="bodies")


def is_small_body(content_type: str, size_bytes: int) -> bool:
    """Whether a body is read in a millisecond or two."""
    return size_bytes <= (_SMALL_JSON_BYTES if content_type == JSON else _SMALL_BYTES)


def is_small_answer(rows: int) -> bool:
    """Whether so many rows are written in a millisecond or two."""
    return rows <= _SMALL_ROWS


async def run_beside(work: Callable[[], T]) -> T:
    """The result of some work that is done in the thread."""
    return await asyncio.get_running_loop().run_in_executor(_thread, work)
