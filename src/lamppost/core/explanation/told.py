"""Explanations and curves as JSON objects, as the API gives them."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import asdict
from typing import Any

from lamppost.core.explanation.asking import Outputs, Row
from lamppost.core.explanation.contributions import Contributions
from lamppost.core.explanation.curves import FieldCurve
from lamppost.core.explanation.explanation import Explanation, listed_cases
from lamppost.core.explanation.explanation_text import change_text, condition_text, explanation_text, rule_text, says_text
from lamppost.core.explanation.within_fields import WithinField
from lamppost.core.schema.fields import Schema

Told = dict[str, Any]


def tell_explanation(found: Explanation, inputs: Schema, cases: int) -> Told:
    """An explanation without values of private fields. cases : how many of the rows that were asked are listed."""
    outputs, whole = found.cases.outputs, found.contributions
    public = [one for one in inputs if not one.private]
    names = {one.name for one in public}
    return {
        "row": _shown(found.row, names),
        "answer": dict(found.answer),
        "figure": outputs.names[outputs.primary],
        "is_score": outputs.is_score,
        "value": _number(outputs.main_figure(found.answer)),
        "typical": None if whole is None else _number(whole.baseline[outputs.primary]),
        "contributions": [] if whole is None else _tell_contributions(whole, outputs, found.row),
        "stopped": "not asked" if whole is None else whole.stopped,
        "within": [_tell_pieces(game, one, outputs.primary) for game, one in found.within],
        "changes": None if found.changes is None else _tell_changes(found),
        "rule": None if found.rule is None else _tell_rule(found, inputs),
        "cases": [
            {"differs": differs, "row": _shown(row, names), "answer": dict(answer)}
            for differs, row, answer in listed_cases(found, public, cases)
        ],
        "asked": found.asked,
        "failed": found.cases.failed,
        "left_out": list(found.left_out),
        "summary": explanation_text(found),
    }


def tell_curve(curve: FieldCurve, outputs: Outputs, answer: Row) -> Told:
    """A curve, with a list of values for each figure."""
    return {
        "field": curve.field,
        "values": curve.values,
        "figures": {name: [_number(value) for value in curve.figures[:, at]] for at, name in enumerate(outputs.names)},
        "figure": outputs.names[outputs.primary],
        "is_score": outputs.is_score,
        "own": curve.own,
        "counts": curve.counts,
        "answer": dict(answer),
    }


def _shown(row: Row, names: set[str]) -> Told:
    return {name: value for name, value in row.items() if name in names}


def _number(value: float) -> float | None:
    return float(value) if value == value else None


def _tell_contributions(whole: Contributions, outputs: Outputs, row: Row) -> list[Told]:
    """The largest first."""
    listed = [
        {
            "fields": list(part),
            "values": {name: row.get(name) for name in part},
            "amount": _number(amounts[outputs.primary]),
            "error": _number(errors[outputs.primary]),
            "amounts": {name: _number(amount) for name, amount in zip(outputs.names, amounts, strict=True)},
        }
        for part, amounts, errors in zip(whole.parts, whole.amounts, whole.errors, strict=True)
    ]
    return sorted(listed, key=lambda one: -abs(one["amount"] or 0.0))


def _tell_pieces(game: WithinField, found: Contributions, primary: int) -> Told:
    """In the order of the field's value."""
    pieces = zip(game.parts, game.places, found.amounts, found.errors, strict=True)
    return {
        "field": game.field,
        "typical": _number(found.baseline[primary]),
        "pieces": [
            {"name": ", ".join(part), "place": list(place), "amount": _number(amounts[primary]), "error": _number(errors[primary])}
            for part, place, amounts, errors in pieces
        ],
        "stopped": found.stopped,
    }


def _tell_changes(found: Explanation) -> Told:
    assert found.changes is not None
    changes: Sequence[Told] = [
        {
            "fields": [{"field": name, "before": found.row.get(name), "after": value} for name, value in change.fields.items()],
            "distance": round(change.distance, 4),
            "answer": dict(change.answer),
            "summary": change_text(change, found.row),
        }
        for change in found.changes.changes
    ]
    return {"changes": changes, "searched": found.changes.searched}


def _tell_rule(found: Explanation, inputs: Schema) -> Told:
    assert found.rule is not None
    told = asdict(found.rule)
    for condition, one in zip(told["conditions"], found.rule.conditions, strict=True):
        condition["summary"] = condition_text(one, inputs)
    return {**told, "conditions": list(told["conditions"]), "summary": rule_text(found.rule, says_text(found), inputs)}
