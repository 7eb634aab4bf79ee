"""Computes the quality of answers from outcomes, with 95 % intervals, and how many outcomes are known.

Parts have Wilson's interval (*JASA* 22, 1927), means a normal one. Calibration is by ten cells of the score given to a label: what was
expected in each against what came, and their mean distance weighted by rows (expected calibration error: Naeini et al., AAAI 2015).
"""

from __future__ import annotations

import math
from collections import Counter
from collections.abc import Mapping, Sequence
from dataclasses import dataclass
from typing import Any

import numpy as np

from lamppost.core.schema.value_kinds import choice_text

Z = 1.959964
_BINS = 10
_LEAST_SLICE = 5


@dataclass(frozen=True, slots=True)
class Estimate:
    """A figure with its 95 % interval, from so many rows."""

    value: float
    low: float
    high: float
    of: int


def estimate_share(happened: int, of: int) -> Estimate | None:
    """A part of rows; None of none.

    >>> estimate_share(8, 10)
    Estimate(value=0.8, low=0.49..., high=0.94..., of=10)
    """
    if not of:
        return None
    p = happened / of
    middle, half = p + Z * Z / (2 * of), Z * math.sqrt(p * (1 - p) / of + Z * Z / (4 * of * of))
    return Estimate(p, (middle - half) / (1 + Z * Z / of), (middle + half) / (1 + Z * Z / of), of)


def estimate_mean(values: Sequence[float]) -> Estimate | None:
    """A mean; its interval is infinitely wide for one value."""
    if not values:
        return None
    array = np.asarray(values, dtype=np.float64)
    half = Z * float(array.std(ddof=1)) / math.sqrt(len(array)) if len(array) > 1 else math.inf
    return Estimate(float(array.mean()), float(array.mean()) - half, float(array.mean()) + half, len(array))


@dataclass(frozen=True, slots=True)
class JudgedAnswer:
    """One answer whose truth is known. said : the answer row. slices : choices of its input."""

    said: Mapping[str, Any]
    truth: Any
    slices: Mapping[str, Any]


def is_right(said: Any, truth: Any) -> bool:
    """Whether an answer is the truth, as labels go."""
    return choice_text(said) == choice_text(truth)


def is_number(value: Any) -> bool:
    """Whether a value is a number and no yes/no."""
    return isinstance(value, (int, float)) and not isinstance(value, bool)


def quality_figures(told: Sequence[JudgedAnswer], answer: str, numbers: bool, spread: float | None = None) -> dict[str, Any]:
    """All figures of one version as JSON has them. answer : the name of what the truth is of. spread : of a number in training, for the
    part of answers that are within a tenth of it.
    """
    if numbers:
        return _of_numbers(told, answer, spread)
    right = [is_right(one.said.get(answer), one.truth) for one in told]
    labels = sorted({choice_text(one.truth) for one in told} | {choice_text(one.said.get(answer)) for one in told})[:50]
    return {
        "kind": "labels",
        "accuracy": estimate_as_json(estimate_share(sum(right), len(right))),
        "labels": [_ofas_text(told, answer, label) for label in labels],
        "calibration": _calibration(told),
        "slices": _slices(told, right),
    }


def estimate_as_json(one: Estimate | None) -> dict[str, Any] | None:
    """A figure as JSON has it; an interval without end is None."""
    if one is None:
        return None
    low, high = (end if math.isfinite(end) else None for end in (one.low, one.high))
    return {"value": one.value, "low": low, "high": high, "of": one.of}


def _ofas_text(told: Sequence[JudgedAnswer], answer: str, label: str) -> dict[str, Any]:
    said = [one for one in told if choice_text(one.said.get(answer)) == label]
    true = [one for one in told if choice_text(one.truth) == label]
    hits = sum(choice_text(one.truth) == label for one in said)
    return {
        "label": label,
        "precision": estimate_as_json(estimate_share(hits, len(said))),
        "recall": estimate_as_json(estimate_share(hits, len(true))),
        "true": len(true),
    }


def _calibration(told: Sequence[JudgedAnswer]) -> dict[str, Any] | None:
    """By the scores that answers gave to each label, where they gave any."""
    pairs = [
        (float(score), choice_text(one.truth) == label)
        for one in told
        if isinstance(scores := one.said.get("scores"), Mapping)
        for label, score in scores.items()
        if is_number(score)
    ]
    if not pairs:
        return None
    cells: list[list[tuple[float, bool]]] = [[] for _ in range(_BINS)]
    for score, came in pairs:
        cells[min(_BINS - 1, max(0, int(score * _BINS)))].append((score, came))
    bins = [
        {
            "expected": float(np.mean([score for score, _ in cell])),
            "came": estimate_as_json(estimate_share(sum(came for _, came in cell), len(cell))),
        }
        for cell in cells
        if cell
    ]
    off = sum(abs(one["expected"] - one["came"]["value"]) * one["came"]["of"] for one in bins) / len(pairs)  # type: ignore[index]
    return {"error": off, "brier": float(np.mean([(score - came) ** 2 for score, came in pairs])), "bins": bins}


def _of_numbers(told: Sequence[JudgedAnswer], answer: str, spread: float | None) -> dict[str, Any]:
    pairs = [(one, float(one.said[answer]) - float(one.truth)) for one in told if is_number(one.said.get(answer)) and is_number(one.truth)]
    off = [error for _, error in pairs]
    squares = estimate_mean([error**2 for error in off])
    near = None if spread is None else [abs(error) <= 0.1 * spread for error in off]
    return {
        "kind": "numbers",
        "labels": [],
        "absolute_error": estimate_as_json(estimate_mean([abs(error) for error in off])),
        "root_mean_square": None if squares is None else math.sqrt(squares.value),
        "bias": estimate_as_json(estimate_mean(off)),
        "near": None if near is None else estimate_as_json(estimate_share(sum(near), len(near))),
        "slices": _slices([one for one, _ in pairs], [abs(error) for error in off]),
    }


def _slices(told: Sequence[JudgedAnswer], values: Sequence[float]) -> list[dict[str, Any]]:
    """The same figure within each value of each choice; those furthest from the whole first."""
    if not told:
        return []
    whole = float(np.mean(values))
    found: list[tuple[float, dict[str, Any]]] = []
    for name in sorted({name for one in told for name in one.slices}):
        for value, many in Counter(choice_text(one.slices.get(name)) for one in told).most_common(20):
            here = [float(right) for one, right in zip(told, values, strict=True) if choice_text(one.slices.get(name)) == value]
            known = _of(here)
            if known is not None and _LEAST_SLICE <= many < len(told):
                found.append((abs(known.value - whole) * math.sqrt(many), {"by": name, "value": value, "figure": estimate_as_json(known)}))
    return [one for _, one in sorted(found, key=lambda pair: -pair[0])[:20]]


def _of(values: list[float]) -> Estimate | None:
    if all(value in (0.0, 1.0) for value in values):
        return estimate_share(int(sum(values)), len(values))
    return estimate_mean(values)
