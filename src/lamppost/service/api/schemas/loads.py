"""API schemas of loads."""

from __future__ import annotations

from datetime import datetime
from typing import Any, Literal

from pydantic import Field as Described

from lamppost.core.load.load_plan import MOST_SECONDS, MOST_STEPS, LoadPlan, Order, read_plan
from lamppost.service.api.schemas.base import ApiModel


class LoadPlanRequest(ApiModel):
    """What a load asks. clients : of each step. rate : requests a second that are due, left out for a closed loop."""

    endpoints: list[str] = Described(min_length=1, max_length=10_000)
    clients: list[int] = Described(default=[1, 8, 64], min_length=1, max_length=MOST_STEPS)
    seconds: float = Described(default=20.0, ge=1, le=MOST_SECONDS)
    rate: float | None = Described(default=None, gt=0)
    order: Order = "sequential"
    rows: str = Described(default="records", max_length=300, description="where the rows are from, in words")

    def to_plan(self) -> LoadPlan:
        """The plan; raise BadRequest for one that contradicts itself."""
        return read_plan(self.model_dump())


class LoadStartRequest(ApiModel):
    """name : of the load; left out, the next free one."""

    plan: LoadPlanRequest
    name: str | None = Described(default=None, max_length=63)


class LoadResultRequest(ApiModel):
    """What came of a load: steps as `lamppost.core.load.load_result.LoadStep` has them."""

    steps: list[dict[str, Any]] = Described(max_length=MOST_STEPS)


class StepFiguresAnswer(ApiModel):
    """A step in figures; None where nothing was answered."""

    clients: int
    per_s: float
    p50_ms: float | None
    p90_ms: float | None
    p95_ms: float | None
    p99_ms: float | None
    most_ms: float | None
    calls: int
    errors: int
    errors_by_kind: dict[str, int]
    versions: dict[str, dict[str, int]]
    phases_p50_ms: dict[str, float]
    phases_p99_ms: dict[str, float]
    endpoints_p99_ms: dict[str, float]
    late: int


class LoadAnswer(ApiModel):
    """A load. serves : what each endpoint served at its start. steps : empty while it goes on, or where it was broken off."""

    name: str
    plan: LoadPlanRequest
    serves: dict[str, str]
    made_by: str
    made_at: datetime
    ends_at: datetime
    ended_at: datetime | None
    steps: list[StepFiguresAnswer]


class StartedLoadAnswer(LoadAnswer):
    """token : with which its calls come, until it ends. They are recorded, and count as no traffic."""

    token: str


class LoadRowsAnswer(ApiModel):
    """Rows to put load on an endpoint with. of : where they are from."""

    endpoint: str
    of: Literal["records", "reference"]
    bodies: list[dict[str, Any]]


class FigureDifferenceAnswer(ApiModel):
    """How a figure differs between two loads; low and high are a 95 % interval of the difference, None where there are too few seconds."""

    clients: int
    figure: str
    before: float
    after: float
    low: float | None
    high: float | None
    differs: bool
