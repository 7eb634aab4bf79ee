"""Finds the slices of rows in which a change sits, whether it only follows another field's mix, and how much of the change in the answers
each changed field explains.

Slices: each row has a score that shows the change (the rank of a number among the reference's, whether it lies outside the range, whether
a value is missing, new or more frequent now), so that a few huge values do not drown all others. A slice explains the part of the change of
the mean score that would vanish without it. The change is that within slices and that of their mix (Kitagawa, *Journal of the American
Statistical Association* 50, 1955): a field that changed by the mix of another one alone is not a reason of its own. Answers: rows of the
reference are asked again with one field moved to where the window has it, rank for rank (numbers) or by drawing from what has become more
frequent (choices), in the slice only if there is one; what that moves the answers by, over what they moved by, is the field's part.
"""

from __future__ import annotations

import math
from collections import Counter
from collections.abc import Callable, Mapping, Sequence
from dataclasses import dataclass
from typing import Any

import numpy as np
from numpy.typing import NDArray

from lamppost.core.drift.bins import What

Row = Mapping[str, Any]
Floats = NDArray[np.float64]
_LEAST = 8
_MOST_VALUES = 40
_OF_MIX = 0.4
"""A change of which no larger part lies within slices follows their mix."""
_CLEAR = 2.0
_LEAST_SHIFT = 0.03


@dataclass(frozen=True, slots=True)
class ChangeSlice:
    """Where a change sits. part : of the whole change that lies in rows with this value. before, after : the field's mean there (the median
    where values lie outside their range), or the part of rows whose value is missing, new or more frequent. rows : of the window.
    """

    by: str
    value: str
    rows: int
    before: float
    after: float
    part: float


@dataclass(frozen=True, slots=True)
class ChangePlace:
    """Where the change of a field sits. slices : the largest part first. follows : the field whose mix it follows."""

    slices: tuple[ChangeSlice, ...] = ()
    follows: str | None = None


def place_of_change(
    field: str, choices: Sequence[str], reference: Sequence[Row], window: Sequence[Row], what: What = "location", mixed: Sequence[str] = ()
) -> ChangePlace:
    """Where a field's change sits. Rows are JSON objects. what : the finding that is to be placed. choices : the fields whose values make
    slices; mixed : those of them that have changed themselves.
    """
    if not reference or not window:
        return ChangePlace()
    old, new, told = _scores(field, reference, window, what)
    whole, noise = _mean(new) - _mean(old), _error(old, new)
    if abs(whole) < 1e-9 or abs(whole) < _CLEAR * noise:
        return ChangePlace()
    slices: list[ChangeSlice] = []
    follows: list[tuple[float, str]] = []
    for by in choices:
        if by == field:
            continue
        before_by, after_by = (np.asarray([str(row.get(by)) for row in rows]) for rows in (reference, window))
        values = [name for name, _ in Counter(after_by.tolist()).most_common(_MOST_VALUES)]
        if len(values) < 2:
            continue
        if by in mixed:
            within = _within(old, new, before_by, after_by, values)
            if within is not None and abs(within) <= _OF_MIX * abs(whole):
                follows.append((abs(within), by))
        for name in values:
            there, here = before_by == name, after_by == name
            part = _part(old[there], new[here], len(new), whole)
            if part is not None:
                slices.append(ChangeSlice(by, name, int(here.sum()), _told(told[0][there]), _told(told[1][here]), part))
    if follows:
        return ChangePlace(follows=min(follows)[1])
    ranked = sorted(slices, key=lambda slice_: (-slice_.part / max(0.05, slice_.rows / len(window)) * slice_.part, slice_.by))
    # what happens to be frequent where the change sits has a part in it too; only what has about as large a one is told
    return ChangePlace(tuple(slice_ for slice_ in ranked if slice_.part >= 0.6 * ranked[0].part)[:5])


def _part(old: Floats, new: Floats, rows: int, whole: float) -> float | None:
    """The part of the whole change that a slice holds; None where that is not clearly more than its part of the rows."""
    old, new = old[np.isfinite(old)], new[np.isfinite(new)]
    if len(new) < _LEAST or len(old) < _LEAST:
        return None
    apart, share = _mean(new) - _mean(old), len(new) / rows
    part = apart * share / whole
    return min(1.0, part) if part > 1.5 * share and part > 0.25 and abs(apart) > _CLEAR * _error(old, new) else None


def _within(old: Floats, new: Floats, before_by: NDArray[Any], after_by: NDArray[Any], values: Sequence[str]) -> float | None:
    """The change within slices, weighted by the window's mix; None where slices hold too few rows to tell."""
    total = covered = 0.0
    for name in values:
        there, here = old[before_by == name], new[after_by == name]
        there, here = there[np.isfinite(there)], here[np.isfinite(here)]
        if len(there) >= _LEAST and len(here) >= _LEAST:
            total += len(here) * (_mean(here) - _mean(there))
            covered += len(here)
    return total / covered if covered >= 0.8 * np.isfinite(new).sum() else None


def _scores(field: str, reference: Sequence[Row], window: Sequence[Row], what: What) -> tuple[Floats, Floats, tuple[Floats, Floats]]:
    """Scores of the rows of both, NaN where there are none; and what is told of them."""
    sides = (reference, window)
    if what == "missing":
        return _both_alike(*(np.asarray([float(row.get(field) is None) for row in rows]) for rows in sides))
    numbers = sum(_is_number(row.get(field)) for row in window) > len(window) / 2
    if not numbers:
        known = Counter(str(row.get(field)) for row in reference)
        now = Counter(str(row.get(field)) for row in window)
        grown = max(now, key=lambda choice: now[choice] / len(window) - known[choice] / len(reference))
        chosen: Callable[[str], bool] = (lambda value: value not in known) if what == "unseen" else (lambda value: value == grown)
        return _both_alike(*(np.asarray([float(chosen(str(row.get(field)))) for row in rows]) for rows in sides))
    old, new = (np.asarray([_number(row.get(field)) for row in rows]) for rows in sides)
    ordered = np.sort(old[np.isfinite(old)])
    if not len(ordered):
        return np.full(len(old), np.nan), np.full(len(new), np.nan), (old, new)
    if what in ("outside", "far"):
        low, high = ordered[0], ordered[-1]
        outside = [np.where(np.isfinite(side), ((side < low) | (side > high)).astype(np.float64), np.nan) for side in (old, new)]
        return outside[0], outside[1], (old, new)
    ranks = [_ranks(ordered, side) for side in (old, new)]
    if what == "spread" or (what == "shape" and abs(_mean(ranks[1]) - _mean(ranks[0])) < _CLEAR * _error(*ranks)):
        ranks = [np.abs(2 * side - 1) for side in ranks]
    return ranks[0], ranks[1], (old, new)


def _both_alike(old: Floats, new: Floats) -> tuple[Floats, Floats, tuple[Floats, Floats]]:
    return old, new, (old, new)


def _ranks(ordered: Floats, values: Floats) -> Floats:
    """The part of the reference below each value, ties by half."""
    below, up_to = (np.searchsorted(ordered, values, side=side) for side in ("left", "right"))
    ranks: Floats = np.where(np.isfinite(values), (below + up_to) / (2 * len(ordered)), np.nan)
    return ranks


def _is_number(value: Any) -> bool:
    return isinstance(value, (int, float)) and not isinstance(value, bool)


def _number(value: Any) -> float:
    try:
        return float(value)
    except (TypeError, ValueError):
        return float("nan")


def _mean(values: Floats) -> float:
    there = values[np.isfinite(values)]
    return float(there.mean()) if len(there) else 0.0


def _told(values: Floats) -> float:
    """The mean, as it is told; the median where a few huge values would make it meaningless."""
    there = values[np.isfinite(values)]
    if not len(there):
        return 0.0
    middle, spread = float(np.median(there)), float(np.subtract(*np.quantile(there, (0.75, 0.25))))
    mean = float(there.mean())
    return middle if spread > 0 and abs(mean - middle) > 3 * spread else mean


def _error(old: Floats, new: Floats) -> float:
    a, b = old[np.isfinite(old)], new[np.isfinite(new)]
    return math.sqrt(float(a.var()) / max(1, len(a)) + float(b.var()) / max(1, len(b))) if len(a) and len(b) else math.inf


def rows_with_field_moved(
    field: str, reference: Sequence[Row], window: Sequence[Row], within: tuple[str, str] | None = None, seed: int = 1
) -> list[dict[str, Any]]:
    """The reference's rows with one field distributed as in the window; all other fields stay. within : a field and a value of it as text;
    rows with other values stay as they are.
    """
    if within is not None:
        by, value = within
        here = [row for row in window if str(row.get(by)) == value]
        places = [at for at, row in enumerate(reference) if str(row.get(by)) == value]
        moved_there = rows_with_field_moved(field, [reference[at] for at in places], here, seed=seed)
        rows = [dict(row) for row in reference]
        for at, row in zip(places, moved_there, strict=True):
            rows[at] = row
        return rows
    now = [row[field] for row in window if row.get(field) is not None]
    moved = [dict(row) for row in reference]
    if not now:
        return moved
    if all(_is_number(value) for value in now):
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
    if all(_is_number(value) for value in [*old_values, *new_values]):
        old, new = (np.asarray(values, dtype=np.float64) for values in (old_values, new_values))
        return {"": _mean(new) - _mean(old)} if len(old) and len(new) else {"": 0.0}
    a, b = Counter(map(str, old_values)), Counter(map(str, new_values))
    return {name: b[name] / max(1, len(new_values)) - a[name] / max(1, len(old_values)) for name in a.keys() | b.keys()}


def shift_is_clear(before: Sequence[Row], after: Sequence[Row], answer: str) -> bool:
    """Whether answers moved by more than chance moves so many: by two standard errors, and by 3 % of the rows or of a number's spread."""
    shift = answer_shift(before, after, answer)
    size, pooled = math.sqrt(sum(by**2 for by in shift.values())), 1 / max(1, len(before)) + 1 / max(1, len(after))
    if set(shift) == {""}:
        spread = float(np.std([float(row[answer]) for row in before])) if before else 0.0
        return size > max(_CLEAR * spread * math.sqrt(pooled), _LEAST_SHIFT * spread)
    both = Counter(str(row.get(answer)) for row in [*before, *after])
    shares = [count / max(1, len(before) + len(after)) for count in both.values()]
    return size > max(_CLEAR * math.sqrt(sum(share * (1 - share) for share in shares) * pooled), _LEAST_SHIFT)


def explained_part(effect_alone: Mapping[str, float], whole: Mapping[str, float]) -> float:
    """The part of the ``whole`` change that ``shift`` makes up: its projection, from 0 to 1; 0 where nothing changed."""
    size = sum(value**2 for value in whole.values())
    if size < 1e-8:
        return 0.0
    along = sum(value * whole.get(name, 0.0) for name, value in effect_alone.items())
    return float(min(1.0, max(0.0, along / size)))
