"""How much each part of a row moved an answer away from the typical one: Shapley values.

A part's contribution is what it adds to the answer when it joins the others, averaged over all orders in which parts can join (Shapley,
*A Value for n-Person Games*, 1953) and over backgrounds that stand in for what has not joined (Štrumbelj and Kononenko, *Explaining
prediction models and individual predictions with feature contributions*, Knowledge and Information Systems 41, 2014). Orders are drawn in
antithetic pairs, each with its reverse (Mitchell et al., *Sampling Permutations for Shapley Value Estimation*, JMLR 23, 2022). What a part
adds depends on what it replaces, and that is known of every background: so the mean over the drawn backgrounds is corrected by regression
to the mean over all of them (Cochran, *Sampling Techniques*, 3rd ed., chapter 7), which makes it exact for a linear model. Where all orders
cost less than the budget, all are asked.
"""

from __future__ import annotations

import math
from collections.abc import Sequence
from dataclasses import dataclass, replace
from typing import Literal

import numpy as np
from numpy.typing import NDArray

from lamppost.core.explanation.asking import Asking, Cases, Matrix, Row
from lamppost.core.explanation.games import Game

Stopped = Literal["exact", "certain", "budget", "time"]
"""Why no more was asked: all orders were; the order of the first parts is certain; so many rows, or so much time, were used up."""
_EXACT_PARTS = 12
_DOUBLES = 4
"""Rows of all orders for each one that may be asked, up to which it is counted how many of them are alike."""
_ROUND_ROWS = 256
_FIRST = 3
_CERTAIN = 3.0
"""Standard errors between two contributions whose order is certain: enough for looking again after each round."""
_LEAST_PAIRS = 12


@dataclass(frozen=True, slots=True)
class Contributions:
    """Contributions of parts to the figures of an answer.

    parts : fields of each part. baseline, answer : of each figure. amounts, errors : (parts, figures); the amounts of a figure add up to
    answer minus baseline, and an error is the standard error of its amount, NaN where none could be told. stopped : why no more was asked.
    asked : rows. left_out : orders that the model failed on.
    """

    parts: Sequence[tuple[str, ...]]
    baseline: NDArray[np.float64]
    answer: NDArray[np.float64]
    amounts: Matrix
    errors: Matrix
    stopped: Stopped
    asked: int
    left_out: int = 0


def contributions(game: Game, cases: Cases, seed: int = 1) -> Asking[Contributions]:
    """The contributions of a game's parts. Orders and backgrounds that the model fails on are left out and counted."""
    before = cases.budget.rows
    answer = (yield from cases.measure([game.row]))[0]
    parts = len(game.parts)
    typical = yield from _typical(game, cases)
    drawn_from = np.flatnonzero(np.isfinite(typical).all(axis=1))
    baseline = typical[drawn_from].mean(axis=0) if len(drawn_from) else np.full(len(answer), np.nan)
    if parts <= _EXACT_PARTS and len(drawn_from) and (1 << parts) * len(drawn_from) <= _DOUBLES * max(cases.budget.rows, 1):
        rows = _all_rows(game, drawn_from)
        if cases.count_new(rows) <= cases.budget.rows:
            values = (yield from cases.measure(rows)).reshape(1 << parts, len(drawn_from), -1)
            there = np.isfinite(values).all(axis=(0, 2))
            if there.any():
                amounts = _from_all(values[:, there].mean(axis=1), parts)
                asked, failed = before - cases.budget.rows, int((~there).sum())
                return _adding_up(Contributions(game.parts, baseline, answer, amounts, np.zeros_like(amounts), "exact", asked, failed))
    sampling = _Sampling(game, typical, drawn_from, answer, np.random.default_rng(seed))
    stopped: Stopped = "budget"
    while len(drawn_from) and (pairs := min(sampling.most_pairs(cases.budget.rows), sampling.round_pairs)):
        yield from sampling.draw(cases, pairs)
        amounts, errors = sampling.estimate()
        if sampling.kept >= _LEAST_PAIRS and _order_is_certain(amounts[:, cases.outputs.primary], errors[:, cases.outputs.primary]):
            stopped = "certain"
            break
        if cases.budget.out_of_time:
            stopped = "time"
            break
    amounts, errors = sampling.estimate()
    asked = before - cases.budget.rows
    return _adding_up(Contributions(game.parts, baseline, answer, amounts, errors, stopped, asked, sampling.left_out))


def _typical(game: Game, cases: Cases) -> Asking[Matrix]:
    """The figures of backgrounds without any part; NaN for those that the budget has no room for, a quarter of it being meant for this."""
    nothing = np.zeros(len(game.parts), dtype=np.bool_)
    rows = [game.compose(nothing, background) for background in range(game.backgrounds)]
    places = np.arange(game.backgrounds)
    if cases.count_new(rows) > cases.budget.rows // 4:
        places = np.unique(np.linspace(0, game.backgrounds - 1, num=cases.budget.rows // 4).astype(int))
    figures = np.full((game.backgrounds, len(cases.outputs.names)), np.nan)
    figures[places] = yield from cases.measure([rows[place] for place in places])
    return figures


def _all_rows(game: Game, backgrounds: NDArray[np.intp]) -> list[Row]:
    """Every subset of the parts over every background, subset by subset."""
    parts = len(game.parts)
    bits = (np.arange(1 << parts)[:, None] >> np.arange(parts)) & 1 > 0
    return [game.compose(present, int(background)) for present in bits for background in backgrounds]


def _from_all(values: Matrix, parts: int) -> Matrix:
    """Shapley values from the figures of every subset, (subsets, figures)."""
    subsets = np.arange(1 << parts)
    sizes = np.array([int(subset).bit_count() for subset in subsets])
    weights = np.array([math.factorial(size) * math.factorial(parts - size - 1) / math.factorial(parts) for size in range(parts)])
    amounts = np.empty((parts, values.shape[1]))
    for part in range(parts):
        without = subsets[(subsets >> part) & 1 == 0]
        amounts[part] = weights[sizes[without]] @ (values[without | 1 << part] - values[without])
    return amounts


class _Sampling:
    """Orders drawn so far. kept : pairs of orders. left_out : those that the model failed on."""

    def __init__(
        self, game: Game, typical: Matrix, drawn_from: NDArray[np.intp], answer: NDArray[np.float64], rng: np.random.Generator
    ) -> None:
        self._game = game
        self._typical = typical
        self._from = drawn_from
        self._answer = answer
        self._rng = rng
        self._deck: list[int] = []
        self._covariates = [game.covariates(part)[drawn_from] for part in range(len(game.parts))]
        self._added: list[Matrix] = []
        self._used: list[int] = []
        self.left_out = 0

    @property
    def kept(self) -> int:
        """Pairs of orders that were answered."""
        return len(self._added)

    @property
    def _pair_rows(self) -> int:
        return max(1, 2 * (len(self._game.parts) - 1))

    @property
    def round_pairs(self) -> int:
        """Pairs of one round."""
        return max(2, _ROUND_ROWS // self._pair_rows)

    def most_pairs(self, rows: int) -> int:
        """How many pairs so many rows are enough for."""
        return rows // self._pair_rows

    def _next_background(self) -> int:
        if not self._deck:  # every background as often as any other
            self._deck = self._rng.permutation(self._from).tolist()
        return self._deck.pop()

    def draw(self, cases: Cases, pairs: int) -> Asking[None]:
        """Ask so many pairs of orders more."""
        parts = len(self._game.parts)
        rows: list[Row] = []
        drawn = []
        for _ in range(pairs):
            order, background = self._rng.permutation(parts), self._next_background()
            drawn.append((order, background))
            for one in (order, order[::-1]):
                present = np.zeros(parts, dtype=np.bool_)
                for part in one[:-1]:
                    present[part] = True
                    rows.append(self._game.compose(present, background))
        figures = yield from cases.measure(rows)
        walks = figures.reshape(pairs, 2, parts - 1, -1)
        for (order, background), (forward, backward) in zip(drawn, walks, strict=True):
            added = np.zeros((parts, figures.shape[1]))
            for one, between in ((order, forward), (order[::-1], backward)):
                added[one] += np.diff(np.vstack([self._typical[background], between, self._answer]), axis=0) / 2
            if np.isfinite(added).all():
                self._added.append(added)
                self._used.append(background)
            else:
                self.left_out += 1

    def estimate(self) -> tuple[Matrix, Matrix]:
        """Amounts and standard errors so far, (parts, figures)."""
        shape = (len(self._game.parts), len(self._answer))
        if not self._added:
            return np.full(shape, np.nan), np.full(shape, np.nan)
        added, used = np.stack(self._added), np.array(self._used)
        amounts, errors = np.empty(shape), np.empty(shape)
        for part, covariates in enumerate(self._covariates):
            amounts[part], errors[part] = _corrected_mean(added[:, part], covariates, np.searchsorted(self._from, used))
        return amounts, errors


def _corrected_mean(drawn: Matrix, covariates: Matrix, used: NDArray[np.intp]) -> tuple[NDArray[np.float64], NDArray[np.float64]]:
    """The mean of what was drawn at some backgrounds, corrected to all of them, and its standard error, by figure."""
    count = len(drawn)
    here = covariates[used]
    told = [column for column in range(covariates.shape[1]) if column == 0 or _varies(here[:, column])]
    if count < 3 * len(told):
        told = [0]
    design = here[:, told]
    slopes, _, rank, _ = np.linalg.lstsq(design, drawn, rcond=None)
    left = drawn - design @ slopes
    free = count - rank
    spread = np.sqrt((left**2).sum(axis=0) / free / count) if free > 0 else np.full(drawn.shape[1], np.nan)
    return covariates[:, told].mean(axis=0) @ slopes, spread


def _varies(column: NDArray[np.float64]) -> bool:
    return bool(column.max() - column.min() > 1e-12)


def _adding_up(found: Contributions) -> Contributions:
    """The same with amounts that add up, each corrected as far as it is uncertain."""
    gap = found.answer - found.baseline - found.amounts.sum(axis=0)
    weights = np.where(np.isfinite(found.errors), found.errors, 0.0) ** 2
    whole = weights.sum(axis=0)
    moved = np.abs(found.amounts)
    shares = np.where(whole > 0, weights / np.where(whole > 0, whole, 1.0), moved / np.where(moved.sum(axis=0) > 0, moved.sum(axis=0), 1.0))
    return replace(found, amounts=found.amounts + shares * gap)


def _order_is_certain(amounts: NDArray[np.float64], errors: NDArray[np.float64]) -> bool:
    """Whether the first parts stand where they stand beyond chance."""
    order = np.argsort(-np.abs(amounts), kind="stable")[: _FIRST + 1]
    sizes, spread = np.abs(amounts)[order], errors[order]
    apart = sizes[:-1] - sizes[1:]
    needed = _CERTAIN * np.sqrt(spread[:-1] ** 2 + spread[1:] ** 2)
    return bool(np.all((apart > needed) | (sizes[:-1] < 1e-12)))
