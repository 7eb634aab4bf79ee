"""Makes ids of requests, and checks trace contexts."""

from __future__ import annotations

import time
from collections.abc import Iterable
from random import Random, SystemRandom

from lamppost.core.tracing import read_traceparent

_getrandbits = Random(SystemRandom().getrandbits(256)).getrandbits
_VARIANT, _NOT_VARIANT = 1 << 63, ~(1 << 62)
"""The two bits of the variant, 10, stand above the last 62 random ones."""
_latest_ms = 0


def new_request_id(millis: int | None = None) -> str:
    """A UUID version 7 (RFC 9562, section 5.7) as text: ordered by time to the millisecond, random below. millis : since 1970, or now."""
    if millis is None:
        # a clock that is set back does not take ids back: what came later still sorts later (RFC 9562, section 6.2)
        global _latest_ms
        millis = _latest_ms = max(_latest_ms, time.time_ns() // 1_000_000)
    digits = "%012x7%019x" % (millis, (_getrandbits(76) | _VARIANT) & _NOT_VARIANT)  # noqa: UP031 - faster than the other ways
    return f"{digits[:8]}-{digits[8:12]}-{digits[12:16]}-{digits[16:20]}-{digits[20:]}"


def valid_traceparent(header: bytes) -> str | None:
    """The header ``traceparent`` as text, None where it is not valid."""
    text = header.decode("latin-1").strip()
    return text if read_traceparent(text) is not None else None


def traceparent_among(headers: Iterable[tuple[bytes, bytes]]) -> str | None:
    """The trace context of a call by its headers; None without one, or where it is not valid."""
    return next((valid_traceparent(value) for name, value in headers if name == b"traceparent"), None)
