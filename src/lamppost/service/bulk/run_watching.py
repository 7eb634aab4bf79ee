"""Counts the rows of bulk runs into sketches: of each run, to compare it with training and with the run before, and of the windows that
calls are counted in.
"""

from __future__ import annotations

from datetime import UTC, datetime

import numpy as np

from lamppost.core.drift.windows import write_window
from lamppost.core.monitoring.settings import TICK_S
from lamppost.core.schema.columns import take_columns
from lamppost.service.bulk.block_scoring import ScoredBlock
from lamppost.service.records.window_counting import WindowCounting
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
            if scorer is None or scorer.sketcher is None or scorer.layout is None or scorer.outlier_scorer is None:
                sketches.append(b"")
                continue
            counted = rows
            if scorer.heavy and rows > _MOST_HEAVY:
                places = np.linspace(0, rows - 1, _MOST_HEAVY).astype(np.int64)
                asked, answers, counted = take_columns(asked, places), take_columns(answers, places), _MOST_HEAVY
            columns = scorer.columns_of_features(question.inputs, asked, question.predictor.answers, answers)
            window = scorer.sketcher.sketch_window(columns, counted)
            data = write_window(scorer.layout, window, counted)
            sketches.append(data)
            if question.endpoint:
                odd = 0
                if scorer.limit is not None:
                    scores, _ = scorer.outlier_scorer.score_rows(columns, counted)
                    odd = int((scores > max(scorer.limit, 3.0)).sum())
                tick = datetime.fromtimestamp(datetime.now(UTC).timestamp() // TICK_S * TICK_S, UTC)
                deltas.append(WindowDelta(question.endpoint, question.version, tick, counted, odd, data))
        return sketches, deltas
