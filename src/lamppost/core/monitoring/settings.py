"""Monitoring settings of an endpoint: windows, sampling, retention, objectives, and the rules that raise alerts."""

from __future__ import annotations

from dataclasses import dataclass
from typing import ClassVar, Literal

from lamppost.core.errors import BadRequest

_CLOSED = {"extra": "forbid", "allow_inf_nan": False}
On = Literal["drift", "p99", "errors", "quality", "odd", "silence", "budget", "down"]
TICK_S = 600
"""Windows are made of ticks of ten minutes."""

_SAYS: dict[str, str] = {
    "drift": "inputs or answers drifted",
    "p99": "p99 above {above:g} ms",
    "errors": "more than {above:g} % of calls failed",
    "quality": "less than {above:g} % of answers right",
    "odd": "more than {above:g} % of rows odd",
    "silence": "no calls for {minutes:g} minutes",
    "budget": "the error budget burns more than {above:g} times too fast",
    "down": "it cannot answer",
}
_ABOVE: dict[str, float] = {"p99": 1_000, "errors": 5, "quality": 80, "odd": 10, "budget": 6}


@dataclass(frozen=True, slots=True)
class AlertRule:
    """An alert rule. above : milliseconds, percent, or times, as the rule goes (below, of quality). minutes : what is looked at.

    An alert resolves once the figure has been back, by a tenth, for as long as is looked at.
    """

    on: On
    above: float | None = None
    minutes: float = 5.0

    __pydantic_config__: ClassVar = _CLOSED

    def __post_init__(self) -> None:
        if not 1 <= self.minutes <= 43_200:
            raise BadRequest(f"the rule on {self.on} looks at {self.minutes:g} minutes; that goes from 1 to 43,200 (30 days)")
        if self.above is not None and (self.on not in _ABOVE or not 0 <= self.above <= 1e6):
            raise BadRequest(f"the rule on {self.on} takes no limit of {self.above:g}" + ("" if self.on in _ABOVE else "; leave above out"))

    @property
    def limit(self) -> float:
        """The limit, given or usual."""
        return self.above if self.above is not None else _ABOVE.get(self.on, 0.0)

    def summary(self) -> str:
        """In words."""
        return _SAYS[self.on].format(above=self.limit, minutes=self.minutes)


USUAL = (AlertRule("drift"), AlertRule("errors"), AlertRule("down"))
"""The rules of an endpoint that says nothing of its own."""


@dataclass(frozen=True, slots=True)
class Objectives:
    """Objectives of a service level. available : percent of calls that are answered without a fault of the service.

    fast_ms, fast : that percent of answers within so many milliseconds. days : over which the error budget is counted.
    """

    available: float = 99.9
    fast_ms: float | None = None
    fast: float = 99.0
    days: int = 30

    __pydantic_config__: ClassVar = _CLOSED

    def __post_init__(self) -> None:
        for name in ("available", "fast"):
            if not 50 <= (value := getattr(self, name)) < 100:
                raise BadRequest(f"the objective {name} is {value:g} %; it goes from 50 to below 100, since 100 leaves no error budget")
        if not 1 <= self.days <= 90 or (self.fast_ms is not None and not 0.1 <= self.fast_ms <= 600_000):
            raise BadRequest("an objective is counted over 1 to 90 days; fast_ms goes from 0.1 to 600,000")


@dataclass(frozen=True, slots=True)
class MonitoringSettings:
    """How an endpoint is monitored.

    window_minutes : length of the windows that are compared with the reference, a multiple of ten. sample : percent of answered calls whose
    inputs and answers are kept; others are counted only. keep_days : how long calls are kept. statistics_days : how long histograms and
    windows are. refuse_odd : the outlier score from which rows are refused; None for never. truth : the answer that outcomes tell the truth
    of, None for the main one. rules : what raises an alert. None for the usual rules.
    """

    window_minutes: int = 60
    sample: float = 100.0
    keep_days: int = 30
    statistics_days: int = 400
    refuse_odd: float | None = None
    truth: str | None = None
    objectives: Objectives | None = None
    rules: tuple[AlertRule, ...] | None = None

    __pydantic_config__: ClassVar = _CLOSED

    def __post_init__(self) -> None:
        if self.window_minutes * 60 % TICK_S or not 10 <= self.window_minutes <= 10_080:
            raise BadRequest(f"monitoring.window_minutes is {self.window_minutes}; it is a multiple of 10 from 10 to 10,080 (a week)")
        if not 0 <= self.sample <= 100:
            raise BadRequest(f"monitoring.sample is {self.sample:g} %; it goes from 0 to 100")
        if not 1 <= self.keep_days <= 3_650 or not 1 <= self.statistics_days <= 3_650:
            raise BadRequest("monitoring.keep_days and monitoring.statistics_days go from 1 to 3,650")
        if self.refuse_odd is not None and not 1 <= self.refuse_odd <= 12:
            raise BadRequest(f"monitoring.refuse_odd is {self.refuse_odd:g}; it goes from 1 (one row in ten of training) to 12")
        rules = [rule.on for rule in self.rules or ()]
        if twice := sorted({on for on in rules if rules.count(on) > 1}):
            raise BadRequest(f"there are two rules on {twice[0]}; keep one")

    @property
    def alerts(self) -> tuple[AlertRule, ...]:
        """The rules that hold."""
        return USUAL if self.rules is None else self.rules
