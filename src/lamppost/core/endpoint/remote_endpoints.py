"""Endpoints of other services that take part in an answer: their addresses, what they promise, and whether that still holds.

What a remote endpoint promises is read when a setup is made, and kept with the setup, so that an endpoint can be opened while the
other service is away. What is promised there later is held against it (`broken_promise`).
"""

from __future__ import annotations

import re
from collections.abc import Mapping, Sequence
from dataclasses import dataclass, replace
from functools import cache
from typing import Any, ClassVar, NamedTuple

import orjson
from pydantic import TypeAdapter, ValidationError

from lamppost.core.errors import BadRequest, Conflict, LampPostError
from lamppost.core.names import check_name, parse_version
from lamppost.core.schema.fields import Field, Schema

SCHEME = "grpc://"
MAX_HOPS = 8
"""Most services that one call may pass through."""
_ADDRESS = re.compile(r"grpc://([A-Za-z0-9](?:[A-Za-z0-9.:_-]{0,61}[A-Za-z0-9])?)/([^/?#]+)")


class RemoteAddress(NamedTuple):
    """The address of a remote endpoint: the name that the operator gave the service, and the endpoint there."""

    service: str
    endpoint: str

    def __str__(self) -> str:
        return f"{SCHEME}{self.service}/{self.endpoint}"


def is_remote(name: str) -> bool:
    """Whether a part of a setup is the address of a remote endpoint, and no version."""
    return name.startswith(SCHEME)


def parse_remote(text: str) -> RemoteAddress:
    """The address of a remote endpoint; raise BadRequest for what is none.

    >>> parse_remote("grpc://models.internal:8430/pole-net")
    RemoteAddress(service='models.internal:8430', endpoint='pole-net')
    """
    match = _ADDRESS.fullmatch(text)
    if match is None:
        raise BadRequest(f"{text[:200]!r} is no address of a remote endpoint; write grpc://SERVICE/ENDPOINT")
    return RemoteAddress(match[1], check_name(match[2], "endpoint"))


@dataclass(frozen=True, slots=True)
class RemoteDescription:
    """What a remote endpoint promises. version : that stands for it there. revision : of its setup there."""

    version: str
    revision: int
    inputs: Schema
    answers: Schema
    options: Schema | None = None

    __pydantic_config__: ClassVar = {"extra": "forbid", "strict": True}

    def __post_init__(self) -> None:
        parse_version(self.version)  # it stands in headers and records

    @property
    def columns(self) -> Schema:
        """Inputs, then options."""
        return Schema((*self.inputs, *self.options)) if self.options else self.inputs


@cache
def _adapter() -> TypeAdapter[RemoteDescription]:
    return TypeAdapter(RemoteDescription)


def write_description(description: RemoteDescription) -> dict[str, Any]:
    """A description as JSON has it."""
    data: dict[str, Any] = _adapter().dump_python(description, mode="json", exclude_defaults=True)
    return data


def read_description(data: bytes | Mapping[str, Any], of: str) -> RemoteDescription:
    """A description from JSON; raise Conflict for what is none. of : the address, for the message."""
    try:
        return _adapter().validate_json(data if isinstance(data, bytes) else orjson.dumps(data))
    except (ValidationError, LampPostError) as error:
        first = error.errors(include_url=False)[0]["msg"] if isinstance(error, ValidationError) else error.detail
        raise Conflict(f"what {of} says of itself cannot be read ({first}); is it a Lamp Post service of this version?") from error


def check_hops(passed: Sequence[str], own: str, endpoint: str) -> None:
    """Raise Conflict where a call, or a question about an endpoint, has passed through this endpoint before, or through too many.

    passed : the endpoints that it came through, each with the mark of its service. own : the mark of this one.
    """
    if own in passed:
        raise Conflict(
            f"{endpoint} would ask itself: it takes part in an answer that it waits for; take it, or what asks it, out of a setup"
        )
    if len(passed) >= MAX_HOPS:
        raise Conflict(f"a call to {endpoint} has come through {len(passed)} services already, and {MAX_HOPS} are allowed")


def broken_promise(before: RemoteDescription, now: RemoteDescription) -> str | None:
    """Why a description cannot stand in for the one that a setup was made with; None where it can.

    It can where everything that was accepted still is, nothing more is demanded, and the answers are as they were.
    """
    taken, takes = ({field.name: field for field in description.columns} for description in (before, now))
    answers = {field.name: field for field in now.answers}
    for field in taken.values():
        there = takes.get(field.name)
        if there is None:
            return f"it takes {field.name!r} no more"
        if not _accepts_all(there, field):
            return f"it takes {field.name} as {there.expected_text()}, and it was {field.expected_text()}"
    for field in takes.values():
        if field.required and field.name not in taken:
            return f"it demands {field.name!r}, which it did not"
    for field in before.answers:
        there = answers.get(field.name)
        if there is None:
            return f"it answers {field.name!r} no more"
        if _bare(there) != _bare(field):
            return f"it answers {field.name} as {there.expected_text()}, and it was {field.expected_text()}"
    return None


def _bare(field: Field) -> Field:
    """A field without what only people read."""
    return replace(field, example=None, seen=None, meaning=None, changes="freely")


def _accepts_all(field: Field, of: Field) -> bool:
    """Whether a field accepts every value that another one accepts."""
    if (field.kind, field.unit, field.shape, field.elements) != (of.kind, of.unit, of.shape, of.elements):
        return False
    if of.missing and not field.missing:
        return False
    if field.kind == "choice" and field.unseen == "refuse" and (of.unseen == "accept" or not set(of.choices) <= set(field.choices)):
        return False
    if field.kind == "image" and (field.channels != of.channels or field.size not in (None, of.size)):
        return False
    low = field.low is None or (of.low is not None and field.low <= of.low)
    high = field.high is None or (of.high is not None and field.high >= of.high)
    return low and high
