"""How what two versions have learned differs."""

from __future__ import annotations

from lamppost.core.insight.insight import Dependence, Figure, ModelInsight
from lamppost.core.insight.insight_text import importance_text, quality_text
from lamppost.core.monitoring.quality import is_number

_MOVED = 0.05
_NAMED = 6


def compare_insights(before: ModelInsight | None, after: ModelInsight | None) -> list[str]:
    """Sentences, what matters most first; none where one version's package says nothing of it, or they answer different things."""
    if before is None or after is None or (before.answer, before.kind) != (after.answer, after.kind):
        return []
    return [_quality(before, after), *_importance(before, after), *_curves(before, after), *_slices(before, after)]


def _quality(before: ModelInsight, after: ModelInsight) -> str:
    old, new = before.quality, after.quality
    if before.kind == "labels":
        text = f"right on {100 * new.value:.1f} % of {after.rows:,} rows; it was {100 * old.value:.1f} % of {before.rows:,}"
    else:
        text = f"off by {new.value:.3g} on average over {after.rows:,} rows; it was {old.value:.3g} over {before.rows:,}"
    if before.held_out != after.held_out:
        fitted = "this one" if before.held_out else "the earlier one"
        return f"{text}. They cannot be compared: {fitted} was measured on rows that it was fitted on"
    return text + ("" if _are_apart(old, new) else "; the intervals overlap")


def _are_apart(old: Figure, new: Figure) -> bool:
    """Whether the intervals of both leave no doubt that they differ."""
    if old.low is None or old.high is None or new.low is None or new.high is None:
        return False
    return new.low > old.high or new.high < old.low


def _importance(before: ModelInsight, after: ModelInsight) -> list[str]:
    """Fields whose importance has moved by more than their intervals, the largest move first."""
    old, new = ({one.field: one for one in insight.importance} for insight in (before, after))
    moved: list[tuple[float, str]] = []
    for name in new:
        if name not in old:
            if new[name].clear:
                moved.append((new[name].worse.value, f"looks at {name} ({importance_text(new[name])}), which is new"))
            continue
        a, b = old[name].worse, new[name].worse
        apart = b.value - a.value
        if abs(apart) >= _MOVED and _are_apart(a, b):
            more = "more" if apart > 0 else "less"
            moved.append((abs(apart), f"looks {more} at {name}: {importance_text(new[name])}, it was {importance_text(old[name])}"))
    return [text for _, text in sorted(moved, key=lambda pair: -pair[0])[:_NAMED]]


def _curves(before: ModelInsight, after: ModelInsight) -> list[str]:
    """Fields that the answer now depends on the other way round."""
    old = {curve.field: curve for curve in before.curves}
    texts = []
    for curve in after.curves:
        was, now = _direction(old.get(curve.field)), _direction(curve)
        if was and now and was != now:
            texts.append(f"the {after.curve_of} {'rises' if now > 0 else 'falls'} with {curve.field}; it {'rose' if was > 0 else 'fell'}")
    return texts


def _direction(curve: Dependence | None) -> int:
    """1 where the answer rises with a number, -1 where it falls, 0 where neither is clear."""
    if curve is None or not all(map(is_number, curve.values)):
        return 0
    spread = max(curve.mean) - min(curve.mean)
    change = curve.mean[-1] - curve.mean[0]
    return 0 if spread <= 0 or abs(change) < 0.5 * spread else 1 if change > 0 else -1


def _slices(before: ModelInsight, after: ModelInsight) -> list[str]:
    """Slices in which answers have surely become better or worse."""
    old = {(one.by, one.value): one.figure for one in before.slices}
    texts = []
    for one in after.slices:
        was, now = old.get((one.by, one.value)), one.figure
        if was is not None and before.held_out == after.held_out and _are_apart(was, now):
            better = (now.value > was.value) == (after.kind == "labels")
            values = (quality_text(after, figure.value) for figure in (now, was))
            texts.append(f"{'better' if better else 'worse'} where {one.by} is {one.value}: {', it was '.join(values)}")
    return texts
