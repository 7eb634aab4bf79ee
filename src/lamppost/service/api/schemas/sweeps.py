"""API schemas of sweeps."""

from __future__ import annotations

from datetime import datetime
from typing import Any

from pydantic import Field as Described

from lamppost.core.endpoint.setup import LaneRules
from lamppost.core.sweep.sweep_plan import MOST_CLIENTS, Form, Goal, SweepPlan, parse_limit, read_plan
from lamppost.service.api.schemas.base import ApiModel
from lamppost.store.measuring.sweeps import SweepState


class SweepPlanRequest(ApiModel):
    """What a sweep measures. clients : that ask at once. limits : such as ``p99=50ms``. goal : what the pick has the most or the least of.

    max_rows, linger_ms, copies, threads, forms : values that are combined; the usual ones where they are left out. seconds : of one
    measurement. whole_s : after so many seconds nothing more is measured.
    """

    versions: list[str] = Described(min_length=1, max_length=4)
    clients: int = Described(default=64, ge=1, le=MOST_CLIENTS)
    request_rows: int = Described(default=1, ge=1, le=1_000)
    limits: list[str] = Described(default=[], max_length=8)
    goal: Goal = "throughput"
    max_rows: list[int] = Described(default=[], max_length=16)
    linger_ms: list[float] = Described(default=[], max_length=16)
    copies: list[int] = Described(default=[], max_length=16)
    threads: list[int] = Described(default=[], max_length=16)
    forms: list[Form] = Described(default=[], max_length=2)
    seconds: float = Described(default=2.0, ge=0.2, le=60)
    whole_s: float = Described(default=900.0, gt=0, le=86_400)
    rows: str = Described(default="the reference", max_length=300, description="where the rows are from, in words")

    def to_plan(self) -> SweepPlan:
        """The plan; raise BadRequest for one that contradicts itself."""
        document = self.model_dump()
        document["limits"] = [parse_limit(text) for text in self.limits]
        return read_plan(document)


class SweepStartRequest(ApiModel):
    """name : of the sweep; left out, the next free one. rows : to ask with; left out, recorded calls or the reference."""

    plan: SweepPlanRequest
    name: str | None = Described(default=None, max_length=63)
    rows: list[dict[str, Any]] | None = Described(default=None, min_length=1, max_length=2_000)


class SweepResumeRequest(ApiModel):
    """more_s : for how much longer it measures, at most. limits : instead of those that it had."""

    more_s: float = Described(default=900.0, gt=0, le=86_400)
    limits: list[str] | None = Described(default=None, max_length=8)


class SweepAnswer(ApiModel):
    """A sweep. combinations : that could be measured. measured : that were, and how often in all (repeats).

    rounds : in which every setting of interest is measured once. waits_for : the sweep that is measured before this one.
    """

    name: str
    plan: SweepPlanRequest
    node: str
    state: SweepState
    reason: str | None
    combinations: int | None
    cores: int | None
    busy_s: float
    measured: int
    repeats: int
    rounds: int
    waits_for: str | None
    made_by: str
    made_at: datetime
    started_at: datetime | None
    ended_at: datetime | None


class SweepFigureAnswer(ApiModel):
    """A figure over the repeats. low, high : between which the median lies (95 % from six repeats on, all that was measured before)."""

    median: float
    low: float
    high: float


class SettingAnswer(ApiModel):
    """A setting that was measured. number : names it among those of the sweep. figures : by name; none where it failed.

    phases_p50_ms, phases_p99_ms : by phase. on_frontier : whether no other one beats it at throughput and p99 both. within : the limits.
    others : processors that were busy with something else, the median.
    """

    number: int
    version: str
    form: Form
    max_rows: int
    linger_ms: float
    copies: int
    threads: int
    sentence: str
    repeats: int
    errors: int
    figures: dict[str, SweepFigureAnswer]
    phases_p50_ms: dict[str, float]
    phases_p99_ms: dict[str, float]
    batch_rows: float | None
    others: float | None
    on_frontier: bool
    within: bool
    failed: str | None


class SweepPickAnswer(ApiModel):
    """The pick. sentences : what is to be said of it. pick, second, unlimited, nearest, equals : numbers of settings.

    rules : the lane rules of the pick. limits, goal : that it was picked by.
    """

    sentences: list[str]
    pick: int | None
    second: int | None
    unlimited: int | None
    nearest: int | None
    equals: list[int]
    rules: LaneRules | None
    limits: list[str]
    goal: Goal


class SweepDetailAnswer(SweepAnswer):
    """A sweep with all that it measured, and its pick."""

    settings: list[SettingAnswer]
    picked: SweepPickAnswer
