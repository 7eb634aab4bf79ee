"""Refuses rows that are too unlike training, for endpoints whose setup says so."""

from __future__ import annotations

import asyncio
from typing import Any

from lamppost.core.drift.outlier_score import JOINT
from lamppost.core.errors import Fault, InvalidRows
from lamppost.core.schema.columns import rows_from_columns
from lamppost.core.schema.value_kinds import shortened_json
from lamppost.runtime.lane_options import LIVE_REQUEST, RequestOptions
from lamppost.service.prediction.predictors import PredictionInput, PredictionOutput, Predictor
from lamppost.service.records.window_counting import WindowCounting


class OutlierGuard:
    """Whatever answers, behind a look at each row. inner : what answers. limit : oddness from which a row is refused."""

    def __init__(self, inner: Predictor, window_counting: WindowCounting, version: str, limit: float) -> None:
        self.plan, self.columns, self.answers, self.redaction = inner.plan, inner.columns, inner.answers, inner.redaction
        self.row_schema = inner.row_schema
        self.inner = inner
        self._counting = window_counting
        self._version = version
        self._limit = limit

    async def predict(self, given: PredictionInput, options: RequestOptions = LIVE_REQUEST) -> PredictionOutput:
        """Answer; raise InvalidRows that names the odd rows and by what they are odd."""
        scorer = await self._counting.scorer_of_version(self._version)
        rows = given.rows if given.rows is not None else rows_from_columns(self.columns, given.columns or [])
        if scorer is not None and scorer.outlier_scorer is not None and rows:
            fields = frozenset(self.plan.schema.names)
            columns = scorer.feature_columns(rows, [{}], fields)
            if len(rows) > 200:
                scores, names = await asyncio.to_thread(scorer.outlier_scorer.score_rows, columns, len(rows))
            else:
                scores, names = scorer.outlier_scorer.score_rows(columns, len(rows))
            faults = [
                self._fault(at, name, rows[at]) for at, (score, name) in enumerate(zip(scores, names, strict=True)) if score >= self._limit
            ]
            if faults:
                fault_dicts = [fault.to_dict() for fault in faults[:50]]
                raise InvalidRows(faults[0].sentence(), faults=fault_dicts, fault_count=len(faults))
        return await self.inner.predict(given, options)

    def _fault(self, at: int, name: str, row: dict[str, Any]) -> Fault:
        hint = f"this endpoint refuses rows with an oddness of {self._limit:g} and more"
        if name == JOINT or name not in row:
            return Fault(at, name, "a row unlike training", "numbers that go together as in training", hint)
        return Fault(at, name, shortened_json(row[name]), "a value like those of training", hint)
