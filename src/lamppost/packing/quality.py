"""Holds a model's answers against the frame's own target: how often it is right, and whether that is better than chance."""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from dataclasses import dataclass
from typing import TYPE_CHECKING, Any

import numpy as np
import numpy.typing as npt

from lamppost.core.schema.columns import Column, json_values
from lamppost.core.schema.fields import Field

if TYPE_CHECKING:
    import pandas as pd

_LEAST_ROWS = 50
_NORMAL_95 = 1.96
_NAMED = 4


@dataclass(frozen=True, slots=True)
class AnswerQuality:
    """summary : one sentence for the packer. caution : what is probably a mistake, None where nothing is."""

    summary: str
    caution: str | None = None


def answer_quality(
    field: Field, answered: Column, target: pd.Series, label_of: Mapping[str, str], held_out: npt.NDArray[np.bool_] | None
) -> AnswerQuality | None:
    """The quality of one answer field over some rows; None where answers and target cannot be compared.

    answered, target : of the same rows. label_of : what the model calls a class, by the class as text. held_out : which rows the model was
    not fitted on, if that is known.
    """
    present = target.notna().to_numpy()
    if present.sum() == 0:
        return None
    given = json_values(field, answered)
    if field.kind in ("choice", "yes/no", "integer"):  # a regressor gives no whole numbers
        truth = [label_text(value, label_of) for value in target.tolist()]
        said = [label_text(value, {}) for value in given]
        return _of_labels(said, truth, present, held_out, [*field.choices] or [*label_of.values()] or ["True", "False", "0", "1"])
    if field.kind == "number" and target.dtype.kind in "iufb":
        return _of_numbers(np.array(given, dtype=float), target.to_numpy(dtype=float), present, held_out, field.unit)
    return None


def label_text(value: Any, label_of: Mapping[str, str]) -> str:
    """A class as the model calls it. label_of : what it calls a class, by the class as text."""
    text = str(int(value)) if isinstance(value, float) and value.is_integer() else str(value)
    return label_of.get(text, text)


def _parts(present: npt.NDArray[np.bool_], held_out: npt.NDArray[np.bool_] | None) -> list[tuple[str, npt.NDArray[np.bool_]]]:
    """What is said of, and which rows that is; last what is judged."""
    parts = [("this frame", present)]
    if held_out is not None and (present & held_out).any():
        parts.append(("the rows held out", present & held_out))
    return parts


def _of_labels(
    said: Sequence[str], truth: Sequence[str], present: npt.NDArray[np.bool_], held_out: npt.NDArray[np.bool_] | None, labels: Sequence[str]
) -> AnswerQuality:
    left, right = np.array(said, dtype=object), np.array(truth, dtype=object)
    values = list(dict.fromkeys(right[present].tolist()))
    if not set(values) & set(labels):
        return AnswerQuality(
            "not held against the target: its values are other labels than the model's",
            f"the target's values ({_few(values)}) are none that the model can give ({_few(labels)}); is it the column that was predicted?",
        )
    agrees = left == right
    shares = [(name, float(agrees[rows].mean())) for name, rows in _parts(present, held_out)]
    summary = "right on " + ", ".join(f"{share:.0%} of {name}" for name, share in shares)
    rows = _parts(present, held_out)[-1][1]
    by_chance = sum(float((left[rows] == label).mean() * (right[rows] == label).mean()) for label in values)
    spread = _NORMAL_95 * np.sqrt(max(by_chance * (1 - by_chance), 0.0) / rows.sum())
    if rows.sum() >= _LEAST_ROWS and len(values) > 1 and shares[-1][1] <= by_chance + spread:
        return AnswerQuality(
            summary,
            f"the labels agree with the target no better than by chance ({shares[-1][1]:.0%} of {shares[-1][0]}); "
            "is it the column that was predicted, and are the labels in the order of the classes?",
        )
    return AnswerQuality(summary)


def _of_numbers(
    said: npt.NDArray[np.float64],
    truth: npt.NDArray[np.float64],
    present: npt.NDArray[np.bool_],
    held_out: npt.NDArray[np.bool_] | None,
    unit: str | None,
) -> AnswerQuality:
    errors = np.abs(said - truth)
    parts = [(name, float(errors[rows].mean())) for name, rows in _parts(present, held_out)]
    rows = _parts(present, held_out)[-1][1]
    usual = float(np.abs(truth[rows] - np.median(truth[rows])).mean())
    unit_text = f" {unit}" if unit else ""
    summary = "off by " + ", ".join(f"{error:.3g}{unit_text} on average over {name}" for name, error in parts)
    summary += f"; always saying the median would be off by {usual:.3g}"
    if rows.sum() >= _LEAST_ROWS and usual > 0 and parts[-1][1] >= usual:
        caution = "the answers are no nearer to the target than its median; is it the column that was predicted, and in the same unit?"
        return AnswerQuality(summary, caution)
    return AnswerQuality(summary)


def _few(values: Sequence[str]) -> str:
    return ", ".join(values[:_NAMED]) + (", …" if len(values) > _NAMED else "")
