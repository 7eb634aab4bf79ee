"""Bounds on instants, so that none is later or earlier than what every part of the system can hold."""

from __future__ import annotations

from datetime import UTC, datetime

_EARLIEST = datetime(1970, 1, 1, tzinfo=UTC)
_LATEST = datetime(9999, 1, 1, tzinfo=UTC)
_FIRST, _LAST = datetime(1, 1, 2, tzinfo=UTC), datetime(9999, 12, 31, tzinfo=UTC)


def bounded_instant(at: datetime) -> datetime:
    """The instant in UTC; one without an offset counts as UTC. Raise ValueError unless it is of the years 1970 to 9998.

    >>> bounded_instant(datetime.fromisoformat("2026-11-28T06:00:00+02:00"))
    datetime.datetime(2026, 11, 28, 4, 0, tzinfo=datetime.timezone.utc)
    """
    aware = at if at.tzinfo is not None else at.replace(tzinfo=UTC)
    if not _EARLIEST <= aware < _LATEST:  # compares instants, and makes none that could be too large
        raise ValueError("the time is not of the years 1970 to 9998")
    return aware.astimezone(UTC)


def fits_calendar(at: datetime) -> bool:
    """Whether an instant with an offset is one in UTC, too: at the ends of the calendar it may not be."""
    return _FIRST <= at < _LAST
