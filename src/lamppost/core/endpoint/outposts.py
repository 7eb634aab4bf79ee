"""Which versions an outpost is to serve, by its name or by its labels; and what an outpost reports of itself."""

from __future__ import annotations

import re
from collections.abc import Iterable
from dataclasses import dataclass, replace
from datetime import timedelta

from lamppost.core.endpoint.setup import EndpointSetup
from lamppost.core.errors import BadRequest
from lamppost.core.names import parse_version

_LABEL = re.compile(r"[a-z0-9][a-z0-9_-]{0,39}=[A-Za-z0-9][A-Za-z0-9._-]{0,62}")
MAX_LABELS = 20
SILENT_AFTER = timedelta(minutes=10)
"""An outpost that was not heard of for so long raises an alert."""
LATE_AFTER = timedelta(minutes=1)
"""An outpost reports three times in a minute; one that has missed these is degraded."""


@dataclass(frozen=True, slots=True)
class OutpostVersion:
    """A version that an endpoint is to serve at some outposts. target : name of one outpost, or a label, ``key=value``.

    number : the later it was set, the larger.
    """

    endpoint: str
    target: str
    version: str
    number: int


def is_label(target: str) -> bool:
    """Whether a target is a label, and not the name of an outpost."""
    return "=" in target


def check_labels(labels: Iterable[str]) -> tuple[str, ...]:
    """Labels in order, each once; raise BadRequest for what is none."""
    given = sorted(set(labels))
    if wrong := [label for label in given if not _LABEL.fullmatch(label)]:
        raise BadRequest(f"{wrong[0]!r} is no label; write key=value, such as region=coast")
    if len(given) > MAX_LABELS:
        raise BadRequest(f"an outpost has at most {MAX_LABELS} labels, and {len(given)} were given")
    return tuple(given)


def versions_of_outpost(name: str, labels: Iterable[str], wanted: Iterable[OutpostVersion]) -> dict[str, OutpostVersion]:
    """By endpoint, what an outpost is to serve: what was set for its name, else what was set last for one of its labels.

    >>> coast = OutpostVersion("outage-risk", "region=coast", "outage-risk@2", 7)
    >>> own = OutpostVersion("outage-risk", "harbour", "outage-risk@1", 3)
    >>> [versions_of_outpost(one, ["region=coast"], [coast, own])["outage-risk"].version for one in ("harbour", "pier")]
    ['outage-risk@1', 'outage-risk@2']
    """
    targets = {name, *labels}
    chosen: dict[str, OutpostVersion] = {}
    for one in sorted(wanted, key=lambda one: (one.target == name, one.number)):
        if one.target in targets:
            chosen[one.endpoint] = one
    return chosen


def setup_at_outpost(setup: EndpointSetup, version: str) -> EndpointSetup:
    """How an outpost serves a version for an endpoint: as the hub reads and watches it, by that version alone, without databases."""
    return replace(setup.with_version(parse_version(version)), lookups=(), shadows=(), rollout=None)


def brought_by_outpost(name: str) -> str:
    """What records say brought them in that came from an outpost."""
    return f"outpost {name}"
