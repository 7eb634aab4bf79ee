"""What was measured of a setting, once and over all its repeats, and whether two settings can be told apart.

What slows down a machine for a minute slows down all settings of a round alike. So two settings are compared within the rounds in which
both were measured, where it cancels out of their ratio; figures are those of a round of usual pace: `round_paces` says how fast each was.
"""

from __future__ import annotations

import math
from collections import Counter
from collections.abc import Iterable, Mapping, Sequence
from dataclasses import dataclass, field
from functools import cache
from statistics import fmean, median, variance
from typing import Any

from pydantic import TypeAdapter

from lamppost.core.load.load_result import t_quantile
from lamppost.core.sweep.sweep_plan import SweepSetting

LEAST_ROUNDS = 3
"""Rounds from which on two settings can be told apart."""
_SIDE = 0.975
_POLISHES = 5
_LEAST_SETTINGS = 3
_TIMES = frozenset({"p50", "p90", "p95", "p99", "max"})


@dataclass(frozen=True, slots=True)
class Measurement:
    """A setting as it did in one round. failed : why there are no figures, None where there are.

    throughput : answers a second. p50 … max : milliseconds from asking to the answer. memory : bytes that its workers hold beside what they
    share. cpu : processor time of its workers, microseconds a row. calls, errors : that were counted. batch_rows : mean rows of a batch.
    phases : p50 and p99 of each phase, milliseconds. others : processors that were busy with something else meanwhile.
    """

    setting: SweepSetting
    round: int
    throughput: float = 0.0
    p50: float = 0.0
    p90: float = 0.0
    p95: float = 0.0
    p99: float = 0.0
    max: float = 0.0
    memory: float = 0.0
    cpu: float = 0.0
    calls: int = 0
    errors: int = 0
    batch_rows: float = 0.0
    phases: dict[str, tuple[float, float]] = field(default_factory=dict)
    others: float = 0.0
    failed: str | None = None


@cache
def _measurements() -> TypeAdapter[Measurement]:
    return TypeAdapter(Measurement)


def read_measurement(document: Any) -> Measurement:
    """The measurement that a document of `write_measurement` holds."""
    return _measurements().validate_python(document)


def write_measurement(measurement: Measurement) -> dict[str, Any]:
    """The measurement as a JSON document."""
    document: dict[str, Any] = _measurements().dump_python(measurement, mode="json")
    return document


@dataclass(frozen=True, slots=True)
class SettingSummary:
    """A setting over its repeats. rounds : what was measured, by round. failed : why it has no figures. paces : see `round_paces`."""

    setting: SweepSetting
    rounds: Mapping[int, Measurement]
    failed: str | None = None
    paces: Mapping[int, float] = field(default_factory=dict)

    def values(self, name: str) -> list[float]:
        """A figure in each repeat, as it would have been in a round of usual pace."""
        power = -1 if name == "throughput" else 1 if name in _TIMES else 0
        return [getattr(one, name) * self.paces.get(number, 1.0) ** power for number, one in self.rounds.items()]

    def figure(self, name: str) -> float:
        """The median of a figure over the repeats."""
        return float(median(self.values(name)))

    def interval(self, name: str) -> tuple[float, float]:
        """Between which values the median lies with 95 % where there are six repeats or more; all that was measured where there are fewer.

        Order statistics k and n + 1 - k with the largest k for which 2 P(Binomial(n, 1/2) < k) stays below 5 % (Conover, *Practical
        Nonparametric Statistics*, section 3.2).
        """
        values = sorted(self.values(name))
        outside = median_rank(len(values))
        return values[outside], values[-1 - outside]

    def phases(self) -> dict[str, tuple[float, float]]:
        """The medians of p50 and p99 of each phase, milliseconds."""
        names = dict.fromkeys(name for one in self.rounds.values() for name in one.phases)
        parts = {name: [one.phases[name] for one in self.rounds.values() if name in one.phases] for name in names}
        return {name: (median(pair[0] for pair in pairs), median(pair[1] for pair in pairs)) for name, pairs in parts.items()}


@cache
def median_rank(repeats: int) -> int:
    """How many of the lowest, and of the highest, values a 95 % interval of the median leaves out.

    >>> [median_rank(repeats) for repeats in (1, 5, 6, 9)]
    [0, 0, 0, 1]
    """
    outside, below = 0, 0.0
    for rank in range(repeats // 2):
        below += math.comb(repeats, rank) / 2**repeats
        if 2 * below >= 0.05:
            break
        outside = rank
    return outside


def summarize(measurements: Iterable[Measurement]) -> dict[SweepSetting, SettingSummary]:
    """All settings that were measured, in the order in which they were first."""
    rounds: dict[SweepSetting, dict[int, Measurement]] = {}
    failed: dict[SweepSetting, str] = {}
    for one in measurements:
        known = rounds.setdefault(one.setting, {})
        if one.failed is not None:
            failed[one.setting] = one.failed
        else:
            known[one.round] = one
    paces = round_paces(rounds)
    return {
        setting: SettingSummary(setting, known, failed.get(setting) if not known else None, paces)
        for setting, known in rounds.items()
        if known or setting in failed
    }


def round_paces(rounds: Mapping[SweepSetting, Mapping[int, Measurement]]) -> dict[int, float]:
    """How fast each round was, 1 for the usual pace, from the throughput of its settings.

    A setting's throughput is its own times the round's, which median polish of their logarithms takes apart (Tukey, *Exploratory Data
    Analysis*, 1977, chapter 11). Settings that were measured in one round only say nothing about it, and fewer than three settings cannot
    tell a slow round from their own chance.
    """
    logs = {
        setting: {number: math.log(one.throughput) for number, one in known.items() if one.throughput > 0}
        for setting, known in rounds.items()
        if len(known) > 1
    }
    measured = Counter(number for known in logs.values() for number in known)
    logs = {
        setting: {number: value for number, value in known.items() if measured[number] >= _LEAST_SETTINGS}
        for setting, known in logs.items()
    }
    paces = {number: 0.0 for known in logs.values() for number in known}
    for _ in range(_POLISHES):
        own = {setting: median(value - paces[number] for number, value in known.items()) for setting, known in logs.items() if known}
        paces = {number: median(known[number] - own[setting] for setting, known in logs.items() if number in known) for number in paces}
        usual = median(paces.values()) if paces else 0.0
        paces = {number: pace - usual for number, pace in paces.items()}
    return {number: math.exp(pace) for number, pace in paces.items()}


@dataclass(frozen=True, slots=True)
class SettingRatio:
    """How many times as large a figure of one setting is as of another. low, high : a 95 % interval, None with too few rounds."""

    ratio: float
    low: float | None
    high: float | None

    @property
    def differs(self) -> bool:
        """Whether the two can be told apart."""
        return self.low is not None and self.high is not None and not self.low <= 1 <= self.high


def compare_settings(one: SettingSummary, other: SettingSummary, figure: str) -> SettingRatio:
    """The ratio of a figure over the rounds in which both were measured (Student's interval of the mean of its logarithm).

    With fewer than three such rounds, the ratio of the figures over all rounds, without an interval.
    """
    common = [number for number in one.rounds if number in other.rounds]
    pairs = [(getattr(one.rounds[number], figure), getattr(other.rounds[number], figure)) for number in common]
    logs = [math.log(first / second) for first, second in pairs if first > 0 and second > 0]
    if len(logs) < LEAST_ROUNDS:
        first, second = one.figure(figure), other.figure(figure)
        return SettingRatio(first / second if second > 0 else math.inf if first > 0 else 1.0, None, None)
    mean = fmean(logs)
    width = t_quantile(_SIDE, len(logs) - 1) * math.sqrt(variance(logs) / len(logs))
    return SettingRatio(math.exp(mean), math.exp(mean - width), math.exp(mean + width))


def frontier(summaries: Sequence[SettingSummary]) -> set[SweepSetting]:
    """The settings that no other one beats at throughput and p99 both, by their medians."""
    best = math.inf
    found = set()
    for one in sorted(summaries, key=lambda one: (-one.figure("throughput"), one.figure("p99"))):
        if (p99 := one.figure("p99")) < best:
            best = p99
            found.add(one.setting)
    return found
