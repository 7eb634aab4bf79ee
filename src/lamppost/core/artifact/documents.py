"""Bounds that hold for every JSON document of a lamp file, before it is read into values."""

from __future__ import annotations

from typing import Any

from lamppost.core.errors import PackageRefused
from lamppost.core.limits import MAX_DEPTH

_CONTAINERS = frozenset({dict, list})


def check_document(document: Any, data: bytes, member: str) -> None:
    """Raise PackageRefused for a document that is nested too deep, or holds the character NUL, which no database stores.

    document : parsed JSON. data : its bytes, in which NUL can only stand escaped. member : its file, for the message.

    >>> check_document({"a": [1, "b"]}, b'{"a": [1, "b"]}', "manifest.json")
    """
    if b"\\u0000" in data and _holds_nul(document):
        raise PackageRefused(f"{member} holds a text with the character NUL; pack the model again without it")
    level = [document] if type(document) in _CONTAINERS else []
    depth = 0
    while level:
        if depth >= MAX_DEPTH:
            raise PackageRefused(f"{member} is nested deeper than {MAX_DEPTH} levels; pack the model again")
        level = [value for outer in level for value in (outer.values() if type(outer) is dict else outer) if type(value) in _CONTAINERS]
        depth += 1


def _holds_nul(document: Any) -> bool:
    """Whether a text of a document has the character NUL: the escape alone may stand behind an escaped backslash."""
    left = [document]
    while left:
        value = left.pop()
        if isinstance(value, dict):
            left += [*value.keys(), *value.values()]
        elif isinstance(value, list):
            left += value
        elif isinstance(value, str) and "\0" in value:
            return True
    return False
