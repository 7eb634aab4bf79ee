"""Bounds that hold for every JSON document of a lamp file, before it is read into values."""

from __future__ import annotations

from typing import Any

from lamppost.core.errors import PackageRefused
from lamppost.core.limits import MAX_DEPTH


def check_document(document: Any, member: str) -> None:
    """Raise PackageRefused for a document that is nested too deep, or holds the character NUL, which no database stores.

    document : parsed JSON. member : its file, for the message.

    >>> check_document({"a": [1, "b"]}, "manifest.json")
    """
    level, depth = [document], 0
    while level:
        if depth > MAX_DEPTH:
            raise PackageRefused(f"{member} is nested deeper than {MAX_DEPTH} levels; pack the model again")
        deeper: list[Any] = []
        for value in level:
            if isinstance(value, dict):
                deeper += value.keys()
                deeper += value.values()
            elif isinstance(value, list):
                deeper += value
            elif isinstance(value, str) and "\0" in value:
                raise PackageRefused(f"{member} holds a text with the character NUL; pack the model again without it")
        level, depth = deeper, depth + 1
