"""Which versions an outpost is to serve, by its name or by its labels; and what an outpost reports of itself."""

from __future__ import annotations

import re
from collections.abc import Iterable, Mapping, Sequence
from dataclasses import dataclass, replace
from datetime import timedelta

from lamppost.core.endpoint.outpost_rollout import OutpostRollout
from lamppost.core.endpoint.setup import EndpointSetup
from lamppost.core.endpoint.shares import Shares
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


@dataclass(frozen=True, slots=True)
class WantedAtOutpost:
    """What one outpost is to serve for an endpoint. target : what that was set for. shares : of the calls there, of one version or of two
    while a rollout has its turn. newest : the version that it is to have fetched and proven.
    """

    endpoint: str
    target: str
    shares: Shares
    newest: str

    @property
    def version(self) -> str:
        """The version that answers most calls."""
        return self.shares.largest_share

    @property
    def rollout_percent(self) -> float | None:
        """The percent of calls that the new version of a rollout has while the outpost has its turn; None otherwise."""
        return self.shares.of[self.newest] if len(self.shares.of) > 1 else None


@dataclass(frozen=True, slots=True)
class WantedVersions:
    """Everything that outposts are to serve. versions : what was set. rollouts : by endpoint, those that go on over outposts."""

    versions: Sequence[OutpostVersion]
    rollouts: Mapping[str, OutpostRollout]

    def at_outpost(self, name: str, labels: Iterable[str]) -> dict[str, WantedAtOutpost]:
        """What one outpost is to serve, by endpoint."""
        wanted = {}
        for endpoint, one in versions_of_outpost(name, labels, self.versions).items():
            rollout = self.rollouts.get(endpoint)
            concerned = rollout is not None and (rollout.target, rollout.old) == (one.target, one.version) and name in rollout.outposts
            shares = rollout.shares_at(name) if rollout is not None and concerned else Shares({one.version: 100.0})
            newest = rollout.new if rollout is not None and rollout.new in shares.of else one.version
            wanted[endpoint] = WantedAtOutpost(endpoint, one.target, shares, newest)
        return wanted


def setup_at_outpost(setup: EndpointSetup, shares: Shares) -> EndpointSetup:
    """How an outpost serves versions for an endpoint: as the hub reads and watches it, by those versions, without databases."""
    alone = len(shares.of) == 1
    served = setup.with_version(parse_version(shares.largest_share)) if alone else setup.with_shares(shares)
    return replace(served, lookups=(), shadows=(), rollout=None)


def brought_by_outpost(name: str) -> str:
    """What records say brought them in that came from an outpost."""
    return f"outpost {name}"
