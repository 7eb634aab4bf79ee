"""A short rule that an answer follows: conditions on a few fields under which the model nearly always says the same.

After Ribeiro, Singh and Guestrin, *Anchors: High-Precision Model-Agnostic Explanations*, AAAI 2018. A case of a rule is a row of the
reference that takes the rule's fields from another row that fulfils the rule. Rules grow by one condition at a time; which one is decided
by cases that are asked in turns, as long as two conditions cannot be told apart (after Kalyanakrishnan et al., *PAC Subset Selection in
Stochastic Multi-armed Bandits*, ICML 2012). One half of the reference serves the choice, the other what is stated of the rule that was
chosen; else it would look better than it is.
"""

from __future__ import annotations

import math
from collections.abc import Callable, Mapping, Sequence
from dataclasses import dataclass
from typing import Any, Literal

import numpy as np
from numpy.typing import NDArray

from lamppost.core.explanation.asking import Asking, Cases, Row
from lamppost.core.explanation.traits import FieldTraits
from lamppost.core.monitoring.quality import share_interval

Comparison = Literal["is", "at least", "at most", "missing"]
PRECISION = 0.95
_MOST_CONDITIONS = 4
_WIDTH = 5
"""Conditions of which cases are asked before one of them is chosen."""
_TURN = 16
_CHOSEN_BY = 96
_LEAST_SUPPORT = 0.04
"""Part of the reference that fulfils a rule, at least: fewer rows say too little of others."""
_LEAST_ROWS = 4
_STATED_BY = 300


@dataclass(frozen=True, slots=True)
class Condition:
    """A condition on one field. value : what it is compared with, None for ``missing``."""

    field: str
    comparison: Comparison
    value: Any = None

    def held_by(self, traits: FieldTraits) -> NDArray[np.bool_]:
        """Which rows of a reference fulfil it. traits : of its field."""
        if self.comparison == "missing":
            return np.array([value is None for value in traits.rows], dtype=np.bool_)
        if self.comparison == "is":
            return np.array([value == self.value for value in traits.rows], dtype=np.bool_)
        place = traits.place(self.value)
        return traits.places >= place if self.comparison == "at least" else traits.places <= place


@dataclass(frozen=True, slots=True)
class AnswerRule:
    """Conditions under which the model says the same as to the explained row.

    precision : part of cases in which it does, and low and high the ends of its 95 % interval, from ``cases`` cases that were drawn for
    this. coverage : part of the reference's rows that fulfil the conditions. reached : whether the precision is as high as was asked for.
    usual : part of all rows of the reference to which the model says the same.
    """

    conditions: tuple[Condition, ...]
    precision: float
    low: float
    high: float
    cases: int
    coverage: float
    reached: bool
    usual: float


@dataclass(slots=True)
class _Tried:
    conditions: tuple[Condition, ...]
    fulfil: NDArray[np.bool_]
    same: int = 0
    asked: int = 0

    @property
    def rate(self) -> float:
        return self.same / self.asked if self.asked else 0.0

    def is_good(self, precision: float) -> bool:
        return self.rate >= precision + 0.005 and _interval(self.same, self.asked)[0] >= precision - 0.02


class RuleSearch:
    """Searches rules for one row. same : whether an answer says the same as the explained one."""

    def __init__(
        self, row: Row, traits: Mapping[str, FieldTraits], reference: Sequence[Row], same: Callable[[Row], bool], seed: int = 1
    ) -> None:
        self._row = row
        self._reference = reference
        self._same = same
        self._rng = np.random.default_rng(seed)
        self._held = {condition: condition.held_by(one) for one in traits.values() for condition in _conditions(row, one)}

    def search(self, cases: Cases, typical: Sequence[Row | None], precision: float = PRECISION) -> Asking[AnswerRule | None]:
        """The shortest rule of such precision that the budget has room for, or the most precise one that was met. None without a reference
        or without a budget. typical : the answers to the rows of the reference, as far as they are known.
        """
        says = np.array([math.nan if answer is None else float(self._same(answer)) for answer in typical])
        usual = float(np.nanmean(says)) if np.isfinite(says).any() else math.nan
        says[1::2] = math.nan
        known = np.isfinite(says)
        if not known.any():
            return None
        kept = cases.budget.rows // 3
        rule = _Tried((), np.ones(len(self._reference), dtype=np.bool_), int(says[known].sum()), int(known.sum()))
        while not rule.is_good(precision) and len(rule.conditions) < _MOST_CONDITIONS:
            grown = self._grown(rule, says)
            if not grown or cases.budget.rows <= kept or cases.budget.out_of_time:
                break
            rule = yield from self._most_precise(grown, cases, kept)
        return (yield from self._stated(rule, cases, precision, usual))

    def _grown(self, rule: _Tried, says: NDArray[np.float64]) -> list[_Tried]:
        """The most promising rules of one condition more, by the known answers of the rows that fulfil them."""
        found: list[tuple[float, int, _Tried]] = []
        for condition, held in self._held.items():
            if any(condition.field == other.field and condition.comparison == other.comparison for other in rule.conditions):
                continue
            fulfil = rule.fulfil & held
            many, coverage = int(fulfil.sum()), float(fulfil.mean())
            if many == int(rule.fulfil.sum()) or coverage < _LEAST_SUPPORT or many < _LEAST_ROWS:
                continue
            known = says[fulfil & np.isfinite(says)]
            promise = (float(known.sum()) + 1) / (len(known) + 2) + 0.02 * math.log(coverage)
            found.append((-promise, len(found), _Tried((*rule.conditions, condition), fulfil)))
        return [tried for _, _, tried in sorted(found, key=lambda one: one[:2])[:_WIDTH]]

    def _most_precise(self, rules: list[_Tried], cases: Cases, kept: int) -> Asking[_Tried]:
        """The rule that says the same most often, by cases that are asked in turns until one is clearly the best."""
        running = rules
        while cases.budget.rows > kept and len(running) >= 1 and not cases.budget.out_of_time:
            yield from self._ask_cases(running, _TURN, cases)
            best = max(running, key=lambda one: (one.rate, one.fulfil.sum()))
            low = _interval(best.same, best.asked)[0]
            running = [one for one in running if one is best or _interval(one.same, one.asked)[1] > low]
            if best.asked >= _CHOSEN_BY or (len(running) == 1 and best.asked >= 3 * _TURN):
                break
        return max(rules, key=lambda one: (_interval(one.same, one.asked)[0] if one.asked else 0.0, one.fulfil.sum()))

    def _ask_cases(self, rules: Sequence[_Tried], many: int, cases: Cases) -> Asking[None]:
        drawn = [(rule, case) for rule in rules for case, _ in self.draw_cases(rule.conditions, rule.fulfil, 0, many)]
        answers = yield from cases.ask([case for _, case in drawn])
        for (rule, _), answer in zip(drawn, answers, strict=True):
            if answer is not None:
                rule.asked += 1
                rule.same += self._same(answer)

    def draw_cases(self, conditions: Sequence[Condition], fulfil: NDArray[np.bool_], half: int, many: int) -> list[tuple[Row, int]]:
        """Rows of one half of the reference with the fields of the conditions from one of that half that fulfils them, and which that is;
        from the explained row, -1, if none does.
        """
        names = {condition.field for condition in conditions}
        places, givers = np.arange(half, len(self._reference), 2), np.flatnonzero(fulfil[half::2]) * 2 + half
        if not len(places):
            return [(self._row, -1)] * many
        others = self._rng.choice(places, many).tolist()
        given_by = self._rng.choice(givers, many).tolist() if len(givers) else [-1] * many
        cases: list[tuple[Row, int]] = []
        for other, giver in zip(others, given_by, strict=True):
            given = self._reference[giver] if giver >= 0 else self._row
            cases.append(({**self._row, **self._reference[other], **{name: given.get(name) for name in names}}, giver))
        return cases

    def _stated(self, rule: _Tried, cases: Cases, precision: float, usual: float) -> Asking[AnswerRule | None]:
        """What is stated of a rule, from cases of its own. Cases with conditions from the same row are alike, and count for less."""
        drawn = self.draw_cases(rule.conditions, rule.fulfil, 1, min(_STATED_BY, cases.budget.rows))
        answers = yield from cases.ask([case for case, _ in drawn])
        by_giver: dict[int, list[bool]] = {}
        for (_, giver), answer in zip(drawn, answers, strict=True):
            if answer is not None:
                by_giver.setdefault(giver, []).append(self._same(answer))
        asked = sum(map(len, by_giver.values()))
        if not asked:
            return None
        rate = sum(map(sum, by_giver.values())) / asked
        low, high = share_interval(rate, _worth(rate, list(by_giver.values())) if rule.conditions else asked)
        return AnswerRule(rule.conditions, rate, low, high, asked, float(rule.fulfil.mean()), rate >= precision, usual)


def _worth(rate: float, groups: Sequence[Sequence[bool]]) -> float:
    """How many independent cases groups of like ones are worth: by the variance between groups (Kish, *Survey Sampling*, 1965), and never
    more than five for each group, because groups that all agree show no variance.
    """
    asked, count = sum(map(len, groups)), len(groups)
    if count < 2:
        return float(count)
    spread = sum((sum(group) - rate * len(group)) ** 2 for group in groups) * count / (count - 1) / asked**2
    worth = rate * (1 - rate) / spread if spread > 0 else float(asked)
    return max(1.0, min(worth, asked, 5.0 * count))


def _conditions(row: Row, traits: FieldTraits) -> list[Condition]:
    """Conditions on one field that the row fulfils: its choice, or limits at tenths of the reference around its value."""
    name, own = traits.field.name, row.get(traits.field.name)
    if own is None:
        return [Condition(name, "missing")]
    if not traits.ordered:
        return [Condition(name, "is", own)]
    if not traits.values:
        return []
    ranks = np.cumsum(traits.counts) / max(1, sum(traits.counts))
    cuts = sorted({int(np.searchsorted(ranks, tenth / 10)) for tenth in range(1, 10)})
    values = [traits.values[min(cut, len(traits.values) - 1)] for cut in cuts]
    place = traits.place(own)
    least = [Condition(name, "at least", value) for value in values if traits.place(value) <= place][-4:]
    most = [Condition(name, "at most", value) for value in values if traits.place(value) >= place][:4]
    return [*least, *most]


def _interval(same: int, asked: int) -> tuple[float, float]:
    return share_interval(same / asked, asked) if asked else (0.0, 1.0)
