"""How many connections a node holds, in all and of one address, so that nobody takes them all, and files stay free for everything else."""

from __future__ import annotations

import resource
from collections import Counter
from typing import Literal

from lamppost.core.limits import KEPT_DESCRIPTORS, MAX_CONNECTIONS, SPARE_CONNECTIONS

Place = Literal["usual", "spare", "none"]


def available_connections() -> int:
    """How many connections the open files of this process allow; raises the soft limit to the hard one first."""
    soft, hard = resource.getrlimit(resource.RLIMIT_NOFILE)
    if soft != hard:
        resource.setrlimit(resource.RLIMIT_NOFILE, (hard, hard))
        soft = hard
    files = MAX_CONNECTIONS + KEPT_DESCRIPTORS if soft == resource.RLIM_INFINITY else soft
    return max(64, min(MAX_CONNECTIONS, files - KEPT_DESCRIPTORS))


class ConnectionLimits:
    """Counts connections. most : in all. One address may have half of them: a balancer in front has one address, too.

    A connection beyond the bounds has a spare place, on which only health is answered, or none.

    >>> limits = ConnectionLimits(2)
    >>> [limits.enter(address) for address in ("a", "a", "b", "c")]
    ['usual', 'spare', 'usual', 'spare']
    """

    def __init__(self, most: int, spare: int = SPARE_CONNECTIONS) -> None:
        self.most = most
        self.most_of_address = max(1, most // 2)
        self.refused = 0
        self._spare_places = spare
        self._usual: Counter[str] = Counter()
        self._spare = 0

    @property
    def open(self) -> int:
        """Connections that are open now."""
        return self._usual.total() + self._spare

    def enter(self, address: str) -> Place:
        """The place of a new connection; `leave` gives it back."""
        if self._usual.total() < self.most and self._usual[address] < self.most_of_address:
            self._usual[address] += 1
            return "usual"
        self.refused += 1
        if self._spare < self._spare_places:
            self._spare += 1
            return "spare"
        return "none"

    def leave(self, address: str, place: Place) -> None:
        """Give a place back."""
        if place == "spare":
            self._spare -= 1
        elif place == "usual":
            self._usual[address] -= 1
            if not self._usual[address]:
                del self._usual[address]
