"""Guards of rollouts: what is counted for them, and how each is read.

The probability that a rollout of a version that is no worse is ever taken back is at most `RolloutGuards.risk`, however often the guards
are read: each guard is a test of `lamppost.core.endpoint.sequential_tests`, and each has its part of the risk. Calls are given to the
versions by the split and by nothing else. Where a key keeps callers with a version, the calls of one caller are not independent: each
caller then weighs one in the guard on answers, and the other guards go by the part of calls that the new version really had.
"""

from __future__ import annotations

import math
from collections.abc import Mapping, Sequence
from dataclasses import asdict, dataclass
from dataclasses import field as default
from functools import cache
from typing import Any, ClassVar

from pydantic import TypeAdapter

from lamppost.core.endpoint import sequential_tests
from lamppost.core.endpoint.caller_counts import StickyCallers
from lamppost.core.errors import BadRequest
from lamppost.core.monitoring.latency_histogram import bucket_of, quantiles

CLOSED: Any = {"extra": "forbid", "allow_inf_nan": False}
"""How Pydantic reads the plans of rollouts."""
_HOLD = math.log(4.0)
"""Evidence from which a rollout does not go on until it has gone down again, or is enough to go back."""

P99_SLOW = 0.01
"""The part of calls that may be slower than a p99."""

_AS_SLOW = 1.5
"""How many times as often as the old version the new one may be slow; at a hundredth the share its batches are other ones."""


@dataclass(frozen=True, slots=True)
class RolloutGuards:
    """What takes a rollout back; None leaves a guard out.

    errors : how many times as often as the old version the new one may fail. p99 : how many times the old version's p99 the new one's
    may be; p99_ms : the same in milliseconds. answers : how far apart the distributions of answers may lie, from 0 to 1.
    disagreement : the part of calls, from 0 to 1, in which the two versions may give other labels, or numbers further apart than
    ``tolerance`` times the old one's spread, to the same rows. wrong : how many times as often, by outcomes told later, the new
    version may be wrong.
    risk : the chance, at most, that a version that keeps to all of this is taken back.
    """

    errors: float | None = 1.5
    p99: float | None = 2.0
    p99_ms: float | None = None
    answers: float | None = 0.1
    disagreement: float | None = None
    tolerance: float = 0.1
    wrong: float | None = 1.25
    risk: float = 0.01

    __pydantic_config__: ClassVar = CLOSED

    def __post_init__(self) -> None:
        for name, low, high in (
            ("errors", 1, 1_000),
            ("p99", 1, 1_000),
            ("p99_ms", 0.01, 600_000),
            ("answers", 0.001, 1),
            ("disagreement", 1e-4, 0.9),
            ("tolerance", 0, 100),
            ("wrong", 1, 1_000),
            ("risk", 1e-9, 0.5),
        ):
            value = getattr(self, name)
            if value is not None and not low <= value <= high:
                raise BadRequest(f"the guard {name} is {value:g}; it goes from {low:g} to {high:,g}")

    @property
    def used(self) -> tuple[str, ...]:
        """The names of the guards that are set."""
        return tuple(name for name in ("errors", "p99", "p99_ms", "answers", "disagreement", "wrong") if getattr(self, name) is not None)

    @property
    def enough(self) -> float:
        """Logarithm of the e-value from which one guard takes the rollout back."""
        return math.log(max(1, len(self.used)) / self.risk)


@dataclass(slots=True)
class StepCounts:
    """The counts of one step. Index 0 is the old version, 1 the new one.

    calls, failed (answered with a status of 500 or more), latency (calls by bucket of
    `lamppost.core.monitoring.latency_histogram`, as text), answers by
    label or cell.
    compared, apart : calls that both versions answered, and in how many of them they differed. judged, wrong : calls with known outcomes.
    callers : where a key keeps callers with a version.
    """

    share: float
    calls: list[int] = default(default_factory=lambda: [0, 0])
    failed: list[int] = default(default_factory=lambda: [0, 0])
    latency: list[dict[str, int]] = default(default_factory=lambda: [{}, {}])
    answers: list[dict[str, int]] = default(default_factory=lambda: [{}, {}])
    compared: int = 0
    apart: int = 0
    judged: list[int] = default(default_factory=lambda: [0, 0])
    wrong: list[int] = default(default_factory=lambda: [0, 0])
    callers: StickyCallers | None = None

    def add(self, other: StepCounts) -> None:
        """Add the counts of another node, or of a later time, at the same step."""
        for mine, theirs in (
            (self.calls, other.calls),
            (self.failed, other.failed),
            (self.judged, other.judged),
            (self.wrong, other.wrong),
        ):
            mine[0] += theirs[0]
            mine[1] += theirs[1]
        for labels, more in zip((*self.answers, *self.latency), (*other.answers, *other.latency), strict=True):
            for label, count in more.items():
                labels[label] = labels.get(label, 0) + count
        self.compared += other.compared
        self.apart += other.apart
        if other.callers is not None:
            self.callers = self.callers or StickyCallers()
            self.callers.add(other.callers)

    def above(self, arm: int, ms: float) -> int:
        """How many calls took longer than so many milliseconds, as exactly as the buckets are."""
        limit = bucket_of(ms * 1e3)
        return sum(count for bucket, count in self.latency[arm].items() if int(bucket) > limit)

    def share_of_new(self, of: str = "calls") -> float:
        """The part of calls, or of known outcomes, that was the new version's: what the split gives, and with keys what was seen."""
        seen: list[int] = getattr(self, of)
        return self.share / 100 if self.callers is None or not all(seen) else seen[1] / sum(seen)

    @property
    def empty(self) -> bool:
        """Whether nothing was counted."""
        return not any(self.calls) and not self.compared and not any(self.judged)


@dataclass(frozen=True, slots=True)
class GuardReading:
    """The reading of one guard. value, limit : in the guard's unit; value is None while there is too little data. evidence : from 0 to 1,
    where the rollout goes back.
    """

    guard: str
    value: float | None
    limit: float
    evidence: float
    summary: str

    @property
    def crossed(self) -> bool:
        """Whether it takes the rollout back."""
        return self.evidence >= 1


def read_guards(guards: RolloutGuards, steps: Sequence[StepCounts], p99_ms: float | None = None) -> list[GuardReading]:
    """The readings of all guards.

    p99_ms : of the old version before the rollout; where it had too few calls for one, its p99 since then counts.
    """
    return [_READERS[name](guards, steps, p99_ms) for name in guards.used]


def _reading(guards: RolloutGuards, guard: str, value: float | None, limit: float, log_e: float, summary: str) -> GuardReading:
    """A guard is crossed only if both its value and its evidence are over their limits."""
    strong = max(0.0, log_e / guards.enough)
    if value is None or value <= limit:
        strong = min(strong, 0.99)
    return GuardReading(guard, value, limit, strong, summary)


def _ratio(new: int, of_new: int, old: int, of_old: int) -> float | None:
    """The ratio of the rates; an old version without events counts as having had one."""
    return None if not of_new or not of_old else (new / of_new) / (max(old, 1) / of_old)


def _two(steps: Sequence[StepCounts], what: str, of: str) -> tuple[int, int, int, int]:
    return tuple(sum(getattr(step, name)[arm] for step in steps) for arm in (1, 0) for name in (what, of))


def _events(guard: str, what: str, of: str, verb: str) -> Any:
    def read(guards: RolloutGuards, steps: Sequence[StepCounts], _: float | None) -> GuardReading:
        limit = getattr(guards, guard)
        new, of_new, old, of_old = _two(steps, what, of)
        log_e = math.fsum(
            sequential_tests.events_evidence(getattr(step, what)[1], getattr(step, what)[0], step.share_of_new(of), limit) for step in steps
        )
        summary = f"{verb} {new:,} of {of_new:,} calls, and the version before it {old:,} of {of_old:,}"
        if not of_new:
            summary = "has no outcomes yet" if of == "judged" else "has not answered yet"
        return _reading(guards, guard, _ratio(new, of_new, old, of_old), limit, log_e, summary)

    return read


def _slower(guards: RolloutGuards, steps: Sequence[StepCounts], p99_ms: float | None) -> GuardReading:
    """The guard on p99: compared with the old version at the same time, so that a busy hour does not count against the new one."""
    p99_ms = _p99_of_old(steps) if p99_ms is None else p99_ms
    if p99_ms is None:
        return GuardReading("p99", None, P99_SLOW, 0.0, "cannot be held against the version before it, which has no p99 yet")
    slow_ms = (guards.p99 or 1.0) * p99_ms
    pairs = [(step.above(1, slow_ms), step.above(0, slow_ms), step.share_of_new()) for step in steps]
    new, old = sum(pair[0] for pair in pairs), sum(pair[1] for pair in pairs)
    of_new, of_old = (sum(step.calls[arm] for step in steps) for arm in (1, 0))
    log_e = math.fsum(sequential_tests.events_evidence(slow_new, slow_old, share, _AS_SLOW) for slow_new, slow_old, share in pairs)
    summary = f"was slower than {slow_ms:,.3g} ms in {new:,} of {of_new:,} calls, and the version before it in {old:,} of {of_old:,}"
    return _reading(guards, "p99", new / of_new if of_new else None, P99_SLOW, log_e, summary)


def _p99_of_old(steps: Sequence[StepCounts]) -> float | None:
    """Of what the old version answered since the rollout began, in milliseconds; None below so many calls that there is one."""
    counts = {int(bucket): count for bucket, count in _summed([step.latency[0] for step in steps]).items()}
    us = quantiles(counts, (1 - P99_SLOW,))[0] if sum(counts.values()) >= 1 / P99_SLOW else None
    return None if us is None else us / 1e3


def _over(guards: RolloutGuards, steps: Sequence[StepCounts], _: float | None) -> GuardReading:
    over, calls = sum(step.above(1, guards.p99_ms or 0.0) for step in steps), sum(step.calls[1] for step in steps)
    summary = f"was slower than {guards.p99_ms:,.3g} ms in {over:,} of {calls:,} calls, where 1 % may be"
    return _reading(
        guards, "p99_ms", over / calls if calls else None, P99_SLOW, sequential_tests.rate_evidence(over, calls, P99_SLOW), summary
    )


def _answers(guards: RolloutGuards, steps: Sequence[StepCounts], _: float | None) -> GuardReading:
    limit = guards.answers or 0.0
    new, old = (_summed([step.answers[arm] for step in steps]) for arm in (1, 0))
    sticky = [step.callers for step in steps if step.callers is not None]
    if sticky:
        everyone = StickyCallers()
        for callers in sticky:
            everyone.add(callers)
        by_arm = [everyone.shares_of_labels(arm) for arm in (1, 0)]
        log_e = math.fsum(
            sequential_tests.caller_evidence(step.callers.shares_of_labels(1), step.callers.shares_of_labels(0), step.share / 100)
            for step in steps
            if step.callers is not None
        )
        value = sequential_tests.distribution_distance(*by_arm) if all(map(bool, by_arm)) else None
    else:
        log_e = math.fsum(sequential_tests.distribution_evidence(step.answers[1], step.answers[0], step.share / 100) for step in steps)
        value = sequential_tests.distribution_distance(new, old) if sum(new.values()) and sum(old.values()) else None
    summary = f"answers otherwise: {_most_apart(new, old)}" if value is not None else "has not answered yet"
    return _reading(guards, "answers", value, limit, log_e, summary)


def _most_apart(new: Mapping[str, int], old: Mapping[str, int]) -> str:
    """The label whose share differs most, in words."""
    all_new, all_old = sum(new.values()), sum(old.values())
    label = max(
        sorted(new.keys() | old.keys()), key=lambda candidate: abs(new.get(candidate, 0) / all_new - old.get(candidate, 0) / all_old)
    )
    n, o = new.get(label, 0) / all_new, old.get(label, 0) / all_old
    return f"{label} in {n:.0%} of {all_new:,} answers, and the version before it in {o:.0%} of {all_old:,}"


def _summed(counts: Sequence[Mapping[str, int]]) -> dict[str, int]:
    total: dict[str, int] = {}
    for node_counts in counts:
        for label, count in node_counts.items():
            total[label] = total.get(label, 0) + count
    return total


def _disagreement(guards: RolloutGuards, steps: Sequence[StepCounts], _: float | None) -> GuardReading:
    limit = guards.disagreement or 0.0
    differed, compared = sum(step.apart for step in steps), sum(step.compared for step in steps)
    summary = f"disagrees with the version before it in {differed:,} of {compared:,} calls that both answered"
    return _reading(
        guards,
        "disagreement",
        differed / compared if compared else None,
        limit,
        sequential_tests.rate_evidence(differed, compared, limit),
        summary,
    )


_READERS: dict[str, Any] = {
    "errors": _events("errors", "failed", "calls", "failed in"),
    "p99": _slower,
    "p99_ms": _over,
    "answers": _answers,
    "disagreement": _disagreement,
    "wrong": _events("wrong", "wrong", "judged", "was wrong in"),
}


def crossed_guard(guards: RolloutGuards, read: Sequence[GuardReading]) -> str | None:
    """What a crossed guard says of the new version, with the risk of an error; None where no guard is crossed."""
    crossed = next((reading for reading in read if reading.crossed), None)
    return None if crossed is None else f"{crossed.summary} (the chance of this, were it no worse, is at most {guards.risk:.2g})"


def guard_in_doubt(guards: RolloutGuards, read: Sequence[GuardReading]) -> str | None:
    """What the guard says that keeps a rollout from going on, because it cannot be read or is not sure; None where all are calm."""
    blind = next((reading for reading in read if reading.guard == "p99" and reading.value is None), None)
    if blind is not None:
        return blind.summary
    doubtful = max(read, key=lambda reading: reading.evidence, default=None)
    if doubtful is not None and doubtful.evidence * guards.enough >= _HOLD:
        return f"{doubtful.summary}; this is not sure yet"
    return None


@cache
def _adapter() -> TypeAdapter[StepCounts]:
    return TypeAdapter(StepCounts)


def write_counts(counts: StepCounts) -> dict[str, Any]:
    """Counts as JSON has them."""
    return asdict(counts)


def read_counts(data: Any) -> StepCounts:
    """What `write_counts` wrote."""
    return _adapter().validate_python(data)
