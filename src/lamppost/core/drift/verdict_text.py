"""Puts a drift verdict into words, and finds when a change began."""

from __future__ import annotations

import math
from collections.abc import Mapping, Sequence
from dataclasses import replace
from typing import Any

import numpy as np
from numpy.typing import NDArray

from lamppost.core.drift.baseline import FieldSketch, ReferenceField
from lamppost.core.drift.field_tests import FLOORS, DriftFinding
from lamppost.core.drift.verdicts import STATES, DriftVerdict, FieldVerdict
from lamppost.core.drift.watched_features import NEW_WORDS
from lamppost.core.drift.window_verdict import DescribedField, WindowVerdict, feature_sentence

_KEPT = 3
"""Findings of a field that are kept."""


def describe_verdict(verdict: DriftVerdict, baseline: str = "training") -> WindowVerdict:
    """A verdict in words, the fields that matter most first. baseline : what the windows were held against, for the sentence."""
    fields = sorted(verdict.fields, key=_weight, reverse=True)
    return WindowVerdict(
        verdict.state,
        verdict_sentence(verdict, baseline),
        windows=verdict.windows,
        rows=verdict.rows,
        fields=tuple(_described(field, baseline) for field in fields),
        pairs=verdict.pairs[:20],
    )


def _weight(field: FieldVerdict) -> tuple[int, float]:
    finding = leading_finding(field)
    return STATES.index(field.state), finding.size / FLOORS[finding.what][1] if finding is not None else 0.0


def leading_finding(field: FieldVerdict) -> DriftFinding | None:
    """The finding that gave a field its state: the largest by its floor among the sure ones; of a steady field the largest of all."""
    sure = [finding for finding in field.findings if finding.p < 0.01] or list(field.findings)
    far = next((finding.size for finding in sure if finding.what == "far"), 0.0)
    if far >= FLOORS["far"][0]:
        # a few rows far outside say more than that rows lie outside, or that they make the whole a little wider
        least = {what: 2 * far if what == "outside" else floors[1] for what, floors in FLOORS.items()}
        sure = [finding for finding in sure if finding.what == "far" or finding.size >= least[finding.what]]
    return max(sure, key=lambda finding: finding.size / FLOORS[finding.what][1], default=None)


def _described(field: FieldVerdict, baseline: str) -> DescribedField:
    first = leading_finding(field)
    rest = [finding for finding in field.findings if finding is not first]
    findings = ([first] if first is not None else []) + rest[: _KEPT - 1]
    return DescribedField(field.name, field.state, describe_field(field, baseline), field.rows, tuple(findings))


def describe_field(field: FieldVerdict, baseline: str = "training") -> str:
    """How a field changed, in a few words: ``1.2 sd higher``. baseline : what its rows were held against."""
    finding = leading_finding(field)
    if field.state == "steady" or finding is None:
        return f"as in {baseline}"
    if field.name.endswith(NEW_WORDS) and finding.what == "shape":
        return _new_words(finding, baseline)
    return describe_finding(finding, baseline)


def describe_finding(finding: DriftFinding, baseline: str = "training") -> str:
    """A finding in a few words that go on from a name and "is".

    >>> describe_finding(DriftFinding("missing", 0.0, 0.05, 0.05, 0.0, 0.05))
    'missing in 5 %, 0 % in training'
    """
    size = abs(finding.signed)
    if finding.what == "location":
        return f"{size:.2g} sd {'higher' if finding.signed > 0 else 'lower'}"
    if finding.what == "spread":
        # the score of spread is that of (z^2 - 1) / sqrt 2, so its mean says by how much the variance has grown
        ratio = math.sqrt(max(0.01, 1 + math.sqrt(2) * finding.signed))
        return f"spread {ratio:.2g} times as wide"
    words = {
        "missing": "missing",
        "outside": "outside training's range",
        "far": "far outside training's range",
        "unseen": "a value never seen before",
        "shape": finding.where or "of other values",
    }
    return f"{words[finding.what]} in {_percent(finding.after)}, {_percent(finding.before)} in {baseline}"


def _new_words(finding: DriftFinding, baseline: str) -> str:
    """How the part of texts with new words changed. The values of such a field are none, one and several."""
    before, after = finding.before or 0.0, finding.after or 0.0
    if finding.where == "none":
        before, after = 1 - before, 1 - after
    words = {"one": "one new word", "several": "several new words"}.get(finding.where or "", "new words")
    return f"{words} in {_percent(after)} of texts, {_percent(before)} in {baseline}"


def _percent(part: float | None) -> str:
    return "–" if part is None else f"{100 * part:.2g} %" if part < 0.1 else f"{100 * part:.0f} %"


def describe_p(p: float) -> str:
    """The certainty in words: ``p < 1e-9``."""
    return f"p = {p:.2g}" if p >= 1e-4 else "p < 1e-12" if p < 1e-12 else f"p < 1e{math.floor(math.log10(p)) + 1}"


def verdict_sentence(verdict: DriftVerdict, baseline: str = "training") -> str:
    """A verdict in one sentence, with certainty and size. baseline : what the windows were held against."""
    rows = f"{verdict.rows:,} rows"
    if verdict.state == "steady":
        return f"Steady: {rows} look like {baseline} in all {len(verdict.fields)} features."
    changed = sorted((field for field in verdict.fields if field.state != "steady"), key=_weight, reverse=True)
    parts = []
    for changed_field in changed[:2]:
        finding = leading_finding(changed_field)
        parts.append(
            feature_sentence(changed_field.name, describe_field(changed_field, baseline))
            + (f" ({describe_p(finding.p)})" if finding is not None else "")
        )
    if not parts and verdict.pairs:
        pair = verdict.pairs[0]
        parts = [f"{pair.first} and {pair.second} correlate by {pair.after:+.2f} and not by {pair.before:+.2f} ({describe_p(pair.p)})"]
    more = len(changed) - len(parts)
    span = f", over {verdict.windows} windows" if verdict.windows > 1 else ""
    tail = f", and {more} more" if more > 0 and changed else ""
    return f"{verdict.state.capitalize()}: {'; '.join(parts)}{tail}. {rows}{span}."


def change_start(known: ReferenceField, ticks: Sequence[FieldSketch]) -> int | None:
    """The index of the tick with which a lasting change of a feature began; None where no split stands out. ticks : the oldest first.

    The split with the largest log-likelihood of two multinomials over one (Hinkley, *Biometrika* 57, 1970).
    """
    usable = np.stack([np.append(tick.bins, [tick.missing]) for tick in ticks]).astype(np.float64)
    if len(usable) < 2 or not known.bins.counts:
        return None
    before, total = np.cumsum(usable, axis=0), usable.sum(axis=0)
    gains = np.array([_likelihood(before[at]) + _likelihood(total - before[at]) for at in range(len(usable) - 1)])
    best = int(gains.argmax())
    gain = 2 * (gains[best] - _likelihood(total))
    return best + 1 if gain > 2 * (usable.shape[1] + math.log(len(usable))) else None


def _likelihood(counts: NDArray[np.float64]) -> float:
    total = counts.sum()
    there = counts[counts > 0]
    return float((there * np.log(there / total)).sum()) if total else 0.0


def bin_shares(known: ReferenceField, sketch: FieldSketch | None) -> dict[str, Any]:
    """Reference and window bin by bin, as a page draws them: parts of the rows that have a value.

    edges : upper ends of all bins of a number but the last. range : 0.1 and 99.9 % of the reference. choices : the bins of a choice.
    """
    bins = known.bins
    reference = np.asarray(bins.counts, dtype=np.float64)
    window = sketch.bins.astype(np.float64) if sketch is not None else np.zeros(len(reference))
    return {
        "edges": list(bins.edges),
        "range": [bins.low, bins.high] if known.numbers else None,
        "choices": [*bins.choices, "any other"] if not known.numbers else [],
        "reference": (reference / max(1.0, reference.sum())).round(6).tolist(),
        "window": (window / max(1.0, window.sum())).round(6).tolist(),
        "reference_rows": int(reference.sum()),
        "window_rows": int(window.sum()),
        "reference_missing": known.missing / max(1, known.rows),
        "window_missing": sketch.missing / max(1, sketch.rows) if sketch is not None else None,
    }


def quantiles_of_bins(known: ReferenceField, sketch: FieldSketch, parts: Sequence[float]) -> list[float] | None:
    """Quantiles of a number over a window, linear inside a bin; the ends are those of the reference. None for a window without values.

    parts : ascending, 0 to 1.
    """
    edges = np.asarray(known.bins.edges, dtype=np.float64)
    if not sketch.bins.sum() or not len(edges):
        return None
    ends = np.concatenate([[min(known.bins.low, edges[0])], edges, [max(known.bins.high, edges[-1])]])
    below = np.concatenate([[0.0], np.cumsum(sketch.bins)]) / sketch.bins.sum()
    return [round(float(value), 6) for value in np.interp(parts, below, ends)]


def window_as_reference(known: Sequence[ReferenceField], windows: Mapping[str, FieldSketch]) -> tuple[ReferenceField, ...]:
    """An earlier window as the reference: the same bins with the window's counts. The blocks of the reference stay."""
    features = []
    for feature in known:
        sketch = windows.get(feature.name)
        if sketch is not None and sketch.bins.sum():
            bins = replace(
                feature.bins,
                counts=tuple(sketch.bins.tolist()),
                outside=sketch.odd if feature.numbers else 0,
                far=sketch.far,
                once=sketch.odd,
            )
            features.append(replace(feature, bins=bins, rows=sketch.rows, missing=sketch.missing))
    return tuple(features)
