"""Divides the values of a field into bins, so that windows can be compared with a reference by counts alone.

Numbers fall into the bins between quantiles of the reference, choices into one each. A profile keeps how many rows of the reference fell
into each, what lay far outside, and how much blocks of consecutive reference rows differ from the whole: where rows are in the order of
time, this shows how much a season or a day moves a field without any drift.
"""

from __future__ import annotations

from collections import Counter
from collections.abc import Sequence
from dataclasses import dataclass
from typing import Any, ClassVar

import numpy as np
from numpy.typing import NDArray

from lamppost.core.drift.distributions import normal_quantile

BINS = 20
BLOCKS = (50, 100, 200, 500)
"""Rows of a block; blocks of a twentieth of the reference come besides."""

Counts = NDArray[np.int64]
Floats = NDArray[np.float64]


@dataclass(frozen=True, slots=True)
class BlockSpread:
    """How blocks of so many consecutive rows differ from the whole reference, for location, spread and rest (of a choice: rest alone).

    count : of blocks. phi : mean of the statistic of a block over its expectation were rows independent. most : largest effect of a block.
    """

    rows: int
    count: int
    phi: tuple[float, ...]
    most: tuple[float, ...]

    __pydantic_config__: ClassVar = {"extra": "forbid"}


@dataclass(frozen=True, slots=True)
class FieldBins:
    """The bins of one field. edges : upper ends of all bins of a number but the last; empty for a choice.

    counts : rows of the reference in each bin, for a choice in the order of ``choices``, then all others together. outside : rows beyond
    ``low`` or ``high``. once : choices seen once in the reference.
    """

    counts: tuple[int, ...]
    edges: tuple[float, ...] = ()
    choices: tuple[str, ...] = ()
    low: float = 0.0
    high: float = 0.0
    outside: int = 0
    once: int = 0
    blocks: tuple[BlockSpread, ...] = ()

    __pydantic_config__: ClassVar = {"extra": "forbid"}


def bin_numbers(values: Sequence[float]) -> FieldBins:
    """Bins of the values of a reference, in the order of its rows. At least one value."""
    there = np.asarray(values, dtype=np.float64)
    edges = np.unique(np.quantile(there, np.arange(1, BINS) / BINS))
    if len(edges) and edges[-1] >= there.max():
        edges = edges[:-1]  # nothing lies above the largest
    places = np.searchsorted(edges, there, side="left")
    counts = np.bincount(places, minlength=len(edges) + 1)
    low, high = (float(end) for end in np.quantile(there, (0.001, 0.999)))
    outside = int(((there < low) | (there > high)).sum())
    blocks = _blocks(places, counts, numbers=True)
    return FieldBins(tuple(counts.tolist()), tuple(edges.tolist()), low=low, high=high, outside=outside, blocks=blocks)


def bin_choices(values: Sequence[str], most: int = 63) -> FieldBins:
    """Bins of the choices of a reference: one for each of the ``most`` frequent, all others share the last.

    With more choices than that, every second row selects the frequent ones, and the rows between are counted: counting the selecting rows
    would overstate the selected choices.
    """
    seen = Counter(values)
    names = [name for name, _ in sorted(seen.items(), key=lambda pair: (-pair[1], pair[0]))]
    if len(names) > most:
        half = Counter(values[::2])
        names = [name for name, _ in sorted(half.items(), key=lambda pair: (-pair[1], pair[0]))[:most]]
        values = values[1::2]
    index = {name: at for at, name in enumerate(names)}
    places = np.fromiter((index.get(value, len(names)) for value in values), dtype=np.int64, count=len(values))
    counts = np.bincount(places, minlength=len(names) + 1)
    once = sum(count == 1 for count in seen.values())
    return FieldBins(tuple(counts.tolist()), choices=tuple(names), once=once, blocks=_blocks(places, counts, numbers=False))


def bin_scores(counts: NDArray[Any]) -> tuple[Floats, Floats]:
    """Location and spread of each bin: mean and mean square of normal scores in it, orthonormal under the counts.

    A bin that holds the ranks from u to v has the mean ``(f(z_u) - f(z_v)) / (v - u)`` of standard normal scores, where f is their
    density and z their quantiles; so tied values share one score. A single bin has none.
    """
    shares = counts / counts.sum()
    ranks = np.concatenate(([0.0], np.cumsum(shares)))
    z = normal_quantile(np.clip(ranks, 0.0, 1.0))
    density = np.exp(-0.5 * np.where(np.isfinite(z), z, 0.0) ** 2) / np.sqrt(2 * np.pi) * np.isfinite(z)
    slope = np.where(np.isfinite(z), z, 0.0) * density
    width = np.maximum(shares, 1e-300)
    first = (density[:-1] - density[1:]) / width
    second = 1.0 + (slope[:-1] - slope[1:]) / width
    a = _unit(first - (shares * first).sum(), shares)
    b = second - (shares * second).sum()
    return a, _unit(b - (shares * b * a).sum() * a, shares)


def _unit(values: Floats, shares: Floats) -> Floats:
    size = float(np.sqrt((shares * values**2).sum()))
    unit: Floats = values / size if size > 1e-9 else np.zeros_like(values)
    return unit


def _blocks(places: NDArray[Any], counts: NDArray[Any], numbers: bool) -> tuple[BlockSpread, ...]:
    rows = len(places)
    blocks = []
    shares = counts / max(1, rows)
    used = shares > 0
    a, b = bin_scores(counts[used]) if numbers and used.any() else (np.zeros(0), np.zeros(0))
    for size in dict.fromkeys((*BLOCKS, rows // BINS)):
        many = rows // size if size else 0
        if size < BLOCKS[0] or many < BINS:
            continue
        bins = len(counts)
        block = np.repeat(np.arange(many), size) * bins + places[: many * size]
        seen = np.bincount(block, minlength=many * bins).reshape(many, bins)[:, used] / size
        apart = seen - shares[used]
        scale = size / (1 - size / rows)  # a block is a part of the whole that it is held against
        everything = scale * (apart**2 / shares[used]).sum(axis=1)
        df = int(used.sum()) - 1
        if numbers:
            location, spread = apart @ a, apart @ b
            rest, left = everything - scale * (location**2 + spread**2), df - 2
            sizes: list[Floats] = [np.abs(location), np.abs(spread)]
            phi = [float(scale * (location**2).mean()), float(scale * (spread**2).mean())]
        else:
            rest, left, sizes, phi = everything, df, [], []
        phi.append(float(rest.mean() / left) if left > 0 else 1.0)
        sizes.append(np.sqrt(np.maximum(0.0, rest - left) / scale))
        blocks.append(BlockSpread(size, many, tuple(phi), tuple(float(spread.max()) for spread in sizes)))
    return tuple(blocks)
