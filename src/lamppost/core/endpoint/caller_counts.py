"""What the callers of a rollout were answered, where a key keeps each caller with one version.

The calls of one caller are not independent, and a few callers may not be given out by the split as exactly as many calls are. So each
caller weighs one, however often it calls: its answers are parts of one.
"""

from __future__ import annotations

from collections.abc import Callable, Iterable
from dataclasses import dataclass
from dataclasses import field as default
from hashlib import blake2b
from typing import ClassVar

MOST_CALLERS = 1_000
"""Callers of a step that are counted: those with the smallest checksums, which are the same on every node."""
_MOST_LABELS = 16


@dataclass(slots=True)
class CallerCounts:
    """Answers of one caller by label. arm : 0 for the old version, 1 for the new one."""

    arm: int
    answers: dict[str, int] = default(default_factory=dict)

    __pydantic_config__: ClassVar = {"extra": "forbid"}


@dataclass(slots=True)
class StickyCallers:
    """The callers of a step, by a checksum of their key. reaching : the smallest share in percent that would give any of those that came
    to the new version.
    """

    seen: dict[str, CallerCounts] = default(default_factory=dict)
    reaching: float = 100.0

    __pydantic_config__: ClassVar = {"extra": "forbid"}

    def note(self, key: str, arm: int, label: str | None, reaching: Callable[[str], float]) -> None:
        """Count an answer to a caller. reaching : computes of its key the share from which on it is given to the new version; it is called
        for callers that are new.
        """
        # of a key nothing is kept that it could be found by
        name = blake2b(key.encode(errors="surrogatepass"), digest_size=4).hexdigest()
        held = self.seen.get(name)
        if held is None or held.arm != arm:
            held = self.seen[name] = CallerCounts(arm)
            self.reaching = min(self.reaching, reaching(key))
            if len(self.seen) > 2 * MOST_CALLERS:
                self.trim()
        if label is not None and (label in held.answers or len(held.answers) < _MOST_LABELS):
            held.answers[label] = held.answers.get(label, 0) + 1

    def add(self, other: StickyCallers) -> None:
        """Add what another node has counted, or what was counted later."""
        self.reaching = min(self.reaching, other.reaching)
        for name, counts in other.seen.items():
            held = self.seen.setdefault(name, CallerCounts(counts.arm))
            if held.arm == counts.arm:
                for label, count in counts.answers.items():
                    held.answers[label] = held.answers.get(label, 0) + count
        self.trim()

    def trim(self) -> None:
        """Keep as many callers as are counted."""
        for name in sorted(self.seen)[MOST_CALLERS:]:
            del self.seen[name]

    def of_arm(self, arm: int) -> Iterable[CallerCounts]:
        """The callers of one version."""
        return (counts for counts in self.seen.values() if counts.arm == arm and counts.answers)

    def shares_of_labels(self, arm: int) -> dict[str, float]:
        """The labels that callers of one version were answered, each caller weighing one."""
        shares: dict[str, float] = {}
        for counts in self.of_arm(arm):
            total = sum(counts.answers.values())
            for label, count in counts.answers.items():
                shares[label] = shares.get(label, 0.0) + count / total
        return shares
