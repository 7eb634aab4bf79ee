"""Measures how far the answers of two versions to the same rows agree: labels that flip, numbers that differ, and in which slices.

The second version is compared with the first.
"""

from __future__ import annotations

import math
from collections import Counter
from collections.abc import Mapping, Sequence
from dataclasses import dataclass
from typing import Any

import numpy as np

from lamppost.core.schema.fields import Field, Schema

Row = Mapping[str, Any]
MOST_SHOWN = 20
_SLICES = 12
_LABELS = ("choice", "text", "yes/no", "integer")


@dataclass(frozen=True, slots=True)
class LabelFlip:
    """How many answers changed from label ``before`` to label ``after``."""

    before: str
    after: str
    rows: int


@dataclass(frozen=True, slots=True)
class DisagreeingSlice:
    """Rows in which a field has one value, and how many of them agree."""

    field: str
    value: str
    rows: int
    agree: int


@dataclass(frozen=True, slots=True)
class DisagreeingRow:
    """A row on which the versions differ. distance : how far, 1 for another label and more with the difference of its score."""

    row: int
    distance: float


@dataclass(frozen=True, slots=True)
class Agreement:
    """by : the answer that was compared. rows : compared. agree : of them. mean, p95, most : of the difference of its figure (a number, or
    the score of the label), None where there is none. scale : what the tolerance was measured in, the sd of the first version's figures.
    """

    by: str
    rows: int
    agree: int
    flips: tuple[LabelFlip, ...]
    mean: float | None
    p95: float | None
    most: float | None
    scale: float | None
    slices: tuple[DisagreeingSlice, ...]
    worst: tuple[DisagreeingRow, ...]

    @property
    def part(self) -> float | None:
        """The part of rows that agree, None of no rows."""
        return self.agree / self.rows if self.rows else None


def main_answer(answers: Schema) -> Field:
    """The main answer: the label, else the first number, else the first field."""
    for kinds in (_LABELS, ("number",)):
        for field in answers:
            if field.kind in kinds and field.name != "version":
                return field
    return answers.fields[0]


def answers_differ(field: Field, old: Any, new: Any, scale: float | None, tolerance: float) -> bool:
    """Whether two values of an answer count as different: other labels, or numbers over ``tolerance`` times ``scale`` apart."""
    if field.kind == "number" and isinstance(old, (int, float)) and isinstance(new, (int, float)):
        return abs(old - new) > tolerance * (scale or 1.0) + 1e-9
    return bool(old != new)


def measure_agreement(
    rows: Sequence[Row], before: Sequence[Row], after: Sequence[Row], inputs: Schema, answers: Schema, tolerance: float = 0.1
) -> Agreement:
    """Compare answers to the same rows, one each. answers : the schema of the first version.

    tolerance : how many standard deviations of the first version's numbers two numbers may lie apart and still agree.
    """
    field = main_answer(answers)
    ones, others = [row.get(field.name) for row in before], [row.get(field.name) for row in after]
    figures, scores = _figures(field, answers, before, after)
    scale = float(np.std(figures[:, 0])) if figures is not None and field.kind == "number" and len(rows) else None
    differs = [answers_differ(field, old, new, scale, tolerance) for old, new in zip(ones, others, strict=True)]
    apart = np.abs(figures[:, 1] - figures[:, 0]) if figures is not None else None
    flips = Counter((_value_text(old), _value_text(new)) for old, new in zip(ones, others, strict=True) if old != new)
    return Agreement(
        field.name if scores is None else f"{field.name} ({scores})",
        len(rows),
        len(rows) - sum(differs),
        () if field.kind == "number" else tuple(LabelFlip(*pair, count) for pair, count in flips.most_common(MOST_SHOWN)),
        None if apart is None or not len(rows) else float(apart.mean()),
        None if apart is None or not len(rows) else float(np.quantile(apart, 0.95)),
        None if apart is None or not len(rows) else float(apart.max()),
        scale,
        _slices(rows, inputs, differs),
        _worst(rows, field, differs, apart),
    )


def _figures(field: Field, answers: Schema, before: Sequence[Row], after: Sequence[Row]) -> tuple[Any, str | None]:
    """A figure for each answer of both versions: the number itself, or the score of the label that the first version gave."""
    if field.kind == "number":
        pairs = [(_number(old.get(field.name)), _number(new.get(field.name))) for old, new in zip(before, after, strict=True)]
        return np.array(pairs, dtype=float).reshape(-1, 2), None
    scores = next((answer for answer in answers if answer.kind == "vector"), None)
    if scores is None or field.kind not in _LABELS:
        return None, None
    by_label: list[tuple[float, float]] = []
    for old, new in zip(before, after, strict=True):
        label = _value_text(old.get(field.name))
        first, second = (_number((answer.get(scores.name) or {}).get(label)) for answer in (old, new))
        by_label.append((first, second))
    return np.nan_to_num(np.array(by_label, dtype=float).reshape(-1, 2)), f"difference of {scores.name}"


def _number(value: Any) -> float:
    return float(value) if isinstance(value, (int, float)) and math.isfinite(value) else 0.0


def _value_text(value: Any) -> str:
    return "missing" if value is None else str(value).lower() if isinstance(value, bool) else str(value)


def _slices(rows: Sequence[Row], inputs: Schema, differs: Sequence[bool]) -> tuple[DisagreeingSlice, ...]:
    """The values of choices in which the versions agree least, by how much worse than overall, weighed with their rows."""
    slices: list[tuple[float, DisagreeingSlice]] = []
    overall = sum(differs) / len(rows) if rows else 0.0
    for field in inputs:
        if field.kind not in ("choice", "yes/no") or field.private:
            continue
        counts: dict[str, list[int]] = {}
        for row, differed in zip(rows, differs, strict=True):
            seen = counts.setdefault(_value_text(row.get(field.name)), [0, 0])
            seen[0] += 1
            seen[1] += differed
        for value, (count, different) in counts.items():
            spread = math.sqrt(max(overall * (1 - overall), 1e-9) / count)
            weight = (different / count - overall) / spread
            if weight > 0:
                slices.append((weight, DisagreeingSlice(field.name, value, count, count - different)))
    slices.sort(key=lambda pair: -pair[0])
    return tuple(slice_ for _, slice_ in slices[:_SLICES])


def _worst(rows: Sequence[Row], field: Field, differs: Sequence[bool], apart: Any) -> tuple[DisagreeingRow, ...]:
    distances = [
        float(differed and field.kind != "number") + (float(apart[at]) if apart is not None else 0.0) for at, differed in enumerate(differs)
    ]
    worst: dict[str, DisagreeingRow] = {}  # the same row may have been sent again and again
    for at in sorted(range(len(distances)), key=lambda at: -distances[at]):
        if distances[at] <= 0 or len(worst) >= MOST_SHOWN:
            break
        worst.setdefault(repr(sorted(rows[at].items())), DisagreeingRow(at, distances[at]))
    return tuple(worst.values())
