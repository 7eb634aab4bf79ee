"""Requests of a lane and their batches, and what is said of a row that fails inside a larger request."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass, field

from lamppost.core.engine.batch_queue import JobSlice
from lamppost.core.errors import DeadlinePassed, LampPostError, shift_fault_rows
from lamppost.core.payload.validation_plan import Row
from lamppost.core.schema.columns import Column
from lamppost.runtime.lane_options import AnswerReceiver, LaneAnswer, RequestOptions


@dataclass(slots=True, eq=False)
class LaneRequest:
    """A request in a lane's queue. since : when it came. columns : of one that came as columns. answers : of its slices, by their start."""

    rows: Sequence[Row]
    done: AnswerReceiver
    since: float
    terms: RequestOptions
    columns: Sequence[Column] | None = None
    request_id: str = ""
    answers: dict[int, LaneAnswer] = field(default_factory=dict)


@dataclass(slots=True)
class LaneBatch:
    """What goes to a worker together."""

    pieces: list[JobSlice[LaneRequest]]
    rows: int
    as_columns: bool


def is_over(request: LaneRequest) -> bool:
    """Whether nobody waits for the answer of a request any more; if its caller hung up, the request is refused here."""
    if request.done.done():
        return True
    if request.terms.is_abandoned is None or not request.terms.is_abandoned():
        return False
    request.done.set_exception(DeadlinePassed("the caller hung up before its rows were run; they were not"))
    return True


def names_row(error: LampPostError) -> bool:
    """Whether an error says in which row it lies."""
    return any("row" in fault for fault in error.extra.get("faults") or [])


def error_in_request(error: LampPostError, piece: JobSlice[LaneRequest]) -> LampPostError:
    """The error of one row of a larger request, with the row's place in that request."""
    if piece.job.rows == 1:
        return error
    if names_row(error):
        return shift_fault_rows(error, lambda row: row + piece.start)
    faults = [{"row": piece.start, "expected": "a row that the model can answer", "given": error.detail}]
    return type(error)(f"row {piece.start}: {error.detail}", **{**error.extra, "faults": faults})
