"""Checks and parses names of models, endpoints, versions and fields. Names travel in URLs and file names."""

from __future__ import annotations

import difflib
import re
from collections.abc import Iterable
from dataclasses import dataclass

from lamppost.core.errors import BadRequest

NAME = re.compile(r"[a-z0-9](?:[a-z0-9-]{0,61}[a-z0-9])?")
_MOST_COMPARED = 300_000
_NUL_IN_JSON = re.compile(rb"(?<!\\)(?:\\\\)*\\u0000")
_STEERING = re.compile("[\x00-\x08\x0b-\x1f\x7f-\x9f\u202a-\u202e\u2066-\u2069]")
_CONTROL = re.compile(r"[\x00-\x1f\x7f-\x9f]")
#: Keys that a request body uses itself, so that no field may have them.
RESERVED_FIELDS = frozenset({"rows", "columns", "options"})


@dataclass(frozen=True, slots=True)
class VersionName:
    """``model@number``, the only way a version is ever named."""

    model: str
    number: int

    def __str__(self) -> str:
        return f"{self.model}@{self.number}"


def check_name(name: str, what: str) -> str:
    """Return ``name`` if it is a plain name (lower-case letters, digits, inner hyphens, 63 at most), else raise BadRequest."""
    if not NAME.fullmatch(name):
        raise BadRequest(
            f"{what} name {name!r} is not usable: use lower-case letters, digits and hyphens inside, 63 characters at most, "
            f"for example {plain_name(name) or 'outage-risk'!r}"
        )
    return name


def plain_name(text: str) -> str:
    """The nearest plain name to any text: ``plain("Outage Risk 2") == "outage-risk-2"``."""
    return re.sub(r"[^a-z0-9]+", "-", text.lower()).strip("-")[:63].strip("-")


def has_control_characters(text: str) -> bool:
    """Whether a text holds characters that steer a terminal or end a line, instead of standing for themselves (Unicode's Cc)."""
    return _CONTROL.search(text) is not None


def escape_controls(text: str) -> str:
    r"""A text whose control characters are shown, and not obeyed by a terminal. Tabs, line breaks and letters of every script stay; what
    turns the direction of writing around is shown.

    >>> escape_controls("a\x1b[2Jb")
    'a\\x1b[2Jb'
    """
    return _STEERING.sub(lambda found: f"\\x{ord(found[0]):02x}" if ord(found[0]) < 256 else f"\\u{ord(found[0]):04x}", text)


def holds_nul(json: bytes) -> bool:
    r"""Whether a text of a JSON document holds the character NUL, which no database stores.

    >>> holds_nul(b'"a\\u0000"'), holds_nul(b'"a\\\\u0000"')
    (True, False)
    """
    return b"\\u0000" in json and _NUL_IN_JSON.search(json) is not None


def parse_version(text: str) -> VersionName:
    """Read ``outage-risk@7``; raise BadRequest for anything else."""
    model, at, number = text.partition("@")
    if not at or not number.isascii() or not number.isdigit() or len(number) > 10 or not 1 <= int(number) <= 2**31 - 1:
        raise BadRequest(f"{text!r} is not a version: write the model, an @ and the number, for example outage-risk@7")
    return VersionName(check_name(model, "model"), int(number))


def closest_name(name: str, known: Iterable[str]) -> str | None:
    """The known name most like ``name`` (case does not count), or None when nothing is like it, or looking for it would take long."""
    lowered = {candidate.lower(): candidate for candidate in known}
    if len(name) * sum(map(len, lowered)) > _MOST_COMPARED:  # every letter with every letter, at worst
        return None
    match = difflib.get_close_matches(name.lower(), lowered, n=1, cutoff=0.6)
    return lowered[match[0]] if match else None


def unknown_name(what: str, name: str, known: Iterable[str], option: str) -> str:
    """The sentence about a name that an operator would have given at the start, and has not. option : that gives it.

    >>> unknown_name("source", "citty", ["city"], "--source citty=URL")
    "this node has no source 'citty'; did you mean city? The operator names them at the start: lamppost up --source citty=URL"
    """
    there = sorted(known)
    like = closest_name(name, there)
    meant = f"did you mean {like}?" if like else f"there are: {', '.join(there) or 'none'}."
    return f"this node has no {what} {name!r}; {meant} The operator names them at the start: lamppost up {option}"
