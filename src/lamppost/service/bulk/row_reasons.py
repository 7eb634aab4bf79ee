"""Has the reasons of a block's answers asked, column by column, and adds them to its output."""

from __future__ import annotations

import asyncio
import contextlib
from collections.abc import Sequence
from dataclasses import dataclass
from typing import TYPE_CHECKING, Any

import numpy as np
import orjson
from numpy.typing import NDArray

from lamppost.core.bulk.reason_terms import ReasonTerms, reason_columns
from lamppost.core.bulk.row_reasons import AnswerFigure, answer_figure, draw_backgrounds, draw_orders, leading_reasons
from lamppost.core.errors import BadRequest, Conflict
from lamppost.core.names import parse_version
from lamppost.core.payload.validation_plan import Row, ValidationPlan
from lamppost.core.schema.columns import Array, Column, columns_from_rows, take_columns
from lamppost.core.schema.fields import Schema
from lamppost.service.bulk.block_scoring import OpenQuestion, ScoredBlock, answer_rows
from lamppost.service.packages.package_cache import PackageCache
from lamppost.store import packages
from lamppost.store.database import Pool

if TYPE_CHECKING:
    import pyarrow as pa


@dataclass(slots=True)
class _Background:
    """Rows of the reference as columns, the places of the fields that join, and the orders in which they do."""

    columns: list[Column]
    rows: int
    joining: list[int]
    figure: AnswerFigure
    orders: list[list[int]]


class RowReasons:
    """The reasons of one run."""

    def __init__(self, pool: Pool, cache: PackageCache, terms: ReasonTerms) -> None:
        self._pool = pool
        self._cache = cache
        self._terms = terms
        self._backgrounds: dict[str, _Background] = {}

    async def add(self, scored: ScoredBlock) -> None:
        """Add the columns of reasons to a block. Raise Conflict for a version without a reference."""
        import pyarrow as pa

        table = scored.table
        for question, asked, answers, rows in scored.rows:
            names = reason_columns(self._terms, question.prefix)
            if rows == 0:
                for at, name in enumerate(names):
                    table = table.append_column(name, pa.array([], pa.float64() if at % 2 else pa.string()))
                continue
            background = self._backgrounds.get(question.prefix) or await self._background(question)
            contributions = await self._contributions(question, background, asked, answers, rows, scored.number)
            fields = [question.inputs.names[place] for place in background.joining]
            found = leading_reasons(contributions, fields, self._terms)
            columns: list[pa.Array] = []
            for given, amounts in found:
                columns += [pa.array(given, pa.string()), pa.array(amounts, pa.float64(), from_pandas=True)]
            for name, column in zip(names, columns, strict=True):
                table = table.append_column(name, column)
        scored.table = table

    async def _background(self, question: OpenQuestion) -> _Background:
        stored = await packages.openable_version(self._pool, parse_version(question.version))
        reference = (await self._cache.lamp_of(stored.digest)).reference
        if reference is None or not reference.sample:
            raise Conflict(f"{question.version} has no reference, so its answers have no reasons; pack it with rows of training")
        made = await asyncio.to_thread(_make_background, question, reference.sample, self._terms)
        self._backgrounds[question.prefix] = made
        return made

    async def _contributions(
        self, question: OpenQuestion, background: _Background, asked: list[Column], answers: list[Column], rows: int, block: int
    ) -> NDArray[np.float64]:
        """Contributions of the joining fields to the answer of each row, of shape (rows, fields that join)."""
        figure = background.figure
        labels, whole = figure.labels(answers), figure.of(answers, figure.labels(answers))
        sums = np.zeros((rows, len(background.joining)))
        counts = np.zeros_like(sums)
        for pair in range(len(background.orders) // 2):
            places = draw_backgrounds(rows, background.rows, block, pair)
            stand_ins = await asyncio.to_thread(take_columns, background.columns, places)
            begin = list(asked)
            for at, column in zip(background.joining, stand_ins, strict=True):
                begin[at] = column
            base = await self._figure(question, figure, begin, labels, rows)
            for order in background.orders[2 * pair : 2 * pair + 2]:
                columns, before = list(begin), base
                for step, place in enumerate(order):
                    at = background.joining[place]
                    columns[at] = asked[at]
                    last = step == len(order) - 1
                    value = whole if last else await self._figure(question, figure, columns, labels, rows)
                    known = ~np.isnan(value - before)
                    sums[:, place] += np.where(known, value - before, 0.0)
                    counts[:, place] += known
                    before = value
        with np.errstate(invalid="ignore"):
            return sums / counts

    async def _figure(
        self, question: OpenQuestion, figure: AnswerFigure, columns: list[Column], labels: Array | None, rows: int
    ) -> NDArray[np.float64]:
        """The figure of each row of a mixture; NaN for one that the model refuses."""
        answered = await answer_rows(question, columns, rows)
        found = np.full(rows, np.nan)
        if len(answered.places):
            found[answered.places] = figure.of(answered.answers, None if labels is None else labels[answered.places])
        return found


def _make_background(question: OpenQuestion, sample: Sequence[dict[str, Any]], terms: ReasonTerms) -> _Background:
    inputs = question.inputs
    joining = [at for at, field in enumerate(inputs) if field.name in sample[0]]
    known = Schema(tuple(field for field in inputs if field.name in sample[0]))
    plan = ValidationPlan(known)
    rows: list[Row] = []
    for row in sample:  # an endpoint may take less than training had
        with contextlib.suppress(BadRequest):
            rows += plan.read_body(orjson.dumps({name: row[name] for name in known.names})).rows
    if not rows:
        raise Conflict(f"no row of the reference of {question.version} is one that the endpoint takes, so its answers have no reasons")
    return _Background(
        columns_from_rows(known, rows), len(rows), joining, answer_figure(question.predictor.answers), draw_orders(len(joining), terms)
    )
