"""Decides whether a window of rows looks like the reference, feature by feature. A verdict needs certainty and size, and states both.

Statistics, for a window of m rows against a reference of n, with ``h = nm / (n + m)``, shares q and p of the bins and ``w`` those of both
together: location and spread are the score tests ``h (sum s (q - p))^2 / Var_w(s)`` with the scores of `lamppost.core.drift.bins` (a smooth
test in the manner of Neyman, *Skandinavisk Aktuarietidskrift* 20, 1937), the rest is what Pearson's ``h sum (q - p)^2 / w`` has beyond
them. Rates of rare events are compared by the exact conditional binomial test (Przyborowski and Wilenski, *Biometrika* 31, 1940); for
unseen choices, the choices that the reference saw once are added (Good, *Biometrika* 40, 1953). Correlations are compared by Fisher's z.
Certainty is by Bonferroni within a field and Benjamini and Hochberg (*JRSS B* 57, 1995) over fields.
"""

from __future__ import annotations

import math
from collections.abc import Mapping, Sequence
from dataclasses import dataclass, field
from typing import Any, Literal

import numpy as np
from numpy.typing import NDArray

from lamppost.core.drift.bins import BlockSpread, FieldBins, bin_scores
from lamppost.core.drift.distributions import binomial_tails, chi_squared_tail, f_tail, normal_probability

DriftState = Literal["steady", "shifting", "drifted"]
What = Literal["location", "spread", "shape", "missing", "outside", "unseen", "correlation"]
STATES: tuple[DriftState, ...] = ("steady", "shifting", "drifted")

RISK = 0.01
"""The part of windows of an unchanged stream that may be called anything but steady."""
LADDER = (1, 4, 16)
"""So many of the last windows are looked at together, each with its part of the risk."""
_FIELDS, _PAIRS = 0.8, 0.2
FLOORS: dict[What, tuple[float, float]] = {
    "location": (0.07, 0.25),
    "spread": (0.07, 0.25),
    "shape": (0.07, 0.25),
    "missing": (0.004, 0.03),
    "outside": (0.004, 0.03),
    "unseen": (0.004, 0.03),
    "correlation": (0.10, 0.30),
}
"""Sizes from which a change counts as shifting, and as drifted: standard deviations of the reference, parts of rows, differences of r."""
FITTED = (0.21, 0.30)
"""The floors of location, spread and shape of answers to rows that the model was fitted on: forests differ by 0.1 to 0.2 between those and
rows that they never saw."""
_EXPECTED = 5.0
_BEYOND_BLOCKS = 1.25
_SURELY = 10
"""So many times as certain is what is called drifted: of a choice with many values the least change that is certain is large already."""


@dataclass(slots=True)
class FieldSketch:
    """The counts of a field over a window. bins : rows in each bin of the reference. odd : rows outside its range, or with unseen
    choices.
    """

    bins: NDArray[np.int64]
    missing: int = 0
    odd: int = 0

    @property
    def rows(self) -> int:
        """Rows with and without a value."""
        return int(self.bins.sum()) + self.missing

    def __add__(self, other: FieldSketch) -> FieldSketch:
        return FieldSketch(self.bins + other.bins, self.missing + other.missing, self.odd + other.odd)


@dataclass(frozen=True, slots=True)
class ReferenceField:
    """A field of the reference. numbers : whether its bins are in order. rows, missing : of the reference.

    fitted : whether it is an answer to rows that the model was fitted on. Such answers are more certain than others, so a larger difference
    is needed.
    """

    name: str
    numbers: bool
    bins: FieldBins
    rows: int
    missing: int
    fitted: bool = False


@dataclass(frozen=True, slots=True)
class DriftFinding:
    """One way in which a field differs. p : the probability of such a difference in an unchanged stream, corrected for all tests of this
    field.

    size : in the unit of its floor in `FLOORS`. signed : with its direction. before, after : the rates, for a finding about rates.
    """

    what: What
    p: float
    size: float
    signed: float
    before: float | None = None
    after: float | None = None


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


@dataclass(slots=True)
class JointMoments:
    """Sums of location scores and of their products over a window, in the order of the numeric fields."""

    rows: int
    sums: NDArray[np.float64]
    products: NDArray[np.float64] = field(default_factory=lambda: np.zeros((0, 0)))

    def __add__(self, other: JointMoments) -> JointMoments:
        return JointMoments(self.rows + other.rows, self.sums + other.sums, self.products + other.products)

    def correlations(self) -> NDArray[np.float64]:
        """Correlations of the scores; 0 with a field that does not vary."""
        if not self.rows:
            return np.zeros_like(self.products)
        means = self.sums / self.rows
        covariance = self.products / self.rows - np.outer(means, means)
        spread = np.sqrt(np.maximum(np.diag(covariance), 1e-12))
        r: NDArray[np.float64] = np.clip(covariance / np.outer(spread, spread), -0.9999, 0.9999)
        return r


def find_differences(known: ReferenceField, window: FieldSketch) -> list[DriftFinding]:
    """Every way in which a field may differ in a window, each with its p before any correction."""
    findings: list[DriftFinding] = []
    reference = np.asarray(known.bins.counts, dtype=np.float64)
    n, m = float(reference.sum()), float(window.bins.sum())
    if n > 0 and m > 0:
        findings += _shape(known, reference, window.bins.astype(np.float64), n, m)
        # the ends of the range are rows of the reference themselves: as much again is to be expected beyond each
        rare, before = ("outside", known.bins.outside) if known.numbers else ("unseen", known.bins.once)
        findings.append(_rate(rare, window.odd, m, before, n, two_sided=False, prior=2 if known.numbers else 0))  # type: ignore[arg-type]
    if known.rows and window.rows:
        findings.append(_rate("missing", window.missing, window.rows, known.missing, known.rows, two_sided=True))
    return findings


def _shape(known: ReferenceField, reference: NDArray[Any], seen: NDArray[Any], n: float, m: float) -> list[DriftFinding]:
    p_all, q_all = _merged(reference, seen, n, m, known.numbers)
    p, q = p_all / n, q_all / m
    pool, h, df = (p_all + q_all) / (n + m), n * m / (n + m), len(p) - 1
    if df < 1:
        return []
    apart = q - p
    everything, findings = h * float((apart**2 / pool).sum()), []
    blocks = _like(known.bins.blocks, m)
    if known.numbers:
        for what, score, at in (("location", bin_scores(p_all)[0], 0), ("spread", bin_scores(p_all)[1], 1)):
            spread = float((pool * score**2).sum() - (pool * score).sum() ** 2)
            if spread > 1e-12:
                size = float((score * apart).sum())
                statistic = h * size**2 / spread
                everything, df = everything - statistic, df - 1
                findings.append(_with_blocks(what, statistic, 1, abs(size), size, known.bins.blocks, blocks, at, n, m))  # type: ignore[arg-type]
    if df > 0:
        size = math.sqrt(max(0.0, everything - df) / h)
        findings.append(_with_blocks("shape", max(0.0, everything), df, size, size, known.bins.blocks, blocks, -1, n, m))
    return findings


def _merged(reference: NDArray[Any], seen: NDArray[Any], n: float, m: float, ordered: bool) -> tuple[NDArray[Any], NDArray[Any]]:
    """Bins merged until each is expected to hold five rows of the smaller side; choices are merged from the rarest on."""
    expected = (reference + seen) / (n + m) * min(n, m)
    order = np.arange(len(expected)) if ordered else np.argsort(expected, kind="stable")
    groups: list[list[int]] = [[]]
    held = 0.0
    for at in order:
        groups[-1].append(int(at))
        held += float(expected[at])
        if held >= _EXPECTED:
            groups.append([])
            held = 0.0
    last = groups.pop()
    if last and groups:
        groups[-1] += last
    elif last:
        groups = [last]
    return np.array([reference[group].sum() for group in groups]), np.array([seen[group].sum() for group in groups])


def _like(blocks: Sequence[BlockSpread], m: float) -> BlockSpread | None:
    """The blocks whose length is closest to a window's."""
    return min(blocks, key=lambda block: abs(math.log(block.rows / m)), default=None)


def _with_blocks(
    what: What,
    statistic: float,
    df: int,
    size: float,
    signed: float,
    all_blocks: Sequence[BlockSpread],
    like: BlockSpread | None,
    at: int,
    n: float,
    m: float,
) -> DriftFinding:
    """The p of a chi-squared statistic; where the reference's own blocks differ by more than chance, the p of an F statistic that allows
    for that.
    """
    if like is None or not _dependent(like, at, df):
        return DriftFinding(what, float(chi_squared_tail(df, statistic)), size, signed)
    longest = max(all_blocks, key=lambda block: block.rows)
    h = n * m / (n + m)
    phi = max(1.0, h * (max(1.0, like.phi[at]) / m + max(1.0, longest.phi[at]) / n))
    p = f_tail(df, max(2.0, like.count / 2), statistic / (df * phi))
    return DriftFinding(what, p if size >= _BEYOND_BLOCKS * like.most[at] else 1.0, size, signed)


def _dependent(blocks: BlockSpread, at: int, df: int) -> bool:
    """Whether blocks differ by more than independent rows would: the sum of their statistics is chi-squared then."""
    return float(chi_squared_tail(blocks.count * df, blocks.phi[at] * blocks.count * df)) < 0.001 and blocks.phi[at] > 1.2


def _rate(what: What, k: int, m: float, before: int, n: float, two_sided: bool, prior: int = 0) -> DriftFinding:
    """The p of a number of events in the window among all events: binomial with the window's share of rows. prior : events added to the
    reference's.
    """
    of, share = k + before + prior, m / (n + m)
    above, below = binomial_tails(k, of, share)
    p = min(1.0, 2 * min(above, below)) if two_sided else above
    signed = k / m - before / n
    return DriftFinding(what, p, abs(signed) if two_sided else max(0.0, signed), signed, before / n, k / m)


def judge_fields(
    known: Sequence[ReferenceField], window: Mapping[str, FieldSketch], risk: float, latest: Sequence[FieldVerdict] = ()
) -> list[FieldVerdict]:
    """The verdicts on all fields of one window. A finding is certain if it passes Bonferroni within its field and Benjamini and Hochberg
    over fields at ``risk``. latest : verdicts on the last of several pooled windows; a change that these no longer show is over.
    """
    now = {verdict.name: {finding.what: finding.size for finding in verdict.findings} for verdict in latest}
    looked: list[tuple[ReferenceField, list[DriftFinding]]] = []
    for feature in known:
        if feature.name in window:
            times = 5 if feature.numbers else 3
            findings = [_times(finding, times) for finding in find_differences(feature, window[feature.name])]
            looked.append((feature, sorted(findings, key=lambda finding: (finding.p, -finding.size))))
    limit = _limit([findings[0].p if findings else 1.0 for _, findings in looked], risk)
    verdicts = []
    for feature, findings in looked:
        state = _state(findings, limit, now.get(feature.name), feature.fitted)
        verdicts.append(FieldVerdict(feature.name, state, tuple(findings), rows=window[feature.name].rows))
    return verdicts


def _times(finding: DriftFinding, times: int) -> DriftFinding:
    return DriftFinding(finding.what, min(1.0, finding.p * times), finding.size, finding.signed, finding.before, finding.after)


def _limit(ps: Sequence[float], risk: float) -> float:
    """The largest p that Benjamini and Hochberg's procedure accepts; -1 where it accepts none."""
    ordered = sorted(ps)
    stands = [risk * at / len(ordered) for at, p in enumerate(ordered, 1) if p <= risk * at / len(ordered)]
    return stands[-1] if stands else -1.0


def _state(findings: Sequence[DriftFinding], limit: float, now: Mapping[What, float] | None, fitted: bool) -> DriftState:
    level = 0
    for finding in findings:
        if finding.p <= limit and (now is None or _lasts(finding.what, finding.size, now.get(finding.what, 0.0))):
            shifting, drifted = FITTED if fitted and finding.what in ("location", "spread", "shape") else FLOORS[finding.what]
            surely = finding.p <= limit / _SURELY
            level = max(level, 2 if surely and finding.size >= drifted else 1 if finding.size >= shifting else 0)
    return STATES[level]


def _lasts(what: What, pooled: float, now: float) -> bool:
    """Whether the latest windows still show at least half of the floor and half of the size of a finding in all pooled windows."""
    return now >= 0.5 * max(FLOORS[what][0], pooled)


def judge_pairs(
    names: Sequence[str], before: NDArray[np.float64], n: int, window: JointMoments, risk: float, most: NDArray[np.float64] | None = None
) -> list[PairVerdict]:
    """Pairs of numeric fields whose correlation has certainly changed. before : of the reference, n : its rows.

    most : the largest change of each between blocks of the reference, where it is ordered in time; a window has to go well beyond that,
    and two of its own standard errors on top.
    """
    if window.rows < 10 or n < 10 or len(names) < 2:
        return []
    after = window.correlations()
    upper = np.triu_indices(len(names), 1)
    z = (np.arctanh(after[upper]) - np.arctanh(np.clip(before[upper], -0.9999, 0.9999))) / math.sqrt(1 / (window.rows - 3) + 1 / (n - 3))
    p = 2 * normal_probability(-np.abs(z))
    limit = _limit(p.tolist(), risk)
    shifting, drifted = FLOORS["correlation"]
    verdicts = []
    for at in np.flatnonzero(p <= limit):
        i, j = int(upper[0][at]), int(upper[1][at])
        size = abs(float(after[i, j] - before[i, j]))
        if size >= shifting and (most is None or size >= _BEYOND_BLOCKS * float(most[i, j]) + 2 / math.sqrt(window.rows - 3)):
            state: DriftState = "drifted" if size >= drifted and float(p[at]) <= limit / _SURELY else "shifting"
            verdicts.append(PairVerdict(names[i], names[j], state, float(p[at]), float(before[i, j]), float(after[i, j])))
    return sorted(verdicts, key=lambda pair: -abs(pair.after - pair.before))


@dataclass(frozen=True, slots=True)
class DriftBaseline:
    """The baseline that windows are compared with. names, correlations : of the numeric fields, in the order of `JointMoments`. most_apart
    : the largest difference of each correlation between blocks of the reference.
    """

    known: tuple[ReferenceField, ...]
    rows: int
    names: tuple[str, ...] = ()
    correlations: NDArray[np.float64] | None = None
    most_apart: NDArray[np.float64] | None = None


@dataclass(slots=True)
class WindowSketch:
    """The counts of all fields over a span of time."""

    fields: dict[str, FieldSketch]
    moments: JointMoments | None = None

    def __add__(self, other: WindowSketch) -> WindowSketch:
        moments = self.moments + other.moments if self.moments is not None and other.moments is not None else self.moments or other.moments
        both = {name: self.fields[name] + other.fields[name] for name in self.fields.keys() & other.fields.keys()}
        return WindowSketch({**other.fields, **self.fields, **both}, moments)


def judge_windows(against: DriftBaseline, windows: Sequence[WindowSketch]) -> DriftVerdict:
    """The last window, the last four and the last sixteen (oldest first), each with a third of the risk; the worst state counts.

    What several windows show together counts only while the latest of them (the last of four, the last four of sixteen) show half of it
    too: a change that is over is steady again.
    """
    best: DriftVerdict | None = None
    latest: list[FieldVerdict] = []
    now: NDArray[np.float64] | None = None
    for step in LADDER:
        if step > 1 and len(windows) < step:
            break
        pooled = windows[-step]
        for window in windows[len(windows) - step + 1 :]:
            pooled = pooled + window
        risk = RISK / len(LADDER)
        fields = latest = judge_fields(against.known, pooled.fields, _FIELDS * risk, latest)
        pairs: list[PairVerdict] = []
        if pooled.moments is not None and against.correlations is not None:
            pairs = judge_pairs(against.names, against.correlations, against.rows, pooled.moments, _PAIRS * risk, against.most_apart)
            if now is not None:
                at = {name: place for place, name in enumerate(against.names)}
                pairs = [
                    pair
                    for pair in pairs
                    if _lasts("correlation", abs(pair.after - pair.before), abs(float(now[at[pair.first], at[pair.second]]) - pair.before))
                ]
            now = pooled.moments.correlations()
        states = [verdict.state for verdict in fields] + [pair.state for pair in pairs]
        level = max(map(STATES.index, states), default=0)
        rows = max((verdict.rows for verdict in fields), default=0)
        verdict = DriftVerdict(STATES[level], tuple(fields), tuple(pairs), step, rows)
        if best is None or level > STATES.index(best.state):
            best = verdict
    assert best is not None
    return best
