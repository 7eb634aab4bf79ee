"""Streams of rows for `bench.drift`: independent ones, and those of real traffic, with rare fields, bursts, day and night, and seasons.

Forty fields: numbers of several shapes, some tied, rare or correlated, and choices from 2 to 200.
"""

from __future__ import annotations

from dataclasses import dataclass
from math import sqrt
from typing import Any

import numpy as np
from numpy.typing import NDArray

from lamppost.core.drift.baseline import DriftBaseline, ReferenceField
from lamppost.core.drift.bins import bin_choices, bin_numbers
from lamppost.core.drift.sketches import Sketcher, pair_baseline

Rng = np.random.Generator
Columns = dict[str, Any]
Floats = NDArray[np.float64]
NUMBERS = 26
CHOICES = (2, 2, 3, 3, 4, 5, 6, 8, 10, 20, 40, 80, 120, 200)
DAY = 24
"""Windows of a day."""


@dataclass(frozen=True)
class Stream:
    """Where rows come from. season : of a wave over the year that moves a third of the numbers and choices, in standard deviations.

    daily : the same of a wave over the day, for half of the numbers. burst : rows of one entity that come together, and share most of what
    their values are made of.
    """

    season: float = 0.0
    daily: float = 0.0
    burst: int = 1

    def rows(self, count: int, rng: Rng, since: float = 0.0, until: float = 1.0, days: tuple[float, float] = (0.0, 365.0)) -> Columns:
        """Rows of a part of the year, in the order of time. days : the same span in days, for the hour of the day."""
        year = np.linspace(since, until, count, endpoint=False)
        hour = np.linspace(*days, count, endpoint=False) % 1.0
        out: Columns = {}
        common = self._drawn(count, rng)
        for number in range(NUMBERS):
            latent = self._drawn(count, rng)
            if number % 5 == 0:
                latent = 0.7 * common + sqrt(1 - 0.49) * latent
            if number % 3 == 0:
                latent = latent + self.season * np.sin(2 * np.pi * (year + number / NUMBERS))
            if number % 2 == 0:
                latent = latent + self.daily * np.sin(2 * np.pi * (hour + number / NUMBERS))
            out[f"n{number}"] = _shaped(latent, number)
        for number, many in enumerate(CHOICES):
            latent = self._drawn(count, rng)
            if number % 3 == 0:
                latent = latent + 0.5 * self.season * np.sin(2 * np.pi * (year + number / len(CHOICES)))
            if number % 2 == 0:
                latent = latent + 0.5 * self.daily * np.sin(2 * np.pi * (hour + number / len(CHOICES)))
            limits = _normal_limits(_weights(many, number))
            out[f"c{number}"] = [f"v{value}" for value in np.searchsorted(limits, latent).tolist()]
        return out

    def _drawn(self, count: int, rng: Rng) -> Floats:
        """Standard normal values; in bursts they share four fifths of their variance."""
        own = rng.standard_normal(count)
        if self.burst == 1:
            return own
        shared = np.repeat(rng.standard_normal(-(-count // self.burst)), self.burst)[:count]
        mixed: Floats = sqrt(0.8) * shared + sqrt(0.2) * own
        return mixed


def _shaped(latent: Floats, number: int) -> Floats:
    kind = number % 4
    if kind == 1:
        return np.exp(latent)
    if kind == 2:
        return np.round(latent * 2)
    if kind == 3 and number % 8 == 3:
        return np.where(latent > 1.0, latent, 0.0)  # mostly nothing
    return latent


def _weights(many: int, number: int) -> Floats:
    raw = 1.0 / np.arange(1, many + 1) ** (0.3 + 0.1 * (number % 4))
    weights: Floats = raw / raw.sum()
    return weights


def _normal_limits(weights: Floats) -> Floats:
    from scipy.special import ndtri

    limits: Floats = ndtri(np.cumsum(weights)[:-1])
    return limits


def rare_and_tied(count: int, rng: Rng) -> Columns:
    """Forty numbers of which most rows have the same value: counts that are mostly zero, flags of a few in a thousand, and groups of such
    that come together.
    """
    out: Columns = {}
    for group in range(10):
        together = rng.random(count) < (0.003, 0.01, 0.04, 0.15)[group % 4]
        for member in range(4):
            alone = rng.random(count) < (0.005, 0.02, 0.08)[(group + member) % 3]
            there = together | alone if member < 2 else alone
            size = rng.geometric(0.4, count) if member % 2 else np.ones(count)
            out[f"n{group}_{member}"] = np.where(there, size, 0).astype(np.float64)
    return out


def make_sketcher(columns: Columns, rows: int) -> Sketcher:
    """What packing would keep of a reference."""
    known = []
    for name, values in columns.items():
        if isinstance(values, list):
            known.append(ReferenceField(name, False, bin_choices(values), rows, sum(value is None for value in values)))
        else:
            known.append(ReferenceField(name, True, bin_numbers(values), rows, int((~np.isfinite(values)).sum())))
    names = tuple(one.name for one in known if one.numbers)
    first = Sketcher(DriftBaseline(tuple(known), rows, names))
    return Sketcher(DriftBaseline(tuple(known), rows, names, pair_baseline(first, columns, rows)))


def permuted(columns: Columns, rng: Rng) -> Columns:
    """The same rows in any order, as a frame that was shuffled."""
    order = rng.permutation(len(next(iter(columns.values()))))
    return {name: [values[at] for at in order] if isinstance(values, list) else values[order] for name, values in columns.items()}
