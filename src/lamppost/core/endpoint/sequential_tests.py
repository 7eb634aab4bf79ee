"""Sequential tests by e-values: evidence that may be looked at after every call, at a stated risk of a false alarm.

Each test gives an *e-value*: a non-negative figure whose expectation is at most 1 while nothing is wrong, whenever one stops. By Ville's
inequality (*Étude critique de la notion de collectif*, 1939; Ramdas et al., *Statistical Science* 38(4), 2023, sections 1 and 4) it ever
reaches 1/a with probability at most a. So looking often costs nothing, which is not true of a p-value. All figures here are natural
logarithms of e-values; several are combined by their mean, which is an e-value again.

``share`` is the probability by which calls are given to the new version, from the split, not from what was seen.
"""

from __future__ import annotations

import math
from collections.abc import Mapping, Sequence

RATIOS = (1.5, 2.0, 3.0, 5.0, 10.0, 30.0, 100.0)
"""How many times more often than allowed something may happen: the alternatives that a test is ready for."""

PRIOR = 8.0
"""Answers of each kind that the test of distributions imagines to have seen at the share of the split."""


def events_evidence(new: int, old: int, share: float, allowed: float = 1.0) -> float:
    """Evidence that an event (a failure, a wrong answer) comes more than ``allowed`` times as often with the new version.

    new, old : how many events each had, at this share. An event is the new version's with probability ``r s / (r s + 1 - s)``
    where r is the ratio of the rates: the likelihood ratio of an r beyond ``allowed`` against it, averaged over `RATIOS`. It needs no rate
    of either version, and it says nothing at a share of 0 or 1.
    """
    if not 0 < share < 1 or not new + old:
        return 0.0
    base = _of_new(allowed, share)
    return mean_evidence(
        [
            new * math.log(_of_new(allowed * ratio, share) / base) + old * math.log((1 - _of_new(allowed * ratio, share)) / (1 - base))
            for ratio in RATIOS
        ]
    )


def _of_new(ratio: float, share: float) -> float:
    return ratio * share / (ratio * share + 1 - share)


def rate_evidence(happened: int, of: int, allowed: float) -> float:
    """Evidence that something happens to more than the fraction ``allowed`` (between 0 and 1) of all cases."""
    if not of:
        return 0.0
    others = [min(allowed * ratio, (1 + allowed) / 2) for ratio in RATIOS]
    return mean_evidence([happened * math.log(p / allowed) + (of - happened) * math.log((1 - p) / (1 - allowed)) for p in others])


def distribution_evidence(new: Mapping[str, int], old: Mapping[str, int], share: float) -> float:
    """Evidence that the answers of both versions are not distributed alike, by their counts per label or cell, at one share.

    While they are alike each answer is the new version's with probability ``share``, whatever it says. The alternative lets that
    probability differ by label and learns it as it goes: a Pólya urn for each label, whose product over all answers is a ratio of beta
    functions and depends on the counts alone.
    """
    if not 0 < share < 1:
        return 0.0
    a, b = PRIOR * share, PRIOR * (1 - share)
    total = 0.0
    for label in new.keys() | old.keys():
        n, o = new.get(label, 0), old.get(label, 0)
        total += _beta(a + n, b + o) - _beta(a, b) - n * math.log(share) - o * math.log(1 - share)
    return total


def caller_evidence(new: Mapping[str, float], old: Mapping[str, float], share: float) -> float:
    """Evidence that callers of both versions are not answered alike, by how many there were per label, in parts of callers.

    As `distribution_evidence`, but the share by which callers are given to the new version is not known: keys do not give a few callers
    out as exactly as the split says. Whatever it is, callers are no likelier than at the share that was seen.
    """
    n, o = math.fsum(new.values()), math.fsum(old.values())
    if not 0 < share < 1 or not n + o:
        return 0.0
    a, b = PRIOR * share, PRIOR * (1 - share)
    total = math.fsum(_beta(a + new.get(label, 0.0), b + old.get(label, 0.0)) - _beta(a, b) for label in sorted(new.keys() | old.keys()))
    return total - (n * math.log(n / (n + o)) if n else 0.0) - (o * math.log(o / (n + o)) if o else 0.0)


def _beta(a: float, b: float) -> float:
    return math.lgamma(a) + math.lgamma(b) - math.lgamma(a + b)


def mean_evidence(logs: Sequence[float]) -> float:
    """The logarithm of the mean of e-values."""
    top = max(logs)
    return top + math.log(math.fsum(math.exp(log - top) for log in logs) / len(logs))


def distribution_distance(new: Mapping[str, float], old: Mapping[str, float]) -> float:
    """How far two distributions lie apart: the total variation distance of their shares, 0 (alike) to 1 (nothing in common)."""
    all_new, all_old = sum(new.values()), sum(old.values())
    if not all_new or not all_old:
        return 0.0
    return sum(abs(new.get(label, 0) / all_new - old.get(label, 0) / all_old) for label in new.keys() | old.keys()) / 2
