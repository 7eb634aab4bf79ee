"""Quantities in words, for people."""

from __future__ import annotations


def format_bytes(count: int) -> str:
    """Bytes for people: ``2.2 MB``."""
    for unit, step in (("GB", 1e9), ("MB", 1e6), ("kB", 1e3)):
        if count >= step:
            return f"{count / step:.1f} {unit}"
    return f"{count} B"
