"""Has a page drawn by a process of its own, one at a time."""

from __future__ import annotations

import asyncio
import sys
from typing import Any, Literal

import orjson

from lamppost.core.errors import LampPostError, Unavailable
from lamppost.core.extras import check_extra

Form = Literal["html", "pdf"]
PageKind = Literal["report", "card"]
MEDIA_TYPES: dict[Form, str] = {"html": "text/html; charset=utf-8", "pdf": "application/pdf"}
_DRAW_S = 60.0
_MOST_WAITING = 4


class _InTurn:
    """Lets one page be drawn at a time: each takes a hundred megabytes. waiting : those in hand, and those that wait."""

    def __init__(self) -> None:
        self.waiting = 0
        self._lock = asyncio.Lock()

    async def __aenter__(self) -> None:
        self.waiting += 1
        try:
            await self._lock.acquire()
        except BaseException:
            self.waiting -= 1
            raise

    async def __aexit__(self, *_: object) -> None:
        self.waiting -= 1
        self._lock.release()


_turns = _InTurn()


def check_turn() -> None:
    """Raise Unavailable where too many pages are waited for already."""
    if _turns.waiting >= _MOST_WAITING:
        raise Unavailable(f"{_MOST_WAITING} pages are being drawn already; ask again in a moment", retry_after_s=10)


async def draw_page(kind: PageKind, facts: dict[str, Any], form: Form) -> bytes:
    """A page as bytes, once those before it are drawn."""
    check_extra("reports")
    async with _turns:
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
        raise LampPostError(f"the {kind} could not be drawn: {error.decode(errors='replace').strip()[-300:]}")
    return document
