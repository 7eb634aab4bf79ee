"""Computes the quality of answers from outcomes, with 95 % intervals, and how many outcomes are known.

Shares have Wilson's interval (*JASA* 22, 1927), means a normal one; both are widened by as much as answers to one caller are alike (the
variance of sums over callers: Cameron and Miller, *Journal of Human Resources* 50(2), 2015, section II). Calibration uses ten bins of the
score given to a label: the expected share in each against the observed one, and their mean distance weighted by rows (expected
calibration error: Naeini et al., AAAI 2015).
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
_LEAST_TOLD = 30
_TOLD_APART = 0.1
"""A label whose part among the known answers differs by less from its part among all is told of as it was given."""


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


def estimate_by_caller(values: Sequence[float], callers: Sequence[str | None], share: bool) -> Estimate | None:
    """A share or a mean of values, with an interval that allows for answers to one caller being alike. Never narrower than without."""
    plain = estimate_share(round(sum(values)), len(values)) if share else estimate_mean(values)
    groups: dict[str, list[float]] = {}
    for at, (value, caller) in enumerate(zip(values, callers, strict=True)):
        groups.setdefault(caller if caller is not None else f"\0{at}", []).append(value)
    if plain is None or not 1 < len(groups) < len(values):
        return plain
    sums = np.asarray([math.fsum(group) - len(group) * plain.value for group in groups.values()])
    variance = float((sums**2).sum()) / len(values) ** 2 * len(groups) / (len(groups) - 1)
    wider = student_quantile(len(groups) - 1) / Z
    if not share:
        half = max(plain.high - plain.value, wider * Z * math.sqrt(variance))
        return Estimate(plain.value, plain.value - half, plain.value + half, plain.of)
    spread = plain.value * (1 - plain.value)
    worth = min(float(plain.of), spread / (variance * wider**2)) if variance > 0 and spread > 0 else float(plain.of)
    return Estimate(plain.value, *share_interval(plain.value, max(1.0, worth)), plain.of)


def student_quantile(degrees: int) -> float:
    """The 97.5 % point of Student's t, for 1 and more degrees of freedom (Abramowitz and Stegun, 26.7.5; the first three as tabulated)."""
    if degrees <= 3:
        return (12.706, 4.303, 3.182)[degrees - 1]
    n, z = float(degrees), Z
    terms = ((z**3 + z) / (4 * n), (5 * z**5 + 16 * z**3 + 3 * z) / (96 * n**2), (3 * z**7 + 19 * z**5 + 17 * z**3 - 15 * z) / (384 * n**3))
    return z + math.fsum(terms)


@dataclass(frozen=True, slots=True)
class JudgedAnswer:
    """An answer whose truth is known. answer : the answer row. slices : choices of its input. caller : whose answers are not independent of
    each other; None for one that nobody else's depends on.
    """

    answer: Mapping[str, Any]
    truth: Any
    slices: Mapping[str, Any]
    caller: str | None = None


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
        "accuracy": estimate_as_json(estimate_by_caller([float(one) for one in right], _callers(judged_answers), share=True)),
        "labels": [_ofas_text(judged_answers, answer, label) for label in labels],
        "calibration": _calibration(judged_answers),
        "slices": _slices(judged_answers, right),
    }


def _callers(judged_answers: Sequence[JudgedAnswer]) -> list[str | None]:
    return [judged.caller for judged in judged_answers]


def told_otherwise(judged_answers: Sequence[JudgedAnswer], answered: Sequence[Mapping[str, Any]], answer: str) -> dict[str, Any] | None:
    """Whether outcomes are told of other answers than were given: the label whose part differs most, and the share of right answers with
    each label weighing as much as it was answered. None where both are alike within chance, or too few are known.

    answered : a sample of all answers.
    """
    told = Counter(choice_text(judged.answer.get(answer)) for judged in judged_answers)
    given = Counter(choice_text(row.get(answer)) for row in answered if answer in row)
    n, m = sum(told.values()), sum(given.values())
    if min(n, m) < _LEAST_TOLD:
        return None
    apart = {label: told[label] / n - given[label] / m for label in told.keys() | given.keys()}
    label = max(sorted(apart), key=lambda name: (round(abs(apart[name]), 9), apart[name]))
    pooled = (told[label] + given[label]) / (n + m)
    if abs(apart[label]) < max(_TOLD_APART, 3 * math.sqrt(pooled * (1 - pooled) * (1 / n + 1 / m))):
        return None
    right = Counter(
        choice_text(judged.answer.get(answer)) for judged in judged_answers if is_right(judged.answer.get(answer), judged.truth)
    )
    known = sum(count for name, count in given.items() if told[name])
    weighted = sum(count * right[name] / told[name] for name, count in given.items() if told[name]) / known if known else None
    return {"label": label, "told": told[label] / n, "answered": given[label] / m, "weighted": weighted, "unknown": 1 - known / m}


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
        "absolute_error": estimate_as_json(
            estimate_by_caller([abs(error) for error in off], _callers([judged for judged, _ in pairs]), share=False)
        ),
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
