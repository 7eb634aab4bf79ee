"""Rules of a rollout over outposts: one outpost after the other, under the guards of any rollout, and back.

At one outpost at a time the new version gets its share of the calls there, beside the old version; the guards compare the two at the same
place and time, and over all outposts so far. When the step has lasted, that outpost serves the new version alone, and the next one has its
turn. An outpost that is away is passed over until it is there again. Where an outpost cannot serve the new version at all, or a guard is
crossed, every outpost goes back to the old one.
"""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from dataclasses import asdict, dataclass, replace
from dataclasses import field as default
from functools import cache
from typing import Any, ClassVar, Literal

from pydantic import TypeAdapter

from lamppost.core.endpoint.rollout import RolloutStep, what_is_left
from lamppost.core.endpoint.rollout_guards import CLOSED, GuardReading, RolloutGuards, crossed_guard, guard_in_doubt
from lamppost.core.endpoint.rollout_steering import SteeredRollout
from lamppost.core.endpoint.shares import Shares
from lamppost.core.errors import BadRequest, Conflict

Presence = Literal["there", "away", "barred"]


@dataclass(frozen=True, slots=True)
class OutpostRolloutPlan:
    """How a rollout over outposts goes. step : the share that the new version has at an outpost in its turn, and how long a turn lasts."""

    step: RolloutStep = default(default=RolloutStep(20, calls=100))
    guards: RolloutGuards = default(default=RolloutGuards())

    __pydantic_config__: ClassVar = CLOSED

    def __post_init__(self) -> None:
        if self.guards.disagreement is not None:
            raise BadRequest(
                "the guard disagreement needs the answers of both versions to the same rows, and an outpost gives each row to one of them; "
                "leave it out with disagreement="
            )


@dataclass(frozen=True, slots=True)
class OutpostStanding:
    """How an outpost is, as its hub knows.

    served : versions that it serves for the endpoint. refused : why it does not serve the new one, None where it was not refused.
    """

    presence: Presence
    served: frozenset[str] = frozenset()
    refused: str | None = None


@dataclass(frozen=True, slots=True)
class OutpostRollout(SteeredRollout):
    """The progress of a rollout over outposts.

    target : the outpost or label that the versions are set for. outposts : the outposts that it goes over, in the order of their turns.
    done : those that serve the new version alone. at : the outpost whose turn it is, None between two turns. under_way : whether that
    outpost is known to give both versions calls.
    """

    target: str
    old: str
    new: str
    outposts: tuple[str, ...]
    plan: OutpostRolloutPlan = default(default=OutpostRolloutPlan())
    done: tuple[str, ...] = ()
    at: str | None = None
    under_way: bool = False

    def __post_init__(self) -> None:
        if self.old == self.new:
            raise Conflict(f"{self.old} is set for {self.target} already; a rollout goes to another version")
        if not self.outposts:
            raise Conflict(f"no outpost serves what is set for {self.target}, so there is nothing to roll out there")

    @property
    def remaining(self) -> tuple[str, ...]:
        """The outposts whose turn has not begun."""
        return tuple(name for name in self.outposts if name not in self.done and name != self.at)

    def shares_at(self, outpost: str) -> Shares:
        """The shares of the versions at an outpost while the rollout goes on.

        >>> rollout = OutpostRollout("region=coast", "risk@1", "risk@2", ("harbour", "mill", "pier"), done=("harbour",), at="mill")
        >>> [rollout.shares_at(name).summary() for name in rollout.outposts]
        ['risk@2 100 %', 'risk@1 80 %, risk@2 20 %', 'risk@1 100 %']
        """
        share = 100.0 if outpost in self.done else self.plan.step.share if outpost == self.at else 0.0
        return Shares({version: part for version, part in ((self.old, 100.0 - share), (self.new, share)) if part})

    @property
    def subject(self) -> str:
        """The new version, and where it goes."""
        return f"{self.new} at {self.target}"

    @property
    def place(self) -> str:
        """The outpost whose turn it is."""
        return f" at {self.at}" if self.at is not None else ""


def advance_outpost_rollout(
    rollout: OutpostRollout, read: Sequence[GuardReading], calls_of_new: int, minutes: float, standings: Mapping[str, OutpostStanding]
) -> OutpostRollout:
    """The rollout after its next decision, itself where nothing is to be done or said.

    read : the readings of the guards over all outposts so far. calls_of_new, minutes : what the present turn has had. standings : by name,
    of the outposts that there still are.
    """
    plan, new = rollout.plan, rollout.new
    if (crossed := crossed_guard(plan.guards, read)) is not None:
        return replace(rollout, state="back", reason=f"went back to {rollout.old}{rollout.place}: {new} {crossed}")
    for name in (*rollout.done, *((rollout.at,) if rollout.at is not None else ())):
        standing = standings.get(name)
        if standing is not None and standing.presence != "barred" and standing.refused is not None:
            return replace(rollout, state="back", reason=f"went back to {rollout.old}: {name} cannot serve {new}: {standing.refused}")
    if rollout.state == "paused":
        return rollout
    if rollout.at is None:
        return _begin_next_turn(rollout, standings)
    presence = standings[rollout.at].presence if rollout.at in standings else "barred"
    if presence == "barred":
        return _begin_next_turn(replace(rollout, at=None, under_way=False), standings)
    if not rollout.under_way:
        if presence == "away":
            return _begin_next_turn(replace(rollout, at=None), standings)
        if {rollout.old, new} <= standings[rollout.at].served:
            share = f"{new} has {plan.step.share:g} % at {rollout.at}"
            return replace(rollout, under_way=True, reason=f"{share}; {what_is_left(plan.step, 0, 0)} to go")
        return replace(rollout, reason=f"{rollout.at} fetches and proves {new}")
    if (left := what_is_left(plan.step, calls_of_new, minutes)) is not None:
        away = f"; {rollout.at} is away, and its records come when it is there" if presence == "away" else ""
        return replace(rollout, reason=f"{new} has {plan.step.share:g} % at {rollout.at} and {left} to go{away}")
    if (doubt := guard_in_doubt(plan.guards, read)) is not None:
        return replace(rollout, reason=f"holds at {rollout.at}: {new} {doubt}")
    return _begin_next_turn(replace(rollout, done=(*rollout.done, rollout.at), at=None, under_way=False), standings)


def _begin_next_turn(rollout: OutpostRollout, standings: Mapping[str, OutpostStanding]) -> OutpostRollout:
    """Give the next outpost that is there its turn; with none left the rollout is done."""
    left = [name for name in rollout.remaining if name in standings and standings[name].presence != "barred"]
    if not left:
        count = len(rollout.done)
        if not count:
            return replace(rollout, state="ended", reason=f"no outpost is left at {rollout.target}")
        served = f"the {count} outposts" if count > 1 else rollout.done[0]
        return replace(rollout, state="done", reason=f"{rollout.new} serves alone at {served}, all guards calm")
    following = next((name for name in left if standings[name].presence == "there"), None)
    so_far = f" after {rollout.done[-1]}, all guards calm" if rollout.done else ""
    if following is None:
        held = f"all guards are calm after {rollout.done[-1]}; " if rollout.done else ""
        return replace(rollout, reason=f"{held}waits for {', '.join(left)}, not heard of for a minute")
    return replace(rollout, at=following, reason=f"{rollout.new} goes to {following}{so_far}")


@cache
def _adapter() -> TypeAdapter[OutpostRollout]:
    return TypeAdapter(OutpostRollout)


def write_outpost_rollout(rollout: OutpostRollout) -> dict[str, Any]:
    """As JSON has it."""
    return asdict(rollout)


def read_outpost_rollout(data: Any) -> OutpostRollout:
    """What `write_outpost_rollout` wrote."""
    return _adapter().validate_python(data)
