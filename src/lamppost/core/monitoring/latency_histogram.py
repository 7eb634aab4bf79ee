"""Latency histograms with logarithmic buckets: mergeable by addition, quantiles within 2 %.

Bucket ``k`` holds durations in ``(g**(k-1), g**k]`` microseconds with ``g = (1 + e) / (1 - e)`` and e = 0.02; it is reported as ``2 g**k /
(g + 1)``, which is within e of every duration in it (Masson, Rim and Lee, *DDSketch*, PVLDB 12(12), 2019, section 2).
"""

from __future__ import annotations

import math
from collections.abc import Iterable, Mapping, Sequence
from functools import lru_cache

ERROR = 0.02
_GAMMA = (1 + ERROR) / (1 - ERROR)
_LOG_GAMMA = math.log(_GAMMA)


@lru_cache(maxsize=65_536)
def bucket_of(microseconds: float) -> int:
    """Bucket of a duration; anything up to 1 µs is bucket 0."""
    return math.ceil(math.log(microseconds) / _LOG_GAMMA) if microseconds > 1 else 0


def bucket_counts(values: Sequence[int]) -> list[tuple[int, int]]:
    """Buckets of many whole microseconds at once, each with how many are in it."""
    import numpy as np  # only services count so: a client reads histograms without it

    buckets = np.ceil(np.log(np.maximum(np.asarray(values, dtype=np.float64), 1.0)) / _LOG_GAMMA).astype(np.int64)
    counts = np.bincount(buckets)
    return [(int(bucket), int(counts[bucket])) for bucket in np.flatnonzero(counts)]


def bucket_value(bucket: int) -> float:
    """The duration in microseconds that a bucket stands for."""
    return 2 * _GAMMA**bucket / (_GAMMA + 1)


def quantiles(counts: Mapping[int, int], probabilities: Iterable[float]) -> list[float | None]:
    """Quantiles in microseconds of a histogram given as bucket to count; None for each when it is empty.

    The q-quantile is the smallest value with at least ``q`` of all counts at or below it.
    """
    total = sum(counts.values())
    if not total:
        return [None for _ in probabilities]
    ordered = sorted(counts.items())
    values: list[float | None] = []
    for q in probabilities:
        need, seen = max(1, math.ceil(q * total)), 0
        for bucket, count in ordered:
            seen += count
            if seen >= need:
                values.append(bucket_value(bucket))
                break
    return values
