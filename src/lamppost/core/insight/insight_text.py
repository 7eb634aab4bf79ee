"""What a model has learned, in lines for people."""

from __future__ import annotations

from lamppost.core.insight.insight import FieldImportance, Figure, ModelInsight, SliceQuality

_NAMED = 5
_SLICES = 4


def insight_lines(insight: ModelInsight) -> list[tuple[str, str]]:
    """Pairs of a word and what is to be said of it: how good it is, where it is not, what it looks at."""
    lines = [("quality", quality_sentence(insight))]
    if worst := worse_slices(insight):
        lines.append(("worse", "; ".join(slice_text(insight, one) for one in worst[:_SLICES])))
    clear = [one for one in insight.importance if one.clear]
    if insight.importance:
        named = ", ".join(f"{one.field} {importance_text(one)}" for one in clear[:_NAMED]) or "no field by itself"
        more = f", and {len(clear) - _NAMED} more" if len(clear) > _NAMED else ""
        lines.append(("looks at", f"{named}{more} (so much of what it does better than chance is lost without it)"))
        unused = [one.field for one in insight.importance if not one.clear]
        if unused and clear:
            rest = f", and {len(unused) - _NAMED} more" if len(unused) > _NAMED else ""
            lines.append(("hardly at", ", ".join(unused[:_NAMED]) + rest))
    if insight.interaction is not None:
        pair = insight.interaction
        lines.append(("together", f"{pair.first} and {pair.second}: {100 * pair.strength:.0f} % of their joint effect is of both at once"))
    if insight.calibration is not None:
        lines.append(("scores", f"off by {100 * insight.calibration.error:.1f} points of a hundred on average, as probabilities"))
    if insight.left_out is not None:
        lines.append(("left out", insight.left_out))
    return lines


def quality_sentence(insight: ModelInsight) -> str:
    """How good a model is, over which rows, and how good it would be to always say the same."""
    rows = f"{insight.rows:,} rows " + (
        "that it was not fitted on" if insight.held_out else "that it was fitted on, so fresh rows go worse"
    )
    span = _span(insight, insight.quality)
    if insight.kind == "labels":
        return f"right on {100 * insight.quality.value:.1f} %{span} of {rows}; always the commonest label: {100 * insight.by_chance:.1f} %"
    unit = f" {insight.unit}" if insight.unit else ""
    return f"off by {insight.quality.value:.3g}{unit}{span} on average over {rows}; always the median: {insight.by_chance:.3g}{unit}"


def worse_slices(insight: ModelInsight) -> list[SliceQuality]:
    """The slices in which answers are surely worse than over all, the worst first."""
    whole = insight.quality.value
    if insight.kind == "labels":
        worse = [one for one in insight.slices if one.figure.high is not None and one.figure.high < whole]
        return sorted(worse, key=lambda one: one.figure.value)
    worse = [one for one in insight.slices if one.figure.low is not None and one.figure.low > whole]
    return sorted(worse, key=lambda one: -one.figure.value)


def slice_text(insight: ModelInsight, one: SliceQuality) -> str:
    """The quality of a slice: ``district is old-town: 71.2 % (64.0 to 77.4) of 160 rows``."""
    return f"{one.by} is {one.value}: {quality_text(insight, one.figure.value)}{_span(insight, one.figure)} of {one.figure.of:,} rows"


def importance_text(one: FieldImportance) -> str:
    """How much of what a model does better than chance is lost without a field: ``46 %``."""
    return f"{100 * one.worse.value:.0f} %" if one.worse.value >= 0.1 else f"{100 * one.worse.value:.1f} %"


def quality_text(insight: ModelInsight, value: float) -> str:
    """A quality: a part of the answers, or how far they are off."""
    return f"{100 * value:.1f} %" if insight.kind == "labels" else f"{value:.3g}"


def _span(insight: ModelInsight, figure: Figure) -> str:
    if figure.low is None or figure.high is None:
        return ""
    return (
        f" ({100 * figure.low:.1f} to {100 * figure.high:.1f})" if insight.kind == "labels" else f" ({figure.low:.3g} to {figure.high:.3g})"
    )
