"""The first few contributions to the answer of each row of a bulk run, within a budget of asked rows for each row.

A contribution is a Shapley value, estimated over orders in which fields join and over rows of the reference that stand in for what has not
joined (sources: `lamppost.core.explanation.contributions`). All rows of a block share the orders, which come in antithetic pairs, and each
has backgrounds of its own; so a block is asked in whole columns, and the same block always has the same reasons.
"""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass
from typing import Any

import numpy as np
from numpy.typing import NDArray

from lamppost.core.bulk.reason_terms import ReasonTerms
from lamppost.core.errors import BadRequest
from lamppost.core.schema.columns import Array, Column
from lamppost.core.schema.fields import Field, Schema

_SEED = 1


def draw_orders(fields: int, terms: ReasonTerms) -> list[list[int]]:
    """Orders in which fields join, in pairs of one and its reverse, as many as the budget pays for; two at least.

    Each order asks ``fields - 1`` rows: what stands at its begin is of the reference, and what stands at its end is the row itself. Raise
    BadRequest for a budget that pays for no pair. fields : how many join.
    """
    cost = max(1, fields - 1)
    pairs = terms.rows // (2 * cost)
    if pairs < 1:
        raise BadRequest(
            f"the reasons of a row with {fields} fields cost {2 * cost} asked rows at least; allow them: --reason-rows {2 * cost}"
        )
    random = np.random.default_rng(_SEED)
    orders: list[list[int]] = []
    for _ in range(pairs):
        order = random.permutation(fields).tolist()
        orders += [order, order[::-1]]
    return orders


def asked_rows(fields: int, terms: ReasonTerms) -> int:
    """How many rows are asked for the reasons of one row; raise BadRequest as `draw_orders` does."""
    orders = draw_orders(fields, terms)
    return len(orders) * max(1, fields - 1) + len(orders) // 2


def draw_backgrounds(rows: int, reference: int, block: int, pair: int) -> Array:
    """Which row of the reference stands in for each row of a block, for one pair of orders: the same whenever it is drawn."""
    return np.random.default_rng([_SEED, block, pair]).integers(0, reference, rows)


@dataclass(frozen=True, slots=True)
class AnswerFigure:
    """The number that reasons are about: of a label the score that the model gives it, or whether it is given; of a number itself.

    at : which answer it is. scores : which answer holds scores of its labels, None where none does.
    """

    field: Field
    at: int
    scores: int | None

    def of(self, answers: Sequence[Column], labels: Array | None) -> NDArray[np.float64]:
        """The figure of each row. labels : codes of the labels whose figure is wanted; None for a number."""
        values = np.asarray(answers[self.at].values)
        if labels is None:
            numbers: NDArray[np.float64] = values.astype(np.float64)
            return numbers
        if self.scores is None:
            given: NDArray[np.float64] = (values == labels).astype(np.float64)
            return given
        scores = np.asarray(answers[self.scores].values, dtype=np.float64)
        known = (labels >= 0) & (labels < scores.shape[1])
        figure: NDArray[np.float64] = np.where(known, scores[np.arange(len(scores)), np.where(known, labels, 0)], np.nan)
        return figure

    def labels(self, answers: Sequence[Column]) -> Array | None:
        """The codes of the labels that were given; None for a number."""
        return None if self.field.kind in ("number", "integer") else np.asarray(answers[self.at].values)


def answer_figure(answers: Schema) -> AnswerFigure:
    """What reasons are about; raise BadRequest where there is no such answer."""
    for at, field in enumerate(answers):
        if field.kind in ("choice", "yes/no"):
            scores = next((place for place, one in enumerate(answers) if one.kind == "vector" and one.choices == field.choices), None)
            return AnswerFigure(field, at, scores if field.kind == "choice" else None)
        if field.kind in ("number", "integer"):
            return AnswerFigure(field, at, None)
    raise BadRequest("there are no reasons for answers that are neither a label nor a number; leave --reasons out")


def leading_reasons(
    contributions: NDArray[np.float64], names: Sequence[str], terms: ReasonTerms
) -> list[tuple[list[str | None], NDArray[np.float64]]]:
    """The largest contributions of each row, the first reason of all rows first: fields and amounts; nothing where none could be asked.

    contributions : of shape (n_rows, n_fields), NaN where nothing is known.
    """
    sizes = np.where(np.isnan(contributions), -1.0, np.abs(contributions))
    places = np.argsort(-sizes, axis=1, kind="stable")
    found: list[tuple[list[str | None], NDArray[np.float64]]] = []
    rows = np.arange(len(contributions))
    for at in range(terms.fields):
        if at >= len(names):
            found.append(([None] * len(rows), np.full(len(rows), np.nan)))
            continue
        chosen = places[:, at]
        amounts = contributions[rows, chosen]
        given: list[Any] = [
            names[place] if amount == amount else None for place, amount in zip(chosen.tolist(), amounts.tolist(), strict=True)
        ]
        found.append((given, amounts))
    return found
