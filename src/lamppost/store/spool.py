"""Append-only files that records pass through on their way to PostgreSQL.

A segment is one file, named by 32 hexadecimal digits that order by time. It begins with a line that says what wrote it; frames
follow: number in the segment (from 1), kind, calls, length, CRC-32 of all of it, then the payload. A torn last frame, as a crash leaves
it, is cut off when the folder is opened; what stands before it is whole. The database remembers per segment the number of the
last frame that it took, so a frame that is delivered twice is stored once.

At its bound the spool gives up payloads before counts: the oldest segments are first written again without inputs and answers,
then as counts alone. Frames keep their numbers through both. What was given up is counted.
"""

from __future__ import annotations

import contextlib
import logging
import os
import struct
import threading
import time
import zlib
from collections import Counter
from collections.abc import Callable, Iterator, Sequence
from dataclasses import dataclass
from functools import cached_property
from pathlib import Path
from typing import BinaryIO, Literal, NamedTuple
from uuid import uuid4

from lamppost.store.call_records import (
    CallBundle,
    CallCount,
    CallRecord,
    count_calls,
    join_bundles,
    pack_calls,
    read_counts,
    strip_payloads,
    unpack_calls,
    without_loads,
    write_counts,
)
from lamppost.store.copy_lines import read_copy_lines

log = logging.getLogger("lamppost.spool")

FIRST_LINE = b"lamppost spool 3\n"
_EARLIER = (b"lamppost spool 1\n", b"lamppost spool 2\n")
"""They kept calls as lines; what such software left is written anew."""
SEGMENT_BYTES = 8 * 2**20
_HEAD = struct.Struct("!IBIII")
_EARLIER_HEAD = struct.Struct("!IBII")
Kind = Literal["calls", "bare", "counts"]
KINDS: tuple[Kind, ...] = ("calls", "bare", "counts")
"""Whole records, records without payload, histogram counts."""


@dataclass(frozen=True)
class SpoolFrame:
    """The content of one frame. payload : calls as `lamppost.store.call_records.pack_calls` makes them, or for ``counts`` a JSON list."""

    segment: str
    number: int
    kind: Kind
    payload: bytes

    @cached_property
    def calls(self) -> list[CallRecord]:
        """The calls, none where only counts are left."""
        return [] if self.kind == "counts" else unpack_calls(self.payload)

    @cached_property
    def counts(self) -> Counter[CallCount]:
        """The number of calls of each kind in the frame."""
        return read_counts(self.payload) if self.kind == "counts" else count_calls(without_loads(self.calls))

    @property
    def total(self) -> int:
        """The number of calls in the frame."""
        return self.counts.total() if self.kind == "counts" else len(self.calls)


@dataclass(frozen=True, slots=True)
class SpoolPortion:
    """Frames of one segment, one after the other: those numbered above ``after``, up to ``until``, with so many calls.

    start, end : where they lie in the file, unless it was written again since.
    """

    path: str
    start: int
    end: int
    after: int
    until: int
    calls: int

    def read_frames(self) -> list[SpoolFrame]:
        """Read them; fewer than there were when a part of the file cannot be read."""
        frames: list[SpoolFrame] = []
        for start in (self.start, len(FIRST_LINE)):
            frames = []
            for frame in read_frames(Path(self.path), self.after, start):
                if frame.number <= self.until:
                    frames.append(frame)
                if frame.number >= self.until:  # what comes behind is another portion's
                    break
            if frames and frames[-1].number == self.until:
                break
        return frames


class Spool:
    """Segments in a folder; safe to use from several threads.

    waiting : calls that are not in the database yet. payloads_given_up, calls_given_up : what the bound has cost so far.
    """

    def __init__(self, folder: Path, most_bytes: int) -> None:
        self.most_bytes = most_bytes
        self.payloads_given_up = 0
        self.calls_given_up = 0
        self._folder = folder
        self._current: _Writer | None = None
        self._taken: dict[str, tuple[int, int]] = {}
        self._rewritten: set[str] = set()
        folder.mkdir(mode=0o700, parents=True, exist_ok=True)
        self._lock = threading.Lock()
        self.waiting = sum(_mend(path) for path in self._paths())

    def _paths(self) -> list[Path]:
        return sorted(self._folder.glob("*.spool"))

    @property
    def size(self) -> int:
        """Bytes of all files together."""
        total = 0
        for path in self._paths():
            with contextlib.suppress(FileNotFoundError):
                total += path.stat().st_size
        return total

    def append(self, bundles: Sequence[CallBundle]) -> None:
        """Write one frame of whole records.

        Raises
        ------
        OSError
            Nothing of the frame is kept: the disk is full, or cannot be written.
        """
        payload, calls = join_bundles(bundles), sum(bundle.calls for bundle in bundles)
        with self._lock:
            if self._current is None or self._current.bytes > SEGMENT_BYTES:
                self._end_segment()
                self._current = _Writer(self._folder / f"{time.time_ns() // 1_000_000:012x}{uuid4().hex[:20]}.spool")
            self._current.write("calls", calls, payload)
            self.waiting += calls
            if self.size > self.most_bytes:
                self._shrink()

    def sync(self) -> None:
        """Make what was appended survive a loss of power."""
        with self._lock:
            if self._current is not None:
                self._current.sync()

    def take_portion(self, most_bytes: int) -> SpoolPortion | None:
        """The oldest frames that are not done, all of one segment; at least one where there is any. Only their heads are read."""
        with self._lock:
            for path in self._paths():
                after, start = self._taken.get(path.stem, (0, len(FIRST_LINE)))
                until, end, calls = after, start, 0
                for head in _heads_of(path, start):
                    if head.number > after:
                        until, end, calls = head.number, head.end, calls + head.calls
                        if end - start >= most_bytes:
                            break
                if until > after:
                    return SpoolPortion(str(path), start, end, after, until, calls)
                if self._current is None or path != self._current.path:
                    path.unlink()
                    self._taken.pop(path.stem, None)
                    self._rewritten.discard(path.stem)
            return None

    def mark_delivered(self, portion: SpoolPortion) -> None:
        """Note that these frames, and those before them in their segment, are in the database."""
        segment = Path(portion.path).stem
        with self._lock:
            self._taken[segment] = (portion.until, len(FIRST_LINE) if segment in self._rewritten else portion.end)
            self.waiting -= portion.calls

    def close(self) -> None:
        """End the present segment, and delete segments that were delivered whole."""
        with self._lock:
            self._end_segment()
        self.take_portion(0)

    def _end_segment(self) -> None:
        if self._current is not None:
            self._current.sync()
            self._current.close()
            self._current = None

    def _shrink(self) -> None:
        """Drop the payloads of the oldest segments, and if that is not enough, everything but their counts."""
        steps: tuple[tuple[Kind, Callable[[SpoolFrame], bytes]], ...] = (("bare", _bare), ("counts", _counted))
        for kind, less in steps:
            for path in self._paths():
                if self.size <= self.most_bytes * 0.9:
                    return
                if self._current is not None and path == self._current.path:
                    self._end_segment()  # its own turn; what comes next begins another
                self._rewrite(path, kind, less)

    def _rewrite(self, path: Path, kind: Kind, less: Callable[[SpoolFrame], bytes]) -> None:
        number, start = self._taken.get(path.stem, (0, len(FIRST_LINE)))
        frames = list(read_frames(path, number, start))
        if all(KINDS.index(frame.kind) >= KINDS.index(kind) for frame in frames):
            return
        writer = _Writer(path.with_suffix(".less"))
        for frame in frames:
            calls = frame.total
            if KINDS.index(frame.kind) >= KINDS.index(kind):
                writer.write(frame.kind, calls, frame.payload, frame.number)
                continue
            if kind == "bare":
                self.payloads_given_up += calls
            else:
                self.calls_given_up += calls
            writer.write(kind, calls, less(frame), frame.number)
        writer.sync()
        writer.close()
        writer.path.replace(path)
        self._rewritten.add(path.stem)
        self._taken[path.stem] = (number, len(FIRST_LINE))
        log.warning("the spool is at its bound of %d MB: %s was cut to %s", self.most_bytes // 10**6, path.name, kind)


def _bare(frame: SpoolFrame) -> bytes:
    return pack_calls(strip_payloads(frame.calls))


def _counted(frame: SpoolFrame) -> bytes:
    return write_counts(frame.counts)


class _Writer:
    """A segment being written."""

    def __init__(self, path: Path) -> None:
        self.path = path
        self.number = 0
        descriptor = os.open(path, os.O_WRONLY | os.O_CREAT | os.O_TRUNC | os.O_CLOEXEC, 0o600)  # inputs and answers are in it
        self._file = os.fdopen(descriptor, "wb", buffering=0)
        self._file.write(FIRST_LINE)
        self.bytes = len(FIRST_LINE)

    def write(self, kind: Kind, calls: int, payload: bytes, number: int | None = None) -> None:
        number = self.number + 1 if number is None else number
        head = _HEAD.pack(number, KINDS.index(kind), calls, len(payload), 0)[:-4]
        data = b"".join((head, struct.pack("!I", zlib.crc32(payload, zlib.crc32(head))), payload))
        try:
            written = self._file.write(data)
            if written != len(data):
                raise OSError(28, "no space for a whole frame")
        except OSError:
            self._file.truncate(self.bytes)
            self._file.seek(self.bytes)
            raise
        self.number = number
        self.bytes += len(data)

    def sync(self) -> None:
        os.fdatasync(self._file.fileno())

    def close(self) -> None:
        self._file.close()


class _Head(NamedTuple):
    """Of a frame. sealed : what the checksum is of, beside the payload. end : of its payload, in the file."""

    number: int
    kind: Kind
    calls: int
    length: int
    checksum: int
    sealed: bytes
    end: int


def _heads(file: BinaryIO, start: int) -> Iterator[_Head]:
    """Heads from a place on, as far as the file goes; at each, the file stands where its payload begins."""
    size = os.fstat(file.fileno()).st_size
    while True:
        file.seek(start)
        raw = file.read(_HEAD.size)
        if len(raw) < _HEAD.size:
            return
        number, kind, calls, length, checksum = _HEAD.unpack(raw)
        start += _HEAD.size + length
        if kind >= len(KINDS) or start > size:
            return
        yield _Head(number, KINDS[kind], calls, length, checksum, raw[:-4], start)


def _heads_of(path: Path, start: int) -> Iterator[_Head]:
    with path.open("rb") as file:
        yield from _heads(file, start)


def read_frames(path: Path, after: int = 0, start: int = len(FIRST_LINE)) -> Iterator[SpoolFrame]:
    """The whole frames of a segment with a number above ``after``; it ends at the first that is torn or damaged."""
    try:
        file = path.open("rb")
    except FileNotFoundError:
        return
    with file:
        for head in _heads(file, start):
            if head.number > after:
                payload = _payload(file, head)
                if payload is None:
                    return
                yield SpoolFrame(path.stem, head.number, head.kind, payload)


def _payload(file: BinaryIO, head: _Head) -> bytes | None:
    """What stands behind a head; None where that is not what was written."""
    payload = file.read(head.length)
    return payload if zlib.crc32(payload, zlib.crc32(head.sealed)) == head.checksum else None


def _mend(path: Path) -> int:
    """Cut off what a crash left behind the last whole frame; how many calls stand before it."""
    with path.open("rb") as file:
        first = file.read(len(FIRST_LINE))
    size = path.stat().st_size
    if size <= len(FIRST_LINE) and any(line.startswith(first) for line in (FIRST_LINE, *_EARLIER)):
        path.unlink()
        return 0
    if first in _EARLIER:
        return _renew(path)
    if first != FIRST_LINE:
        log.error("%s is no spool of this version; it is left as %s.unread", path.name, path.stem)
        path.rename(path.with_suffix(".unread"))
        return 0
    whole, calls = len(FIRST_LINE), 0
    with path.open("rb") as file:
        for head in _heads(file, whole):
            if _payload(file, head) is None:
                break
            whole, calls = head.end, calls + head.calls
    if size > whole:
        log.warning("%s: %d bytes behind the last whole frame were cut off", path.name, size - whole)
        with path.open("r+b") as file:
            file.truncate(whole)
    return calls


def _renew(path: Path) -> int:
    """Write a segment of earlier software as today's; how many calls it has. Frames keep their numbers."""
    total, writer = 0, _Writer(path.with_suffix(".new"))
    with path.open("rb") as file:
        file.seek(len(FIRST_LINE))
        while len(head := file.read(_EARLIER_HEAD.size)) == _EARLIER_HEAD.size:
            number, kind, length, checksum = _EARLIER_HEAD.unpack(head)
            payload = file.read(length)
            if kind >= len(KINDS) or zlib.crc32(payload, zlib.crc32(head[:-4])) != checksum:
                break
            if KINDS[kind] == "counts":
                calls = read_counts(payload).total()
            else:
                read = read_copy_lines(payload)
                calls, payload = len(read), pack_calls(read)
            writer.write(KINDS[kind], calls, payload, number)
            total += calls
    writer.sync()
    writer.close()
    writer.path.replace(path)
    return total
