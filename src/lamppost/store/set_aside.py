"""Frames of records that the database refuses, or that cannot be counted: set aside with their error, so that all others go on.

Each is a file in a folder beside the segments: a line of JSON about the frame, then its payload as it was in the segment.
"""

from __future__ import annotations

import logging
import os
from dataclasses import asdict, dataclass
from datetime import UTC, datetime
from pathlib import Path

import orjson

from lamppost.store.call_records import CallRecord, unpack_calls
from lamppost.store.spool import SpoolFrame

log = logging.getLogger("lamppost.records")

_SUFFIX = ".frame"
_MAX_ERROR = 1_000


@dataclass(frozen=True, slots=True)
class SetAsideFrame:
    """A frame that was set aside. name : of its file. at : when, RFC 3339. error : why, for people."""

    name: str
    segment: str
    number: int
    kind: str
    calls: int
    at: str
    error: str


class SetAsideFrames:
    """The frames that were set aside beside one spool."""

    def __init__(self, spool: Path) -> None:
        self._folder = spool / "aside"

    def add_frame(self, frame: SpoolFrame, error: Exception) -> None:
        """Set a frame aside; once, however often it is tried."""
        self._folder.mkdir(mode=0o700, parents=True, exist_ok=True)
        try:
            calls = frame.total
        except Exception:  # what it holds cannot even be read
            calls = 0
        name = f"{frame.segment}-{frame.number}{_SUFFIX}"
        text = f"{type(error).__name__}: {error}".strip().splitlines()[0][:_MAX_ERROR]
        about = SetAsideFrame(name, frame.segment, frame.number, frame.kind, calls, datetime.now(UTC).isoformat(timespec="seconds"), text)
        unfinished = self._folder / f".{name}"
        with os.fdopen(os.open(unfinished, os.O_WRONLY | os.O_CREAT | os.O_TRUNC, 0o600), "wb") as file:
            file.write(orjson.dumps(asdict(about)) + b"\n" + frame.payload)
            file.flush()
            os.fdatasync(file.fileno())
        unfinished.rename(self._folder / name)

    def list_frames(self) -> list[SetAsideFrame]:
        """All of them, the oldest first."""
        listed = []
        for path in sorted(self._folder.glob(f"*{_SUFFIX}")):
            try:
                with path.open("rb") as file:
                    listed.append(SetAsideFrame(**orjson.loads(file.readline())))
            except (OSError, ValueError, TypeError) as error:
                log.error("%s cannot be read: %s", path, error)
        return listed

    @property
    def calls(self) -> int:
        """Calls in all of them."""
        return sum(about.calls for about in self.list_frames())

    def read_calls(self, about: SetAsideFrame) -> list[CallRecord]:
        """The calls of a frame. Raise whatever reading them raises: they may be damaged."""
        with (self._folder / about.name).open("rb") as file:
            file.readline()
            return unpack_calls(file.read())

    def remove_frame(self, about: SetAsideFrame) -> None:
        """Forget a frame whose calls went elsewhere."""
        (self._folder / about.name).unlink(missing_ok=True)
