"""Records of an outpost on their way to its hub: frames of the spool, the window counts and outlier scores that the outpost has made of
their rows, as one body.

A body is a JSON document of known length and, behind it, the payloads of the frames one after the other. The counts are made before inputs
and answers are left out for want of budget, so that drift does not depend on the budget.
"""

from __future__ import annotations

import base64
import struct
from collections.abc import Sequence
from dataclasses import dataclass
from typing import Any

import orjson

from lamppost.core.errors import BadBody

CONTENT_TYPE = "application/vnd.lamppost.records"
_LENGTH = struct.Struct("!I")
_FORMAT = 1
MAX_FRAMES = 10_000


@dataclass(frozen=True, slots=True)
class SentFrame:
    """A frame. kind : of `lamppost.store.spool`."""

    number: int
    kind: str
    payload: bytes


@dataclass(frozen=True, slots=True)
class SentWindow:
    """Rows that were counted together. at : start of their tick, seconds since 1970."""

    endpoint: str
    version: str
    at: float
    rows: int
    odd: int
    data: bytes


@dataclass(frozen=True, slots=True)
class SentRecords:
    """Frames of one segment, in order. odd : by index of the call among all frames, its outlier score and the reason.

    left_out : calls whose inputs and answers the budget did not allow.
    """

    segment: str
    frames: Sequence[SentFrame]
    windows: Sequence[SentWindow]
    odd: dict[int, tuple[float, str]]
    left_out: int = 0


def write_records(records: SentRecords) -> bytes:
    """Records as a body."""
    document = {
        "format": _FORMAT,
        "segment": records.segment,
        "frames": [[frame.number, frame.kind, len(frame.payload)] for frame in records.frames],
        "windows": [
            [window.endpoint, window.version, window.at, window.rows, window.odd, base64.b64encode(window.data).decode()]
            for window in records.windows
        ],
        "odd": [[at, score, reason] for at, (score, reason) in records.odd.items()],
        "left_out": records.left_out,
    }
    head = orjson.dumps(document)
    return b"".join((_LENGTH.pack(len(head)), head, *(frame.payload for frame in records.frames)))


def read_records(body: bytes) -> SentRecords:
    """Read a body; raise BadBody for one that is not as `write_records` writes it."""
    try:
        (length,) = _LENGTH.unpack_from(body)
        place = _LENGTH.size + length
        document: Any = orjson.loads(body[_LENGTH.size : place])
        if document["format"] != _FORMAT or len(document["frames"]) > MAX_FRAMES:
            raise ValueError(f"format {document['format']!r}, {len(document['frames'])} frames")
        frames = []
        for number, kind, size in document["frames"]:
            if not isinstance(number, int) or not isinstance(kind, str) or not isinstance(size, int) or not 0 <= size <= len(body) - place:
                raise ValueError("a frame is not whole")
            frames.append(SentFrame(number, kind, body[place : place + size]))
            place += size
        if place != len(body):
            raise ValueError(f"{len(body) - place} bytes too many")
        windows = [
            SentWindow(str(endpoint), str(version), float(at), int(rows), int(odd), base64.b64decode(data, validate=True))
            for endpoint, version, at, rows, odd, data in document["windows"]
        ]
        odd = {int(at): (float(score), str(reason)[:200]) for at, score, reason in document["odd"]}
        return SentRecords(str(document["segment"]), frames, windows, odd, int(document["left_out"]))
    except (struct.error, ValueError, KeyError, TypeError, OverflowError) as error:
        raise BadBody(f"these are no records of an outpost ({error}); hub and outpost may be of different versions") from error
