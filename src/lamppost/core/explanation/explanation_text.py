"""Explanations in sentences."""

from __future__ import annotations

import math
from collections.abc import Mapping, Sequence
from typing import Any

from lamppost.core.explanation.explanation import Explanation
from lamppost.core.explanation.rules import AnswerRule, Condition
from lamppost.core.explanation.smallest_changes import SmallestChange
from lamppost.core.schema.fields import Schema, find_field

_NAMED = 3
_LONGEST = 200
_ENDS = 2
"""Numbers that say where a part of a text lies; a region of a picture has four."""
_SMALL = 0.05
"""Part of the largest contribution below which one is not named."""


def plain_value(value: Any) -> str:
    """A value in a sentence."""
    if value is None:
        return "missing"
    if isinstance(value, bool):
        return "yes" if value else "no"
    if isinstance(value, float):
        return f"{value:,.4g}" if abs(value) < 1e4 else f"{value:,.0f}"
    text = str(value)
    return text if len(text) <= 40 else f"{text[:37]}…"


def condition_text(condition: Condition, inputs: Schema) -> str:
    """``lamp_type is sodium``, ``age_years is 20 years or more``."""
    if condition.comparison == "missing":
        return f"{condition.field} is missing"
    field = find_field(inputs, condition.field)
    unit = f" {field.unit}" if field is not None and field.unit else ""
    more = {"at least": " or more", "at most": " or less"}.get(condition.comparison, "")
    return f"{condition.field} is {plain_value(condition.value)}{unit if more else ''}{more}"


def rule_text(rule: AnswerRule, says: str, inputs: Schema) -> str:
    """A rule as one sentence, with its precision and coverage."""
    where = " and ".join(condition_text(condition, inputs) for condition in rule.conditions)
    of_cases = f"in {rule.precision:.0%} ({rule.low * 100:.0f} to {rule.high * 100:.0f}) of cases, in {rule.usual:.0%} of all"
    covers = f"; {rule.coverage:.0%} of training's rows are so" if where else ""
    if not rule.reached:
        return f"No short rule was found that says {says} nearly always; the best: where {where or 'anything'}, {of_cases}{covers}."
    return f"{f'Where {where}, it' if where else 'It'} says {says} {of_cases}{covers}."


def change_text(change: SmallestChange, row: Mapping[str, Any]) -> str:
    """``age_years were 12 instead of 31``."""
    return " and ".join(
        f"{name} were {plain_value(value)} instead of {plain_value(row.get(name))}" for name, value in change.fields.items()
    )


def says_text(explained: Explanation) -> str:
    """What a rule is about: the label of the answer, or on which side of the median its number is."""
    outputs = explained.cases.outputs
    label = outputs.label_of(explained.answer)
    if label is not None:
        return plain_value(label)
    return "more than is typical" if outputs.main_figure(explained.answer) > explained.middle else "less than is typical"


def explanation_text(explained: Explanation) -> str:
    """The explanation in two or three sentences."""
    outputs, found = explained.cases.outputs, explained.contributions
    label = outputs.label_of(explained.answer)
    own = outputs.main_figure(explained.answer)
    start = plain_value(label) if label is not None else f"{outputs.names[outputs.primary]} {plain_value(own)}"
    sentences = []
    if found is None or not len(found.parts) or not math.isfinite(float(found.amounts[:, outputs.primary].sum())):
        sentences.append(f"It says {start}.")
    else:
        typical = _figure(explained, float(found.baseline[outputs.primary]))
        score = f" ({_figure(explained, own)}, typical {typical})" if label is not None else f" (typical {typical})"
        sentences.append(f"It says {start}{score}{_reasons(explained)}.")
    if explained.changes is not None and explained.changes.changes:
        change = explained.changes.changes[0]
        turned = outputs.label_of(change.answer)
        says = plain_value(turned) if turned is not None else plain_value(outputs.main_figure(change.answer))
        sentences.append(f"It would say {says} if {change_text(change, explained.row)}.")
    return " ".join(sentences)


def _figure(explained: Explanation, value: float) -> str:
    return f"{value:.0%}" if explained.cases.outputs.is_score else plain_value(value)


def _amount(explained: Explanation, amount: float) -> str:
    return f"{100 * amount:+.1f} points" if explained.cases.outputs.is_score else f"{amount:+.3g}"


def _reasons(explained: Explanation) -> str:
    """The largest contributions: of fields, or of the words of the only one."""
    found, primary = explained.contributions, explained.cases.outputs.primary
    assert found is not None
    names = [" and ".join(_with_value(name, explained) for name in part) for part in found.parts]
    if len(found.parts) == 1 and len(explained.within) == 1:
        game, found = explained.within[0]
        text = isinstance(explained.row.get(game.field), str) and len(game.places[0]) == _ENDS
        names = [f"“{part[0]}”" if text else f"{game.field}, {', '.join(part)}" for part in game.parts]
    amounts: Sequence[float] = found.amounts[:, primary].tolist()
    order = sorted(range(len(amounts)), key=lambda part: -abs(amounts[part]))[:_NAMED]
    named = [part for part in order if abs(amounts[part]) > _SMALL * abs(amounts[order[0]]) and abs(amounts[part]) > 1e-12]
    if not named:
        return "; nothing moves this answer"
    told = [f"{names[part]} ({_amount(explained, amounts[part])})" for part in named]
    return f", most of all because of {told[0]}" if len(told) == 1 else f", most of all because of {', '.join(told[:-1])} and {told[-1]}"


def _with_value(name: str, explained: Explanation) -> str:
    """A field with its value, unless that is a picture or many numbers."""
    value = explained.row.get(name)
    return name if isinstance(value, (list, dict)) or (isinstance(value, str) and len(value) > _LONGEST) else f"{name} {plain_value(value)}"
