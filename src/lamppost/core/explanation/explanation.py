"""One explanation of one answer: what contributed to it, what would change it, and which rule it follows, within one budget."""

from __future__ import annotations

import math
from collections.abc import Callable, Mapping, Sequence
from dataclasses import dataclass
from typing import Any, TypeVar

import numpy as np

from lamppost.core.errors import BadRequest
from lamppost.core.explanation.asking import Asking, Budget, Cases, Outputs, Row
from lamppost.core.explanation.contributions import Contributions, contributions
from lamppost.core.explanation.games import FieldGame, fields_together
from lamppost.core.explanation.rules import AnswerRule, RuleSearch
from lamppost.core.explanation.smallest_changes import SmallestChanges, smallest_changes
from lamppost.core.explanation.traits import LISTED, ORDERED, FieldTraits, SeenTogether
from lamppost.core.explanation.within_fields import WithinField, parts_within
from lamppost.core.schema.fields import Field, Schema

T = TypeVar("T")
_CONTRIBUTIONS, _WITHIN, _CHANGES = 0.45, 0.25, 0.5
"""Parts of the rows and of the time that are left: for contributions, for parts within fields, for changes. The rule gets the rest."""


@dataclass(frozen=True, slots=True)
class ExplanationTerms:
    """What of an explanation is wanted.

    together : take fields that move together as one. limit : that a number is to pass, for the smallest changes; None for labels, and where
    no change is wanted of a number. label : the label that changes should give; None for any other one.
    """

    contributions: bool = True
    changes: bool = True
    rule: bool = True
    together: bool = False
    limit: float | None = None
    label: str | None = None
    seed: int = 1


class ExplainedReference:
    """Rows of the reference as JSON objects with all fields that are not private, and what they say of these. fields : that the rows hold.

    pairs : correlations of two fields. answers : of the model under explanation to the rows; empty until they are known.
    """

    def __init__(self, inputs: Schema, rows: Sequence[Row], pairs: Mapping[tuple[str, str], float] | None = None) -> None:
        self.fields = tuple(one for one in inputs if not one.private and rows and one.name in rows[0])
        self.rows = [{one.name: row.get(one.name) for one in self.fields} for row in rows]
        self.pairs = pairs or {}
        self.answers: Sequence[Row | None] = ()
        self.whole = len(self.fields) == len(inputs.fields)
        self.traits = {one.name: FieldTraits(one, self.rows) for one in self.fields if one.kind in (*ORDERED, *LISTED)}
        self.together = SeenTogether(list(self.traits.values()))


@dataclass(frozen=True, slots=True)
class Explanation:
    """An explained answer. within : contributions of the parts of fields that have parts. left_out : fields that stayed as they are,
    because the reference holds no values of them. changes, rule : None also where no field is a number, a time, a choice or yes/no.
    middle : the median of the main figure over the reference, on one side of which a rule about a number says that it is; NaN without a
    rule. cases : all rows that were asked.
    """

    row: Row
    answer: Row
    contributions: Contributions | None
    within: Sequence[tuple[WithinField, Contributions]]
    changes: SmallestChanges | None
    rule: AnswerRule | None
    middle: float
    left_out: tuple[str, ...]
    cases: Cases
    asked: int


def explain_answer(
    row: Row, inputs: Schema, answers: Schema, reference: ExplainedReference, terms: ExplanationTerms, budget: Budget
) -> Asking[Explanation]:
    """The explanation of the answer to a row that the model takes. Raise BadRequest where the model fails on the row itself."""
    rows = budget.rows
    answer, cases = yield from cases_of_row(row, answers, budget)
    known, others = [one.name for one in reference.fields], reference.rows
    if reference.whole:
        cases.remember(others[: len(reference.answers)], reference.answers)
    found, within = None, []
    if terms.contributions:
        parts = fields_together(known, reference.pairs) if terms.together else [(name,) for name in known]
        found = yield from _part_of(cases, _CONTRIBUTIONS, contributions(FieldGame(row, parts, others), cases, terms.seed))
        games = [game for one in inputs if not one.private and (game := parts_within(row, one, others)) is not None]
        for at, game in enumerate(games):
            share = (_WITHIN if len(known) > 1 else 1.0) / (len(games) - at)
            within.append((game, (yield from _part_of(cases, share, contributions(game, cases, terms.seed)))))
    changes = None
    if terms.changes and (turned := _turns(cases.outputs, answer, terms)) is not None and reference.traits:
        first = _by_size(found, cases.outputs.primary)
        share = _CHANGES if terms.rule else 1.0
        searching = smallest_changes(row, reference.traits, reference.together, turned, cases, first)
        changes = yield from _part_of(cases, share, searching)
    rule, middle = None, math.nan
    if terms.rule and reference.traits:
        typical = yield from cases.ask([{**row, **other} for other in others[: max(0, budget.rows // 3)]])
        typical += [None] * (len(others) - len(typical))
        middle = _middle(cases.outputs, typical)
        same = _same(cases.outputs, answer, middle)
        rule = yield from RuleSearch(row, reference.traits, others, same, terms.seed).search(cases, typical)
    left_out = tuple(one.name for one in inputs if one.name not in known and not one.private)
    return Explanation(row, answer, found, within, changes, rule, middle, left_out, cases, rows - budget.rows)


def cases_of_row(row: Row, answers: Schema, budget: Budget) -> Asking[tuple[Row, Cases]]:
    """The answer to the row that is explained, and the cases to begin with. Raise BadRequest where the model fails on the row."""
    (answer,) = yield [row]
    if answer is None:
        raise BadRequest("the model fails on this row, so there is no answer to explain; ask for a prediction to see how")
    budget.rows -= 1
    cases = Cases(Outputs(answers, answer), budget)
    cases.remember([row], [answer])
    return answer, cases


def _part_of(cases: Cases, share: float, asking: Asking[T]) -> Asking[T]:
    """Let one part of an explanation have a share of what is left of the budget."""
    whole = cases.budget
    now = whole.clock()
    mine = int(whole.rows * share)
    cases.budget = Budget(mine, now + (whole.until - now) * share, whole.clock)
    try:
        return (yield from asking)
    finally:
        whole.rows -= mine - cases.budget.rows
        cases.budget = whole


def _turns(outputs: Outputs, answer: Row, terms: ExplanationTerms) -> Callable[[Row], bool] | None:
    """Whether another answer is one that changes are looked for; None where none are. Raise BadRequest for terms that do not fit."""
    if outputs.label is not None:
        if terms.limit is not None:
            raise BadRequest("a limit is for a number; this model answers with a label, so leave it out or name the label")
        if terms.label is None:
            return lambda other: not outputs.keeps_label(other)
        if terms.label == str(outputs.label_of(answer)):
            raise BadRequest(f"the answer is {terms.label} already; name another label")
        return lambda other: str(outputs.label_of(other)) == terms.label
    if terms.label is not None:
        raise BadRequest("a label is for a model that answers with one; this one answers with a number, so name a limit")
    if terms.limit is None:
        return None
    limit, above = terms.limit, outputs.main_figure(answer) > terms.limit
    return lambda other: math.isfinite(figure := outputs.main_figure(other)) and (figure > limit) != above


def _middle(outputs: Outputs, typical: Sequence[Row | None]) -> float:
    """The median of the main figure over answers; NaN without any."""
    figures = outputs.read(typical)[:, outputs.primary]
    there = figures[np.isfinite(figures)]
    return float(np.median(there)) if len(there) else math.nan


def _same(outputs: Outputs, answer: Row, middle: float) -> Callable[[Row], bool]:
    """Whether an answer says the same: the same label, or a number on the same side of the median."""
    if outputs.label is not None:
        return outputs.keeps_label
    above = outputs.main_figure(answer) > middle
    return lambda other: (outputs.main_figure(other) > middle) == above


def _by_size(found: Contributions | None, primary: int) -> list[str]:
    """Fields by the size of their contribution."""
    if found is None:
        return []
    order = np.argsort(-np.nan_to_num(np.abs(found.amounts[:, primary])), kind="stable")
    return [name for place in order for name in found.parts[int(place)]]


def listed_cases(explained: Explanation, fields: Sequence[Field], most: int) -> list[tuple[int, Row, Any]]:
    """Rows that were asked with their answers, the nearest first: those in which the fewest fields are other."""
    if not most:
        return []
    own = explained.row
    asked = [
        (sum(row.get(one.name) != own.get(one.name) for one in fields), at)
        for at, (row, answer) in enumerate(zip(explained.cases.rows, explained.cases.answers, strict=True))
        if answer is not None
    ]
    return [(distance, explained.cases.rows[at], explained.cases.answers[at]) for distance, at in sorted(asked)[:most]]
