"""Has pages drawn by processes of their own."""

from __future__ import annotations

import asyncio
import sys
from collections.abc import AsyncIterator
from contextlib import asynccontextmanager
from typing import Any, Literal

import orjson

from lamppost.core.errors import LampPostError, Unavailable
from lamppost.core.extras import check_extra

Form = Literal["html", "pdf"]
PageKind = Literal["report", "run_report", "sweep_report", "card"]
MEDIA_TYPES: dict[Form, str] = {"html": "text/html; charset=utf-8", "pdf": "application/pdf"}
_DRAW_S = 60.0
_MOST_WAITING = 4


class _Turns:
    """Callers that have their turn, or wait for it. waiting : how many."""

    def __init__(self) -> None:
        self.waiting = 0
        self.lock = asyncio.Lock()


_turns = _Turns()


@asynccontextmanager
async def in_turn() -> AsyncIterator[None]:
    """One caller at a time: to draw a page takes a hundred megabytes. Raise Unavailable where too many wait already."""
    if _turns.waiting >= _MOST_WAITING:
        raise Unavailable(f"{_MOST_WAITING} pages are being drawn already; ask again in a moment", retry_after_s=10)
    _turns.waiting += 1
    try:
        async with _turns.lock:
            yield
    finally:
        _turns.waiting -= 1


async def draw_page(kind: PageKind, facts: dict[str, Any], form: Form) -> bytes:
    """A page as bytes."""
    check_extra("reports")
    process = await asyncio.create_subprocess_exec(
        *(sys.executable, "-m", f"lamppost.service.pages.{kind}_page", form),
        stdin=asyncio.subprocess.PIPE,
        stdout=asyncio.subprocess.PIPE,
        stderr=asyncio.subprocess.PIPE,
    )
    try:
        document, error = await asyncio.wait_for(process.communicate(orjson.dumps(facts)), _DRAW_S)
    except BaseException:
        if process.returncode is None:
            process.kill()
        raise
    if process.returncode:
        raise LampPostError(f"the {kind.replace('_', ' ')} could not be drawn: {error.decode(errors='replace').strip()[-300:]}")
    return document
