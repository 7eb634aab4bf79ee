"""Computes the quality of answers from outcomes, with 95 % intervals, and how many outcomes are known.

Shares have Wilson's interval (*JASA* 22, 1927), means a normal one. Calibration uses ten bins of the score given to a label: the expected
share in each against the observed one, and their mean distance weighted by rows (expected calibration error: Naeini et al., AAAI 2015).
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
    return Estimate(happened / of, *share_interval(happened / of, of), of) if of else None


def share_interval(share: float, of: float) -> tuple[float, float]:
    """The 95 % interval of a share of rows. of : how many independent rows they are worth, above 0."""
    middle, half = share + Z * Z / (2 * of), Z * math.sqrt(share * (1 - share) / of + Z * Z / (4 * of * of))
    return max(0.0, (middle - half) / (1 + Z * Z / of)), min(1.0, (middle + half) / (1 + Z * Z / of))


def estimate_mean(values: Sequence[float]) -> Estimate | None:
    """A mean; its interval is infinitely wide for one value."""
    if not values:
        return None
    array = np.asarray(values, dtype=np.float64)
    half = Z * float(array.std(ddof=1)) / math.sqrt(len(array)) if len(array) > 1 else math.inf
    return Estimate(float(array.mean()), float(array.mean()) - half, float(array.mean()) + half, len(array))


@dataclass(frozen=True, slots=True)
class JudgedAnswer:
    """An answer whose truth is known. answer : the answer row. slices : choices of its input."""

    answer: Mapping[str, Any]
    truth: Any
    slices: Mapping[str, Any]


def is_right(answer: Any, truth: Any) -> bool:
    """Whether an answer is the truth, as labels go."""
    return choice_text(answer) == choice_text(truth)


def is_number(value: Any) -> bool:
    """Whether a value is a number and no yes/no."""
    return isinstance(value, (int, float)) and not isinstance(value, bool)


def quality_figures(judged_answers: Sequence[JudgedAnswer], answer: str, numbers: bool, spread: float | None = None) -> dict[str, Any]:
    """All figures of one version as JSON has them. answer : the name of what the truth is of. spread : of a number in training, for the
    part of answers that are within a tenth of it.
    """
    if numbers:
        return _of_numbers(judged_answers, answer, spread)
    right = [is_right(judged.answer.get(answer), judged.truth) for judged in judged_answers]
    labels = sorted(
        {choice_text(judged.truth) for judged in judged_answers} | {choice_text(judged.answer.get(answer)) for judged in judged_answers}
    )[:50]
    return {
        "kind": "labels",
        "accuracy": estimate_as_json(estimate_share(sum(right), len(right))),
        "labels": [_ofas_text(judged_answers, answer, label) for label in labels],
        "calibration": _calibration(judged_answers),
        "slices": _slices(judged_answers, right),
    }


def estimate_as_json(estimate: Estimate | None) -> dict[str, Any] | None:
    """A figure as JSON has it; an interval without end is None."""
    if estimate is None:
        return None
    low, high = (end if math.isfinite(end) else None for end in (estimate.low, estimate.high))
    return {"value": estimate.value, "low": low, "high": high, "of": estimate.of}


def _ofas_text(judged_answers: Sequence[JudgedAnswer], answer: str, label: str) -> dict[str, Any]:
    answered = [judged for judged in judged_answers if choice_text(judged.answer.get(answer)) == label]
    true = [judged for judged in judged_answers if choice_text(judged.truth) == label]
    hits = sum(choice_text(judged.truth) == label for judged in answered)
    return {
        "label": label,
        "precision": estimate_as_json(estimate_share(hits, len(answered))),
        "recall": estimate_as_json(estimate_share(hits, len(true))),
        "true": len(true),
    }


def _calibration(judged_answers: Sequence[JudgedAnswer]) -> dict[str, Any] | None:
    """By the scores that answers gave to each label, where they gave any."""
    pairs = [
        (float(score), choice_text(judged.truth) == label)
        for judged in judged_answers
        if isinstance(scores := judged.answer.get("scores"), Mapping)
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
    off = sum(abs(bin_["expected"] - bin_["came"]["value"]) * bin_["came"]["of"] for bin_ in bins) / len(pairs)  # type: ignore[index]
    return {"error": off, "brier": float(np.mean([(score - came) ** 2 for score, came in pairs])), "bins": bins}


def _of_numbers(judged_answers: Sequence[JudgedAnswer], answer: str, spread: float | None) -> dict[str, Any]:
    pairs = [
        (judged, float(judged.answer[answer]) - float(judged.truth))
        for judged in judged_answers
        if is_number(judged.answer.get(answer)) and is_number(judged.truth)
    ]
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
        "slices": _slices([judged for judged, _ in pairs], [abs(error) for error in off]),
    }


def _slices(judged_answers: Sequence[JudgedAnswer], values: Sequence[float]) -> list[dict[str, Any]]:
    """The same figure within each value of each choice; those furthest from the whole first."""
    if not judged_answers:
        return []
    whole = float(np.mean(values))
    slices: list[tuple[float, dict[str, Any]]] = []
    for name in sorted({name for judged in judged_answers for name in judged.slices}):
        for value, many in Counter(choice_text(judged.slices.get(name)) for judged in judged_answers).most_common(20):
            values_in_slice = [
                float(right) for judged, right in zip(judged_answers, values, strict=True) if choice_text(judged.slices.get(name)) == value
            ]
            known = _of(values_in_slice)
            if known is not None and _LEAST_SLICE <= many < len(judged_answers):
                slices.append((abs(known.value - whole) * math.sqrt(many), {"by": name, "value": value, "figure": estimate_as_json(known)}))
    return [slice_ for _, slice_ in sorted(slices, key=lambda pair: -pair[0])[:20]]


def _of(values: list[float]) -> Estimate | None:
    if all(value in (0.0, 1.0) for value in values):
        return estimate_share(int(sum(values)), len(values))
    return estimate_mean(values)
