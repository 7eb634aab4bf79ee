"""Quantities in words, for people."""

from __future__ import annotations

from collections.abc import Sequence


def format_bytes(count: int) -> str:
    """Bytes for people: ``2.2 MB``."""
    for unit, step in (("GB", 1e9), ("MB", 1e6), ("kB", 1e3)):
        if count >= step:
            return f"{count / step:.1f} {unit}"
    return f"{count} B"


def few_names(names: Sequence[str], most: int = 5) -> str:
    """The first names, and how many more there are: ``a, b and 3 more``."""
    return ", ".join(names[:most]) + (f" and {len(names) - most} more" if len(names) > most else "")
