"""Caches an answer for ten times as long as it took to compute; concurrent callers share one computation."""

from __future__ import annotations

import asyncio
import time
from collections.abc import Awaitable, Callable
from typing import Generic, TypeVar

T = TypeVar("T")

_TIMES = 10
"""An answer is kept for so many times as long as it took: what is cheap is always new, and what is dear costs a tenth at most."""


class CostAwareCache(Generic[T]):
    """A cached value. Callers that ask while it is being computed wait for that computation; failures are not cached."""

    def __init__(self, ask: Callable[[], Awaitable[T]], clock: Callable[[], float] = time.monotonic) -> None:
        self._ask = ask
        self._clock = clock
        self._lock = asyncio.Lock()
        self._value_until: tuple[float, T] | None = None

    async def get(self) -> T:
        """The value, computed anew if the cached one has expired."""
        async with self._lock:
            begun = self._clock()
            if self._value_until is None or self._value_until[0] <= begun:
                value = await self._ask()
                ended = self._clock()
                self._value_until = (ended + _TIMES * (ended - begun), value)
            return self._value_until[1]
