"""Measures what a model has learned, on rows whose truth is known: by asking it, whatever it is made of.

Importance is by permutation (Breiman, *Machine Learning* 45, 2001; Fisher, Rudin and Dominici, *JMLR* 20(177), 2019): how much worse
answers get when a field has the values of other rows, row by row, so that intervals follow from differences of the same rows.
"""

from __future__ import annotations

import logging
import time
from collections import Counter
from collections.abc import Callable, Mapping, Sequence
from dataclasses import dataclass, replace
from typing import TYPE_CHECKING, Any

import numpy as np
import numpy.typing as npt

from lamppost.core.artifact.schema_inference import frame_rows
from lamppost.core.insight.insight import (
    Calibration,
    CalibrationBin,
    Confusion,
    Dependence,
    FieldImportance,
    Figure,
    Interaction,
    ModelInsight,
    Residuals,
    SliceQuality,
    as_figure,
)
from lamppost.core.monitoring.quality import JudgedAnswer, estimate_mean, is_number, is_right, quality_figures
from lamppost.core.schema.fields import Field, Schema
from lamppost.core.schema.value_kinds import choice_text

if TYPE_CHECKING:
    import pandas as pd

log = logging.getLogger("lamppost.packing")

Floats = npt.NDArray[np.float64]
AskRows = Callable[["pd.DataFrame"], list[dict[str, Any]]]
"""The answers to rows of a request, as JSON objects."""

MOST_ROWS, LEAST_ROWS = 2_000, 50
ROWS_ASKED = 40_000
"""Rows that a model is asked about for importance, curves and pairs together; a half for the first. It is no time, because packing the same
model twice gives the same bytes."""
_REPEATS = 5
_QUICK_S = 1e-4
"""Seconds a row from which on a model is asked about a tenth as many; from ten times as long on, only how good it is is measured."""
_LEAST_ASKED = 100
_CURVES = 6
_CURVE_ROWS = 200
_POINTS = 15
_CHOICES = 12
_PAIRED = 4
_PAIR_POINTS = 8
_PAIR_ROWS = 60
_LABELS = 20
_SLICES, _SLICE_ROWS = 40, 20
_BINS = 21


@dataclass(frozen=True, slots=True)
class _Measure:
    """How answers are judged and what curves are of. loss : of each answer, 0 for right. figure : of one answer."""

    field: Field
    numbers: bool
    curve_of: str
    label: str | None

    def loss(self, answers: Sequence[Mapping[str, Any]], truth: Sequence[Any]) -> Floats:
        """How far each number is off, the squared error of scores (Brier, *Monthly Weather Review* 78, 1950), whether a label is wrong."""
        name = self.field.name
        if self.numbers:
            off: Floats = np.abs(np.asarray([_number(row.get(name)) for row in answers]) - np.asarray(truth, dtype=np.float64))
            return off
        if _scored(answers):
            return np.asarray([_squared(row["scores"], choice_text(true)) for row, true in zip(answers, truth, strict=True)])
        return np.asarray([float(not is_right(row.get(name), true)) for row, true in zip(answers, truth, strict=True)])

    def loss_by_chance(self, answers: Sequence[Mapping[str, Any]], truth: Sequence[Any]) -> float:
        """The mean loss of always giving the median, how often each label comes, or the commonest label."""
        if self.numbers:
            values = np.asarray(truth, dtype=np.float64)
            return float(np.abs(values - np.median(values)).mean())
        shares = [count / len(truth) for count in Counter(map(choice_text, truth)).values()]
        return 1 - sum(share**2 for share in shares) if _scored(answers) else 1 - max(shares)

    def figures(self, answers: Sequence[Mapping[str, Any]]) -> Floats:
        """What curves are of, for each answer."""
        if self.numbers:
            return np.asarray([_number(row.get(self.field.name)) for row in answers])
        scored = [row.get("scores") for row in answers]
        if all(isinstance(scores, Mapping) and self.label in scores for scores in scored):
            return np.asarray([_number(scores[self.label]) for scores in scored])  # type: ignore[index]
        return np.asarray([float(choice_text(row.get(self.field.name)) == self.label) for row in answers])


def measure_insight(
    frame: pd.DataFrame, truth: Sequence[Any], ask: AskRows, inputs: Schema, answer: Field, held_out: bool, rows_asked: int = ROWS_ASKED
) -> ModelInsight | None:
    """What a model has learned, on rows of a request frame; None where too few truths are known, or what they are about is private.

    truth : of each row, labels as the model calls them, None where it is not known. ask : the answers to rows. held_out : whether the model
    was not fitted on these rows.
    """
    known = np.asarray([at for at, value in enumerate(truth) if value is not None and value == value])
    if len(known) < LEAST_ROWS or answer.private:
        return None
    places = known[np.linspace(0, len(known) - 1, num=min(len(known), MOST_ROWS)).astype(int)]
    frame, truth = frame.iloc[places].reset_index(drop=True), [truth[at] for at in places.tolist()]
    begun = time.perf_counter()
    answers = ask(frame)
    slow = (time.perf_counter() - begun) / len(frame) / _QUICK_S
    measure = _measure_of(answer, answers, truth)
    known_fields = [field for field in inputs if field.name in frame.columns and field.kind not in ("image", "tensor")]
    insight = _quality(measure, answers, truth, frame, known_fields, held_out)
    if slow > 10:
        return replace(insight, left_out="what it looks at, because this model takes long to answer")
    budget = rows_asked if slow <= 1 else rows_asked // 10
    importance = _importance(frame, truth, answers, measure, known_fields, ask, budget // 2)
    first = [one.field for one in importance if one.clear] or [one.field for one in importance]
    shown = [field for name in first for field in known_fields if field.name == name and _can_be_drawn(field)]
    curves = _curves(frame, measure, shown[:_CURVES], ask, budget // 4)
    pair = _strongest_pair(frame, measure, shown[:_PAIRED], ask, budget // 4)
    return replace(insight, importance=tuple(importance), curves=tuple(curves), interaction=pair)


def _measure_of(answer: Field, answers: Sequence[Mapping[str, Any]], truth: Sequence[Any]) -> _Measure:
    if answer.kind == "number":
        return _Measure(answer, True, f"{answer.name}{f' in {answer.unit}' if answer.unit else ''}", None)
    # of two labels the rarer one, which is what is looked for; of more, the commonest but one
    common = [name for name, _ in Counter(map(choice_text, truth)).most_common()]
    label = common[1] if len(common) > 1 else common[0]
    scored = bool(answers) and isinstance(answers[0].get("scores"), Mapping) and label in answers[0]["scores"]
    return _Measure(answer, False, f"score of {label}" if scored else f"part of answers that are {label}", label)


def _can_be_drawn(field: Field) -> bool:
    return field.kind in ("number", "integer", "choice", "yes/no") and not field.private


# -- how good it is -------------------------------------------------------------------------------------------------------


def _quality(
    measure: _Measure,
    answers: Sequence[Mapping[str, Any]],
    truth: Sequence[Any],
    frame: pd.DataFrame,
    fields: Sequence[Field],
    held_out: bool,
) -> ModelInsight:
    """Quality, where it is worse, confusion or residuals, calibration."""
    sliced = [field for field in fields if field.kind in ("choice", "yes/no") and not field.private]
    rows = frame_rows(Schema(tuple(sliced)), frame[[field.name for field in sliced]]) if sliced else [{}] * len(frame)
    rows = [{name: "missing" if value is None else value for name, value in row.items()} for row in rows]
    judged = [JudgedAnswer(answer, true, row) for answer, true, row in zip(answers, truth, rows, strict=True)]
    name = measure.field.name
    found = quality_figures(judged, name, measure.numbers)
    main = found["absolute_error"] if measure.numbers else found["accuracy"]
    common = Counter(map(choice_text, truth)).most_common(1)[0][1] / len(truth)
    by_chance = measure.loss_by_chance(answers, truth) if measure.numbers else common
    slices = [
        SliceQuality(one["by"], one["value"], Figure(**one["figure"])) for one in found["slices"] if one["figure"]["of"] >= _SLICE_ROWS
    ]
    calibration = found.get("calibration")
    return ModelInsight(
        name,
        "numbers" if measure.numbers else "labels",
        len(frame),
        held_out,
        Figure(**main),
        by_chance,
        measure.curve_of,
        slices=tuple(slices[:_SLICES]),
        confusion=None if measure.numbers else _confusion(answers, truth, name),
        residuals=_residuals(measure, answers, truth) if measure.numbers else None,
        calibration=None
        if calibration is None
        else Calibration(
            calibration["error"],
            calibration["brier"],
            tuple(CalibrationBin(b["expected"], Figure(**b["came"])) for b in calibration["bins"]),
        ),
        unit=measure.field.unit,
    )


def _confusion(answers: Sequence[Mapping[str, Any]], truth: Sequence[Any], name: str) -> Confusion | None:
    pairs = Counter((choice_text(true), choice_text(row.get(name))) for true, row in zip(truth, answers, strict=True))
    labels = sorted({label for pair in pairs for label in pair})
    if len(labels) > _LABELS:
        return None
    return Confusion(tuple(labels), tuple(tuple(pairs[true, given] for given in labels) for true in labels))


def _residuals(measure: _Measure, answers: Sequence[Mapping[str, Any]], truth: Sequence[Any]) -> Residuals:
    off = measure.figures(answers) - np.asarray(truth, dtype=np.float64)
    off = off[np.isfinite(off)]
    end = float(np.quantile(np.abs(off), 0.99)) or 1.0
    edges = np.linspace(-end, end, _BINS + 1)
    counts, _ = np.histogram(np.clip(off, -end, end), edges)
    bias = estimate_mean(off.tolist())
    assert bias is not None
    return Residuals(tuple(edges.tolist()), tuple(counts.tolist()), as_figure(bias), float(np.sqrt((off**2).mean())))


# -- what it looks at -----------------------------------------------------------------------------------------------------


def _importance(
    frame: pd.DataFrame,
    truth: Sequence[Any],
    answers: Sequence[Mapping[str, Any]],
    measure: _Measure,
    fields: Sequence[Field],
    ask: AskRows,
    budget: int,
) -> list[FieldImportance]:
    """Fields by how much worse answers get without them, the most important first. budget : rows that may be asked about."""
    affordable = budget // max(1, len(fields))
    rows = min(len(frame), max(_LEAST_ASKED, affordable))
    repeats = max(1, min(_REPEATS, affordable // rows))
    places = np.linspace(0, len(frame) - 1, num=rows).astype(int)
    some, true = frame.iloc[places].reset_index(drop=True), [truth[at] for at in places.tolist()]
    asked = [answers[at] for at in places.tolist()]
    before = measure.loss(asked, true)
    # of a model that is no better than chance, parts of what chance loses
    by_chance = measure.loss_by_chance(asked, true)
    skill = by_chance - float(np.nanmean(before))
    unit = skill if skill > 0.05 * by_chance else max(by_chance, 1e-12)
    rng = np.random.default_rng(7)
    found = []
    for field in fields:
        worse = np.zeros(rows)
        for _ in range(repeats):
            other = some.copy()
            other[field.name] = some[field.name].iloc[rng.permutation(rows)].reset_index(drop=True)
            worse += (measure.loss(ask(other), true) - before) / (repeats * unit)
        estimate = estimate_mean(worse[np.isfinite(worse)].tolist())
        if estimate is not None:
            found.append(FieldImportance(field.name, as_figure(estimate)))
    return sorted(found, key=lambda one: -one.worse.value)


def _curves(frame: pd.DataFrame, measure: _Measure, fields: Sequence[Field], ask: AskRows, budget: int) -> list[Dependence]:
    rows = min(len(frame), _CURVE_ROWS, max(20, budget // max(1, len(fields)) // _POINTS))
    some = frame.iloc[np.linspace(0, len(frame) - 1, num=rows).astype(int)].reset_index(drop=True)
    curves = []
    for field in fields:
        values = _values(field, frame[field.name])
        if len(values) < 2:
            continue
        figures = measure.figures(ask(_crossed(some, {field.name: values}))).reshape(len(values), rows)
        low, high = np.nanquantile(figures, (0.25, 0.75), axis=1)
        mean = np.nanmean(figures, axis=1)
        curves.append(
            Dependence(
                field.name,
                _plain(values),
                tuple(mean.round(6).tolist()),
                tuple(low.round(6).tolist()),
                tuple(high.round(6).tolist()),
                _rows_at(field, frame[field.name], values),
            )
        )
    return curves


def _strongest_pair(frame: pd.DataFrame, measure: _Measure, fields: Sequence[Field], ask: AskRows, budget: int) -> Interaction | None:
    """The pair of the first fields whose joint effect is least a sum of both effects."""
    pairs = [(first, second) for at, first in enumerate(fields) for second in fields[at + 1 :]]
    rows = min(len(frame), _PAIR_ROWS, budget // max(1, len(pairs)) // _PAIR_POINTS**2)
    if not pairs or rows < 5:
        return None
    some = frame.iloc[np.linspace(0, len(frame) - 1, num=rows).astype(int)].reset_index(drop=True)
    best: Interaction | None = None
    largest = 0.0
    for first, second in pairs:
        grids = [_values(field, frame[field.name], _PAIR_POINTS) for field in (first, second)]
        if min(map(len, grids)) < 2:
            continue
        answers = ask(_crossed(some, {first.name: grids[0], second.name: grids[1]}))
        mean = np.nanmean(measure.figures(answers).reshape(len(grids[0]), len(grids[1]), rows), axis=2)
        weights = np.outer(*(np.asarray(_rows_at(f, frame[f.name], g)) + 1.0 for f, g in zip((first, second), grids, strict=True)))
        weights /= weights.sum()
        middle = mean - (weights * mean).sum()
        rest = middle - _effect(middle, weights, 1)[:, None] - _effect(middle, weights, 0)[None, :]
        joint, together = float((weights * middle**2).sum()), float((weights * rest**2).sum())
        if joint > 1e-12 and together > largest:
            largest = together
            grid = tuple(tuple(line) for line in mean.round(6).tolist())
            best = Interaction(first.name, second.name, round(min(1.0, together / joint), 4), _plain(grids[0]), _plain(grids[1]), grid)
    return best


def _effect(middle: Floats, weights: Floats, axis: int) -> Floats:
    """The mean effect of one field of two, over the other."""
    effect: Floats = (weights * middle).sum(axis=axis) / weights.sum(axis=axis)
    return effect


def _crossed(some: pd.DataFrame, values: Mapping[str, Sequence[Any]]) -> pd.DataFrame:
    """The rows with every combination of values: the values of the first field change slowest, the rows fastest."""
    import pandas as pd

    rows, total = len(some), int(np.prod([len(listed) for listed in values.values()]))
    crossed = some.iloc[np.tile(np.arange(rows), total)].reset_index(drop=True)
    inner = total
    for name, listed in values.items():
        inner //= len(listed)
        places = np.tile(np.repeat(np.arange(len(listed)), inner * rows), total // (inner * len(listed)))
        crossed[name] = pd.Series(listed, dtype=some[name].dtype).iloc[places].reset_index(drop=True)
    return crossed


def _values(field: Field, column: pd.Series, most: int = _POINTS) -> list[Any]:
    there = column.dropna()
    if field.kind in ("choice", "yes/no"):
        return list(there.value_counts().index[: min(most, _CHOICES)])
    numbers = there.to_numpy()
    return list(np.unique(np.quantile(numbers, np.linspace(0.02, 0.98, most), method="nearest"))) if len(numbers) else []


def _plain(values: Sequence[Any]) -> tuple[Any, ...]:
    return tuple(value.item() if isinstance(value, np.generic) else value if is_number(value) else str(value) for value in values)


def _rows_at(field: Field, column: pd.Series, values: Sequence[Any]) -> tuple[int, ...]:
    """Rows with each value of a choice, or nearer to a number than to its neighbours."""
    if field.kind in ("choice", "yes/no"):
        counts = column.value_counts()
        return tuple(int(counts.get(value, 0)) for value in values)
    numbers = np.asarray(values, dtype=np.float64)
    there = column.dropna().to_numpy(dtype=np.float64)
    return tuple(np.bincount(np.searchsorted((numbers[1:] + numbers[:-1]) / 2, there), minlength=len(numbers)).tolist())


def _scored(answers: Sequence[Mapping[str, Any]]) -> bool:
    """Whether answers say how likely each label is."""
    return all(isinstance(row.get("scores"), Mapping) for row in answers)


def _squared(scores: Mapping[str, Any], true: str) -> float:
    return float(sum((_number(score) - (label == true)) ** 2 for label, score in scores.items()))


def _number(value: Any) -> float:
    return float(value) if is_number(value) else float("nan")
