"""Simulated rollouts: how often a version that is no worse is taken back, and how soon one that is worse is.

Calls come one by one, the split gives them out, and the guards look after every hundred. Usage: ``python -m bench.rollouts [COUNT]``.
"""

from __future__ import annotations

import sys
from collections.abc import Callable, Iterator
from dataclasses import dataclass, replace
from itertools import count as numbers
from math import sqrt

import numpy as np

from lamppost.core.endpoint.rollout import Rollout, RolloutDecision, RolloutPlan, apply_decision, decide_rollout
from lamppost.core.endpoint.rollout_counts import RolloutTally, counted_rollout
from lamppost.core.endpoint.rollout_guards import StepCounts, read_guards
from lamppost.core.endpoint.rollout_steering import OVER
from lamppost.core.endpoint.shares import StickyKey
from lamppost.core.monitoring.latency_histogram import bucket_of
from lamppost.core.schema.fields import Field, Schema

P99_MS = 10.0
QUICK, SLOW = str(bucket_of(4e3)), str(bucket_of(60e3))
LOOK = 100


@dataclass(frozen=True, slots=True)
class Kind:
    """How a version behaves. fails : part of calls. labels : parts of three labels. slow : part of calls over twice the p99."""

    fails: float = 0.004
    labels: tuple[float, ...] = (0.82, 0.15, 0.03)
    slow: float = 0.001


SAME = Kind()
WORSE: dict[str, Kind] = {
    "fails in 2 %": replace(SAME, fails=0.02),
    "fails in 20 %": replace(SAME, fails=0.2),
    "p99 over twice": replace(SAME, slow=0.05),
    "all slow": replace(SAME, slow=1.0),
    "a label doubled": replace(SAME, labels=(0.67, 0.30, 0.03)),
    "two labels swapped": replace(SAME, labels=(0.15, 0.82, 0.03)),
}


@dataclass(frozen=True, slots=True)
class Ended:
    """How a rollout ended. calls : of all callers. to_new : of the new version. step : index of the last."""

    state: str
    calls: int
    to_new: int
    step: int


def simulate(old: Kind, new: Kind, plan: RolloutPlan, rng: np.random.Generator, most: int = 200_000) -> Ended:
    """One rollout from its first call to its end."""
    rollout = Rollout("lamp@1", "lamp@2", plan)
    steps = [StepCounts(plan.steps[0].share)]
    start, n, to_new = float(rng.random()), 0, 0
    kinds = (old, new)
    for turn in numbers():
        arms = np.array([rollout.shares.version_of_nth_call(n + i, start) == "lamp@2" for i in range(LOOK)], dtype=int)
        n += LOOK
        for arm, kind in enumerate(kinds):
            calls = int((arms == arm).sum())
            fails = int(rng.binomial(calls, kind.fails))
            steps[-1].calls[arm] += calls
            steps[-1].failed[arm] += fails
            slow = int(rng.binomial(calls, kind.slow))
            for bucket, seen in ((SLOW, slow), (QUICK, calls - slow)):
                steps[-1].latency[arm][bucket] = steps[-1].latency[arm].get(bucket, 0) + seen
            for label, seen in zip("abc", rng.multinomial(calls - fails, kind.labels), strict=True):
                steps[-1].answers[arm][label] = steps[-1].answers[arm].get(label, 0) + int(seen)
        to_new += int(arms.sum())
        decision = decide_rollout(rollout, read_guards(plan.guards, steps, P99_MS), steps[-1], minutes=turn)
        before, rollout = rollout.step, apply_decision(rollout, decision)
        if rollout.state in OVER:
            return Ended(rollout.state, n, to_new, rollout.step)
        if rollout.step != before:
            steps.append(StepCounts(plan.steps[rollout.step].share))
        if n >= most:
            break
    return Ended("still running", n, to_new, rollout.step)


def many(old: Kind, new: Kind, count: int, seed: int) -> Iterator[Ended]:
    """So many rollouts with the usual plan."""
    for one in range(count):
        yield simulate(old, new, RolloutPlan(), np.random.default_rng([seed, one]))


def simulate_sticky(callers: int, rng: np.random.Generator, swapped: bool = False, fails: float = 0.004, most: int = 100_000) -> Ended:
    """A rollout whose callers stick to a version by their key. A few callers make most of the calls, and each is mostly answered the same.

    swapped : whether the new version answers the two most frequent labels the other way round. fails : part of the new version's calls.
    """
    plan = RolloutPlan()
    rollout = Rollout("lamp@1", "lamp@2", plan, StickyKey("header", "x-caller"))
    often = 1 / np.arange(1, callers + 1) ** 0.7
    usual = rng.dirichlet(np.array([0.82, 0.15, 0.03]) * 2, size=callers)
    keys, n = [f"{rng.integers(1 << 40)}" for _ in range(callers)], 0
    answers = Schema((Field("label", "choice", choices=("a", "b", "c")),))
    tally = RolloutTally(counted_rollout(rollout, 1, answers, None), answers)
    steps = [tally.take_counts() or StepCounts(plan.steps[0].share)]
    for turn in numbers():
        arms = [rollout.shares.version_of_key(key) for key in keys]
        for caller in rng.choice(callers, size=LOOK, p=often / often.sum()).tolist():
            version, label = arms[caller], "abc"[int(rng.choice(3, p=usual[caller]))]
            if swapped and version == "lamp@2":
                label = {"a": "b", "b": "a"}.get(label, label)
            if rng.random() < (fails if version == "lamp@2" else SAME.fails):
                tally.failed(version)
            else:
                tally.answered(version, 60.0 if rng.random() < SAME.slow else 4.0, [{"label": label}], keys[caller])
        n += LOOK
        counts = tally.take_counts()
        if counts is not None:
            steps[-1].add(counts)
        decision = decide_rollout(rollout, read_guards(plan.guards, steps, P99_MS), steps[-1], minutes=turn)
        if decision.do == "hold" and "reaches none" in decision.reason:  # as somebody does who reads that
            decision = RolloutDecision("go on" if rollout.step + 1 < len(plan.steps) else "finish", "")
        before, rollout = rollout.step, apply_decision(rollout, decision)
        if rollout.state in OVER:
            return Ended(rollout.state, n, 0, rollout.step)
        if rollout.step != before:
            tally = RolloutTally(counted_rollout(rollout, 1, answers, None), answers)
            steps.append(StepCounts(plan.steps[rollout.step].share))
        if n >= most:
            break
    return Ended("still running", n, 0, rollout.step)


def upper(happened: int, of: int) -> float:
    """Upper end of the 95 % interval of a part (Wilson, *JASA* 22, 1927)."""
    z, part = 1.96, happened / of
    return (part + z * z / (2 * of) + z * sqrt(part * (1 - part) / of + z * z / (4 * of * of))) / (1 + z * z / of)


def main(say: Callable[[str], None] = print) -> None:
    """Print the table."""
    count = int(sys.argv[1]) if len(sys.argv) > 1 else 10_000
    same = list(many(SAME, SAME, count, 1))
    back = sum(one.state == "back" for one in same)
    done = [one.calls for one in same if one.state == "done"]
    most = RolloutPlan().guards.risk
    say(f"identical version: {back} of {count:,} went back ({back / count:.2%}, at most {upper(back, count):.2%}; stated: {most:.0%})")
    say(f"                   {len(done):,} finished, after {np.median(done):,.0f} calls (median)")
    sticky_rollouts(max(10, count // 100), say)
    say(f"{'worse version':20} {'back':>7} {'at step 1':>10} {'calls':>8} {'of them to it':>14}")
    for name, kind in WORSE.items():
        ended = list(many(SAME, kind, max(50, count // 50), 2))
        gone = [one for one in ended if one.state == "back"]
        calls, to_new = (np.median([getattr(one, what) for one in gone]) if gone else float("nan") for what in ("calls", "to_new"))
        first = sum(one.step == 0 for one in gone)
        say(f"{name:20} {len(gone) / len(ended):7.0%} {first / len(ended):10.0%} {calls:8,.0f} {to_new:14,.0f}")


def sticky_rollouts(count: int, say: Callable[[str], None] = print) -> None:
    """Print how rollouts go whose callers are kept with a version."""
    say(f"{'kept by a key':34} {'taken back':>11} {'finished':>9} {'calls':>8}")
    for callers in (20, 50, 100, 1_000):
        for name, swapped, fails in (("identical", False, 0.004), ("two labels swapped", True, 0.004), ("fails in 20 %", False, 0.2)):
            ended = [simulate_sticky(callers, np.random.default_rng([7, callers, at]), swapped, fails) for at in range(count)]
            back, done = (sum(one.state == state for one in ended) / count for state in ("back", "done"))
            say(f"{callers:6,} callers, {name:18} {back:11.0%} {done:9.0%} {np.median([one.calls for one in ended]):8,.0f}")


if __name__ == "__main__":
    main()
