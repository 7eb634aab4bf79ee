"""Drives one worker: sends frames that carry a batch of each lane with requests, and hands the answers back to the lanes.

While the worker is on one frame, requests gather in their lanes; when its answer comes the next frame goes out at once, and the answers are
read while the worker is on it. Everything happens in callbacks of the event loop, with no task in between. When the worker ends, every lane
seated in it is told and finds another worker.
"""

from __future__ import annotations

import asyncio
import itertools
import logging
import time
from collections.abc import Sequence
from dataclasses import dataclass
from pathlib import Path
from typing import Any, Protocol

from lamppost.runtime.wire import pack_frame
from lamppost.runtime.worker_process import SHORT_REPLY_BYTES, Frame, WorkerGone, WorkerProcess

log = logging.getLogger("lamppost.worker")

FRAME_ROWS = 2_048
"""Most rows of one frame, whatever lanes they are of."""
FRAME_LANES = 128

_numbers = itertools.count(1)


@dataclass(slots=True)
class FramePart:
    """One lane's share of a frame. batch : what the lane wants back with the answer. entries, body : its columns on the wire.

    request : the id of the request whose rows these are, where they are of one. private : whether messages must hold nothing of them.
    most_bytes : what the answer may have.
    """

    lane: SeatedLane
    batch: Any
    rows: int
    entries: list[Any]
    body: bytes
    request: str = ""
    private: bool = False
    most_bytes: int = SHORT_REPLY_BYTES


class SeatedLane(Protocol):
    """What a driver needs of a lane."""

    name: str

    @property
    def run_s(self) -> float:
        """Longest time for one batch, in seconds."""

    def usual_s(self, rows: int) -> float:
        """Seconds that so many rows usually take; 0 while that is not known."""

    def take_batch(self, room: int, now: float) -> FramePart | None:
        """The next batch, up to ``room`` rows; None if there is none."""

    def deliver_answers(self, part: FramePart, header: dict[str, Any], body: bytes, sent: float) -> None:
        """Take the answer to a part. sent : when the frame went out, by the monotonic clock."""

    def retry_interrupted(self, part: FramePart, reason: str, together: bool) -> None:
        """Handle a part whose worker ended. together : whether other lanes had parts in the same frame."""

    def replace_seat(self, driver: WorkerDriver, reason: str) -> None:
        """Replace the seat in a worker that has ended."""

    @property
    def exclusive_frame(self) -> bool:
        """Whether its next frame must hold no part of another lane."""


class WorkerDriver:
    """Drives one worker. needs : the kind of the worker. dedicated : whether it is for one lane only. frame_rows : most rows of a frame.

    usual_s : seconds that the frame in hand usually takes. hangs : whether it has been silent for so long that others take over its lanes'
    requests; until it answers.
    """

    def __init__(self, worker: WorkerProcess, needs: str, dedicated: bool, frame_rows: int = FRAME_ROWS) -> None:
        self.worker = worker
        self.needs = needs
        self.dedicated = dedicated
        self._frame_rows = frame_rows
        self.slots: dict[SeatedLane, int] = {}
        self.opening = 0
        self.frames = 0
        self._loop = asyncio.get_running_loop()
        self._ready: dict[SeatedLane, None] = {}
        self._flight: list[FramePart] = []
        self._sent = self._heard = 0.0
        self.hangs = False
        self.usual_s = 0.0
        self._timer: asyncio.TimerHandle | None = None
        self._due = False
        self._closed = False
        worker.on_end = self._on_worker_end

    @property
    def end_reason(self) -> str | None:
        """Why the worker has ended, None while it runs."""
        return self.worker.end_reason

    @property
    def busy(self) -> bool:
        """Whether the worker has a frame in hand."""
        return bool(self._flight)

    def silent_s(self, now: float) -> float:
        """Seconds since the worker got the frame that it is on, or answered a part of it; 0 when it has none. now : monotonic."""
        return now - self._heard if self._flight else 0.0

    @property
    def lanes_in_hand(self) -> list[SeatedLane]:
        """The lanes whose batches the worker is on."""
        return [part.lane for part in self._flight]

    async def open_lane(self, lane: SeatedLane, folder: Path, ask: dict[str, Any], timeout_s: float) -> dict[str, Any]:
        """Open a lane's package in the worker. Returns the header of the answer. Raise WorkerGone.

        folder : where the package is unpacked. ask : how to open it.
        """
        slot = next(_numbers)
        lent = await asyncio.to_thread(self.worker.home.put_package, folder, str(slot))
        header, _ = await self.worker.call(pack_frame({"op": "open", "slot": slot, "folder": str(lent), **ask}), timeout_s)
        if header.get("op") == "opened":
            self.slots[lane] = slot
            self.worker.note_shared_bytes(int(header.get("shared_bytes", 0)))
        return header

    async def run_batches(
        self, lane: SeatedLane, requests: Sequence[tuple[int, list[Any], bytes]], timeout_s: float, most_bytes: int
    ) -> list[Frame]:
        """Run batches of (rows, entries, body) past the queue, for proving and measuring. Raise WorkerGone.

        most_bytes : what all answers together may have.
        """
        slot = self.slots[lane]
        parts = [_part_header(slot, rows, entries, body) for rows, entries, body in requests]
        came: asyncio.Future[None] = self._loop.create_future()
        answers: list[Frame] = []

        def reply(received: Frame | WorkerGone) -> None:
            if came.done():
                return
            if isinstance(received, WorkerGone):
                came.set_exception(received)
                return
            answers.extend(_split(received))
            if len(answers) > len(requests):
                came.set_exception(WorkerGone("it answered more batches than it was asked"))
                return
            if not received[0].get("more"):
                came.set_result(None)

        self.worker.submit(pack_frame({"op": "run", "parts": parts}, b"".join(body for _, _, body in requests)), reply, most_bytes)
        try:
            await asyncio.wait_for(came, timeout_s)
        except TimeoutError:
            reason = f"it did not answer within {timeout_s:g} s and was stopped"
            self.worker.stop(reason)
            raise WorkerGone(reason) from None
        return answers

    def unseat_lane(self, lane: SeatedLane) -> None:
        """Remove a lane that has nothing in hand in this worker."""
        slot = self.slots.pop(lane, None)
        self._ready.pop(lane, None)
        if slot is not None and not self.dedicated:
            self.worker.submit(pack_frame({"op": "close", "slot": slot}), lambda _: self._remove_package(slot))

    def _remove_package(self, slot: int) -> None:
        self._loop.run_in_executor(None, self.worker.home.remove_package, str(slot))

    def schedule_lane(self, lane: SeatedLane, enough: bool = False) -> None:
        """Send what waits in a lane as soon as the worker is free.

        Requests of one turn of the event loop go together. enough : send at once, so that the worker begins while the rest is read.
        """
        self._ready[lane] = None
        if self._flight:
            return
        if enough:
            self._next()
        elif not self._due:
            self._due = True
            self._loop.call_soon(self._next)

    def _next(self) -> None:
        """Send the next frame, with lanes in turn."""
        self._due = False
        if self._flight or self.worker.end_reason is not None:
            return
        parts: list[FramePart] = []
        room, now = self._frame_rows, time.monotonic()  # the loop's own clock may go by whole milliseconds
        again: list[SeatedLane] = []
        while self._ready and room > 0 and len(parts) < FRAME_LANES:
            lane = next(iter(self._ready))
            if parts and (lane.exclusive_frame or parts[-1].lane.exclusive_frame):
                break
            del self._ready[lane]
            part = lane.take_batch(room, now)
            if part is not None:
                parts.append(part)
                room -= part.rows
                again.append(lane)
        for lane in again:
            self._ready[lane] = None  # to the end of the line; nothing waits there, perhaps, and then it falls out
        if not parts:
            self._ready.clear()
            return
        self._flight, self._sent, self._heard = parts, now, now
        self.usual_s = sum([part.lane.usual_s(part.rows) for part in parts])  # now: while a worker hangs, its lanes seem to get slower
        header = {
            "op": "run",
            "parts": [
                _part_header(self.slots[part.lane], part.rows, part.entries, part.body, part.request, part.private) for part in parts
            ],
        }
        body = parts[0].body if len(parts) == 1 else b"".join(part.body for part in parts)
        self._timer = self._loop.call_later(max(part.lane.run_s for part in parts), self._late)
        self.worker.submit(pack_frame(header, body), self._came, sum(part.most_bytes for part in parts))

    def _late(self) -> None:
        limit = max((part.lane.run_s for part in self._flight), default=0.0)
        self.worker.stop(f"it did not answer within {limit:g} s and was stopped")

    def _came(self, reply: Frame | WorkerGone) -> None:
        """Take answers of some or all parts. The next frame is sent before the answers are read."""
        if isinstance(reply, WorkerGone):
            self._lost(str(reply))
            return
        if self.hangs:
            log.warning("the worker of %s answers again", ", ".join(lane.name for lane in self.lanes_in_hand[:5]))
        self._heard, self.hangs = time.monotonic(), False
        header = reply[0]
        answers = _split(reply)
        if len(answers) > len(self._flight) or (not header.get("more") and len(answers) != len(self._flight)):
            reason = "it answered another number of batches than it was asked"
            self._lost(reason)
            self.worker.stop(reason)
            return
        done, self._flight = self._flight[: len(answers)], self._flight[len(answers) :]
        sent = self._sent
        if not self._flight:
            if self._timer is not None:
                self._timer.cancel()
            self.frames += 1
            self._next()
        for part, (entry, body) in zip(done, answers, strict=True):
            part.lane.deliver_answers(part, entry, body, sent)

    def _lost(self, reason: str) -> None:
        if self._timer is not None:
            self._timer.cancel()
        parts, self._flight = self._flight, []
        for part in parts:
            part.lane.retry_interrupted(part, reason, len(parts) > 1)

    def _on_worker_end(self, reason: str) -> None:
        """Tell the lanes that the worker has ended. Parts in flight were told before."""
        lanes = list(self.slots)
        self.slots.clear()
        self._ready.clear()
        if self._closed:
            return
        if lanes:
            log.warning("the worker of %s ended (%s)", ", ".join(lane.name for lane in lanes[:5]), reason)
        for lane in lanes:
            lane.replace_seat(self, reason)

    async def close(self) -> None:
        """End the worker."""
        self._closed = True
        await self.worker.close()


def _part_header(slot: int, rows: int, entries: list[Any], body: bytes, request: str = "", private: bool = False) -> dict[str, Any]:
    """The entry of a part in the header of a frame."""
    entry: dict[str, Any] = {"slot": slot, "rows": rows, "columns": entries, "bytes": len(body)}
    if request:
        entry["request"] = request
    if private:
        entry["private"] = True
    return entry


def _split(frame: Frame) -> list[Frame]:
    """The parts of an answer, each with its header and body. Sizes that do not add up are left for the lane to refuse."""
    header, body = frame
    parts = header.get("parts")
    if not isinstance(parts, list):
        return []
    answers, at = [], 0
    for part in parts:
        size = part.get("bytes", 0) if isinstance(part, dict) else 0
        size = size if isinstance(size, int) and size >= 0 else 0
        answers.append((part if isinstance(part, dict) else {}, body[at : at + size]))
        at += size
    return answers
