"""How often the first reason of a drift is right: of a change of one field, of one field in one slice, of the mix of slices alone."""

from __future__ import annotations

from collections.abc import Callable
from typing import Any

import numpy as np

from bench.drift_streams import Rng, make_sketcher
from lamppost.core.drift.attribution import ChangePlace, place_of_change
from lamppost.core.drift.verdict_text import describe_verdict
from lamppost.core.drift.verdicts import judge_windows

DISTRICTS = ("harbour", "hill", "mill", "old-town", "quay", "station")
KINDS = ("led", "mercury", "sodium")
Columns = dict[str, Any]
Change = Callable[[Columns, Rng], None]


def lamps(count: int, rng: Rng, mix: tuple[float, ...] = (0.3, 0.25, 0.2, 0.1, 0.1, 0.05)) -> Columns:
    """Rows of lamps whose voltage, age and hours depend on the district. mix : of the districts."""
    district = rng.choice(len(DISTRICTS), size=count, p=mix)
    out: Columns = {
        "district": [DISTRICTS[at] for at in district],
        "kind": [KINDS[at] for at in rng.choice(3, size=count, p=(0.5, 0.3, 0.2))],
    }
    level = np.array([0.0, 0.5, -0.8, 1.5, -1.2, 0.2])[district]
    out["volts"] = 228 + 2 * level + 1.5 * rng.standard_normal(count)
    out["age"] = np.exp(2 + 0.4 * level + 0.5 * rng.standard_normal(count))
    for number in range(6):
        out[f"n{number}"] = rng.standard_normal(count) * (1 + number)
    return out


def _everywhere(name: str, factor: float, by: float) -> Change:
    def change(columns: Columns, _: Rng) -> None:
        columns[name] = columns[name] * factor + by

    return change


def _in_slice(name: str, by: str, value: str, factor: float, add: float = 0.0) -> Change:
    def change(columns: Columns, _: Rng) -> None:
        here = np.asarray([one == value for one in columns[by]])
        columns[name] = np.where(here, columns[name] * factor + add, columns[name])

    return change


CHANGES: dict[str, tuple[Change | None, tuple[str, str | None, str | None]]] = {
    "age 0.5 sd higher": (_everywhere("age", 1.3, 0.0), ("age", None, None)),
    "n3 0.4 sd higher": (_everywhere("n3", 1.0, 1.6), ("n3", None, None)),
    "n2 half as wide again": (_everywhere("n2", 1.5, 0.0), ("n2", None, None)),
    "volts × 1000 in a slice of 10 %": (_in_slice("volts", "district", "old-town", 1_000.0), ("volts", "district", "old-town")),
    "age in months in a slice of 5 %": (_in_slice("age", "district", "station", 12.0), ("age", "district", "station")),
    "n4 1.5 sd higher in a slice of 20 %": (_in_slice("n4", "kind", "sodium", 1.0, 7.5), ("n4", "kind", "sodium")),
    "the mix of districts alone": (None, ("district", None, None)),
}


def first_reason(columns: Columns, rows: int, reference: Columns, known_rows: int) -> tuple[str, ChangePlace] | None:
    """The field that is named first, and where its change sits; None where the window is steady. As the service finds it, but without
    asking the model.
    """
    sketcher = make_sketcher(reference, known_rows)
    said = describe_verdict(judge_windows(sketcher.against, [sketcher.sketch_window(columns, rows)]))
    changed = [field for field in said.fields if field.state != "steady"][:4]
    names = [field.name for field in changed]
    sample = _as_rows(reference, np.linspace(0, known_rows - 1, 500).astype(int).tolist())
    window = _as_rows(columns, range(rows))
    mixed = [name for name in names if name in ("district", "kind")]
    places = [(f.name, place_of_change(f.name, ("district", "kind"), sample, window, f.findings[0].what, mixed)) for f in changed]
    return min(places, key=lambda place: place[1].follows is not None, default=None)


def _as_rows(columns: Columns, places: Any) -> list[dict[str, Any]]:
    return [{name: values[at] if isinstance(values, list) else float(values[at]) for name, values in columns.items()} for at in places]


def named_rightly(name: str, runs: int, rows: int = 1_500, known_rows: int = 10_000) -> tuple[int, int, int]:
    """How often the field was named first, how often with its slice, and how many windows were not steady."""
    change, (field, by, value) = CHANGES[name]
    fields = slices = found = 0
    for run in range(runs):
        rng = np.random.default_rng([91, run, len(name)])
        reference = lamps(known_rows, rng)
        columns = lamps(rows, rng) if change is not None else lamps(rows, rng, (0.15, 0.2, 0.15, 0.3, 0.05, 0.15))
        if change is not None:
            change(columns, rng)
        reason = first_reason(columns, rows, reference, known_rows)
        if reason is not None:
            found += 1
            fields += reason[0] == field
            first = reason[1].slices[0] if reason[1].slices else None
            slices += reason[0] == field and (by is None or (first is not None and (first.by, first.value) == (by, value)))
    return fields, slices, found
