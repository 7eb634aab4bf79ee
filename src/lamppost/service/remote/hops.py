"""What is passed on with a call from one service to the next."""

from __future__ import annotations

from typing import NamedTuple

from lamppost.core.endpoint.remote_endpoints import check_hops

PASSED = "lamppost-passed"
"""The metadata, or header, with the endpoints that a call has come through, each with the mark of its service."""
TRACE = "traceparent"
_MOST_READ = 4_096


class Hop(NamedTuple):
    """What goes with a call. trace : the caller's trace context. passed : the endpoints that the call has come through."""

    trace: str | None
    passed: tuple[str, ...]

    def to_metadata(self) -> list[tuple[str, str]]:
        """As metadata of a call."""
        metadata = [(PASSED, ", ".join(self.passed))] if self.passed else []
        return metadata if self.trace is None else [*metadata, (TRACE, self.trace)]


def passed_endpoints(headers: list[tuple[bytes, bytes]]) -> tuple[str, ...]:
    """The endpoints that a call with these headers has come through."""
    sent = next((value for name, value in headers if name == PASSED.encode()), b"")
    return tuple(sent[:_MOST_READ].decode("latin-1").split(", ")) if sent else ()


def next_hop(headers: list[tuple[bytes, bytes]], own: str, endpoint: str) -> Hop:
    """What goes on with a call that came to an endpoint; raise Conflict where it has been there before. own : the endpoint's mark."""
    passed = passed_endpoints(headers)
    check_hops(passed, own, endpoint)
    trace = next((value.decode("latin-1") for name, value in headers if name == TRACE.encode()), None)
    return Hop(trace, (*passed, own))
