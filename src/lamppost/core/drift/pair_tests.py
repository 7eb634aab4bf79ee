"""Tests whether the correlation of two fields has changed, also where scores are tied or rare.

With standardised location scores a and b and the correlation r of the reference, ``psi = ab - r (a^2 + b^2) / 2`` is what a row adds to
the difference of correlations, to first order; its mean is 0 while nothing changes. v is its mean square and k the mean of its fourth
power over v squared. With ``h = nm / (n + m)`` and a difference t: where a window has 120 k rows or more, p is that of a normal variable
of variance ``v / h``; with fewer, Bennett's inequality bounds it (*Journal of the American Statistical Association* 57, 1962), which
needs only v and the largest that psi can be. (Fisher's z is not valid for scores that are 0 in most rows: a single pair of rare values
makes a correlation of nearly 1.)
"""

from __future__ import annotations

import math
from dataclasses import dataclass

import numpy as np
from numpy.typing import NDArray

from lamppost.core.drift.baseline import JointMoments, PairBaseline
from lamppost.core.drift.dependence import BEYOND_BLOCKS
from lamppost.core.drift.distributions import bennett_bound, f_tails, normal_probability

Floats = NDArray[np.float64]
_NORMAL_FROM = 120.0
_LEAST_ROWS = 10
_MOST_ROWS = 20_000


@dataclass(frozen=True, slots=True)
class PairDifferences:
    """The differences of all pairs. p : the probability of such a difference in an unchanged stream. first, second : places of the fields.

    before, after : correlations in the reference and in the window. difference : what p is the probability of.
    """

    first: NDArray[np.int64]
    second: NDArray[np.int64]
    p: Floats
    before: Floats
    after: Floats
    difference: Floats


def pair_moments(scores: Floats, correlations: Floats) -> tuple[Floats, Floats]:
    """Variances and kurtoses of what rows add to correlations, as square arrays. scores : of shape (rows, fields); at most 20,000 rows
    spread evenly over them are looked at.
    """
    rows, size = scores.shape
    some = scores[np.linspace(0, rows - 1, num=min(rows, _MOST_ROWS)).astype(int)]
    spread = some.std(axis=0)
    standard = (some - some.mean(axis=0)) / np.where(spread > 1e-9, spread, 1.0)
    squares = standard**2
    variances, kurtoses = np.ones((size, size)), np.full((size, size), 3.0)
    for at in range(size):
        added = standard[:, at : at + 1] * standard - correlations[at] * (squares[:, at : at + 1] + squares) / 2
        variances[at] = (added**2).mean(axis=0)
        kurtoses[at] = (added**4).mean(axis=0) / np.maximum(variances[at], 1e-12) ** 2
    return variances, kurtoses


def compare_pairs(
    baseline: PairBaseline, n: int, window: JointMoments, phi: Floats | None = None, degrees: float = math.inf
) -> PairDifferences | None:
    """All pairs of a window of m rows against a reference of n; None where there are too few rows or fields.

    phi : by how much earlier windows differed more than independent rows would, as a square array; degrees : of freedom with which this is
    known.
    """
    m = window.rows
    if min(m, n) < _LEAST_ROWS or len(baseline.names) < 2:
        return None
    first, second = np.triu_indices(len(baseline.names), 1)
    r, covariance, after = baseline.correlations, window.covariances(), window.correlations()
    spread = np.diag(covariance)
    added = covariance - r * (spread[:, None] + spread[None, :]) / 2
    # a window in which a field hardly varies has no correlation to speak of: what its rows have added counts then
    t = np.minimum(np.abs(after - r), np.abs(added))[first, second]
    peaks = baseline.peaks
    most = (np.outer(peaks, peaks) + np.abs(r) * (peaks[:, None] ** 2 + peaks[None, :] ** 2) / 2)[first, second]
    # as if the reference had had one row more, with both values at their rarest: it may not have met them together yet
    known = np.maximum(baseline.variances[first, second], 1e-9)
    v = known + most**2 / n
    kurtosis = (baseline.kurtoses[first, second] * known**2 + most**4 / n) / v**2
    factor = np.ones_like(v) if phi is None else np.maximum(1.0, phi[first, second])
    h = n * m / (n + m) / factor
    normal = 2 * normal_probability(-t * np.sqrt(h / v)) if math.isinf(degrees) else f_tails(1, max(2.0, degrees), h * t**2 / v)
    bounded = np.maximum(normal, bennett_bound(t, v, most, h))
    p = np.where(m / factor >= _NORMAL_FROM * kurtosis, normal, bounded)
    return PairDifferences(first, second, p, r[first, second], after[first, second], t)


def pair_sizes_to_exceed(baseline: PairBaseline, rows: int) -> Floats | None:
    """What a change has to reach beyond its floor where blocks of the reference differ: more than those by as much as any other change has
    to, and two standard errors of the window on top.
    """
    if baseline.most_apart is None:
        return None
    sizes: Floats = BEYOND_BLOCKS * baseline.most_apart + 2 / math.sqrt(max(1, rows - 3))
    return sizes
