"""A token bucket: fills at a rate and holds a second's worth. Time comes in as a value."""

from __future__ import annotations

from dataclasses import dataclass

MIN_RATE_PER_S = 1e-6
"""One request in twelve days."""
MAX_RATE_PER_S = 1e6


@dataclass(slots=True)
class TokenBucket:
    """rate_per_s : requests a second. left : requests that may come now, ``max(1, rate_per_s)`` at most. at : when that was so."""

    rate_per_s: float
    left: float
    at: float

    @classmethod
    def full(cls, rate_per_s: float, now: float) -> TokenBucket:
        """A full bucket."""
        return cls(rate_per_s, max(1.0, rate_per_s), now)

    def wait_before_next(self, now: float) -> float:
        """Let one request in and return 0, or return after how many seconds one may come.

        >>> bucket = TokenBucket.full(2, now=0.0)
        >>> [bucket.wait_before_next(0.0), bucket.wait_before_next(0.0), bucket.wait_before_next(0.0), bucket.wait_before_next(0.5)]
        [0.0, 0.0, 0.5, 0.0]
        """
        self.left = min(max(1.0, self.rate_per_s), self.left + max(0.0, now - self.at) * self.rate_per_s)
        self.at = now
        if self.left >= 1.0:
            self.left -= 1.0
            return 0.0
        return (1.0 - self.left) / self.rate_per_s
