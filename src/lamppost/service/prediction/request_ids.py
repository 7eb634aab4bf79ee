"""Makes ids of requests, and checks trace contexts."""

from __future__ import annotations

import time
from random import Random, SystemRandom

from lamppost.core.tracing import read_traceparent

_getrandbits = Random(SystemRandom().getrandbits(256)).getrandbits
_latest_ms = 0


def new_request_id(millis: int | None = None) -> str:
    """A UUID version 7 (RFC 9562, section 5.7) as text: ordered by time to the millisecond, random below. millis : since 1970, or now."""
    if millis is None:
        # a clock that is set back does not take ids back: what came later still sorts later (RFC 9562, section 6.2)
        global _latest_ms
        millis = _latest_ms = max(_latest_ms, time.time_ns() // 1_000_000)
    high, middle, low = _getrandbits(12), 0x8000 | _getrandbits(14), _getrandbits(48)
    return f"{millis >> 16:08x}-{millis & 0xFFFF:04x}-7{high:03x}-{middle:04x}-{low:012x}"


def valid_traceparent(header: bytes) -> str | None:
    """The header ``traceparent`` as text, None where it is not valid."""
    text = header.decode("latin-1").strip()
    return text if read_traceparent(text) is not None else None
