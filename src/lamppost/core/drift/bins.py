"""Divides the values of a field into bins, so that windows can be compared with a reference by counts alone.

Numbers fall into the bins between quantiles of the reference, choices into one each. A profile keeps how many rows of the reference fell
into each, what lay far outside, and how much blocks of consecutive reference rows differ from the whole: where rows are in the order of
time, this shows how much a season or a day moves a field without any drift.
"""

from __future__ import annotations

from base64 import b64decode, b64encode
from collections import Counter
from collections.abc import Mapping, Sequence
from dataclasses import dataclass
from dataclasses import field as default
from typing import Any, ClassVar, Literal
from zlib import crc32

import numpy as np
from numpy.typing import NDArray

from lamppost.core.drift.distributions import normal_quantile

What = Literal["location", "spread", "shape", "missing", "outside", "far", "unseen", "correlation"]

BINS = 20
BLOCKS = (50, 100, 200, 500)
"""Rows of a block; blocks of a twentieth of the reference come besides."""
FAR = (0.25, 2.0)
"""Numbers that lie beyond the range by more than so many of its widths are counted besides."""
_LEAST_EVENTS = 5.0

Counts = NDArray[np.int64]
Floats = NDArray[np.float64]


@dataclass(frozen=True, slots=True)
class BlockSpread:
    """How blocks of consecutive rows differ from the whole reference, in one respect and for several lengths of a block.

    rows : lengths, ascending. count : blocks of each length. phi : mean of the statistic of a block over its expectation were rows
    independent. most : largest effect of a block.
    """

    rows: tuple[int, ...]
    count: tuple[int, ...]
    phi: tuple[float, ...]
    most: tuple[float, ...]

    __pydantic_config__: ClassVar = {"extra": "forbid"}


@dataclass(frozen=True, slots=True)
class FieldBins:
    """The bins of one field. edges : upper ends of all bins of a number but the last; empty for a choice.

    counts : rows of the reference in each bin, for a choice in the order of ``choices``, then all others together. outside : rows beyond
    ``low`` or ``high``. far : rows beyond these by a quarter of the range and by twice the range; empty where that was not counted.
    once : choices seen once in the reference. seen : checksums of all choices where there are more than bins (see `seen_values`).
    blocks : by what is compared.
    """

    counts: tuple[int, ...]
    edges: tuple[float, ...] = ()
    choices: tuple[str, ...] = ()
    low: float = 0.0
    high: float = 0.0
    outside: int = 0
    far: tuple[int, ...] = ()
    once: int = 0
    seen: str = ""
    blocks: Mapping[What, BlockSpread] = default(default_factory=dict)

    __pydantic_config__: ClassVar = {"extra": "forbid"}


def bin_numbers(values: Floats | Sequence[float]) -> FieldBins:
    """Bins of the values of a reference, in the order of its rows; NaN where there is none. At least one value."""
    given = np.asarray(values, dtype=np.float64)
    there = given[np.isfinite(given)]
    edges = np.unique(np.quantile(there, np.arange(1, BINS) / BINS))
    if len(edges) and edges[-1] >= there.max():
        edges = edges[:-1]  # nothing lies above the largest
    places = np.searchsorted(edges, there, side="left")
    counts = np.bincount(places, minlength=len(edges) + 1)
    low, high = (float(end) for end in np.quantile(there, (0.001, 0.999)))
    beyond = beyond_range(there, low, high)
    blocks = _value_blocks(places, counts, numbers=True)
    blocks |= _rate_blocks("outside", beyond > 0) | _rate_blocks("missing", ~np.isfinite(given))
    far = tuple(int((beyond > widths).sum()) for widths in FAR) if high > low else ()
    return FieldBins(
        tuple(counts.tolist()), tuple(edges.tolist()), low=low, high=high, outside=int((beyond > 0).sum()), far=far, blocks=blocks
    )


def beyond_range(values: Floats, low: float, high: float) -> Floats:
    """How far values lie beyond a range, in widths of it; 0 inside. Of a range without width, all that differ lie infinitely far."""
    distance = np.maximum(np.maximum(low - values, values - high), 0.0)
    with np.errstate(divide="ignore", invalid="ignore", over="ignore"):
        beyond: Floats = np.where(distance > 0, distance / (high - low), 0.0)
    return beyond


def bin_choices(values: Sequence[str | None], most: int = 63) -> FieldBins:
    """Bins of the choices of a reference, None where there is none: a bin for each of the ``most`` frequent, all others share the last.

    With more choices than that, every second row selects the frequent ones, and the rows between are counted: counting the selecting rows
    would overstate the selected choices.
    """
    there = [value for value in values if value is not None]
    counted = Counter(there)
    once, seen = sum(count == 1 for count in counted.values()), ""
    names = [name for name, _ in sorted(counted.items(), key=lambda pair: (-pair[1], pair[0]))]
    step = 1
    if len(names) > most:
        seen = b64encode(np.unique(checksums(names)).tobytes()).decode()
        half = Counter(there[::2])
        names = [name for name, _ in sorted(half.items(), key=lambda pair: (-pair[1], pair[0]))[:most]]
        there, step = there[1::2], 2
    index = {name: at for at, name in enumerate(names)}
    places = np.fromiter((index.get(value, len(names)) for value in there), dtype=np.int64, count=len(there))
    counts = np.bincount(places, minlength=len(names) + 1)
    blocks = _value_blocks(places, counts, numbers=False, step=step)
    blocks |= _rate_blocks("missing", np.fromiter((value is None for value in values), dtype=bool, count=len(values)))
    return FieldBins(tuple(counts.tolist()), choices=tuple(names), once=once, seen=seen, blocks=blocks)


def checksums(values: Sequence[str]) -> NDArray[np.uint32]:
    """A checksum of 32 bits of each value. Of 50,000 known values, one in 86,000 unknown ones is taken for known."""
    return np.fromiter((crc32(value.encode(errors="surrogatepass")) for value in values), dtype="<u4", count=len(values))


def seen_values(bins: FieldBins) -> NDArray[np.uint32]:
    """The checksums of all choices of the reference, ascending; none where all have bins of their own."""
    return np.frombuffer(b64decode(bins.seen), dtype="<u4")


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


def block_lengths(rows: int) -> list[int]:
    """Lengths of the blocks that a reference of so many rows is divided into: each makes twenty blocks at least."""
    lengths = sorted({*BLOCKS, rows // BINS})
    return [length for length in lengths if length >= BLOCKS[0] and rows // length >= BINS]


def _value_blocks(places: NDArray[Any], counts: NDArray[Any], numbers: bool, step: int = 1) -> dict[What, BlockSpread]:
    """Blocks compared by the bins that their values fall into. step : so many rows of the reference there are for each place."""
    rows, bins = len(places), len(counts)
    shares = counts / max(1, rows)
    used = shares > 0
    a, b = bin_scores(counts[used]) if numbers and used.any() else (np.zeros(0), np.zeros(0))
    measured: dict[What, list[tuple[int, int, float, float]]] = {}
    for length in block_lengths(rows):
        many = rows // length
        block = np.repeat(np.arange(many), length) * bins + places[: many * length]
        seen = np.bincount(block, minlength=many * bins).reshape(many, bins)[:, used] / length
        apart = seen - shares[used]
        scale = length / (1 - length / rows)  # a block is a part of the whole that it is held against
        rest = scale * (apart**2 / shares[used]).sum(axis=1)
        left = int(used.sum()) - 1

        def note(what: What, phi: float, sizes: Floats, of: tuple[int, int] = (length, many)) -> None:
            # of every second row, twice as many lie in such a block, and what goes beyond chance grows with their number
            measured.setdefault(what, []).append((of[0] * step, of[1], 1 + step * (phi - 1), float(sizes.max())))

        if numbers:
            location, spread = apart @ a, apart @ b
            rest, left = rest - scale * (location**2 + spread**2), left - 2
            note("location", float(scale * (location**2).mean()), np.abs(location))
            note("spread", float(scale * (spread**2).mean()), np.abs(spread))
        if left > 0:
            note("shape", float(rest.mean() / left), np.sqrt(np.maximum(0.0, rest - left) / scale))
    return {what: _block_spread(listed) for what, listed in measured.items()}


def _rate_blocks(what: What, happened: NDArray[np.bool_]) -> dict[What, BlockSpread]:
    """Blocks compared by how often something happened; only lengths at which it is expected five times."""
    rows, rate = len(happened), float(happened.mean())
    measured = []
    for length in block_lengths(rows):
        if length * rate >= _LEAST_EVENTS and rate < 1:
            many = rows // length
            apart = happened[: many * length].reshape(many, length).mean(axis=1) - rate
            phi = float((apart**2).mean() * length / (1 - length / rows) / (rate * (1 - rate)))
            measured.append((length, many, phi, float(np.abs(apart).max())))
    return {what: _block_spread(measured)} if measured else {}


def _block_spread(measured: Sequence[tuple[int, int, float, float]]) -> BlockSpread:
    rows, count, phi, most = zip(*measured, strict=True)
    return BlockSpread(rows, count, tuple(round(value, 4) for value in phi), tuple(round(value, 5) for value in most))
