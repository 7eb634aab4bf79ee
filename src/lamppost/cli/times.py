"""Reads times as people write them: spans and moments."""

from __future__ import annotations

import re
from datetime import UTC, datetime, timedelta

from lamppost.core.errors import BadRequest


def parse_time(text: str, now: datetime) -> datetime:
    """A time to come from ``90d``, ``12h``, ``30min``, ``20s``, or a date or RFC 3339 time; raise BadRequest for anything else."""
    span = _parse_span(text)
    return _parse_moment(text) if span is None else now + span


def parse_since(text: str, now: datetime) -> datetime:
    """A time that has passed, likewise: ``2h`` is two hours ago."""
    span = _parse_span(text)
    return _parse_moment(text) if span is None else now - span


def _parse_span(text: str) -> timedelta | None:
    span_match = re.fullmatch(r"(\d{1,5})(d|h|min|s)", text.strip())
    if span_match is None:
        return None
    unit = {"d": "days", "h": "hours", "min": "minutes", "s": "seconds"}[span_match[2]]
    return timedelta(**{unit: int(span_match[1])})


def _parse_moment(text: str) -> datetime:
    try:
        at = datetime.fromisoformat(text)
    except ValueError as error:
        raise BadRequest(f"{text!r} is no time; write 90d, 12h, 30min, 20s, or a date such as 2027-03-31") from error
    return at if at.tzinfo else at.replace(tzinfo=UTC)


def parse_seconds(text: str) -> float:
    """Seconds of a span such as ``20s`` or ``5min``; raise BadRequest for anything else."""
    span = _parse_span(text)
    if span is None:
        raise BadRequest(f"{text!r} is no span of time; write 20s, 5min or 1h")
    return span.total_seconds()
