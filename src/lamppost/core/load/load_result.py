"""What came of a load, added up over processes, and the difference between two loads with its interval."""

from __future__ import annotations

import math
from collections import Counter
from collections.abc import Iterable, Sequence
from dataclasses import dataclass, field
from functools import cache
from statistics import NormalDist, fmean, variance
from typing import Any

import orjson
from pydantic import TypeAdapter, ValidationError

from lamppost.core.errors import BadRequest
from lamppost.core.monitoring.latency_histogram import quantiles

Counts = dict[int, int]
"""Calls by bucket of `lamppost.core.monitoring.latency_histogram`."""
PARTS = (0.5, 0.9, 0.95, 0.99)
_LEAST_SLICES = 3


@dataclass(slots=True)
class LoadSlice:
    """A second of a step. calls : that were answered well in it. errors : all others."""

    calls: int = 0
    errors: int = 0
    latency: Counts = field(default_factory=dict)


@dataclass(slots=True)
class LoadStep:
    """A step of a load.

    most_us : the slowest answer. errors : by status, or by what happened to the connection. versions : calls by endpoint and version.
    endpoints, phases : latencies by endpoint, and by phase as the service tells them. late : requests that began later than they were due,
    because no client was free.
    """

    clients: int
    seconds: float
    slices: list[LoadSlice] = field(default_factory=list)
    most_us: int = 0
    errors: dict[str, int] = field(default_factory=dict)
    versions: dict[str, dict[str, int]] = field(default_factory=dict)
    endpoints: dict[str, Counts] = field(default_factory=dict)
    phases: dict[str, Counts] = field(default_factory=dict)
    late: int = 0


@dataclass(frozen=True, slots=True)
class StepSummary:
    """A step in figures, milliseconds and requests a second; None where nothing was answered."""

    clients: int
    per_s: float
    p50_ms: float | None
    p90_ms: float | None
    p95_ms: float | None
    p99_ms: float | None
    most_ms: float | None
    calls: int
    errors: int


@dataclass(frozen=True, slots=True)
class FigureDifference:
    """How a figure differs from one load to another. low, high : a 95 % interval of the difference; None where there are too few slices.

    differs : whether the interval leaves out 0.
    """

    clients: int
    figure: str
    before: float
    after: float
    low: float | None
    high: float | None

    @property
    def differs(self) -> bool:
        """Whether the two can be told apart."""
        return self.low is not None and self.high is not None and not self.low <= 0 <= self.high


@cache
def _steps() -> TypeAdapter[list[LoadStep]]:
    return TypeAdapter(list[LoadStep])


def read_steps(document: Any) -> list[LoadStep]:
    """The steps that a document holds; raise BadRequest for what is none."""
    try:
        return _steps().validate_python(document)
    except ValidationError as error:
        first = error.errors(include_url=False)[0]
        raise BadRequest(f"{'.'.join(map(str, first['loc'])) or 'the result'}: {first['msg'].lower()}") from error


def write_steps(steps: Sequence[LoadStep]) -> list[dict[str, Any]]:
    """The steps as a JSON document, whose names are all text."""
    document: list[dict[str, Any]] = orjson.loads(orjson.dumps(list(steps), option=orjson.OPT_NON_STR_KEYS))
    return document


def add_counts(parts: Iterable[Counts]) -> Counts:
    """The sum of histograms."""
    total: Counter[int] = Counter()
    for part in parts:
        total.update(part)
    return dict(total)


def add_steps(parts: Sequence[LoadStep], clients: int) -> LoadStep:
    """The step of all processes together. clients : of all."""
    whole = LoadStep(clients, max(part.seconds for part in parts))
    for at in range(max(len(part.slices) for part in parts)):
        there = [part.slices[at] for part in parts if at < len(part.slices)]
        whole.slices.append(
            LoadSlice(sum(one.calls for one in there), sum(one.errors for one in there), add_counts(one.latency for one in there))
        )
    whole.most_us = max(part.most_us for part in parts)
    whole.late = sum(part.late for part in parts)
    whole.errors = dict(sum((Counter(part.errors) for part in parts), Counter()))
    for name in dict.fromkeys(name for part in parts for name in part.versions):
        whole.versions[name] = dict(sum((Counter(part.versions.get(name, {})) for part in parts), Counter()))
    for what in ("endpoints", "phases"):
        tables: list[dict[str, Counts]] = [getattr(part, what) for part in parts]
        names = dict.fromkeys(name for table in tables for name in table)
        setattr(whole, what, {name: add_counts(table.get(name, {}) for table in tables) for name in names})
    return whole


def _ms(us: float | None) -> float | None:
    return None if us is None else round(us / 1e3, 3)


def summarize_step(step: LoadStep) -> StepSummary:
    """The figures of a step."""
    calls = sum(one.calls for one in step.slices)
    p50, p90, p95, p99 = (_ms(us) for us in quantiles(add_counts(one.latency for one in step.slices), PARTS))
    errors = sum(step.errors.values())
    most = _ms(step.most_us) if calls else None
    return StepSummary(step.clients, round(calls / step.seconds, 1), p50, p90, p95, p99, most, calls, errors)


def compare_steps(before: Sequence[LoadStep], after: Sequence[LoadStep]) -> list[FigureDifference]:
    """The differences of steps with as many clients, over their slices of a second each (Welch's interval of the difference of means)."""
    known = {step.clients: step for step in before}
    found = []
    for step in after:
        if step.clients in known:
            for figure in ("requests/s", "p50 ms", "p99 ms"):
                first, second = _values(known[step.clients], figure), _values(step, figure)
                if first and second:
                    found.append(_difference(step.clients, figure, first, second))
    return found


def _values(step: LoadStep, figure: str) -> list[float]:
    if figure == "requests/s":
        return [float(one.calls) for one in step.slices]
    part = 0.5 if figure == "p50 ms" else 0.99
    return [us / 1e3 for one in step.slices if (us := quantiles(one.latency, (part,))[0]) is not None]


def _difference(clients: int, figure: str, before: Sequence[float], after: Sequence[float]) -> FigureDifference:
    first, second = fmean(before), fmean(after)
    low = high = None
    if min(len(before), len(after)) >= _LEAST_SLICES:
        parts = [variance(values) / len(values) for values in (before, after)]
        spread = math.sqrt(sum(parts))
        weights = sum(part**2 / (len(values) - 1) for part, values in zip(parts, (before, after), strict=True))
        width = t_quantile(0.975, sum(parts) ** 2 / weights if weights else math.inf) * spread
        low, high = round(second - first - width, 3), round(second - first + width, 3)
    return FigureDifference(clients, figure, round(first, 3), round(second, 3), low, high)


def t_quantile(probability: float, freedom: float) -> float:
    """A quantile of Student's t: exact for 1 and 2 degrees of freedom, within 1 % from 3 degrees on (Abramowitz and Stegun, *Handbook of
    Mathematical Functions*, 26.7.3, 26.7.4 and 26.7.5).

    >>> [round(t_quantile(0.975, freedom), 2) for freedom in (1, 2, 10)]
    [12.71, 4.3, 2.23]
    """
    if freedom == 1:
        return math.tan(math.pi * (probability - 0.5))
    if freedom == 2:
        return (2 * probability - 1) / math.sqrt(2 * probability * (1 - probability))
    z = NormalDist().inv_cdf(probability)
    if math.isinf(freedom):
        return z
    first = (z**3 + z) / 4
    second = (5 * z**5 + 16 * z**3 + 3 * z) / 96
    third = (3 * z**7 + 19 * z**5 + 17 * z**3 - 15 * z) / 384
    fourth = (79 * z**9 + 776 * z**7 + 1482 * z**5 - 1920 * z**3 - 945 * z) / 92_160
    return z + first / freedom + second / freedom**2 + third / freedom**3 + fourth / freedom**4
