"""How much more than independent rows do spans of consecutive rows differ: from blocks of the reference, or from earlier windows.

``phi`` is the mean of a chi-squared statistic over its expectation, were rows independent; 1 for independent rows. It grows with the length
of a span where a season or a day moves the rows together. A statistic that was divided by it is held against an F distribution, because
phi is known from a limited number of spans (overdispersion as in McCullagh and Nelder, *Generalized Linear Models*, 2nd edition 1989,
section 4.5).
"""

from __future__ import annotations

import math
from collections.abc import Sequence
from dataclasses import dataclass
from itertools import accumulate

from lamppost.core.drift.bins import BlockSpread, FieldBins
from lamppost.core.drift.distributions import chi_squared_tail

BEYOND_BLOCKS = 1.25
"""A change has to be so many times the largest of a block of the reference."""
_SURE = 0.001
_LEAST_PHI = 1.2
_MOST_GROWTH = 4.0


@dataclass(frozen=True, slots=True)
class Dependence:
    """phi : what a statistic is divided by, 1 and above. degrees : of freedom with which it is known. least : the size that a change has
    to reach, because spans of an unchanged stream reach nearly as much.
    """

    phi: float
    degrees: float
    least: float = 0.0


def field_depends(bins: FieldBins, numbers: bool) -> bool:
    """Whether blocks of the reference differ by more than independent rows would, in any respect and at any length."""
    cells = sum(count > 0 for count in bins.counts)
    degrees = {"shape": cells - (3 if numbers else 1)}
    return any(
        phi_is_sure(phi, count, max(1, degrees.get(what, 1)))
        for what, spread in bins.blocks.items()
        for phi, count in zip(spread.phi, spread.count, strict=True)
    )


def phi_is_sure(phi: float, spans: int, degrees: float) -> bool:
    """Whether the mean of so many statistics, each of so many degrees of freedom, is too large for independent rows."""
    return phi > _LEAST_PHI and float(chi_squared_tail(spans * degrees, phi * spans * degrees)) < _SURE


def reference_dependence(spread: BlockSpread, m: float, n: float, live: Dependence) -> Dependence:
    """How much a statistic of a window of m rows against a reference of n is too large by. A change has to go beyond the longest blocks
    that are no longer than the window: shorter ones differ by chance. live : the same of windows, by earlier windows.
    """
    of_window, of_reference = max(live.phi, phi_at(spread, m)), phi_at(spread, n)
    within = max(1, sum(length <= m for length in spread.rows))
    phi = max(1.0, n * m / (n + m) * (of_window / m + of_reference / n))
    return Dependence(phi, min(spread.count[within - 1] / 2, live.degrees), spread.most[within - 1])


def phi_at(spread: BlockSpread, rows: float) -> float:
    """The phi of spans of so many rows. It does not fall with their length; between the lengths of blocks it is interpolated on logarithmic
    scales, and beyond the longest it grows on as between the last two, at most in proportion and at most four times.
    """
    lengths, phis = spread.rows, list(accumulate((max(1.0, phi) for phi in spread.phi), max))
    if rows <= lengths[0]:
        return phis[0]
    for at in range(1, len(lengths)):
        if rows <= lengths[at]:
            part = math.log(rows / lengths[at - 1]) / math.log(lengths[at] / lengths[at - 1])
            return phis[at - 1] * math.exp(part * math.log(phis[at] / phis[at - 1]))
    growth = math.exp(_last_slope(lengths, phis) * math.log(rows / lengths[-1]))
    return phis[-1] * min(_MOST_GROWTH, growth)


def _last_slope(lengths: Sequence[int], phis: Sequence[float]) -> float:
    if len(lengths) < 2:
        return 0.0
    return min(1.0, max(0.0, math.log(phis[-1] / phis[-2]) / math.log(lengths[-1] / lengths[-2])))
