"""How good the verdicts on drift are: false alarms of unchanged streams, power and delay for a catalogue of shifts.

``python -m bench.drift``. Forty fields: numbers of several shapes, some tied or correlated, and choices from 2 to 200. Each run draws
a reference and windows anew; figures come with 95 % confidence limits.
"""

from __future__ import annotations

import argparse
import time
from collections.abc import Callable
from dataclasses import dataclass, field
from math import sqrt
from typing import Any

import numpy as np
from numpy.typing import NDArray

from lamppost.core.drift.bins import bin_choices, bin_numbers
from lamppost.core.drift.sketches import Sketcher, location_correlations
from lamppost.core.drift.verdicts import LADDER, DriftBaseline, ReferenceField, judge_windows
from lamppost.core.monitoring.quality import estimate_share

Rng = np.random.Generator
Columns = dict[str, Any]
NUMBERS = 26
EACH = 20
"""Windows for each reference that is drawn."""
CHOICES = (2, 2, 3, 3, 4, 5, 6, 8, 10, 20, 40, 80, 120, 200)


@dataclass(frozen=True)
class Stream:
    """Where rows come from. season : of a wave over the year that moves a third of the numbers, in standard deviations."""

    season: float = 0.0
    weights: dict[str, NDArray[np.float64]] = field(default_factory=dict)

    def rows(self, count: int, rng: Rng, since: float = 0.0, until: float = 1.0) -> Columns:
        """Rows of a part of the year, in the order of time."""
        at = np.linspace(since, until, count, endpoint=False)
        common = rng.standard_normal(count)
        out: Columns = {}
        for number in range(NUMBERS):
            latent = rng.standard_normal(count)
            if number % 5 == 0:
                latent = 0.7 * common + sqrt(1 - 0.49) * latent
            if number % 3 == 0:
                latent = latent + self.season * np.sin(2 * np.pi * (at + number / NUMBERS))
            out[f"n{number}"] = _shaped(latent, number)
        for number, many in enumerate(CHOICES):
            weights = _weights(many, number)
            drawn = rng.choice(many, size=count, p=weights)
            out[f"c{number}"] = [f"v{value}" for value in drawn]
        return out


def _shaped(latent: NDArray[np.float64], number: int) -> NDArray[np.float64]:
    kind = number % 4
    if kind == 1:
        return np.exp(latent)
    if kind == 2:
        return np.round(latent * 2)
    if kind == 3 and number % 8 == 3:
        return np.where(latent > 1.0, latent, 0.0)  # mostly nothing
    return latent


def _weights(many: int, number: int) -> NDArray[np.float64]:
    raw = 1.0 / np.arange(1, many + 1) ** (0.3 + 0.1 * (number % 4))
    weights: NDArray[np.float64] = raw / raw.sum()
    return weights


def make_sketcher(columns: Columns, rows: int) -> Sketcher:
    """What packing would keep of a reference."""
    known = []
    for name, values in columns.items():
        if isinstance(values, list):
            there = [value for value in values if value is not None]
            known.append(ReferenceField(name, False, bin_choices(there), rows, rows - len(there)))
        else:
            known.append(
                ReferenceField(name, True, bin_numbers(values[np.isfinite(values)].tolist()), rows, int((~np.isfinite(values)).sum()))
            )
    names = tuple(one.name for one in known if one.numbers)
    first = Sketcher(DriftBaseline(tuple(known), rows, names))
    return Sketcher(DriftBaseline(tuple(known), rows, names, *location_correlations(first, columns, rows)))


# -- shifts -------------------------------------------------------------------------------------------------------------

Shift = Callable[[Columns, Rng], None]
Change = Callable[[NDArray[np.float64]], NDArray[np.float64]]
Drawn = Callable[[NDArray[np.float64], Rng], NDArray[np.float64]]


def _number(change: Drawn, name: str = "n4") -> Shift:
    def shift(columns: Columns, rng: Rng) -> None:
        values = columns[name]
        assert not isinstance(values, list)
        columns[name] = change(values, rng)

    return shift


def _some(part: float, change: Change) -> Drawn:
    return lambda values, rng: np.where(rng.random(len(values)) < part, change(values), values)


def _new_choice(columns: Columns, rng: Rng) -> None:
    values = columns["c5"]
    assert isinstance(values, list)
    columns["c5"] = [value if rng.random() > 0.02 else "new" for value in values]


def _doubled(columns: Columns, rng: Rng) -> None:
    values = columns["c7"]
    assert isinstance(values, list)
    columns["c7"] = ["v4" if value == "v3" and rng.random() < 1.0 else value for value in values]


def _flipped(columns: Columns, _: Rng) -> None:
    values = columns["n0"]
    assert not isinstance(values, list)
    columns["n0"] = -values


SHIFTS: dict[str, tuple[Shift, float]] = {
    "mean 0.1 sd": (_number(lambda values, _: values + 0.1), 0.0),
    "mean 0.25 sd": (_number(lambda values, _: values + 0.25), 0.95),
    "variance × 1.5": (_number(lambda values, _: values * sqrt(1.5)), 0.95),
    "a new choice at 2 %": (_new_choice, 0.95),
    "missing 0 → 5 %": (_number(_some(0.05, lambda values: np.full_like(values, np.nan))), 0.95),
    "a share doubled": (_doubled, 0.95),
    "10 % in wrong units": (_number(_some(0.10, lambda values: values * 1_000)), 0.95),
    "1 % in wrong units": (_number(_some(0.01, lambda values: values * 1_000)), 0.60),
    "a stuck sensor": (_number(lambda values, _: np.full_like(values, values[0])), 0.95),
    "a correlation flipped": (_flipped, 0.95),
}


def limits(happened: int, of: int) -> str:
    """A part with its 95 % interval (Wilson, *JASA* 22, 1927)."""
    found = estimate_share(happened, of)
    assert found is not None
    return f"{found.value:6.1%} ({found.low:.1%} to {found.high:.1%})"


def alarms(stream: Stream, reference: int, rows: int, runs: int, seed: int, drawn: float | None = None) -> tuple[int, int, int]:
    """Of so many windows of an unchanged stream, how many were not steady, and how many drifted. drawn : length of a window in years."""
    odd = worst = looked = 0
    for run in range(max(1, runs // EACH)):
        rng = np.random.default_rng([seed, run])
        sketcher = make_sketcher(stream.rows(reference, rng), reference)
        for _ in range(EACH):
            since = float(rng.random()) if drawn is not None else 0.0
            said = judge_windows(sketcher.against, [sketcher.sketch_window(stream.rows(rows, rng, since, since + (drawn or 0.0)), rows)])
            odd += said.state != "steady"
            worst += said.state == "drifted"
            looked += 1
    return odd, worst, looked


def power(shift: Shift, reference: int, rows: int, runs: int, seed: int, each: int = 10) -> tuple[int, int]:
    """How many windows with a shift were found, of how many."""
    found = looked = 0
    for run in range(max(1, runs // each)):
        rng = np.random.default_rng([seed, run])
        sketcher = make_sketcher(Stream().rows(reference, rng), reference)
        for _ in range(each):
            columns = Stream().rows(rows, rng)
            shift(columns, rng)
            found += judge_windows(sketcher.against, [sketcher.sketch_window(columns, rows)]).state != "steady"
            looked += 1
    return found, looked


def delays(shift: Shift, reference: int, rows: int, runs: int, most: int = 16) -> list[int]:
    """Windows of a lasting shift until it was found, with the ladder."""
    out = []
    for run in range(runs):
        rng = np.random.default_rng([9, run])
        sketcher = make_sketcher(Stream().rows(reference, rng), reference)
        windows = [sketcher.sketch_window(Stream().rows(rows, rng), rows) for _ in range(LADDER[-1])]
        count = 0
        while count < most:
            count += 1
            columns = Stream().rows(rows, rng)
            shift(columns, rng)
            windows = [*windows[1:], sketcher.sketch_window(columns, rows)]
            if judge_windows(sketcher.against, windows).state != "steady":
                break
        out.append(count)
    return out


def main() -> int:
    """Print the tables; exit code 1 when a goal is missed."""
    parser = argparse.ArgumentParser(description=__doc__)
    parser.add_argument("--runs", type=int, default=400, help="windows for each figure")
    runs = parser.parse_args().runs
    missed = 0
    started = time.perf_counter()

    def check(name: str, happened: int, of: int, goal: float, least: bool) -> None:
        nonlocal missed
        met = happened / of >= goal if least else happened / of <= goal
        missed += not met
        print(f"{name:46} {limits(happened, of):28} goal {'≥' if least else '≤'} {goal:.1%}  {'met' if met else 'MISSED'}", flush=True)

    for reference in (20_000, 2_000):
        for rows, goal in ((50, 0.02), (200, 0.01), (1_000, 0.01), (5_000, 0.01)):
            odd, worst, looked = alarms(Stream(), reference, rows, runs, seed=1)
            check(f"unchanged, {rows:,} rows, reference {reference:,}", odd, looked, goal, least=False)
            if rows >= 1_000:
                check("  of them drifted", worst, looked, 0.003, least=False)
    odd, _, looked = alarms(Stream(season=0.5), 20_000, 1_000, runs, seed=2, drawn=0.05)
    check("season, 1,000 rows of 18 days", odd, looked, 0.05, least=False)
    found, of = power(_number(lambda values, _: values + 0.03), 20_000, 50_000, max(20, runs // 8), seed=3)
    check("irrelevant: mean 0.03 sd at 50,000 rows", found, of, 0.01, least=False)
    for name, (shift, goal) in SHIFTS.items():
        found, of = power(shift, 20_000, 1_000, max(50, runs // 4), seed=4)
        check(f"{name}, 1,000 rows", found, of, goal, least=True)
    took = delays(SHIFTS["mean 0.1 sd"][0], 20_000, 1_000, max(20, runs // 10))
    print(f"mean 0.1 sd: found after {np.median(took):.0f} windows of 1,000 (median; goal ≤ 5), {max(took)} at most")
    missed += float(np.median(took)) > 5
    print(f"{time.perf_counter() - started:.0f} s")
    return 1 if missed else 0


if __name__ == "__main__":
    raise SystemExit(main())
