"""API schemas of recorded calls, and of calls that were answered elsewhere."""

from __future__ import annotations

from datetime import datetime
from typing import Any
from uuid import UUID

from pydantic import Field as Described
from pydantic import JsonValue

from lamppost.service.api.schemas.base import ApiModel, Instant, Text


class CallAnswer(ApiModel):
    """One recorded call. phases_us : microseconds by phase. odd : its oddness, where it was looked at (at 3, one row of a thousand is
    as odd by chance); odd_why where that is more than training's own rows. brought_by : who brought in a call that was answered elsewhere.
    trace : id of the trace that it belongs to.
    """

    at: datetime
    request_id: UUID
    endpoint: str
    version: str | None
    token: str | None
    status: int
    rows: int
    batch_rows: int | None
    total_us: int
    phases_us: dict[str, int]
    input: Any
    answer: Any
    odd: float | None = None
    odd_reason: str | None = None
    brought_by: str | None = None
    trace: str | None = None


class CallDetailAnswer(CallAnswer):
    """One call with what shadows answered to it, each under its own version."""

    shadows: list[CallAnswer]


class ImportedCall(ApiModel):
    """A call that was answered elsewhere, or is made up. input, answer : as a request and an answer of this service have them."""

    at: Instant
    version: Text
    input: JsonValue
    answer: JsonValue
    status: int = Described(default=200, ge=200, le=599)
    total_us: int = Described(default=0, ge=0, le=2_000_000_000)
    phases_us: dict[str, int] = Described(default_factory=dict)
    token: str | None = Described(default=None, max_length=200)


class ImportCallsRequest(ApiModel):
    """Calls to an endpoint. source : where they come from, shown with each. batch : an id under which they are stored once only."""

    source: Text
    batch: UUID
    calls: list[ImportedCall] = Described(min_length=1, max_length=5_000)


class ImportCallsAnswer(ApiModel):
    """Their request ids, in their order."""

    request_ids: list[UUID]
