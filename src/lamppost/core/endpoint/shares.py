"""Chooses which of several versions answers a call: by exact shares over time, or always the same version for the same key.

Without a key the n-th call is put at the fractional part of ``start + n g``, g the golden section: of all such sequences the most even
one (Kuipers and Niederreiter, *Uniform Distribution of Sequences*, 1974, chapter 2, section 3), so that after n calls each version is
within a few calls of its share, and no rhythm in the traffic can fall in step with it.

With a key it is weighted rendezvous hashing (Thaler and Ravishankar, IEEE/ACM Trans. Networking 6(1), 1998; the weights by Schindelhauer
and Schomaker, SPAA 2005): a key moves from one version to another only when the other's share has grown against the first one's.
"""

from __future__ import annotations

import hashlib
import math
from dataclasses import dataclass
from typing import ClassVar, Literal

from lamppost.core.endpoint.even_samples import GOLDEN
from lamppost.core.errors import BadRequest

_WHOLE = 100.0


@dataclass(frozen=True, slots=True)
class StickyKey:
    """What keeps a caller with its version: the value of a field, of an option, or of a header of the call."""

    by: Literal["field", "option", "header"]
    name: str

    __pydantic_config__: ClassVar = {"extra": "forbid"}


@dataclass(frozen=True, slots=True)
class Shares:
    """of : versions with their shares of calls in percent, 100 together. sticky : calls with the same key go to the same version.

    >>> Shares({"outage-risk@1": 90, "outage-risk@2": 10}).summary()
    'outage-risk@1 90 %, outage-risk@2 10 %'
    """

    of: dict[str, float]
    sticky: StickyKey | None = None

    __pydantic_config__: ClassVar = {"extra": "forbid", "allow_inf_nan": False}

    def __post_init__(self) -> None:
        if odd := [name for name, share in self.of.items() if not 0 <= share <= _WHOLE]:
            raise BadRequest(f"the share of {odd[0]} is {self.of[odd[0]]:g} %; shares go from 0 to 100 percent")
        whole = math.fsum(self.of.values())
        if abs(whole - _WHOLE) > 1e-6:
            raise BadRequest(f"the shares add up to {whole:g} %, and they must be 100 % together: {self.summary() or 'there is none'}")

    def summary(self) -> str:
        """The shares in a few words."""
        return ", ".join(f"{name} {share:g} %" for name, share in self.of.items())

    @property
    def largest_share(self) -> str:
        """The version with the largest share."""
        return max(self.of, key=lambda name: self.of[name])

    def version_of_nth_call(self, n: int, start: float = 0.0) -> str:
        """The version of the n-th call that has no key. start : where the sequence begins, from 0 to 1."""
        at = math.fmod(start + n * GOLDEN, 1.0) * _WHOLE
        for name, share in self.of.items():
            if at < share:
                return name
            at -= share
        return self.largest_share  # the last hair of rounding

    def share_reaching(self, key: str, version: str) -> float:
        """The smallest share in percent at which a version is given the calls with this key, while another one has the rest."""
        data = key.encode("utf-8", "surrogatepass")
        own = -math.log(_uniform(data, version))
        others = min((-math.log(_uniform(data, name)) for name in self.of if name != version), default=math.inf)
        return _WHOLE * own / (own + others) if math.isfinite(others) else 0.0

    def version_of_key(self, key: str) -> str:
        """The version of a call with this key."""
        data = key.encode("utf-8", "surrogatepass")
        best, least = self.largest_share, math.inf
        for name, share in self.of.items():
            if share > 0:
                score = -math.log(_uniform(data, name)) / share
                if score < least:
                    best, least = name, score
        return best


def _uniform(key: bytes, version: str) -> float:
    """A number in (0, 1) that depends on both and on nothing else."""
    digest = hashlib.blake2b(key, digest_size=8, key=hashlib.blake2b(version.encode(), digest_size=16).digest()).digest()
    return (int.from_bytes(digest, "big") + 0.5) / 2**64
