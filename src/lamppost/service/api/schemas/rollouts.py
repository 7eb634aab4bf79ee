"""API schemas of rollouts and their guards."""

from __future__ import annotations

from datetime import datetime
from typing import Literal

from pydantic import Field as Described

from lamppost.core.endpoint.rollout import RolloutPlan
from lamppost.core.endpoint.rollout_steering import RolloutState
from lamppost.core.endpoint.shares import StickyKey
from lamppost.service.api.schemas.base import ApiModel, OverridableRequest


class RolloutRequest(OverridableRequest):
    """A rollout to a version. plan : null for the endpoint's own, or the usual one. sticky : what keeps a caller with its version."""

    version: str = Described(examples=["outage-risk@2"])
    plan: RolloutPlan | None = None
    sticky: StickyKey | None = None


class GuardReadingAnswer(ApiModel):
    """The reading of a guard. evidence : from 0 to 1, where the rollout is taken back."""

    guard: Literal["errors", "p99", "p99_ms", "answers", "disagreement", "wrong"]
    value: float | None
    limit: float
    evidence: float
    summary: str


class RolloutAnswer(ApiModel):
    """A rollout and its progress. step : index of the present step. calls : calls that the old and the new version answered at each
    step.
    """

    number: int
    endpoint: str
    old: str
    new: str
    plan: RolloutPlan
    sticky: StickyKey | None
    step: int
    state: RolloutState
    reason: str
    readings: list[GuardReadingAnswer]
    calls: list[list[int]]
    begun_by: str
    begun_at: datetime
    step_since: datetime
    ended_at: datetime | None
