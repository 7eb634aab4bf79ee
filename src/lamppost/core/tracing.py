"""Reads W3C trace contexts (*Trace Context*, Recommendation, section 3.2), and writes spans as OTLP in JSON."""

from __future__ import annotations

import re
from collections.abc import Mapping, Sequence
from dataclasses import dataclass
from typing import Any

_HEADER = re.compile(r"^(?!ff)[0-9a-f]{2}-(?!0{32})([0-9a-f]{32})-(?!0{16})([0-9a-f]{16})-([0-9a-f]{2})(?:-.*)?$")


@dataclass(frozen=True, slots=True)
class Trace:
    """Where a call belongs. trace_id : 32 hexadecimal digits. parent_id : 16, of the caller's span. sampled : whether it is wanted."""

    trace_id: str
    parent_id: str
    sampled: bool


def read_traceparent(header: str) -> Trace | None:
    """The header ``traceparent``; None where it is not valid, as the recommendation says.

    >>> read_traceparent("00-4bf92f3577b34da6a3ce929d0e0e4736-00f067aa0ba902b7-01")
    Trace(trace_id='4bf92f3577b34da6a3ce929d0e0e4736', parent_id='00f067aa0ba902b7', sampled=True)
    """
    header_match = _HEADER.match(header.strip())
    return Trace(header_match[1], header_match[2], bool(int(header_match[3], 16) & 1)) if header_match else None


@dataclass(frozen=True, slots=True)
class Span:
    """One stretch of work. Times in nanoseconds since 1970."""

    trace_id: str
    span_id: str
    parent_id: str
    name: str
    start_ns: int
    end_ns: int
    attributes: Mapping[str, str | int]
    failed: bool = False


_SERVER, _INTERNAL = 2, 1


def spans_of(
    trace_id: str, span_id: str, parent_id: str, name: str, end_ns: int, total_us: int, phases: Mapping[str, int], about: Mapping[str, Any]
) -> list[Span]:
    """A call and its phases, one after another. The phases' ids follow from the call's."""
    start = end_ns - total_us * 1_000
    known = {key: value for key, value in about.items() if isinstance(value, (str, int))}
    failed = int(known.get("http.response.status_code", 200)) >= 500
    spans = [Span(trace_id, span_id, parent_id, name, start, end_ns, known, failed)]
    at = start
    for place, (phase, us) in enumerate(phases.items()):
        own = f"{(int(span_id, 16) + place + 1) % 2**64:016x}"
        spans.append(Span(trace_id, own, span_id, phase, at, at + us * 1_000, {}))
        at += us * 1_000
    return spans


def to_otlp(spans: Sequence[Span], service: str, version: str) -> dict[str, Any]:
    """An ExportTraceServiceRequest in OTLP's JSON (OpenTelemetry Protocol 1.x: ids in hexadecimal, times as decimal text)."""
    return {
        "resourceSpans": [
            {
                "resource": {"attributes": _attributes({"service.name": service, "service.version": version})},
                "scopeSpans": [{"scope": {"name": service, "version": version}, "spans": [_span(span) for span in spans]}],
            }
        ]
    }


def _span(span: Span) -> dict[str, Any]:
    return {
        "traceId": span.trace_id,
        "spanId": span.span_id,
        **({"parentSpanId": span.parent_id} if span.parent_id else {}),
        "name": span.name,
        "kind": _SERVER if span.attributes else _INTERNAL,
        "startTimeUnixNano": str(span.start_ns),
        "endTimeUnixNano": str(span.end_ns),
        "attributes": _attributes(span.attributes),
        "status": {"code": 2} if span.failed else {},
    }


def _attributes(values: Mapping[str, str | int]) -> list[dict[str, Any]]:
    return [
        {"key": key, "value": {"intValue": str(value)} if isinstance(value, int) else {"stringValue": value}}
        for key, value in values.items()
    ]
