"""What a sweep asks: of which versions, with which values of each setting, by how many clients, and within which limits."""

from __future__ import annotations

import re
from collections.abc import Sequence
from dataclasses import dataclass, field, replace
from functools import cache
from itertools import product
from typing import Any, ClassVar, Literal, TypeVar

from pydantic import TypeAdapter, ValidationError

from lamppost.core.endpoint.setup import LaneRules
from lamppost.core.errors import BadRequest
from lamppost.core.names import parse_version

Number = TypeVar("Number", int, float)
Form = Literal["compiled", "original"]
Figure = Literal["throughput", "p50", "p90", "p95", "p99", "max", "memory", "cpu"]
Goal = Literal["throughput", "p50", "p99", "memory", "cpu"]
"""What the best setting has the most of (throughput) or the least of (all others)."""

USUAL_ROWS = 1_024
MOST_CLIENTS = 1_024
MOST_SETTINGS = 600
_MOST_VERSIONS = 4
_BOUNDS: dict[str, tuple[float, float]] = {"max_rows": (1, 10_000), "linger_ms": (0, 1_000), "copies": (1, 64), "threads": (1, 64)}
_CLOSED: dict[str, Any] = {"extra": "forbid", "allow_inf_nan": False}
_UNITS = {
    "throughput": {"": 1.0, "/s": 1.0},
    "memory": {"kb": 1e3, "mb": 1e6, "gb": 1e9, "kib": 2.0**10, "mib": 2.0**20, "gib": 2.0**30, "b": 1.0},
    "cpu": {"us": 1.0, "µs": 1.0, "ms": 1e3},
}
_TIMES = {"us": 1e-3, "µs": 1e-3, "ms": 1.0, "s": 1e3}


@dataclass(frozen=True, slots=True)
class SweepSetting:
    """One combination that is measured: how a lane of a version is run. linger_ms : see `LaneRules`."""

    version: str
    form: Form = "compiled"
    max_rows: int = USUAL_ROWS
    linger_ms: float = 0.0
    copies: int = 1
    threads: int = 1

    def sentence(self, name_version: bool = False) -> str:
        """The setting in words.

        >>> SweepSetting("outage-risk@5", max_rows=64, copies=2).sentence()
        'compiled, 64 rows a batch, 2 copies'
        """
        words = [self.form, f"{self.max_rows:,} row{'s' if self.max_rows > 1 else ''} a batch"]
        if self.linger_ms:
            words.append(f"{self.linger_ms:g} ms linger")
        words.append(f"{self.copies} {'copies' if self.copies > 1 else 'copy'}")
        if self.threads > 1:
            words.append(f"{self.threads} threads")
        return ", ".join([self.version, *words] if name_version else words)

    @property
    def plainness(self) -> tuple[int, ...]:
        """Sorts settings from the plainest on: what differs from the usual is less plain, and so is what takes more of the machine."""
        unusual = (self.form != "compiled") + (self.max_rows != USUAL_ROWS) + (self.linger_ms > 0) + (self.threads > 1)
        return self.copies * self.threads, unusual, abs(self.max_rows - USUAL_ROWS), round(self.linger_ms * 1e3)

    def lane_rules(self, before: LaneRules) -> LaneRules:
        """The rules of an endpoint whose lanes run so. before : its present rules; what a sweep does not measure stays."""
        return replace(
            before,
            copies_least=self.copies,
            copies_most=self.copies,
            max_rows=self.max_rows,
            linger_ms=self.linger_ms,
            threads=self.threads,
            form=self.form,
        )


@dataclass(frozen=True, slots=True)
class Limit:
    """The most that a figure of the pick may be; of the throughput, the least.

    value : milliseconds, bytes, microseconds of processor time a row, or requests a second.
    """

    figure: Figure
    value: float

    __pydantic_config__: ClassVar = _CLOSED

    def __post_init__(self) -> None:
        if not 0 < self.value < 1e15:
            raise BadRequest(f"the limit {self.figure}={self.value:g} is no amount above 0")

    def sentence(self) -> str:
        """The limit in words."""
        bound = "at least" if self.figure == "throughput" else "at most"
        return f"{self.figure} {bound} {figure_text(self.figure, self.value)}"


def figure_text(figure: str, value: float) -> str:
    """A figure with its unit.

    >>> figure_text("p99", 12.5), figure_text("memory", 3e8)
    ('12.5 ms', '300 MB')
    """
    if figure == "throughput":
        return f"{value:,.0f} requests/s"
    if figure == "memory":
        return f"{value / 1e6:,.0f} MB"
    amount = f"{value:,.0f}" if value >= 1_000 else f"{value:.3g}"
    return f"{amount} {'µs a row' if figure == 'cpu' else 'ms'}"


def parse_limit(text: str) -> Limit:
    """A limit as it is typed; raise BadRequest.

    >>> parse_limit("p99=50ms"), parse_limit("memory=300MB")
    (Limit(figure='p99', value=50.0), Limit(figure='memory', value=300000000.0))
    """
    name, _, amount = text.partition("=")
    figures = ("p50", "p90", "p95", "p99", "max", "memory", "throughput", "cpu")
    found = re.fullmatch(r"([0-9]+(?:\.[0-9]+)?)\s*([a-zµ/]*)", amount.strip().lower())
    units = _UNITS.get(name, _TIMES)
    if name not in figures or found is None or found[2] not in units:
        example = {"memory": "memory=300MB", "throughput": "throughput=1000", "cpu": "cpu=40us"}.get(name, "p99=50ms")
        raise BadRequest(f"the limit {text!r} is not {' or '.join(dict.fromkeys((example, 'p99=50ms')))}; figures: {', '.join(figures)}")
    return Limit(name, float(found[1]) * units[found[2]])  # type: ignore[arg-type]


def limit_text(limit: Limit) -> str:
    """The limit as `parse_limit` takes it.

    >>> limit_text(Limit("memory", 3e8))
    'memory=300MB'
    """
    scale, unit = {"throughput": (1.0, ""), "memory": (1e6, "MB"), "cpu": (1.0, "us")}.get(limit.figure, (1.0, "ms"))
    return f"{limit.figure}={limit.value / scale:.10g}{unit}"


@dataclass(frozen=True, slots=True)
class SweepPlan:
    """max_rows, linger_ms, copies, threads, forms : values that are combined; empty ones are chosen by what the versions and the node have.

    clients : that ask at once, each waiting for its answer. request_rows : rows of each request. seconds : of one measurement.
    whole_s : after so many seconds nothing more is measured. rows : where the rows are from, in words.
    """

    versions: tuple[str, ...]
    clients: int = 64
    request_rows: int = 1
    limits: tuple[Limit, ...] = ()
    goal: Goal = "throughput"
    max_rows: tuple[int, ...] = ()
    linger_ms: tuple[float, ...] = ()
    copies: tuple[int, ...] = ()
    threads: tuple[int, ...] = ()
    forms: tuple[Form, ...] = ()
    seconds: float = 2.0
    whole_s: float = 900.0
    rows: str = "reference"

    __pydantic_config__: ClassVar = _CLOSED

    def __post_init__(self) -> None:
        if not 1 <= len(self.versions) <= _MOST_VERSIONS or len(set(self.versions)) < len(self.versions):
            raise BadRequest(f"a sweep measures one to {_MOST_VERSIONS} versions, each named once")
        for version in self.versions:
            parse_version(version)
        if not 1 <= self.clients <= MOST_CLIENTS:
            raise BadRequest(f"the clients of a sweep are 1 to {MOST_CLIENTS:,}, and not {self.clients}")
        if not 1 <= self.request_rows <= 1_000:
            raise BadRequest(f"a request of a sweep has 1 to 1,000 rows, and not {self.request_rows}")
        if not 0.2 <= self.seconds <= 60 or not self.seconds <= self.whole_s <= 86_400:
            raise BadRequest("a measurement takes 0.2 to 60 seconds, and the whole sweep longer than that, up to a day")
        for name, (low, high) in _BOUNDS.items():
            for value in getattr(self, name):
                if not low <= value <= high:
                    raise BadRequest(f"{name} of a sweep go from {low:g} to {high:,g}, and {value:g} does not")


@dataclass(frozen=True, slots=True)
class SweepGrid:
    """The values that are combined, each in rising order. usual : where the search begins."""

    versions: tuple[str, ...]
    forms: dict[str, tuple[Form, ...]]
    max_rows: tuple[int, ...]
    linger_ms: tuple[float, ...]
    copies: tuple[int, ...]
    threads: dict[str, tuple[int, ...]] = field(default_factory=dict)

    def settings(self) -> list[SweepSetting]:
        """Every combination."""
        return [
            SweepSetting(version, form, rows, linger, copies, threads)
            for version in self.versions
            for form in self.forms[version]
            for rows, linger, copies, threads in product(self.max_rows, self.linger_ms, self.copies, self.threads_of(version, form))
        ]

    def threads_of(self, version: str, form: Form) -> tuple[int, ...]:
        """The numbers of threads that change anything: originals of fitted steps compute on one."""
        return self.threads.get(version, (1,)) if form == self.forms[version][0] else (1,)

    def usual(self) -> list[SweepSetting]:
        """Of each version and form, the combination that is nearest to what the service does by itself."""
        rows = min(self.max_rows, key=lambda value: abs(value - USUAL_ROWS))
        return [
            SweepSetting(version, form, rows, self.linger_ms[0], self.copies[0], self.threads_of(version, form)[0])
            for version in self.versions
            for form in self.forms[version]
        ]

    def neighbours(self, setting: SweepSetting) -> list[SweepSetting]:
        """The settings that differ from one by one step of one value."""
        threads = self.threads_of(setting.version, setting.form)
        return [
            *(replace(setting, max_rows=value) for value in _beside(self.max_rows, setting.max_rows)),
            *(replace(setting, linger_ms=value) for value in _beside(self.linger_ms, setting.linger_ms)),
            *(replace(setting, copies=value) for value in _beside(self.copies, setting.copies)),
            *(replace(setting, threads=value) for value in _beside(threads, setting.threads)),
        ]


def _beside(values: tuple[Number, ...], value: Number) -> list[Number]:
    """The values next to one, below and above."""
    at = values.index(value)
    return [values[other] for other in (at - 1, at + 1) if 0 <= other < len(values)]


def sweep_grid(plan: SweepPlan, forms: dict[str, tuple[Form, ...]], threaded: Sequence[str], cores: int) -> SweepGrid:
    """The values that a plan combines on a machine with so many cores; raise BadRequest for too many, or a form that no version has.

    forms : that each version can be served in, the usual one first. threaded : versions that compute a batch on several threads.
    """
    some = tuple(sorted({1, cores}))
    wanted: dict[str, tuple[Form, ...]] = {}
    for version in plan.versions:
        wanted[version] = tuple(form for form in forms[version] if not plan.forms or form in plan.forms)
        if not wanted[version]:
            raise BadRequest(f"{version} has no {' or '.join(plan.forms)} form; it has: {', '.join(forms[version])}")
    grid = SweepGrid(
        plan.versions,
        wanted,
        max_rows=tuple(sorted(set(plan.max_rows or (16, 64, 256, USUAL_ROWS)))),
        linger_ms=tuple(sorted(set(plan.linger_ms or (0.0, 1.0)))),
        copies=tuple(sorted(set(plan.copies or some))),
        threads={version: tuple(sorted(set(plan.threads or some))) for version in threaded},
    )
    if (many := len(grid.settings())) > MOST_SETTINGS:
        raise BadRequest(f"that makes {many:,} combinations, and a sweep has {MOST_SETTINGS} at most; name fewer values")
    return grid


@cache
def _plans() -> TypeAdapter[SweepPlan]:
    return TypeAdapter(SweepPlan)


def read_plan(document: Any) -> SweepPlan:
    """The plan that a document describes; raise BadRequest for what is none."""
    try:
        return _plans().validate_python(document)
    except ValidationError as error:
        first = error.errors(include_url=False)[0]
        raise BadRequest(f"{'.'.join(map(str, first['loc'])) or 'the sweep'}: {first['msg'].lower()}") from error


def write_plan(plan: SweepPlan) -> dict[str, Any]:
    """The plan as a JSON document."""
    document: dict[str, Any] = _plans().dump_python(plan, mode="json")
    return document
