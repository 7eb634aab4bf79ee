"""The smallest plausible changes of one to three fields that turn an answer: give another label, or move a number past a limit.

Plausible are values that the reference has, of two and three fields values of one of its rows, where every two values of the changed row
were seen together. Changes are asked about from the smallest on, so that the first that turns the answer is the smallest. A change is as
large as the sum of its distances (see `FieldTraits.distances_from`).
"""

from __future__ import annotations

import itertools
from collections.abc import Callable, Iterable, Mapping, Sequence
from dataclasses import dataclass
from typing import Any, Literal

import numpy as np
from numpy.typing import NDArray

from lamppost.core.explanation.asking import Asking, Cases, Row
from lamppost.core.explanation.traits import FieldTraits, SeenTogether

Searched = Literal["found", "none", "budget", "time"]
"""How the search ended: with changes, with all of them asked and none that turns the answer, or because the budget was used up."""
_LISTED = 5
_BATCH = 64
_SINGLE_VALUES = 32
"""Values of one field that are looked at first, on each side of the row's own."""
_FIELDS_OF = {2: 12, 3: 8}
_MORE = 4
"""Joint changes that are looked at for each row that may be asked: some of them are not plausible."""


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
    def __init__(self, row: Row, together: SeenTogether, turned: Callable[[Row], bool], cases: Cases) -> None:
        self.row = row
        self.cases = cases
        self.best: dict[tuple[str, ...], SmallestChange] = {}
        self._turned = turned
        self._together = together
        self._cells = together.cells_of(row)

    @property
    def nearest(self) -> float:
        """Distance of the smallest change so far."""
        return min((change.distance for change in self.best.values()), default=float("inf"))

    def ask(self, candidates: Sequence[_Candidate], rows: int) -> Asking[None]:
        """Ask about candidates in their order, as long as they are smaller than what is found, at most so many rows."""
        most = max(0, self.cases.budget.rows - rows)
        plausible = (one for one in candidates if self._together.fits(self._cells, one.fields))
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
    row: Row,
    traits: Mapping[str, FieldTraits],
    together: SeenTogether,
    turned: Callable[[Row], bool],
    cases: Cases,
    first: Sequence[str] = (),
) -> Asking[SmallestChanges]:
    """The smallest changes after which ``turned`` says yes to the answer. traits : of the fields that may change, over the reference.
    first : the fields to begin with where there are many.
    """
    before = cases.budget.rows
    ranked = sorted(traits, key=lambda name: first.index(name) if name in first else len(first))
    free = [traits[name] for name in ranked if _can_change(traits[name], row)]
    search = _Search(row, together, turned, cases)
    for most in (_SINGLE_VALUES, None):
        single = sorted((one for trait in free for one in _single(row, trait, most)), key=_size)
        yield from search.ask(single, cases.budget.rows // 2)
    for many in (2, 3):
        rows = cases.budget.rows // 2 if many == 2 else cases.budget.rows
        yield from search.ask(_joint(row, free[: _FIELDS_OF[many]], many, search.nearest, _MORE * rows), rows)
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
    return [_Candidate(distance, {name: value}) for distance, value in zip(traits.distances(own, values), values, strict=True)]


def _allowed(traits: FieldTraits, own: Any, value: Any) -> bool:
    return traits.field.changes != "rises_only" or (traits.ordered and traits.place(value) > traits.place(own))


def _thinned(values: Sequence[Any], most: int) -> list[Any]:
    if len(values) <= most:
        return list(values)
    return [values[place] for place in np.unique(np.linspace(0, len(values) - 1, num=most).astype(int))]


def _joint(row: Row, traits: Sequence[FieldTraits], many: int, below: float, most: int) -> list[_Candidate]:
    """Changes of several fields to the values of one row of the reference, the smallest first, that are smaller than ``below``."""
    if len(traits) < many or most < 1:
        return []
    distances = np.stack([_changing(row, one) for one in traits])
    combinations = list(itertools.combinations(range(len(traits)), many))
    sums = np.stack([distances[list(places)].sum(axis=0) for places in combinations]).ravel()
    nearest = np.argsort(sums, kind="stable")[:most]
    found: dict[tuple[str, ...], _Candidate] = {}
    for at in nearest[sums[nearest] < below].tolist():
        places, other = combinations[at // distances.shape[1]], at % distances.shape[1]
        fields = {traits[place].field.name: traits[place].rows[other] for place in places}
        found.setdefault(tuple(map(repr, fields.items())), _Candidate(float(sums[at]), fields))
    return list(found.values())


def _changing(row: Row, traits: FieldTraits) -> NDArray[np.float64]:
    """Distances to the values of the reference's rows; infinite where that is no change, or none that can be."""
    own = row[traits.field.name]
    distances = traits.distances_from(own)
    allowed = (traits.places > traits.place(own)) if traits.field.changes == "rises_only" else True
    return np.where((distances > 0) & allowed, distances, np.inf)


def _worth_telling(changes: Iterable[SmallestChange]) -> list[SmallestChange]:
    """The smallest, without those that need more fields than another one, and are larger."""
    told: list[SmallestChange] = []
    for change in sorted(changes, key=lambda one: (one.distance, len(one.fields))):
        if not any(set(smaller.fields) <= set(change.fields) for smaller in told):
            told.append(change)
    return told[:_LISTED]
