"""Says an answer in the words of a desk."""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from typing import Any

from lamppost.core.desk.settings import DeskSettings, NumberRange
from lamppost.core.endpoint.endpoint_schema import WHICH
from lamppost.core.errors import BadRequest
from lamppost.core.names import closest_name
from lamppost.core.schema.fields import Field, Schema

_SAYABLE = ("choice", "yes/no", "number", "integer", "text")


def main_answer(name: str | None, answers: Schema) -> Field:
    """The answer that a desk is about. name : None for the first that can be said. Raise BadRequest where there is none."""
    sayable = [field for field in answers if field.kind in _SAYABLE and field.name != WHICH]
    if name is None:
        if not sayable:
            raise BadRequest("the endpoint answers neither a label nor a number nor text, which a desk could say")
        return sayable[0]
    for field in sayable:
        if field.name == name:
            return field
    names = [field.name for field in sayable]
    like = closest_name(name, names)
    raise BadRequest(
        f"{name!r} is no answer that a desk can say" + (f"; did you mean {like!r}?" if like else f"; there are: {', '.join(names)}")
    )


def labels_of(answer: Field) -> tuple[str, ...]:
    """The labels that an answer may have, as they are counted and set; none for a number or a text."""
    if answer.kind == "yes/no":
        return ("yes", "no")
    return tuple(answer.choices) if answer.kind == "choice" else ()


def label_text(value: Any) -> str:
    """A label as it is counted and set: ``yes`` and ``no`` for an answer that is true or false."""
    return "missing" if value is None else ("yes" if value else "no") if isinstance(value, bool) else str(value)


def number_text(value: float, unit: str | None) -> str:
    """A number for people: four digits that count, and its unit.

    >>> number_text(1234.567, "kWh"), number_text(0.01234, None)
    ('1,235 kWh', '0.01234')
    """
    text = f"{value:,.0f}" if abs(value) >= 1_000 else f"{value:.4g}"
    return f"{text} {unit}" if unit else text


def words_of_answer(settings: DeskSettings, answer: Field, value: Any) -> tuple[str, str | None]:
    """What an answer is called, and its state; the answer itself where the owner has set nothing."""
    if answer.kind in ("number", "integer") and value is not None:
        text = number_text(float(value), answer.unit)
        meant = _range_of(settings.ranges, float(value))
        return (f"{text}: {meant.text}" if meant.text else text, meant.state) if meant is not None else (text, None)
    label = label_text(value)
    words = settings.answers.get(label)
    return (words.text, words.state) if words is not None else (label, None)


def _range_of(ranges: Sequence[NumberRange], value: float) -> NumberRange | None:
    reached = [one for one in ranges if value >= one.least]
    return max(reached, key=lambda one: one.least) if reached else None


def score_lines(settings: DeskSettings, answers: Schema, answer: Field, row: Mapping[str, Any]) -> list[tuple[str, float]]:
    """How sure the model is of each label, 0 to 1, the largest first: of the vector whose names are the labels of the answer."""
    labels = set(answer.choices)
    for field in answers:
        scores = row.get(field.name)
        if field.kind == "vector" and labels and set(field.choices) == labels and isinstance(scores, Mapping):
            found = [(words_of_answer(settings, answer, name)[0], float(score)) for name, score in scores.items()]
            return sorted(found, key=lambda one: -one[1])
    return []
