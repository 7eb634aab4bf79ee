"""How good the verdicts on drift are: false alarms of unchanged streams, power and delay for a catalogue of shifts.

``python -m bench.drift``. Each run draws a reference and windows anew; figures come with 95 % confidence limits. Streams are those of
`bench.drift_streams`; windows in the order of time are judged with what earlier days show, as the service does.
"""

from __future__ import annotations

import argparse
import time
from collections.abc import Callable
from math import sqrt

import numpy as np
from numpy.typing import NDArray

from bench.drift_live import Change, unsteady_in_sequence, windows_until_found
from bench.drift_reasons import CHANGES, named_rightly
from bench.drift_streams import Columns, Rng, Stream, make_sketcher, rare_and_tied
from lamppost.core.drift.verdicts import LADDER, judge_windows
from lamppost.core.monitoring.quality import estimate_share

EACH = 20
"""Windows for each reference that is drawn."""


# -- shifts -------------------------------------------------------------------------------------------------------------

Transform = Callable[[NDArray[np.float64]], NDArray[np.float64]]
Rows = Callable[..., Columns]
Drawn = Callable[[NDArray[np.float64], Rng], NDArray[np.float64]]


def _number(change: Drawn, name: str = "n4") -> Change:
    def shift(columns: Columns, rng: Rng) -> None:
        values = columns[name]
        assert not isinstance(values, list)
        columns[name] = change(values, rng)

    return shift


def _some(part: float, change: Transform) -> Drawn:
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


def _new_of_many(columns: Columns, rng: Rng) -> None:
    columns["c13"] = [value if rng.random() > 0.02 else "new" for value in columns["c13"]]


SHIFTS: dict[str, tuple[Change, float]] = {
    "mean 0.1 sd": (_number(lambda values, _: values + 0.1), 0.0),
    "mean 0.25 sd": (_number(lambda values, _: values + 0.25), 0.95),
    "variance × 1.5": (_number(lambda values, _: values * sqrt(1.5)), 0.95),
    "a new choice at 2 %": (_new_choice, 0.95),
    "missing 0 → 5 %": (_number(_some(0.05, lambda values: np.full_like(values, np.nan))), 0.95),
    "a share doubled": (_doubled, 0.95),
    "10 % in wrong units": (_number(_some(0.10, lambda values: values * 1_000)), 0.95),
    "1 % in wrong units": (_number(_some(0.01, lambda values: values * 1_000)), 0.90),
    "1 % in Fahrenheit": (_number(_some(0.01, lambda values: 1.8 * values + 32)), 0.65),
    "a new value of 2 % among 200": (_new_of_many, 0.90),
    "a stuck sensor": (_number(lambda values, _: np.full_like(values, values[0])), 0.95),
    "a correlation flipped": (_flipped, 0.95),
}


def limits(happened: int, of: int) -> str:
    """A part with its 95 % interval (Wilson, *JASA* 22, 1927)."""
    found = estimate_share(happened, of)
    assert found is not None
    return f"{found.value:6.1%} ({found.low:.1%} to {found.high:.1%})"


def alarms(stream: Rows, reference: int, rows: int, runs: int, seed: int, drawn: float | None = None) -> tuple[int, int, int]:
    """Of so many windows of an unchanged stream, how many were not steady, and how many drifted. drawn : length of a window in years."""
    odd = worst = looked = 0
    for run in range(max(1, runs // EACH)):
        rng = np.random.default_rng([seed, run])
        sketcher = make_sketcher(stream(reference, rng), reference)
        for _ in range(EACH):
            since = float(rng.random()) if drawn is not None else 0.0
            columns = stream(rows, rng, since, since + drawn) if drawn is not None else stream(rows, rng)
            said = judge_windows(sketcher.against, [sketcher.sketch_window(columns, rows)])
            odd += said.state != "steady"
            worst += said.state == "drifted"
            looked += 1
    return odd, worst, looked


def power(shift: Change, reference: int, rows: int, runs: int, seed: int, each: int = 10) -> tuple[int, int]:
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


def delays(shift: Change, reference: int, rows: int, runs: int, most: int = 16) -> list[int]:
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
        print(f"{name:52} {limits(happened, of):28} goal {'≥' if least else '≤'} {goal:.1%}  {'met' if met else 'MISSED'}", flush=True)

    print("not steady while nothing changed", flush=True)
    for reference, goals in ((20_000, (0.01, 0.005, 0.005, 0.002)), (2_000, (0.02, 0.01, 0.01, 0.01))):
        for rows, goal in zip((50, 200, 1_000, 5_000), goals, strict=True):
            odd, worst, looked = alarms(Stream().rows, reference, rows, runs, seed=1)
            check(f"independent, {rows:,} rows, reference {reference:,}", odd, looked, goal, least=False)
            if rows >= 1_000:
                check("  of them drifted", worst, looked, 0.003, least=False)
    for rows, goal in ((50, 0.02), (200, 0.01), (1_000, 0.01), (5_000, 0.01)):
        odd, _, looked = alarms(rare_and_tied, 20_000, rows, runs, seed=5)
        check(f"rare and tied, {rows:,} rows", odd, looked, goal, least=False)
    for rows in (50, 200, 1_000, 5_000):
        odd, _, looked = alarms(Stream(season=0.5).rows, 20_000, rows, runs, seed=2, drawn=rows / 20_000)
        check(f"season, reference in order, {rows:,} rows", odd, looked, 0.03, least=False)
    check_sequences(check, max(1, runs // 100))
    found, of = power(_number(lambda values, _: values + 0.03), 20_000, 50_000, max(20, runs // 8), seed=3)
    check("irrelevant: mean 0.03 sd at 50,000 rows", found, of, 0.01, least=False)
    print("reasons", flush=True)
    for name in CHANGES:
        fields, slices, found = named_rightly(name, max(20, runs // 8))
        check(f"{name}: field named first", fields, found, 0.95, least=True)
        if CHANGES[name][1][1] is not None:
            check("  and its slice", slices, found, 0.90, least=True)
    print("found", flush=True)
    for name, (shift, goal) in SHIFTS.items():
        found, of = power(shift, 20_000, 1_000, max(50, runs // 2), seed=4)
        check(f"{name}, 1,000 rows", found, of, goal, least=True)
    took = delays(SHIFTS["mean 0.1 sd"][0], 20_000, 1_000, max(20, runs // 10))
    print(f"mean 0.1 sd: found after {np.median(took):.0f} windows of 1,000 (median; goal ≤ 5), {max(took)} at most")
    missed += float(np.median(took)) > 5
    print(f"{time.perf_counter() - started:.0f} s")
    return 1 if missed else 0


def check_sequences(check: Callable[..., None], runs: int) -> None:
    """Windows in the order of time, of streams that move by themselves."""
    for name, stream, shuffled, rows, first, goal in (
        ("bursts of 20, 1,000 rows, from the 13th window on", Stream(burst=20), True, 1_000, 12, 0.03),
        ("bursts of 20, 200 rows, from the 13th window on", Stream(burst=20), True, 200, 12, 0.03),
        ("day and night, frame thinned, after four days", Stream(daily=0.8), False, 1_000, 96, 0.03),
        ("day and night, frame shuffled, after four days", Stream(daily=0.8), True, 1_000, 96, 0.03),
        ("day and night in bursts of 10, after four days", Stream(daily=0.8, burst=10), True, 1_000, 96, 0.03),
    ):
        results = [unsteady_in_sequence(stream, shuffled, 20_000, rows, first, first + 48, seed=60 + run) for run in range(runs)]
        check(name, *map(sum, zip(*results, strict=True)), goal, least=False)
    for name, stream, shuffled, seed in (
        ("season and mean 0.5 sd, within 24 windows", Stream(season=0.5), False, 70),
        ("day and night and mean 0.5 sd, within 24 windows", Stream(daily=0.8), True, 80),
    ):
        half = _number(lambda values, _: values + 0.5, "n8")
        found = [windows_until_found(stream, shuffled, 1_000, half, seed + run) for run in range(max(5, runs))]
        check(name, sum(at is not None for at in found), len(found), 0.8, least=True)
        print(f"  after {', '.join('–' if at is None else str(at) for at in found)} windows")


if __name__ == "__main__":
    raise SystemExit(main())
