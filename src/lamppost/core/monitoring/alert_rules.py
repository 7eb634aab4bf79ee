"""Turns readings of alert rules into alerts that begin, go on and end. Knows no clock and no database.

An alert begins with the first reading that is wrong; it ends when readings have been back, by a tenth of the limit, for as long as the rule
looks at. Between the two it stays as it is, so that a figure near its limit does not send notices again and again.
"""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass, replace
from datetime import datetime, timedelta
from typing import Literal

from lamppost.core.drift.watched_features import ANSWERS
from lamppost.core.drift.window_verdict import WindowVerdict
from lamppost.core.monitoring.quality import Estimate, estimate_share
from lamppost.core.monitoring.settings import AlertRule, Objectives

Level = Literal["wrong", "back", "between"]
AlertState = Literal["firing", "acknowledged", "resolved"]
LEAST_CALLS = 20
"""Below so many calls a share of them raises nothing."""


@dataclass(frozen=True, slots=True)
class RuleReading:
    """The reading of a rule at one time. level : wrong, back, or between. cause : groups alerts that probably have one cause. summary :
    what is wrong, with the figure. certainty : in words. probable_cause : the reason, if one was found.
    """

    at: datetime
    level: Level
    summary: str
    certainty: str
    cause: str
    probable_cause: str | None = None


@dataclass(frozen=True, slots=True)
class Alert:
    """An open or resolved alert. back_since : since when its readings have been back. reading : the last one that was wrong."""

    endpoint: str
    rule: str
    state: AlertState
    since: datetime
    seen_at: datetime
    reading: RuleReading
    back_since: datetime | None = None
    resolved_at: datetime | None = None


def next_alert(endpoint: str, rule: AlertRule, alert: Alert | None, reading: RuleReading) -> Alert | None:
    """The alert after a reading; ``before`` itself where nothing changes, None where there is no alert."""
    is_open = alert is not None and alert.state != "resolved"
    if reading.level == "wrong":
        if not is_open:
            return Alert(endpoint, rule.on, "firing", reading.at, reading.at, reading)
        assert alert is not None
        return replace(alert, seen_at=reading.at, reading=reading, back_since=None)
    if not is_open:
        return alert
    assert alert is not None
    if reading.level == "between":
        return replace(alert, seen_at=reading.at, back_since=None)
    begun = alert.back_since or reading.at
    # a window or a state that is back is so by itself; figures have to stay there
    lasting = timedelta(0) if rule.on in ("drift", "down", "odd") else timedelta(minutes=rule.minutes)
    if reading.at - begun >= lasting:
        return replace(alert, state="resolved", seen_at=reading.at, back_since=begun, resolved_at=reading.at)
    return replace(alert, seen_at=reading.at, back_since=begun)


def reading_level(value: float, limit: float, below: bool = False) -> Level:
    """Wrong beyond the limit, back a tenth within it."""
    if below:
        return "wrong" if value < limit else "back" if value >= min(limit * 1.1, (100 + limit) / 2) else "between"
    return "wrong" if value > limit else "back" if value <= limit * 0.9 else "between"


def _certainty(estimate: Estimate) -> str:
    return f"{100 * estimate.low:.1f} to {100 * estimate.high:.1f} % with 95 % certainty"


def read_errors(at: datetime, endpoint: str, rule: AlertRule, calls: int, failed: int) -> RuleReading:
    """Failed calls: wrong once even the low end of the interval is above the limit."""
    estimate = estimate_share(failed, calls)
    if estimate is None or calls < LEAST_CALLS:
        return RuleReading(
            at, "back" if not failed else "between", f"{failed} of {calls} calls failed", "too few calls to be sure", endpoint
        )
    now = reading_level(100 * estimate.low, rule.limit)
    now = "between" if now == "back" and 100 * estimate.value > rule.limit * 0.9 else now
    summary = f"{failed:,} of {calls:,} calls failed in {rule.minutes:g} minutes ({100 * estimate.value:.1f} %)"
    return RuleReading(at, now, summary, _certainty(estimate), endpoint)


def read_p99(at: datetime, endpoint: str, rule: AlertRule, calls: int, p99_ms: float | None) -> RuleReading:
    """The 99th percentile of what was answered."""
    if p99_ms is None or calls < LEAST_CALLS:
        return RuleReading(at, "back", "too few calls for a p99", f"{calls} calls", endpoint)
    summary = f"p99 is {p99_ms:,.0f} ms over {rule.minutes:g} minutes; the limit is {rule.limit:g} ms"
    return RuleReading(at, reading_level(p99_ms, rule.limit), summary, f"from {calls:,} calls, to within 2 %", endpoint)


def read_silence(at: datetime, endpoint: str, rule: AlertRule, last: datetime | None) -> RuleReading:
    """No calls where there used to be some; an endpoint that nobody ever called is not silent."""
    if last is None:
        return RuleReading(at, "back", "it was never called", "certain", endpoint)
    quiet = (at - last).total_seconds() / 60
    summary = f"no calls for {quiet:,.0f} minutes, the last at {last:%Y-%m-%d %H:%M} UTC"
    return RuleReading(at, "wrong" if quiet > rule.minutes else "back", summary, "certain", endpoint)


def read_window_verdict(
    at: datetime, rule: AlertRule, verdict: WindowVerdict, probable_cause: str | None, odd: int, rows: int
) -> RuleReading:
    """A judged window: for a rule on drift its verdict, for one on odd rows their part."""
    if rule.on == "odd":
        estimate = estimate_share(odd, rows)
        if estimate is None or rows < LEAST_CALLS:
            return RuleReading(at, "between", "too few rows", f"{rows} rows", "odd rows")
        summary = f"{odd:,} of {rows:,} rows are odd ({100 * estimate.value:.1f} %)"
        return RuleReading(at, reading_level(100 * estimate.low, rule.limit), summary, _certainty(estimate), "odd rows", probable_cause)
    changed = [field for field in verdict.fields if field.state == "drifted"]
    inputs = [field for field in changed if not field.name.startswith(ANSWERS)]
    leading = next(iter(inputs or changed), None)
    level: Level = "wrong" if verdict.state == "drifted" else "back" if verdict.state == "steady" else "between"
    p = min((finding.p for finding in leading.findings), default=None) if leading is not None else None
    certainty = "see its page" if p is None else f"p {'< 1e-12' if p < 1e-12 else f'= {p:.2g}'}, all looks taken together"
    return RuleReading(at, level, verdict.summary, certainty, "drift" if leading is None else f"drift of {leading.name}", probable_cause)


def read_quality(at: datetime, endpoint: str, rule: AlertRule, right: int, known: int) -> RuleReading:
    """Answers that were right, by outcomes: wrong once even the high end of the interval is below the limit."""
    estimate = estimate_share(right, known)
    if estimate is None or known < LEAST_CALLS:
        return RuleReading(at, "between", f"{known} outcomes are known", "too few outcomes to be sure", endpoint)
    summary = f"{right:,} of {known:,} answers were right ({100 * estimate.value:.1f} %)"
    return RuleReading(at, reading_level(100 * estimate.high, rule.limit, below=True), summary, _certainty(estimate), endpoint)


@dataclass(frozen=True, slots=True)
class ErrorBudget:
    """An error budget. spent : part of it that is used up. burn : how many times too fast it goes at the moment; 1 lasts exactly.

    calls, bad : over the whole span.
    """

    name: str
    objective: float
    calls: int
    bad: int
    spent: float
    burn: float


def error_budgets(objectives: Objectives, whole: tuple[int, int, int], recent: tuple[int, int, int]) -> list[ErrorBudget]:
    """The budgets of an endpoint. whole, recent : calls, failed ones, and slow ones, over the objective's days and over the last hour."""
    budgets = []
    for name, objective, at in (("available", objectives.available, 1), ("fast", objectives.fast, 2)):
        if name == "fast" and objectives.fast_ms is None:
            continue
        allowed = (100 - objective) / 100
        calls, bad = whole[0], whole[at]
        burn = recent[at] / recent[0] / allowed if recent[0] else 0.0
        budgets.append(ErrorBudget(name, objective, calls, bad, bad / (calls * allowed) if calls else 0.0, burn))
    return budgets


def read_budget(at: datetime, endpoint: str, rule: AlertRule, budgets: Sequence[ErrorBudget], calls: int) -> RuleReading:
    """The reading of the budget that burns fastest."""
    worst = max(budgets, key=lambda budget: budget.burn, default=None)
    if worst is None or calls < LEAST_CALLS:
        return RuleReading(at, "back", "no calls that count against an objective", f"{calls} calls", endpoint)
    summary = f"the error budget of {worst.name} burns {worst.burn:.1f} times too fast; {100 * worst.spent:.0f} % of it is spent"
    return RuleReading(at, reading_level(worst.burn, rule.limit), summary, f"from {calls:,} calls of the last hour", endpoint)
