"""Brings the records of an outpost to its hub: every count and sketch, and inputs and answers as far as the day's budget allows.

Rows are counted here, before anything is left out. Where inputs and answers do not fit into what is left of the budget, an even sample of
the calls keeps theirs, and the hub is told how many do not. The day is that of UTC.
"""

from __future__ import annotations

import asyncio
import contextlib
import logging
import time
from collections.abc import Awaitable, Callable, Iterable, Mapping, Sequence
from dataclasses import dataclass
from datetime import UTC, datetime
from pathlib import Path

import orjson

from lamppost.core.endpoint.even_samples import SENT_HOME, is_in_sample
from lamppost.core.errors import BadRequest, Conflict, DatabaseAway, LampPostError, NotFound, Unavailable
from lamppost.core.names import VersionName, parse_version
from lamppost.core.payload.outpost_records import SentFrame, SentRecords, SentWindow
from lamppost.service.outpost.hub_link import HubLink
from lamppost.service.records.window_counting import WindowCounting
from lamppost.store.call_records import CallRecord, pack_calls, write_counts
from lamppost.store.records import CountedFrames
from lamppost.store.set_aside import SetAsideFrames
from lamppost.store.spool import SpoolFrame, SpoolPortion

log = logging.getLogger("lamppost.records")


@dataclass(slots=True)
class DayBudget:
    """What of one day was sent. day : in UTC. sent_bytes : of inputs and answers. left_out : calls that went without theirs."""

    day: str = ""
    sent_bytes: int = 0
    left_out: int = 0


class PayloadBudget:
    """Bytes of inputs and answers a day, kept in a file over restarts. most_bytes : None for any amount."""

    def __init__(self, file: Path) -> None:
        self.most_bytes: int | None = None
        self._file = file
        self._spent = DayBudget()
        with contextlib.suppress(OSError, ValueError, TypeError):  # of the first start, or damaged: the day begins anew
            self._spent = DayBudget(**orjson.loads(file.read_bytes()))

    def spent_on(self, now: float) -> DayBudget:
        """What was sent on the day of a time, in seconds since 1970."""
        day = datetime.fromtimestamp(now, UTC).date().isoformat()
        if self._spent.day != day:
            self._spent = DayBudget(day)
        return self._spent

    def spend(self, now: float, sent_bytes: int, left_out: int) -> None:
        """Note what was sent."""
        spent = self.spent_on(now)
        spent.sent_bytes += sent_bytes
        spent.left_out += left_out
        part = self._file.with_suffix(".part")
        part.write_bytes(orjson.dumps({"day": spent.day, "sent_bytes": spent.sent_bytes, "left_out": spent.left_out}))
        part.replace(self._file)

    def allowed_share(self, now: float, wanted_bytes: int) -> float:
        """The share of so many bytes that the rest of the day's budget allows, 0 to 1."""
        if self.most_bytes is None or not wanted_bytes:
            return 1.0
        return max(0.0, min(1.0, (self.most_bytes - self.spent_on(now).sent_bytes) / wanted_bytes))


class TakenVersions:
    """What a hub takes records of from a node that serves files of its own. names : of versions there, by digest. endpoints : of which it
    takes records from here.

    digest_of : of a version as this node calls it.
    """

    def __init__(self, digest_of: Callable[[VersionName], Awaitable[str]]) -> None:
        self.names: dict[str, str] = {}
        self.endpoints: frozenset[str] = frozenset()
        self._asked: set[str] = set()
        self._digest_of = digest_of

    def take(self, digests: Iterable[str], names: Mapping[str, str], endpoints: Iterable[str]) -> None:
        """Note what the hub says of packages. names : of those that it has."""
        self._asked |= set(digests)
        self.names |= names
        self.endpoints = frozenset(endpoints)

    async def translate(self, counted: CountedFrames) -> CountedFrames:
        """Frames and counts with the names of the hub, without what it does not take. Raise DatabaseAway before the hub has said it."""
        used = {call.version for frame in counted.frames for call in frame.calls} | {delta.version for delta in counted.deltas}
        used |= {count.version for frame in counted.frames for count in frame.counts}
        names = {version: await self._name_of(version) for version in used if version}
        return await asyncio.to_thread(self._translated, counted, names)

    async def _name_of(self, version: str) -> str | None:
        try:
            digest = await self._digest_of(parse_version(version))
        except (NotFound, Unavailable):
            return None
        if digest not in self._asked:
            raise DatabaseAway(f"the hub has not said yet whether it has the package of {version}", retry_after_s=1)
        return self.names.get(digest)

    def _translated(self, counted: CountedFrames, names: dict[str, str | None]) -> CountedFrames:
        frames, odd, place, kept = [], {}, 0, 0
        for frame in counted.frames:
            calls = []
            for call in frame.calls:
                name = names.get(call.version) if call.version else None
                if call.endpoint in self.endpoints and (name is not None or not call.version):
                    calls.append(call._replace(version=name))
                    if place in counted.odd:
                        odd[kept] = counted.odd[place]
                    kept += 1
                place += 1
            if frame.kind == "counts":
                counts = {
                    count._replace(version=names.get(count.version) or ""): calls_of
                    for count, calls_of in frame.counts.items()
                    if count.endpoint in self.endpoints and (names.get(count.version) is not None or not count.version)
                }
                payload = write_counts(counts)
            else:
                payload = pack_calls(calls)
            frames.append(SpoolFrame(frame.segment, frame.number, frame.kind, payload))
        deltas = [
            delta._replace(version=name)
            for delta in counted.deltas
            if delta.endpoint in self.endpoints and (name := names.get(delta.version)) is not None
        ]
        return CountedFrames(frames, deltas, odd)


class HubSink:
    """A sink of the recorder; see the module. taken : of a node that serves files of its own."""

    def __init__(self, link: HubLink, counting: WindowCounting, budget: PayloadBudget, taken: TakenVersions | None = None) -> None:
        self._taken = taken
        self._link = link
        self._counting = counting
        self._budget = budget
        self._sampled = 0

    async def __call__(self, portion: SpoolPortion) -> int:
        """Bring the frames of a portion; returns how many of their calls are lost. Raise DatabaseAway while the hub takes nothing."""
        frames = await asyncio.to_thread(portion.read_frames)
        unread = portion.calls - sum(frame.total for frame in frames) if not frames or frames[-1].number < portion.until else 0
        if unread:
            log.error("%d calls of %s cannot be read any more", unread, portion.path)
        return unread + (await self._bring(frames, SetAsideFrames(Path(portion.path).parent)) if frames else 0)

    async def _bring(self, frames: Sequence[SpoolFrame], aside: SetAsideFrames) -> int:
        counted = await self._counting.count_frames(frames)
        if self._taken is not None:
            counted = await self._taken.translate(counted)
        sent, payload_bytes = await asyncio.to_thread(self._fit_to_budget, counted)
        try:
            lost = await self._link.bring_records(sent)
        except Conflict as error:
            through = error.extra.get("through")
            if not isinstance(through, int):
                raise DatabaseAway(error.detail, retry_after_s=5) from error
            later = [frame for frame in frames if frame.number > through]
            return await self._bring(later, aside) if later and len(later) < len(frames) else 0
        except BadRequest as error:
            if len(frames) > 1:
                return sum([await self._bring([frame], aside) for frame in frames])
            log.error("frame %d of %s is set aside, the hub does not take it: %s", frames[0].number, frames[0].segment, error.detail)
            await asyncio.to_thread(aside.add_frame, frames[0], error)
            return 0
        except LampPostError as error:
            raise DatabaseAway(error.detail, retry_after_s=5) from error
        await asyncio.to_thread(self._budget.spend, time.time(), payload_bytes, sent.left_out)
        return lost

    def _fit_to_budget(self, counted: CountedFrames) -> tuple[SentRecords, int]:
        """What is sent of frames, and how many bytes of it are inputs and answers."""
        wanted = sum(_payload_bytes(call) for frame in counted.frames for call in frame.calls)
        share = self._budget.allowed_share(time.time(), wanted)
        frames, kept_bytes, left_out = [], 0, 0
        for frame in counted.frames:
            payload = frame.payload
            if share < 1.0 and frame.kind == "calls":
                calls = []
                for call in frame.calls:
                    keep = self._keeps(share)
                    kept_bytes += _payload_bytes(call) if keep else 0
                    left_out += not keep and _payload_bytes(call) > 0
                    calls.append(call if keep else call._replace(input=None, answer=None))
                payload = pack_calls(calls)
            frames.append(SentFrame(frame.number, frame.kind, payload))
        windows = [
            SentWindow(delta.endpoint, delta.version, delta.at.timestamp(), delta.rows, delta.odd, delta.data) for delta in counted.deltas
        ]
        records = SentRecords(counted.frames[0].segment, frames, windows, dict(counted.odd), left_out)
        return records, wanted if share >= 1.0 else kept_bytes

    def _keeps(self, share: float) -> bool:
        """Whether the next call is of an even sample."""
        self._sampled += 1
        return is_in_sample(self._sampled, SENT_HOME, share)

    async def close(self) -> None:
        """End the connections to the hub: nothing follows the records."""
        await self._link.close()


def _payload_bytes(call: CallRecord) -> int:
    return len(call.input or b"") + len(call.answer or b"")
