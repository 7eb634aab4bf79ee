"""Keeps lanes open for as long as they are needed. Whatever needs lanes is a holder: a route, what an endpoint would go back to, the
shadows of an endpoint, a visit, or one use. A holder keeps a set of versions, and keeping another set replaces the one before. A lane is
opened when it is first asked for, and closed when the last holder lets go of it; requests that it has in hand are finished first.
"""

from __future__ import annotations

import asyncio
import itertools
import logging
from collections import Counter, defaultdict
from collections.abc import AsyncIterator, Callable, Coroutine, Hashable, Iterable, Iterator, Sequence
from contextlib import asynccontextmanager, contextmanager
from typing import Any, Literal

from lamppost.core.errors import LampPostError, Unavailable
from lamppost.core.names import VersionName
from lamppost.runtime.lane import Lane

log = logging.getLogger("lamppost.deployment")

Purpose = Literal["route", "rollback", "shadow", "visit", "use"]
Holder = tuple[Purpose, Hashable]
OpenLane = Callable[[VersionName, float, bool], Coroutine[Any, Any, Lane]]
"""Opens and proves a version. Arguments: its name; for how many seconds to measure it; whether it needs a worker of its own."""

_VISIT_S = 60.0
_MAX_VISITS = 4


class LaneLeases:
    """The open lanes of one node, and who keeps them open."""

    def __init__(self, open_lane: OpenLane) -> None:
        self._open_lane = open_lane
        self._lanes: dict[VersionName, asyncio.Task[Lane]] = {}
        self._held: dict[Holder, tuple[VersionName, ...]] = {}
        self._purposes: defaultdict[VersionName, Counter[Purpose]] = defaultdict(Counter)
        self._closing: set[asyncio.Task[None]] = set()
        self._numbers = itertools.count()
        self._visits: dict[VersionName, asyncio.TimerHandle] = {}

    def hold(self, holder: Holder, versions: Iterable[VersionName]) -> None:
        """Keep the lanes of these versions open for a holder, in place of those that the holder kept before. Opens none."""
        before, now = self._held.pop(holder, ()), tuple(versions)
        if now:
            self._held[holder] = now
        for version in now:
            self._purposes[version][holder[0]] += 1
        for version in before:
            self._purposes[version][holder[0]] -= 1
            self._close_unheld(version)

    def release(self, holder: Holder) -> None:
        """Release everything that a holder keeps open."""
        self.hold(holder, ())

    def held_by(self, purpose: Purpose) -> dict[Hashable, tuple[VersionName, ...]]:
        """What the holders of one purpose keep open, by the holder's own name."""
        return {name: versions for (kind, name), versions in self._held.items() if kind == purpose}

    def is_held(self, version: VersionName, *purposes: Purpose) -> bool:
        """Whether a holder of one of these purposes keeps a version open."""
        counts = self._purposes.get(version)
        return counts is not None and any(counts[purpose] > 0 for purpose in purposes)

    async def lane(self, version: VersionName, measure_s: float = 0.0, dedicated: bool = False) -> Lane:
        """The open, proven lane of a version that the caller holds; raise what opening it raises."""
        if version not in self._purposes:
            raise Unavailable(f"{version} was let go before it was opened; try again", retry_after_s=1)
        task = self._lanes.get(version)
        if task is None:
            task = self._lanes[version] = asyncio.create_task(self._open_lane(version, measure_s, dedicated), name=f"open {version}")
        try:
            return await asyncio.shield(task)
        except BaseException:
            if task.done() and self._lanes.get(version) is task:
                del self._lanes[version]
            raise

    def open_lane(self, version: VersionName) -> Lane | None:
        """The lane of a version that is open already, None for any other."""
        task = self._lanes.get(version)
        if task is None or not task.done() or task.cancelled() or task.exception() is not None:
            return None
        return task.result()

    @asynccontextmanager
    async def opened(self, versions: Sequence[VersionName], measure_s: float = 0.0) -> AsyncIterator[dict[str, Lane]]:
        """Open lanes by the names of their versions, kept open inside the block; all of them, or the first error."""
        with self.kept_open(versions):
            if len(versions) == 1:
                yield {str(versions[0]): await self.lane(versions[0], measure_s)}
                return
            lanes = await asyncio.gather(*(self.lane(version, measure_s) for version in versions), return_exceptions=True)
            for lane in lanes:
                if isinstance(lane, BaseException):
                    raise lane
            yield {str(version): lane for version, lane in zip(versions, lanes, strict=True) if isinstance(lane, Lane)}

    @contextmanager
    def kept_open(self, versions: Sequence[VersionName]) -> Iterator[None]:
        """Keep lanes that are open already from being closed inside the block, whatever endpoints are pointed at meanwhile."""
        holder: Holder = ("use", next(self._numbers))
        self.hold(holder, versions)
        try:
            yield
        finally:
            self.release(holder)

    @asynccontextmanager
    async def visited(self, version: VersionName) -> AsyncIterator[Lane]:
        """An open lane of any version, served or not, for a few requests. It stays open for a minute in case more follow.

        Raise NotFound, ProofFailed, PackageRefused, or Unavailable while too many versions are visited.
        """
        if version not in self._visits and len(self._visits) >= _MAX_VISITS:
            raise Unavailable(
                f"{_MAX_VISITS} versions that nothing serves are being looked at already; try again in a minute", retry_after_s=30
            )
        async with self.opened([version]) as lanes:
            self._end_visit(version)
            self.hold(("visit", version), [version])
            self._visits[version] = asyncio.get_running_loop().call_later(_VISIT_S, self._end_visit, version)
            yield lanes[str(version)]

    def _end_visit(self, version: VersionName) -> None:
        if (timer := self._visits.pop(version, None)) is not None:
            timer.cancel()
            self.release(("visit", version))

    async def close(self) -> None:
        """Let every holder go, and wait until the lanes are closed."""
        for version in list(self._visits):
            self._end_visit(version)
        for holder in list(self._held):
            self.release(holder)
        await asyncio.gather(*self._closing, return_exceptions=True)

    def _close_unheld(self, version: VersionName) -> None:
        if self._purposes[version].total() > 0:
            return
        del self._purposes[version]
        if version in self._lanes:
            task = asyncio.create_task(self._close_lane(version, self._lanes.pop(version)), name=f"close {version}")
            self._closing.add(task)
            task.add_done_callback(self._closing.discard)

    async def _close_lane(self, version: VersionName, opening: asyncio.Task[Lane]) -> None:
        try:
            lane = await opening
        except LampPostError:
            return
        await lane.close()
        log.info("%s was closed: nothing uses it any more", version)
