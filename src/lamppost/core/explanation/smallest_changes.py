"""The smallest plausible changes of one to three fields that turn an answer: give another label, or move a number past a limit.

Plausible are values that the reference has, of two and three fields values of one of its rows, where every two values of the changed row
were seen together. Changes are asked about from the smallest on, so that the first that turns the answer is the smallest. A change is as
large as the sum of its distances (see `FieldTraits.distance`).
"""

from __future__ import annotations

import itertools
from collections.abc import Callable, Iterable, Mapping, Sequence
from dataclasses import dataclass
from typing import Any, Literal

import numpy as np
from numpy.typing import NDArray

from lamppost.core.explanation.asking import Asking, Cases, Row
from lamppost.core.explanation.traits import LISTED, ORDERED, FieldTraits, SeenTogether
from lamppost.core.schema.fields import Field

Searched = Literal["found", "none", "budget", "time"]
"""How the search ended: with changes, with all of them asked and none that turns the answer, or because the budget was used up."""
_LISTED = 5
_BATCH = 64
_SINGLE_VALUES = 32
"""Values of one field that are looked at first, on each side of the row's own."""
_FIELDS_OF = {2: 12, 3: 8}
_MOST_JOINT = 20_000


@dataclass(frozen=True, slots=True)
class SmallestChange:
    """A change that turns the answer. fields : by name, the new values. distance : in quantiles. answer : what the model says then."""

    fields: Mapping[str, Any]
    distance: float
    answer: Row


@dataclass(frozen=True, slots=True)
class SmallestChanges:
    """Changes that turn the answer, the smallest first; each of other fields. searched : how the search ended. asked : rows."""

    changes: list[SmallestChange]
    searched: Searched
    asked: int


@dataclass(frozen=True, slots=True)
class _Candidate:
    distance: float
    fields: Mapping[str, Any]


class _Search:
    def __init__(self, row: Row, traits: Mapping[str, FieldTraits], turned: Callable[[Row], bool], cases: Cases) -> None:
        self.row = row
        self.cases = cases
        self.best: dict[tuple[str, ...], SmallestChange] = {}
        self._turned = turned
        self._together = SeenTogether([trait for trait in traits.values() if trait.field.kind in (*ORDERED, *LISTED)])

    @property
    def nearest(self) -> float:
        """Distance of the smallest change so far."""
        return min((change.distance for change in self.best.values()), default=float("inf"))

    @property
    def ended(self) -> bool:
        """Whether the budget is used up."""
        return self.cases.budget.rows < 1 or self.cases.budget.out_of_time

    def ask(self, candidates: Sequence[_Candidate], rows: int) -> Asking[None]:
        """Ask about candidates in their order, as long as they are smaller than what is found, at most so many rows."""
        most = max(0, self.cases.budget.rows - rows)
        plausible = (one for one in candidates if self._together.fits({**self.row, **one.fields}, list(one.fields)))
        while self.cases.budget.rows > most and not self.cases.budget.out_of_time:
            batch = [one for one in itertools.islice(plausible, min(_BATCH, self.cases.budget.rows - most)) if one.distance < self.nearest]
            if not batch:
                break
            answers = yield from self.cases.ask([{**self.row, **one.fields} for one in batch])
            for one, answer in zip(batch, answers, strict=True):
                if answer is not None and self._turned(answer):
                    key = tuple(sorted(one.fields))
                    if key not in self.best or one.distance < self.best[key].distance:
                        self.best[key] = SmallestChange(one.fields, one.distance, answer)


def smallest_changes(
    row: Row, inputs: Sequence[Field], reference: Sequence[Row], turned: Callable[[Row], bool], cases: Cases, first: Sequence[str] = ()
) -> Asking[SmallestChanges]:
    """The smallest changes after which ``turned`` says yes to the answer. first : the fields to begin with where there are many."""
    before = cases.budget.rows
    traits = {field.name: FieldTraits(field, reference) for field in inputs if field.name in row}
    ranked = sorted(traits, key=lambda name: first.index(name) if name in first else len(first))
    free = [name for name in ranked if _can_change(traits[name], row)]
    search = _Search(row, traits, turned, cases)
    coarse = sorted((one for name in free for one in _single(row, traits[name], _SINGLE_VALUES)), key=_size)
    yield from search.ask(coarse, cases.budget.rows // 2)
    fine = sorted((one for name in free for one in _single(row, traits[name], None)), key=_size)
    yield from search.ask([one for one in fine if one.distance < search.nearest], cases.budget.rows // 2)
    for many in (2, 3):
        joint = _joint(row, [traits[name] for name in free[: _FIELDS_OF[many]]], reference, many, search.nearest)
        yield from search.ask(joint, cases.budget.rows // 2 if many == 2 else cases.budget.rows)
    searched: Searched = "found" if search.best else "time" if cases.budget.out_of_time else "budget" if cases.budget.rows < 1 else "none"
    return SmallestChanges(_worth_telling(search.best.values()), searched, before - cases.budget.rows)


def _can_change(traits: FieldTraits, row: Row) -> bool:
    return traits.field.changes != "fixed" and bool(traits.values) and row.get(traits.field.name) is not None


def _size(candidate: _Candidate) -> float:
    return candidate.distance


def _single(row: Row, traits: FieldTraits, most: int | None) -> list[_Candidate]:
    """Changes of one field to values of the reference. most : on each side of the row's own, spread over their ranks; None for all."""
    name, own = traits.field.name, row[traits.field.name]
    values = [value for value in traits.values if value != own and _allowed(traits, own, value)]
    if traits.ordered and most is not None:
        below, above = ([value for value in values if (traits.place(value) > traits.place(own)) is up] for up in (False, True))
        values = [*_thinned(below, most), *_thinned(above, most)]
    return [_Candidate(traits.distance(own, value), {name: value}) for value in values]


def _allowed(traits: FieldTraits, own: Any, value: Any) -> bool:
    return traits.field.changes != "rises_only" or (traits.ordered and traits.place(value) > traits.place(own))


def _thinned(values: Sequence[Any], most: int) -> list[Any]:
    if len(values) <= most:
        return list(values)
    return [values[place] for place in np.unique(np.linspace(0, len(values) - 1, num=most).astype(int))]


def _joint(row: Row, traits: Sequence[FieldTraits], reference: Sequence[Row], many: int, below: float) -> list[_Candidate]:
    """Changes of several fields to the values of one row of the reference, the smallest first, that are smaller than ``below``."""
    if len(traits) < many or not reference:
        return []
    distances = np.stack([_distances(row, one, reference) for one in traits])
    found: dict[tuple[str, ...], _Candidate] = {}
    sums: list[tuple[float, tuple[int, ...], int]] = []
    for places in itertools.combinations(range(len(traits)), many):
        whole = distances[list(places)].sum(axis=0)
        sums += [(float(whole[other]), places, int(other)) for other in np.flatnonzero(np.isfinite(whole) & (whole < below))]
    for distance, places, other in sorted(sums)[:_MOST_JOINT]:
        fields = {traits[place].field.name: reference[other][traits[place].field.name] for place in places}
        found.setdefault(tuple(map(repr, fields.items())), _Candidate(distance, fields))
    return list(found.values())


def _distances(row: Row, traits: FieldTraits, reference: Sequence[Row]) -> NDArray[np.float64]:
    """To the value of each row of the reference; infinite where that is no change, or none that can be."""
    name, own = traits.field.name, row[traits.field.name]
    known = {repr(value): traits.distance(own, value) for value in traits.values if value != own and _allowed(traits, own, value)}
    return np.array([known.get(repr(other.get(name)), np.inf) for other in reference])


def _worth_telling(changes: Iterable[SmallestChange]) -> list[SmallestChange]:
    """The smallest, without those that need more fields than another one, and are larger."""
    told: list[SmallestChange] = []
    for change in sorted(changes, key=lambda one: (one.distance, len(one.fields))):
        if not any(set(smaller.fields) <= set(change.fields) for smaller in told):
            told.append(change)
    return told[:_LISTED]
