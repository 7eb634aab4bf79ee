"""Asks a lane about many rows at bulk priority; nothing is recorded."""

from __future__ import annotations

from collections.abc import Sequence

from lamppost.core.payload.validation_plan import Row
from lamppost.runtime.lane import Lane
from lamppost.runtime.lane_options import RequestOptions

_BATCH = 64


async def answer_in_bulk(lane: Lane, rows: Sequence[Row]) -> list[Row]:
    """Answers to rows as its plan reads them, in batches; nothing is recorded."""
    answers: list[Row] = []
    for at in range(0, len(rows), _BATCH):
        answers += (await lane.predict(rows[at : at + _BATCH], 0, RequestOptions(bulk=True))).rows
    return answers
