"""Rules of rollouts: their steps, and the decision to go on, hold or go back.

Counts and times go in, and a decision with its reason comes out. What takes a rollout back are the guards of
`lamppost.core.endpoint.rollout_guards`.
"""

from __future__ import annotations

import math
from collections.abc import Sequence
from dataclasses import asdict, dataclass, replace
from dataclasses import field as default
from functools import cache
from itertools import pairwise
from typing import Any, ClassVar, Literal

from pydantic import TypeAdapter

from lamppost.core.endpoint.rollout_guards import CLOSED, GuardReading, RolloutGuards, StepCounts, crossed_guard, guard_in_doubt
from lamppost.core.endpoint.rollout_steering import SteeredRollout
from lamppost.core.endpoint.shares import Shares, StickyKey
from lamppost.core.errors import BadRequest, Conflict

_ENOUGH = 20
"""So many calls of the new version are expected before a step that has given it none is said to reach nobody."""


@dataclass(frozen=True, slots=True)
class RolloutStep:
    """share : percent of calls for the new version. It lasts until that version has answered ``calls``, and ``minutes`` have passed."""

    share: float
    calls: int = 0
    minutes: float = 0.0

    __pydantic_config__: ClassVar = CLOSED

    def __post_init__(self) -> None:
        if not 0 < self.share < 100:
            raise BadRequest(f"a step has {self.share:g} %; steps lie between 0 and 100 percent, and 100 follows the last by itself")
        if self.calls < 0 or self.minutes < 0 or not (self.calls or self.minutes):
            raise BadRequest(f"the step of {self.share:g} % needs calls, minutes or both to last for")


@dataclass(frozen=True, slots=True)
class RolloutPlan:
    """How a rollout goes: its steps, each with a larger share than the one before, and its guards."""

    steps: tuple[RolloutStep, ...] = (RolloutStep(1, calls=100), RolloutStep(5, calls=200), RolloutStep(25, calls=500))
    guards: RolloutGuards = default(default=RolloutGuards())

    __pydantic_config__: ClassVar = CLOSED

    def __post_init__(self) -> None:
        shares = [step.share for step in self.steps]
        if not shares or any(after <= before for before, after in pairwise(shares)):
            raise BadRequest(
                f"the steps of a rollout have growing shares; these are {', '.join(f'{share:g} %' for share in shares) or 'none'}"
            )


@dataclass(frozen=True, slots=True)
class Rollout(SteeredRollout):
    """The progress of a rollout. step : index of the present step."""

    old: str
    new: str
    plan: RolloutPlan
    sticky: StickyKey | None = None
    step: int = 0

    def __post_init__(self) -> None:
        if self.old == self.new:
            raise Conflict(f"{self.old} is served already; a rollout goes to another version")

    @property
    def shares(self) -> Shares:
        """The shares that serve now."""
        if self.state == "done":
            return Shares({self.new: 100.0})
        if self.state in ("back", "ended"):
            return Shares({self.old: 100.0})
        share = self.plan.steps[self.step].share
        return Shares({self.old: 100.0 - share, self.new: share}, self.sticky)

    @property
    def subject(self) -> str:
        """The new version."""
        return self.new

    @property
    def place(self) -> str:
        """The share of the present step."""
        return f" at {self.plan.steps[self.step].share:g} %"


@dataclass(frozen=True, slots=True)
class RolloutDecision:
    """What to do now, and why in one sentence."""

    do: Literal["hold", "go on", "finish", "back"]
    reason: str


def what_is_left(step: RolloutStep, calls: int, minutes: float) -> str | None:
    """What a step still needs, in words, after so many calls of the new version and so many minutes; None where it has lasted.

    >>> what_is_left(RolloutStep(5, calls=200, minutes=10), 150, 9.5)
    '50 calls and 0.5 minutes'
    """
    more = step.calls - calls
    left = [f"{more:,} call{'s' if more > 1 else ''}"] if more > 0 else []
    left += [f"{step.minutes - minutes:,.1f} minutes"] if minutes < step.minutes else []
    return " and ".join(left) or None


def decide_rollout(rollout: Rollout, read: Sequence[GuardReading], now: StepCounts, minutes: float) -> RolloutDecision:
    """What to do, by the readings of the guards, what was seen at the present step, and how long that has lasted."""
    step, guards = rollout.plan.steps[rollout.step], rollout.plan.guards
    if (crossed := crossed_guard(guards, read)) is not None:
        return RolloutDecision("back", f"went back to {rollout.old} at {step.share:g} %: {rollout.new} {crossed}")
    if rollout.state == "paused":
        return RolloutDecision("hold", rollout.reason)
    if (left := what_is_left(step, now.calls[1], minutes)) is not None:
        if (nobody := _reaches_nobody(rollout, now)) is not None:
            return RolloutDecision("hold", nobody)
        return RolloutDecision("hold", f"{rollout.new} has {step.share:g} % and {left} to go")
    if (doubt := guard_in_doubt(guards, read)) is not None:
        return RolloutDecision("hold", f"holds at {step.share:g} %: {rollout.new} {doubt}")
    seen = f"{now.calls[1]:,} calls" + (f" in {minutes:,.0f} minutes" if step.minutes else "")
    if rollout.step + 1 < len(rollout.plan.steps):
        after = rollout.plan.steps[rollout.step + 1].share
        return RolloutDecision("go on", f"{rollout.new} goes on to {after:g} % after {seen} at {step.share:g} %, all guards calm")
    return RolloutDecision("finish", f"{rollout.new} serves alone after {seen} at {step.share:g} %, all guards calm")


def _reaches_nobody(rollout: Rollout, now: StepCounts) -> str | None:
    """What to say of a step that has given none of its callers to the new version, though it has had calls enough to."""
    step = rollout.plan.steps[rollout.step]
    callers = now.callers
    if callers is None or not callers.seen or now.calls[1] or now.calls[0] < _ENOUGH / (step.share / 100):
        return None
    share = math.ceil(callers.reaching * 10) / 10
    after = next((later.share for later in rollout.plan.steps[rollout.step + 1 :] if later.share >= share), None)
    advice = f"the step of {after:g} % would" if after is not None else "no step of this rollout does"
    return (
        f"{rollout.new} has {step.share:g} % and reaches none of {len(callers.seen):,} callers; from {share:g} % on it reaches one "
        f"({advice}); take it back and begin with that share, or finish it"
    )


def apply_decision(rollout: Rollout, decision: RolloutDecision) -> Rollout:
    """The rollout after a decision."""
    if decision.do == "go on":
        return replace(rollout, step=rollout.step + 1, reason=decision.reason)
    if decision.do == "finish":
        return replace(rollout, state="done", reason=decision.reason)
    if decision.do == "back":
        return replace(rollout, state="back", reason=decision.reason)
    return replace(rollout, reason=decision.reason)


@cache
def _adapter() -> TypeAdapter[Rollout]:
    return TypeAdapter(Rollout)


def write_rollout(rollout: Rollout) -> dict[str, Any]:
    """As JSON has it."""
    return asdict(rollout)


def read_rollout(data: Any) -> Rollout:
    """What `write_rollout` wrote."""
    return _adapter().validate_python(data)
