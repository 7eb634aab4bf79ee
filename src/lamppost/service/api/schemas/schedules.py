"""API schemas of schedules."""

from __future__ import annotations

from datetime import datetime

from pydantic import Field as Described

from lamppost.core.bulk.order import BulkOrder, write_order
from lamppost.core.bulk.schedule import Missed
from lamppost.service.api.schemas.base import ApiModel
from lamppost.service.api.schemas.bulk import BulkOrderRequest
from lamppost.store.bulk.schedules import TimeState


class NextTimesRequest(ApiModel):
    """every : cron expression of five fields. zone : IANA name."""

    every: str = Described(min_length=1, max_length=200)
    zone: str = Described(default="UTC", min_length=1, max_length=100)


class NextTimesAnswer(ApiModel):
    """times : in UTC; fewer than five where the expression is never due again."""

    times: list[datetime]


class ScheduleRequest(NextTimesRequest):
    """run : the order of each run; ``{date}`` and ``{time}`` in its source and target stand for the time that is due.

    missed : whether one run catches up with times at which no node was there, or they are skipped.
    """

    run: BulkOrderRequest
    missed: Missed = "once"
    paused: bool = False


class ScheduledTimeAnswer(ApiModel):
    """A time that was due. run_state : of its run now. note : why nothing was started, why the run failed, or what it makes up for."""

    due_at: datetime
    state: TimeState
    run: str | None
    run_state: str | None
    note: str | None


class ScheduleAnswer(ApiModel):
    """A schedule. next_times : five, none while it is paused. latest : the last time that was not skipped."""

    name: str
    every: str
    zone: str
    missed: Missed
    paused: bool
    run: BulkOrderRequest
    made_by: str
    made_at: datetime
    next_times: list[datetime]
    latest: ScheduledTimeAnswer | None


class ScheduleRunAnswer(ApiModel):
    """run : the name of the run that was started."""

    run: str


def order_request(order: BulkOrder) -> BulkOrderRequest:
    """An order as a request has it."""
    return BulkOrderRequest.model_validate(write_order(order))
