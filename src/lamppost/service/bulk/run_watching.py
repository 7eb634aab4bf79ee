"""Counts the rows of bulk runs into sketches: of each run, to compare it with training and with the run before, and of the windows that
calls are counted in.
"""

from __future__ import annotations

import asyncio
from datetime import UTC, datetime

import numpy as np

from lamppost.core.drift.windows import write_window
from lamppost.core.monitoring.settings import TICK_S
from lamppost.core.schema.columns import Column, take_columns
from lamppost.service.bulk.block_scoring import OpenQuestion, ScoredBlock
from lamppost.service.records.window_counting import LEAST_ODD, ReferenceScorer, WindowCounting
from lamppost.store.windows import WindowDelta

_MOST_HEAVY = 100
"""Rows of a block with pictures or tensors that are looked at; extracting their features takes milliseconds a row."""


class RunWatching:
    """Counts blocks against the references of the versions that answer."""

    def __init__(self, counting: WindowCounting) -> None:
        self._counting = counting

    async def count_block(self, scored: ScoredBlock) -> tuple[list[bytes], list[WindowDelta]]:
        """A sketch for each question, empty where there is no reference, and what is to be added to windows of endpoints."""
        sketches: list[bytes] = []
        deltas: list[WindowDelta] = []
        for question, asked, answers, rows in scored.rows:
            scorer = await self._counting.scorer_of_version(question.version) if rows else None
            if scorer is None or not scorer.has_reference:
                sketches.append(b"")
                continue
            counted = await asyncio.to_thread(_count, scorer, question, asked, answers, rows)
            sketches.append(counted.data)
            if question.endpoint:
                deltas.append(counted)
        return sketches, deltas


def _count(scorer: ReferenceScorer, question: OpenQuestion, asked: list[Column], answers: list[Column], rows: int) -> WindowDelta:
    """The counts of a block's rows, as they are added to a window of the endpoint."""
    assert scorer.sketcher is not None
    assert scorer.layout is not None
    assert scorer.outlier_scorer is not None
    if scorer.heavy and rows > _MOST_HEAVY:
        places = np.linspace(0, rows - 1, _MOST_HEAVY).astype(np.int64)
        asked, answers, rows = take_columns(asked, places), take_columns(answers, places), _MOST_HEAVY
    columns = scorer.columns_of_features(question.inputs, asked, question.predictor.answers, answers)
    data = write_window(scorer.layout, scorer.sketcher.sketch_window(columns, rows), rows)
    odd = 0
    if question.endpoint and scorer.limit is not None:
        scores, _ = scorer.outlier_scorer.score_rows(columns, rows)
        odd = int((scores > max(scorer.limit, LEAST_ODD)).sum())
    tick = datetime.fromtimestamp(datetime.now(UTC).timestamp() // TICK_S * TICK_S, UTC)
    return WindowDelta(question.endpoint, question.version, tick, rows, odd, data)
