"""Finds the slices of rows in which a change sits, and how much of the change in the answers each changed field explains.

Slices: for each value of each choice, the field's mean (or the share of its commonest changed value) is compared with that of the
reference's rows with the same value; a slice explains the part of the change that would vanish without it. Answers: rows of the reference
are asked again with one field moved to where the window has it, rank for rank (numbers) or by drawing from what has become more frequent
(choices); what that moves the answers by, over what they moved by, is the field's part.
"""

from __future__ import annotations

from collections import Counter
from collections.abc import Mapping, Sequence
from dataclasses import dataclass
from typing import Any

import numpy as np
from numpy.typing import NDArray

Row = Mapping[str, Any]
_LEAST = 8
_MOST_VALUES = 40


@dataclass(frozen=True, slots=True)
class ChangeSlice:
    """Where a change sits. part : of the whole change that lies in rows with this value. before, after : the field's mean there, or the
    part of rows whose value is missing or new; rows : of the window.
    """

    by: str
    value: str
    rows: int
    before: float
    after: float
    part: float


def slices_behind_change(
    field: str, choices: Sequence[str], reference: Sequence[Row], window: Sequence[Row], missing: bool = False
) -> list[ChangeSlice]:
    """Slices that hold a larger part of a field's change than of the rows, the largest part first. Rows are JSON objects.

    missing : whether the change is in how often there is no value.
    """
    if not reference or not window:
        return []
    numbers = sum(isinstance(row.get(field), (int, float)) and not isinstance(row.get(field), bool) for row in window) > len(window) / 2
    known = Counter(str(row.get(field)) for row in reference)
    if missing:
        value = lambda row: float(row.get(field) is None)  # noqa: E731
    elif numbers:
        value = lambda row: _number(row.get(field))  # noqa: E731
    else:
        now = Counter(str(row.get(field)) for row in window)
        grown = max(now, key=lambda choice: now[choice] / len(window) - known[choice] / len(reference))
        value = lambda row: float(str(row.get(field)) == grown)  # noqa: E731
    whole = _mean(value, window) - _mean(value, reference)
    if abs(whole) < 1e-9 * (float(_of(value, reference).std()) or 1.0):
        return []
    slices = []
    for by in choices:
        if by == field:
            continue
        values = Counter(str(row.get(by)) for row in window)
        for name, many in values.most_common(_MOST_VALUES):
            rows_in_slice = [row for row in window if str(row.get(by)) == name]
            there = [row for row in reference if str(row.get(by)) == name]
            if many < _LEAST or len(there) < _LEAST or len(values) < 2:
                continue
            before, after = _mean(value, there), _mean(value, rows_in_slice)
            part = (after - before) * many / len(window) / whole
            if part > 1.5 * many / len(window) and part > 0.25 and abs(after - before) > 2 * _error(value, there, rows_in_slice):
                slices.append(ChangeSlice(by, name, many, before, after, min(1.0, part)))
    ranked = sorted(slices, key=lambda slice_: (-slice_.part / max(0.05, slice_.rows / len(window)) * slice_.part, slice_.by))
    # what happens to be frequent where the change sits has a part in it too; only what has about as large a one is told
    return [slice_ for slice_ in ranked if slice_.part >= 0.6 * ranked[0].part][:5]


def _number(value: Any) -> float:
    try:
        return float(value)
    except (TypeError, ValueError):
        return float("nan")


def _of(value: Any, rows: Sequence[Any]) -> NDArray[np.float64]:
    values = np.asarray([value(row) for row in rows], dtype=np.float64)
    there: NDArray[np.float64] = values[np.isfinite(values)]
    return there if len(there) else np.zeros(1)


def _mean(value: Any, rows: Sequence[Row]) -> float:
    return float(_of(value, rows).mean())


def _error(value: Any, before: Sequence[Row], after: Sequence[Row]) -> float:
    a, b = _of(value, before), _of(value, after)
    return float(np.sqrt(a.var() / len(a) + b.var() / len(b)))


def rows_with_field_moved(field: str, reference: Sequence[Row], window: Sequence[Row], seed: int = 1) -> list[dict[str, Any]]:
    """The reference's rows with one field distributed as in the window; all other fields stay."""
    now = [row[field] for row in window if row.get(field) is not None]
    moved = [dict(row) for row in reference]
    if not now:
        return moved
    numbers = all(isinstance(value, (int, float)) and not isinstance(value, bool) for value in now)
    if numbers:
        there = [at for at, row in enumerate(reference) if isinstance(row.get(field), (int, float))]
        before = np.asarray([float(reference[at][field]) for at in there])
        ranks = (np.argsort(np.argsort(before, kind="stable"), kind="stable") + 0.5) / max(1, len(before))
        after = np.quantile(np.asarray(now, dtype=np.float64), ranks)
        whole = all(isinstance(value, int) for value in now)
        for at, value in zip(there, after, strict=True):
            moved[at][field] = round(float(value)) if whole else float(value)
        return moved
    rng = np.random.default_rng(seed)
    was, has = Counter(str(row.get(field)) for row in reference), Counter(str(value) for value in now)
    names = list(has)
    originals = {str(value): value for value in now}
    p = {name: was[name] / len(reference) for name in was}
    q = {name: has[name] / len(now) for name in names}
    surplus = np.asarray([max(0.0, q[name] - p.get(name, 0.0)) for name in names])
    if surplus.sum() <= 0:
        return moved
    for row in moved:
        name = str(row.get(field))
        if rng.random() > min(1.0, q.get(name, 0.0) / p[name]):
            row[field] = originals[names[int(rng.choice(len(names), p=surplus / surplus.sum()))]]
    return moved


def answer_shift(before: Sequence[Row], after: Sequence[Row], answer: str) -> dict[str, float]:
    """How far answers moved: the mean of a number, the share of rows of each label."""
    old_values, new_values = ([row.get(answer) for row in rows] for rows in (before, after))
    if all(isinstance(value, (int, float)) and not isinstance(value, bool) for value in [*old_values, *new_values]):
        return {"": float(_of(_number, new_values).mean() - _of(_number, old_values).mean())} if old_values and new_values else {"": 0.0}
    a, b = Counter(map(str, old_values)), Counter(map(str, new_values))
    return {name: b[name] / max(1, len(new_values)) - a[name] / max(1, len(old_values)) for name in a.keys() | b.keys()}


def explained_part(effect_alone: Mapping[str, float], whole: Mapping[str, float]) -> float:
    """The part of the ``whole`` change that ``shift`` makes up: its projection, from 0 to 1; 0 where nothing changed."""
    size = sum(value**2 for value in whole.values())
    if size < 1e-8:
        return 0.0
    along = sum(value * whole.get(name, 0.0) for name, value in effect_alone.items())
    return float(min(1.0, max(0.0, along / size)))
