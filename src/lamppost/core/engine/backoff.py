"""Says when to try again after failures: at once the first time, then after 0.2 s, doubling up to a bound. Time comes in as a value."""

from __future__ import annotations

from dataclasses import dataclass, replace


@dataclass(frozen=True, slots=True)
class Backoff:
    """failures : in a row so far. next_at : time before which nothing should be tried, on the caller's clock, in seconds."""

    failures: int = 0
    next_at: float = 0.0
    first_s: float = 0.2
    most_s: float = 30.0

    def failed(self, now: float) -> Backoff:
        """The state after a failure at ``now``: the n-th waits ``first_s * 2**(n-2)``, the first not at all."""
        wait = 0.0 if self.failures == 0 else min(self.most_s, self.first_s * 2.0 ** min(self.failures - 1, 30))
        return replace(self, failures=self.failures + 1, next_at=now + wait)

    def wait(self, now: float) -> float:
        """Seconds still to wait at ``now``."""
        return max(0.0, self.next_at - now)
