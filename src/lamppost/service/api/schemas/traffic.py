"""API schemas of load over time."""

from __future__ import annotations

from datetime import datetime
from typing import Literal

from lamppost.service.api.schemas.base import ApiModel


class Percentiles(ApiModel):
    """Milliseconds, or rows, of answered calls; null when there were none."""

    p50: float | None
    p90: float | None
    p95: float | None
    p99: float | None


class TrafficStep(ApiModel):
    """A step of time. rate : calls a second."""

    at: datetime
    calls: int
    refused: int
    failed: int
    rows: int
    rate: float
    p50: float | None
    p90: float | None
    p95: float | None
    p99: float | None
    versions: dict[str, int]


class PhasePercentiles(ApiModel):
    """Percentiles of one phase."""

    phase: str
    calls: int
    ms: Percentiles


class ErrorBudgetAnswer(ApiModel):
    """An error budget: the objective, the bad calls, the spent part, and how many times too fast it is used."""

    name: Literal["available", "fast"]
    objective: float
    calls: int
    bad: int
    spent: float
    burn: float


class LanesStep(ApiModel):
    """The lanes behind an endpoint at one time: workers, waiting rows, megabytes."""

    at: datetime
    copies: int
    waiting: int
    memory_mb: float


class ChangeMark(ApiModel):
    """A change of what the endpoint serves."""

    at: datetime
    summary: str
    by: str


class TrafficAnswer(ApiModel):
    """The load of an endpoint over a span."""

    endpoint: str
    since: datetime
    until: datetime
    step_s: int
    summary: str
    moments: list[TrafficStep]
    phases: list[PhasePercentiles]
    batch_rows: Percentiles
    statuses: dict[str, int]
    lanes: list[LanesStep]
    changes: list[ChangeMark]
    budgets: list[ErrorBudgetAnswer]
