"""The spool: append-only files that records pass through on their way to PostgreSQL.

A segment is one file, named by 32 hexadecimal digits that order by time. It begins with a line that says what wrote it; frames
follow: number in the segment (from 1), kind, length, CRC-32 of all of it, then the payload. A torn last frame, as a crash leaves
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
from collections.abc import Callable, Iterator, Sequence
from dataclasses import dataclass, replace
from pathlib import Path
from typing import Literal
from uuid import uuid4

from lamppost.store.lines import counts_of, of_first_format, read_counts, without_payload

log = logging.getLogger("lamppost.spool")

FIRST_LINE = b"lamppost spool 2\n"
_FIRST_FORMAT = b"lamppost spool 1\n"
"""Of earlier software; what it left is read all the same."""
SEGMENT_BYTES = 8 * 2**20
_HEAD = struct.Struct("!IBII")
Kind = Literal["calls", "bare", "counts"]
KINDS: tuple[Kind, ...] = ("calls", "bare", "counts")
"""Whole records, records without payload, histogram counts."""


@dataclass(frozen=True, slots=True)
class Frame:
    """What one append wrote. payload : lines of COPY's text format, or for ``counts`` a JSON list."""

    segment: str
    number: int
    kind: Kind
    payload: bytes

    @property
    def calls(self) -> int:
        """How many calls it tells of."""
        return self.payload.count(b"\n") if self.kind != "counts" else sum(read_counts(self.payload).values())


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
        self._taken: dict[str, int] = {}
        folder.mkdir(parents=True, exist_ok=True)
        self._lock = threading.Lock()
        for path in self._paths():
            _mend(path)
        self.waiting = sum(frame.calls for path in self._paths() for frame in read_frames(path))

    def _paths(self) -> list[Path]:
        return sorted(self._folder.glob("*.spool"))

    @property
    def size(self) -> int:
        """What the files hold together."""
        total = 0
        for path in self._paths():
            with contextlib.suppress(FileNotFoundError):
                total += path.stat().st_size
        return total

    def append(self, payload: bytes) -> None:
        """Write one frame of whole records.

        Raises
        ------
        OSError
            Nothing of the frame is kept: the disk is full, or cannot be written.
        """
        with self._lock:
            if self._current is None or self._current.bytes > SEGMENT_BYTES:
                self._end_segment()
                self._current = _Writer(self._folder / f"{time.time_ns() // 1_000_000:012x}{uuid4().hex[:20]}.spool")
            self._current.write("calls", payload)
            self.waiting += payload.count(b"\n")
            if self.size > self.most_bytes:
                self._shrink()

    def sync(self) -> None:
        """See to it that what was appended survives a loss of power."""
        with self._lock:
            if self._current is not None:
                self._current.sync()

    def take(self, most_bytes: int) -> list[Frame]:
        """The oldest frames that are not done, all of one segment; at least one where there is any."""
        with self._lock:
            for path in self._paths():
                frames: list[Frame] = []
                size = 0
                for frame in read_frames(path, after=self._taken.get(path.stem, 0)):
                    frames.append(frame)
                    size += len(frame.payload)
                    if size >= most_bytes:
                        break
                if frames:
                    return frames
                if self._current is None or path != self._current.path:
                    path.unlink()
                    self._taken.pop(path.stem, None)
            return []

    def done(self, frames: Sequence[Frame]) -> None:
        """These frames, and those before them in their segment, are in the database."""
        with self._lock:
            self._taken[frames[-1].segment] = frames[-1].number
            self.waiting -= sum(frame.calls for frame in frames)

    def close(self) -> None:
        """Nothing is appended any more; segments that were delivered whole go."""
        with self._lock:
            self._end_segment()
        self.take(0)

    def _end_segment(self) -> None:
        if self._current is not None:
            self._current.sync()
            self._current.close()
            self._current = None

    def _shrink(self) -> None:
        """Give up the payloads of the oldest, and where that is not enough, all but their counts."""
        steps: tuple[tuple[Kind, Callable[[bytes], bytes]], ...] = (("bare", without_payload), ("counts", counts_of))
        for kind, less in steps:
            for path in self._paths():
                if self.size <= self.most_bytes * 0.9:
                    return
                if self._current is not None and path == self._current.path:
                    self._end_segment()  # its own turn; what comes next begins another
                self._rewrite(path, kind, less)

    def _rewrite(self, path: Path, kind: Kind, less: Callable[[bytes], bytes]) -> None:
        frames = list(read_frames(path, after=self._taken.get(path.stem, 0)))
        if all(KINDS.index(frame.kind) >= KINDS.index(kind) for frame in frames):
            return
        writer = _Writer(path.with_suffix(".less"))
        for frame in frames:
            if KINDS.index(frame.kind) >= KINDS.index(kind):
                writer.write(frame.kind, frame.payload, frame.number)
                continue
            calls = frame.payload.count(b"\n")
            if kind == "bare":
                self.payloads_given_up += calls
            else:
                self.calls_given_up += calls
            writer.write(kind, less(frame.payload), frame.number)
        writer.sync()
        writer.close()
        writer.path.replace(path)
        log.warning("the spool is at its bound of %d MB: %s was cut to %s", self.most_bytes // 10**6, path.name, kind)


class _Writer:
    """A segment being written."""

    def __init__(self, path: Path) -> None:
        self.path = path
        self.number = 0
        self._file = path.open("wb", buffering=0)
        self._file.write(FIRST_LINE)
        self.bytes = len(FIRST_LINE)

    def write(self, kind: Kind, payload: bytes, number: int | None = None) -> None:
        number = self.number + 1 if number is None else number
        head = _HEAD.pack(number, KINDS.index(kind), len(payload), 0)[:-4]
        data = head + struct.pack("!I", zlib.crc32(payload, zlib.crc32(head))) + payload
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


def read_frames(path: Path, after: int = 0, convert: bool = True) -> Iterator[Frame]:
    """The whole frames of a segment with a number above ``after``; it ends at the first that is torn or damaged.

    convert : lines of the first format come with the columns of today.
    """
    try:
        file = path.open("rb")
    except FileNotFoundError:
        return
    with file:
        first = file.read(len(FIRST_LINE))
        if first not in (FIRST_LINE, _FIRST_FORMAT):
            return
        while (read := _read_one(file.read, path.stem, after)) is not None:
            if isinstance(read, Frame):
                old = first == _FIRST_FORMAT and read.kind != "counts" and convert
                yield replace(read, payload=of_first_format(read.payload)) if old else read
            else:
                file.seek(read, os.SEEK_CUR)


def _read_one(read: Callable[[int], bytes], segment: str, after: int) -> Frame | int | None:
    """The next frame; a number of bytes to step over when it was done before; None at the end."""
    head = read(_HEAD.size)
    if len(head) < _HEAD.size:
        return None
    number, kind, length, checksum = _HEAD.unpack(head)
    if number <= after and kind < len(KINDS):
        return int(length)
    payload = read(length)
    if len(payload) < length or kind >= len(KINDS) or zlib.crc32(payload, zlib.crc32(head[:-4])) != checksum:
        return None
    return Frame(segment, number, KINDS[kind], payload)


def _mend(path: Path) -> None:
    """Cut off what a crash left behind the last whole frame."""
    with path.open("rb") as file:
        first = file.read(len(FIRST_LINE))
    if not FIRST_LINE.startswith(first) and first != _FIRST_FORMAT:
        log.error("%s is no spool of this version; it is left as %s.unread", path.name, path.stem)
        path.rename(path.with_suffix(".unread"))
        return
    whole = len(FIRST_LINE) + sum(_HEAD.size + len(frame.payload) for frame in read_frames(path, convert=False))
    size = path.stat().st_size
    if size <= len(FIRST_LINE):
        path.unlink()
    elif size > whole:
        log.warning("%s: %d bytes behind the last whole frame were cut off", path.name, size - whole)
        with path.open("r+b") as file:
            file.truncate(whole)
