"""Decides whether a window of rows looks like the reference, feature by feature. A verdict needs certainty and size, and states both.

Certainty is by Bonferroni within a field and Benjamini and Hochberg (*JRSS B* 57, 1995) over fields; the statistics are those of
`lamppost.core.drift.field_tests` and `lamppost.core.drift.pair_tests`. Where earlier windows of a stream are known, a change has to show
against these too, unless a whole day shows it.
"""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from dataclasses import dataclass, replace
from functools import partial
from typing import Literal

import numpy as np
from numpy.typing import NDArray

from lamppost.core.drift.baseline import DriftBaseline, FieldSketch, PairBaseline, ReferenceField, WindowSketch, pool_sketches
from lamppost.core.drift.bins import What
from lamppost.core.drift.dependence import Dependence, reference_dependence
from lamppost.core.drift.field_tests import FLOORS, DriftFinding, find_differences, tests_of_field
from lamppost.core.drift.live_history import NO_PHI, LiveBaseline, LivePhi, live_pairs
from lamppost.core.drift.pair_tests import compare_pairs, pair_sizes_to_exceed

DriftState = Literal["steady", "shifting", "drifted"]
STATES: tuple[DriftState, ...] = ("steady", "shifting", "drifted")

RISK = 0.01
"""The part of windows of an unchanged stream that may be called anything but steady."""
LADDER = (1, 4, 16)
"""So many of the last windows are looked at together, each with its part of the risk. With earlier days known, the last are a whole day."""
_FIELDS, _PAIRS = 0.8, 0.2
FITTED = (0.21, 0.30)
"""The floors of location, spread and shape of answers to rows that the model was fitted on, where these lie no further from answers
to other rows."""
_BEYOND_FITTED = 1.5
_SURELY = 10
"""So many times as certain is what is called drifted: of a choice with many values the least change that is certain is large already."""


@dataclass(frozen=True, slots=True)
class FieldVerdict:
    """The verdict on a field. findings : the most certain first. windows : how many were pooled for the state."""

    name: str
    state: DriftState
    findings: tuple[DriftFinding, ...]
    windows: int = 1
    rows: int = 0


@dataclass(frozen=True, slots=True)
class PairVerdict:
    """Two fields whose correlation changed. before, after : the correlation in the reference and in the window."""

    first: str
    second: str
    state: DriftState
    p: float
    before: float
    after: float


@dataclass(frozen=True, slots=True)
class DriftVerdict:
    """The verdict on a window. windows : pooled windows of the step that gave the state. fields : the fields of that step."""

    state: DriftState
    fields: tuple[FieldVerdict, ...]
    pairs: tuple[PairVerdict, ...] = ()
    windows: int = 1
    rows: int = 0


def judge_windows(against: DriftBaseline, windows: Sequence[WindowSketch], live: LiveBaseline | None = None) -> DriftVerdict:
    """The last window, the last four and the last sixteen (oldest first), each with a third of the risk; the worst state counts.

    What several windows show together counts only while the latest of them (the last of four, the last four of sixteen) show half of it
    too: a change that is over is steady again. live : what earlier windows of the stream show.
    """
    best: DriftVerdict | None = None
    latest: list[FieldVerdict] = []
    now: NDArray[np.float64] | None = None
    phi = live.phi if live is not None else NO_PHI
    bases = {LADDER[0]: live.latest, LADDER[1]: live.four} if live is not None else {}
    risk = RISK / len(LADDER)
    for rung in LADDER:
        step = max(rung, live.cycle) if live is not None and live.latest is not None and rung == LADDER[-1] else rung
        if rung > 1 and len(windows) < step:
            break
        pooled, base = pool_sketches(windows[-step:]), bases.get(rung)
        fields = latest = judge_fields(against, pooled.fields, _FIELDS * risk, latest, phi, base)
        pairs = judge_pairs(against, pooled, _PAIRS * risk, now, phi, base)
        now = pooled.moments.correlations() if pooled.moments is not None else None
        states = [verdict.state for verdict in fields] + [pair.state for pair in pairs]
        level = max(map(STATES.index, states), default=0)
        verdict = DriftVerdict(STATES[level], tuple(fields), tuple(pairs), step, pooled.rows)
        if best is None or level > STATES.index(best.state):
            best = verdict
    assert best is not None
    return best


def judge_fields(
    against: DriftBaseline,
    window: Mapping[str, FieldSketch],
    risk: float,
    latest: Sequence[FieldVerdict] = (),
    phi: LivePhi = NO_PHI,
    base: WindowSketch | None = None,
) -> list[FieldVerdict]:
    """The verdicts on all fields of one window. A finding is certain if it passes Bonferroni within its field and Benjamini and Hochberg
    over fields at ``risk``. latest : verdicts on the last of several pooled windows; a change that these no longer show is over.
    base : earlier windows that a change has to show against too.
    """
    now = {verdict.name: {finding.what: finding.size for finding in verdict.findings} for verdict in latest}
    looked: list[tuple[ReferenceField, list[DriftFinding]]] = []
    for known in against.known:
        sketch = window.get(known.name)
        if sketch is None:
            continue
        findings = find_differences(known, sketch, None, partial(_reference_dependence, known, known.name in against.dependent, phi))
        if base is not None and known.name in base.fields:
            findings = _both(findings, find_differences(known, sketch, base.fields[known.name], partial(_live_dependence, known.name, phi)))
        findings = [replace(finding, p=min(1.0, finding.p * tests_of_field(known))) for finding in findings]
        looked.append((known, sorted(findings, key=lambda finding: (finding.p, -finding.size))))
    limit = _limit([findings[0].p if findings else 1.0 for _, findings in looked], risk)
    return [
        FieldVerdict(known.name, _state(findings, limit, now.get(known.name), known), tuple(findings), rows=window[known.name].rows)
        for known, findings in looked
    ]


def _reference_dependence(known: ReferenceField, dependent: bool, phi: LivePhi, what: What, m: float, n: float) -> Dependence:
    live = phi.dependence(known.name, what)
    spread = known.bins.blocks.get(what) if dependent else None
    return live if spread is None else reference_dependence(spread, m, n, live)


def _live_dependence(name: str, phi: LivePhi, what: What, _m: float, _n: float) -> Dependence:
    return phi.dependence(name, what)


def _both(findings: Sequence[DriftFinding], others: Sequence[DriftFinding]) -> list[DriftFinding]:
    """What shows against the reference and against earlier windows: the larger p, the smaller size; nothing where directions differ."""
    by_what = {finding.what: finding for finding in others}
    found = []
    for finding in findings:
        other = by_what.get(finding.what)
        if other is not None and finding.signed * other.signed < 0:
            finding = replace(finding, p=1.0)
        elif other is not None:
            finding = replace(finding, p=max(finding.p, other.p), size=min(finding.size, other.size))
        found.append(finding)
    return found


def _limit(ps: Sequence[float], risk: float) -> float:
    """The largest p that Benjamini and Hochberg's procedure accepts; -1 where it accepts none."""
    ordered = sorted(ps)
    stands = [risk * at / len(ordered) for at, p in enumerate(ordered, 1) if p <= risk * at / len(ordered)]
    return stands[-1] if stands else -1.0


def _state(findings: Sequence[DriftFinding], limit: float, now: Mapping[What, float] | None, known: ReferenceField) -> DriftState:
    level = 0
    for finding in findings:
        if finding.p <= limit and (now is None or _lasts(finding.what, finding.size, now.get(finding.what, 0.0))):
            shifting, drifted = _floors(known, finding.what)
            surely = finding.p <= limit / _SURELY
            level = max(level, 2 if surely and finding.size >= drifted else 1 if finding.size >= shifting else 0)
    return STATES[level]


def _floors(known: ReferenceField, what: What) -> tuple[float, float]:
    """The floors of a field. Answers to rows that a model was fitted on are surer than others: they need a larger difference."""
    order: tuple[What, ...] = ("location", "spread", "shape")
    if known.fitted is None or what not in order:
        return FLOORS[what]
    if not known.fitted:
        return FITTED
    apart = _BEYOND_FITTED * known.fitted[order.index(what)]
    return max(FITTED[0], FLOORS[what][0] + apart), max(FITTED[1], FLOORS[what][1] + apart)


def _lasts(what: What, pooled: float, now: float) -> bool:
    """Whether the latest windows still show at least half of the floor and half of the size of a finding in all pooled windows."""
    return now >= 0.5 * max(FLOORS[what][0], pooled)


def judge_pairs(
    against: DriftBaseline,
    window: WindowSketch,
    risk: float,
    latest: NDArray[np.float64] | None = None,
    phi: LivePhi = NO_PHI,
    base: WindowSketch | None = None,
) -> list[PairVerdict]:
    """Pairs of numeric fields whose correlation has certainly changed, the largest change first.

    latest : correlations in the last of several pooled windows; a change that these no longer show is over. base : earlier windows that a
    change has to show against too.
    """
    pairs = against.pairs
    if pairs is None or window.moments is None:
        return []
    found = compare_pairs(pairs, against.rows, window.moments, phi.pairs, phi.pair_degrees)
    if found is None:
        return []
    p, size = found.p, np.abs(found.after - found.before)
    earlier = live_pairs(pairs, base) if base is not None else None
    if earlier is not None and base is not None and base.moments is not None:
        again = compare_pairs(earlier, base.moments.rows, window.moments, phi.pairs, phi.pair_degrees)
        if again is not None:
            p = np.where((found.after - found.before) * (again.after - again.before) < 0, 1.0, np.maximum(p, again.p))
            size = np.minimum(size, np.abs(again.after - again.before))
    limit = _limit(p.tolist(), risk)
    verdicts = [
        _pair_verdict(pairs, found.first[at], found.second[at], (float(p[at]), limit), (float(found.before[at]), float(found.after[at])))
        for at in np.flatnonzero((p <= limit) & _large_enough(pairs, found.first, found.second, size, window.moments.rows, latest)).tolist()
    ]
    return sorted(verdicts, key=lambda pair: -abs(pair.after - pair.before))


def _large_enough(
    pairs: PairBaseline,
    first: NDArray[np.int64],
    second: NDArray[np.int64],
    size: NDArray[np.float64],
    rows: int,
    latest: NDArray[np.float64] | None,
) -> NDArray[np.bool_]:
    large = size >= FLOORS["correlation"][0]
    exceed = pair_sizes_to_exceed(pairs, rows)
    if exceed is not None:
        large &= size >= exceed[first, second]
    if latest is not None:
        now = np.abs(latest - pairs.correlations)[first, second]
        large &= now >= 0.5 * np.maximum(FLOORS["correlation"][0], size)
    return np.asarray(large)


def _pair_verdict(pairs: PairBaseline, first: int, second: int, certainty: tuple[float, float], r: tuple[float, float]) -> PairVerdict:
    (p, limit), (before, after) = certainty, r
    drifted = abs(after - before) >= FLOORS["correlation"][1] and p <= limit / _SURELY
    return PairVerdict(pairs.names[first], pairs.names[second], "drifted" if drifted else "shifting", p, before, after)
