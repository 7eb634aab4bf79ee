"""Windows of a stream in the order of time, judged as the service does: against the reference and against earlier days."""

from __future__ import annotations

from collections import Counter, deque
from collections.abc import Callable, Iterator

import numpy as np

from bench.drift_streams import DAY, Columns, Rng, Stream, make_sketcher, permuted
from lamppost.core.drift.baseline import WindowSketch
from lamppost.core.drift.live_history import LiveHistory
from lamppost.core.drift.verdicts import LADDER, DriftVerdict, judge_windows

Change = Callable[[Columns, Rng], None]


def thinned_reference(stream: Stream, rows: int, rng: Rng, shuffled: bool) -> Columns:
    """A year of a stream, thinned to so many rows in order, or shuffled."""
    columns = stream.rows(rows, rng, 0.0, 1.0, (0.0, 365.0))
    return permuted(columns, rng) if shuffled else columns


def judged_in_sequence(
    stream: Stream, reference: Columns, rows: int, windows: int, rng: Rng, change: Change | None = None, changes_at: int = 0
) -> Iterator[DriftVerdict]:
    """Verdicts on hourly windows, one after another. change : what happens to all rows from a window on."""
    sketcher = make_sketcher(reference, len(next(iter(reference.values()))))
    history = LiveHistory(sketcher.against, DAY)
    past: deque[WindowSketch] = deque(maxlen=max(LADDER[-1], DAY))
    start = float(rng.integers(0, 300)) + 24.0
    for number in range(windows):
        day = start + number / DAY
        columns = stream.rows(rows, rng, day / 365, (day + 1 / DAY) / 365, (day, day + 1 / DAY))
        if change is not None and number >= changes_at:
            change(columns, rng)
        sketch = sketcher.sketch_window(columns, rows)
        past.append(sketch)
        verdict = judge_windows(sketcher.against, list(past))
        if verdict.state != "steady" and len(history):
            verdict = judge_windows(sketcher.against, list(past), history.baseline(number))
        history.add(number, sketch)
        yield verdict


def unsteady_in_sequence(stream: Stream, shuffled: bool, reference: int, rows: int, first: int, windows: int, seed: int) -> tuple[int, int]:
    """Of windows from ``first`` on, how many were not steady while nothing changed, of how many."""
    rng = np.random.default_rng(seed)
    verdicts = list(judged_in_sequence(stream, thinned_reference(stream, reference, rng, shuffled), rows, windows, rng))[first:]
    return sum(verdict.state != "steady" for verdict in verdicts), len(verdicts)


def windows_until_found(
    stream: Stream, shuffled: bool, rows: int, change: Change, seed: int, before: int = 96, most: int = 24
) -> int | None:
    """How many windows of a lasting change passed until it was found; None if it never was."""
    rng = np.random.default_rng(seed)
    reference = thinned_reference(stream, 20_000, rng, shuffled)
    for number, verdict in enumerate(judged_in_sequence(stream, reference, rows, before + most, rng, change, before)):
        if number >= before and verdict.state != "steady":
            return number - before + 1
    return None


def reasons(verdicts: list[DriftVerdict]) -> Counter[str]:
    """What made verdicts anything but steady, for looking into them."""
    return Counter(
        f"{verdict.windows}: {field.name} {field.findings[0].what}"
        for verdict in verdicts
        for field in verdict.fields
        if verdict.state != "steady" and field.state != "steady"
    ) + Counter(f"{verdict.windows}: pair" for verdict in verdicts if verdict.state != "steady" and verdict.pairs)
