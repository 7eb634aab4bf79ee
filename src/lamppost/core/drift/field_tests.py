"""The statistics by which one field of a window differs from a reference.

For a window of m rows against a reference of n, with ``h = nm / (n + m)``, shares q and p of the bins and ``w`` those of both together:
location and spread are the score tests ``h (sum s (q - p))^2 / Var_w(s)`` with the scores of `lamppost.core.drift.bins` (a smooth test in
the manner of Neyman, *Skandinavisk Aktuarietidskrift* 20, 1937), the rest is what Pearson's ``h sum (q - p)^2 / w`` has beyond them. Rates
of rare events are compared by the exact conditional binomial test (Przyborowski and Wilenski, *Biometrika* 31, 1940); for unseen choices,
the choices that the reference saw once are added (Good, *Biometrika* 40, 1953).
"""

from __future__ import annotations

import math
from collections.abc import Callable, Iterator
from dataclasses import dataclass, replace
from typing import Any

import numpy as np
from numpy.typing import NDArray

from lamppost.core.drift.baseline import FieldSketch, ReferenceField
from lamppost.core.drift.bins import What, bin_scores
from lamppost.core.drift.dependence import BEYOND_BLOCKS, Dependence
from lamppost.core.drift.distributions import bennett_bound, binomial_tails, chi_squared_tail, f_tail

FLOORS: dict[What, tuple[float, float]] = {
    "location": (0.07, 0.25),
    "spread": (0.07, 0.25),
    "shape": (0.07, 0.25),
    "missing": (0.004, 0.03),
    "outside": (0.004, 0.03),
    "far": (0.004, 0.03),
    "unseen": (0.004, 0.03),
    "correlation": (0.10, 0.30),
}
"""Sizes from which a change counts as shifting, and as drifted: standard deviations of the reference, parts of rows, differences of r."""
_EXPECTED = 5.0
_COMMON, _NORMAL_FROM = 5.0, 40.0
"""The mean fourth power of scores up to which chi-squared is valid for any window; and for more, so many times the rows."""
_IMAGINED = 2
"""Rows that the reference is imagined to have had besides outside its range, on both sides together, and far outside."""

DependenceOf = Callable[[What, float, float], Dependence]
"""By what is compared, and the rows of window and reference."""


@dataclass(frozen=True, slots=True)
class DriftFinding:
    """One way in which a field differs. p : the probability of such a difference in an unchanged stream, corrected for all tests of this
    field.

    size : in the unit of its floor in `FLOORS`. signed : with its direction. before, after : the rates, for a finding about rates, and for
    one about shape those of the values that changed most. where : these values, as they are printed.
    """

    what: What
    p: float
    size: float
    signed: float
    before: float | None = None
    after: float | None = None
    where: str | None = None


@dataclass(frozen=True, slots=True)
class FieldDifference:
    """A difference before it is known how sure it is. statistic : chi-squared with so many degrees while nothing changes.

    window, reference : rows of both. peak, fourth : of location and spread, the largest score and the mean fourth power of scores.
    events : of a rate, how often it happened in the window and, with what is imagined, in the reference;
    two_sided : whether it may also have become rarer. tried : so many such rates were compared, of which this is the clearest.
    """

    what: What
    statistic: float
    degrees: int
    size: float
    signed: float
    window: float
    reference: float
    peak: float = 0.0
    fourth: float = 0.0
    events: tuple[int, int] | None = None
    two_sided: bool = False
    tried: int = 1
    before: float | None = None
    after: float | None = None
    where: str | None = None


def field_differences(known: ReferenceField, window: FieldSketch, earlier: FieldSketch | None = None) -> Iterator[FieldDifference]:
    """Every way in which a field of a window can differ from the reference; or from earlier windows, if these are given."""
    base = known.as_sketch() if earlier is None else earlier
    rows = known.rows if earlier is None else earlier.rows  # of many choices every second row chose the bins: these do not hold all rows
    reference, seen = base.bins.astype(np.float64), window.bins.astype(np.float64)
    n, m = float(reference.sum()), float(seen.sum())
    if n > 0 and m > 0:
        yield from _shape(known, reference, seen, n, m)
        if known.numbers:
            # the ends of the range are rows of the reference themselves: as much again is to be expected beyond each
            yield _rate("outside", window.odd, m, base.odd, n, prior=_IMAGINED)
            if window.far and base.far:
                rates = [_rate("far", k, m, before, n, prior=_IMAGINED) for k, before in zip(window.far, base.far, strict=True)]
                clearest = min(rates, key=_exact)
                yield replace(clearest, tried=len(rates) + 1)  # with the rows outside
        else:
            yield _rate("unseen", window.odd, m, base.odd, rows - base.missing)
    if rows and window.rows:
        yield _rate("missing", window.missing, window.rows, base.missing, rows, two_sided=True)


def find_differences(
    known: ReferenceField, window: FieldSketch, earlier: FieldSketch | None = None, dependence: DependenceOf | None = None
) -> list[DriftFinding]:
    """Every way in which a field differs in a window, each with its p before it is corrected for the others.

    earlier : windows to compare with instead of the reference. dependence : of rows on each other; None for independent ones.
    """
    return [_finding(one, dependence) for one in field_differences(known, window, earlier)]


def _finding(difference: FieldDifference, dependence: DependenceOf | None) -> DriftFinding:
    how = Dependence(1.0, math.inf) if dependence is None else dependence(difference.what, difference.window, difference.reference)
    if difference.size < BEYOND_BLOCKS * how.least:
        p = 1.0
    elif difference.events is not None:
        p = min(1.0, difference.tried * _exact(difference, how.phi))
    elif how.phi > 1 or math.isfinite(how.degrees):
        p = f_tail(difference.degrees, max(2.0, how.degrees), difference.statistic / (difference.degrees * how.phi))
        p = max(p, _uncommon(difference, how.phi))
    else:
        p = max(float(chi_squared_tail(difference.degrees, difference.statistic)), _uncommon(difference, 1.0))
    return DriftFinding(difference.what, p, difference.size, difference.signed, difference.before, difference.after, where=difference.where)


def _exact(difference: FieldDifference, phi: float = 1.0) -> float:
    """The p of a number of events in the window among all events: binomial with the window's share of rows."""
    assert difference.events is not None
    k, before = difference.events
    m, n = difference.window / phi, difference.reference / phi
    k, before = int(k / phi), round(before / phi)
    above, below = binomial_tails(k, k + before, m / (n + m))
    return min(1.0, 2 * min(above, below)) if difference.two_sided else above


def _uncommon(difference: FieldDifference, phi: float) -> float:
    """The least that p can be sure to be, where most rows share one score and few rows have others: chi-squared is not valid there."""
    m, n = difference.window / phi, difference.reference
    if difference.fourth <= _COMMON or m >= _NORMAL_FROM * difference.fourth:
        return 0.0
    return float(bennett_bound(difference.size, 1.0, difference.peak, n * m / (n + m)))


def _rate(what: What, k: int, m: float, before: int, n: float, prior: int = 0, two_sided: bool = False) -> FieldDifference:
    signed = k / m - before / n
    pool = (k + before + prior) / (n + m)
    spread = pool * (1 - pool)
    statistic = n * m / (n + m) * signed**2 / spread if spread > 0 else 0.0
    size = abs(signed) if two_sided else max(0.0, signed)
    events = (k, before + prior)
    return FieldDifference(what, statistic, 1, size, signed, m, n, events=events, two_sided=two_sided, before=before / n, after=k / m)


def _shape(known: ReferenceField, reference: NDArray[Any], seen: NDArray[Any], n: float, m: float) -> Iterator[FieldDifference]:
    order, starts = _merged((reference + seen) / (n + m) * min(n, m), known.numbers)
    p_all, q_all = (np.add.reduceat(counts[order], starts) for counts in (reference, seen))
    p, q = p_all / n, q_all / m
    pool, h, df = (p_all + q_all) / (n + m), n * m / (n + m), len(p) - 1
    if df < 1:
        return
    apart = q - p
    weights = apart**2 / pool
    everything = h * float(weights.sum())
    if known.numbers and (p_all > 0).any():
        scores = [np.zeros(len(p_all)), np.zeros(len(p_all))]
        used = p_all > 0
        scores[0][used], scores[1][used] = bin_scores(p_all[used])
        names: tuple[What, What] = ("location", "spread")
        for what, score in zip(names, scores, strict=True):
            spread = float((pool * score**2).sum() - (pool * score).sum() ** 2)
            if spread > 1e-12:
                size = float((score * apart).sum())
                statistic = h * size**2 / spread
                everything, df = everything - statistic, df - 1
                fourth = float((pool * score**4).sum() / (pool * score**2).sum() ** 2)
                yield FieldDifference(what, statistic, 1, abs(size), size, m, n, float(np.abs(score).max()), fourth)
    if df > 0:
        rest = max(0.0, everything)
        size = math.sqrt(max(0.0, everything - df) / h)
        most = int(weights.argmax())
        before, after = float(p[most]), float(q[most])
        values = _values(known, order[starts[most] : [*starts, len(order)][most + 1]].tolist())
        yield FieldDifference("shape", rest, df, size, size, m, n, before=before, after=after, where=values)


def _merged(expected: NDArray[Any], ordered: bool) -> tuple[NDArray[np.int64], list[int]]:
    """Bins merged until each is expected to hold five rows of the smaller side; choices are merged from the rarest on.

    Returns the order of the bins, and where in it each group of them begins.
    """
    order = np.arange(len(expected)) if ordered else np.argsort(expected, kind="stable")
    starts, held = [0], 0.0
    for at, rows in enumerate(expected[order].tolist(), 1):
        held += rows
        if held >= _EXPECTED:
            starts.append(at)
            held = 0.0
    if len(starts) > 1:  # the last group is empty, or holds too few rows and goes with the one before it
        starts.pop()
    return order, starts


def _values(known: ReferenceField, group: list[int]) -> str:
    """The values in some neighbouring bins, as they are printed."""
    bins = known.bins
    if not known.numbers:
        names = [bins.choices[at] for at in group if at < len(bins.choices)]
        return names[0] if len(group) == 1 and names else "rare values"
    low = bins.edges[min(group) - 1] if min(group) else None
    high = bins.edges[max(group)] if max(group) < len(bins.edges) else None
    if low is None or high is None:
        return f"up to {high:.4g}" if high is not None else f"above {low:.4g}" if low is not None else "any value"
    return f"{low:.4g} to {high:.4g}"


def tests_of_field(known: ReferenceField) -> int:
    """By how much the p of a field's clearest difference is multiplied."""
    return 5 if known.numbers else 3
