"""The answer as one field goes through its range while everything else stays."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass
from typing import Any

import numpy as np

from lamppost.core.errors import BadRequest
from lamppost.core.explanation.asking import Asking, Cases, Matrix, Row
from lamppost.core.explanation.traits import LISTED, ORDERED, FieldTraits

POINTS = 41
_VALUES = 60


@dataclass(frozen=True, slots=True)
class FieldCurve:
    """The figures of the answer at values of one field.

    values : in order; those of a choice as the reference has them, the most frequent first, and null where the field may be missing.
    figures : (values, figures), NaN where the model failed or the budget was used up. own : index of the row's own value.
    counts : rows of the reference at each value of a choice, or around each value of a number (nearer to it than to its neighbours).
    """

    field: str
    values: list[Any]
    figures: Matrix
    own: int
    counts: list[int]


def field_curve(row: Row, traits: FieldTraits, cases: Cases) -> Asking[FieldCurve]:
    """The curve of a field over the reference; raise BadRequest for one that has no values to go through."""
    field = traits.field
    if field.kind not in (*ORDERED, *LISTED):
        raise BadRequest(f"{field.name} is a {field.kind}, which has no range; ask for a number, a time, a choice or yes/no")
    own = row.get(field.name)
    if traits.ordered:
        values = _along(traits, own)
    else:
        order = np.argsort(-np.array(traits.counts, dtype=np.int64), kind="stable")[:_VALUES]
        values = [traits.values[place] for place in order]
        if own is not None and own not in values:
            values.append(own)
    counts = _counts(traits, values)
    if field.missing or own is None:
        values.append(None)
        counts.append(sum(value is None for value in traits.rows))
    figures = yield from cases.measure([{**row, field.name: value} for value in values])
    return FieldCurve(field.name, values, figures, values.index(own), counts)


def _along(traits: FieldTraits, own: Any) -> list[Any]:
    """Values of the reference at equal steps of rank and at equal steps of value, and the row's own."""
    known = traits.values
    if not known:
        return [] if own is None else [own]
    places = np.array([traits.place(value) for value in known])
    ranks = np.cumsum(traits.counts)
    steps = np.linspace(0, 1, POINTS // 2 + 1)
    chosen = set(np.searchsorted(ranks, steps * ranks[-1]).clip(0, len(known) - 1).tolist())
    chosen |= {int(np.abs(places - (places[0] + step * (places[-1] - places[0]))).argmin()) for step in steps}
    values = [known[place] for place in sorted(chosen)]
    if own is not None and own not in values:
        values = sorted([*values, own], key=traits.place)
    return values


def _counts(traits: FieldTraits, values: Sequence[Any]) -> list[int]:
    counts = [0] * len(values)
    if not values:
        return counts
    places = np.array([traits.place(value) for value in values]) if traits.ordered else np.zeros(0)
    for value, count in zip(traits.values, traits.counts, strict=True):
        if traits.ordered:
            counts[int(np.abs(places - traits.place(value)).argmin())] += count
        elif value in values:
            counts[values.index(value)] += count
    return counts
