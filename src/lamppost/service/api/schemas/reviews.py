"""API schemas of reviews, and of the trail."""

from __future__ import annotations

from datetime import datetime
from typing import Any, Literal

from pydantic import Field as Described

from lamppost.service.api.schemas.base import ApiModel


class ReviewRequest(ApiModel):
    """A request for a review of a version for an endpoint."""

    endpoint: str
    version: str
    note: str = Described(min_length=1, max_length=4_000)


class ReviewVerdictRequest(ApiModel):
    """A reviewer's verdict to store."""

    approves: bool
    reason: str = Described(min_length=1, max_length=4_000)


class ReviewVerdictAnswer(ApiModel):
    """A reviewer's verdict."""

    token: str
    approves: bool
    reason: str
    at: datetime


class ReviewAnswer(ApiModel):
    """A review. needed : approvals that the endpoint demands."""

    number: int
    endpoint: str
    version: str
    note: str
    asked_by: str
    asked_at: datetime
    state: Literal["open", "approved", "refused", "withdrawn"]
    needed: int
    verdicts: list[ReviewVerdictAnswer]


class TrailEntryAnswer(ApiModel):
    """One entry of the trail: who did what to which endpoint, model, version or token."""

    number: int
    at: datetime
    token: str
    address: str | None
    action: str
    subject: str
    before: Any
    after: Any
    note: str | None
