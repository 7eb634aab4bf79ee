"""Lenient reading: takes values of another kind whose meaning leaves no doubt, and lists every value that was changed.

Nothing is guessed: a value out of range, a missing one that may not be missing, and a choice that is not among the choices stay faults.

============  ============================================================================================
wanted        also taken
============  ============================================================================================
number        its text as JSON writes numbers, with spaces around it
integer       the same; a number without a fraction, such as 3.0
yes/no        0 and 1; the words true, false, yes, no, in any case
choice        its text with other spaces around it or in another case, where only one choice is like it
text          a number, true or false, as its text
time          one without an offset, as UTC; a date, as its first moment in UTC
any           empty text, NaN and "null" as missing, where a value may be missing
no field      left out
============  ============================================================================================
"""

from __future__ import annotations

import math
import re
from dataclasses import dataclass
from typing import Any

import orjson

from lamppost.core.schema.fields import Field, Schema
from lamppost.core.schema.value_kinds import shortened_json

MAX_LISTED = 50
_NUMBER = re.compile(r"\s*[-+]?(\d+(\.\d*)?|\.\d+)([eE][-+]?\d+)?\s*")
_DATE = re.compile(r"\d{4}-\d\d-\d\d")
_NO_OFFSET = re.compile(r"\d{4}-\d\d-\d\d[Tt ]\d\d:\d\d(:\d\d(\.\d+)?)?")
_WORDS = {"true": True, "yes": True, "1": True, "false": False, "no": False, "0": False}
_SAME: Any = object()


@dataclass(frozen=True, slots=True)
class Coercion:
    """A value that was taken as another one. given, taken : as JSON would write them; ``taken`` is None for a field that was left out."""

    row: int
    field: str
    given: str
    taken: str | None

    def to_dict(self) -> dict[str, Any]:
        """As it stands in an answer."""
        coercion: dict[str, Any] = {"row": self.row, "field": self.field, "given": self.given}
        return coercion | ({"left_out": True} if self.taken is None else {"taken": self.taken})


def coerce_row(schema: Schema, values: dict[str, Any], row: int, coercions: list[Coercion]) -> dict[str, Any]:
    """One row of JSON values, converted where that is certain; every conversion is added to ``coercions``."""
    fields = {field.name: field for field in schema}
    coerced: dict[str, Any] = {}
    for name, value in values.items():
        field = fields.get(name)
        if field is None:
            coercions.append(Coercion(row, name, shortened_json(value), None))
            continue
        eased = coerce_value(field, value)
        coerced[name] = value if eased is _SAME else eased
        if eased is not _SAME:
            private = "a private value"
            coercions.append(
                Coercion(
                    row, name, private if field.private else shortened_json(value), private if field.private else shortened_json(eased)
                )
            )
    return coerced


def coerce_value(field: Field, value: Any) -> Any:
    """The value to take instead, or the mark that it stays as it is."""
    text = value.strip() if isinstance(value, str) else None
    if field.missing and field.kind != "text" and (text in ("", "null") or (isinstance(value, float) and math.isnan(value))):
        return None
    match field.kind:
        case "number" | "integer" if text is not None and _NUMBER.fullmatch(text):
            number = float(text)
            if field.kind == "integer":
                return _whole(text, number)
            return number if math.isfinite(number) else _SAME
        case "integer" if isinstance(value, float) and value.is_integer() and abs(value) < 2**53:
            return int(value)
        case "yes/no" if type(value) is int and value in (0, 1):
            return bool(value)
        case "yes/no" if text is not None:
            return _WORDS.get(text.lower(), _SAME)
        case "choice" if text is not None and value not in field.choices:
            like = [choice for choice in field.choices if choice.strip().lower() == text.lower()]
            return like[0] if len(like) == 1 else _SAME
        case "choice" | "text" if isinstance(value, (bool, int, float)):
            number_text = orjson.dumps(value).decode() if abs(value) < 2**63 else str(value)
            return number_text if field.kind == "text" or field.unseen == "accept" or number_text in field.choices else _SAME
        case "time" if text is not None:
            if _DATE.fullmatch(text):
                return f"{text}T00:00:00Z"
            return f"{text}Z" if _NO_OFFSET.fullmatch(text) else _SAME
    return _SAME


def _whole(text: str, number: float) -> Any:
    """Text of a whole number; of one with a fraction, nothing."""
    if re.fullmatch(r"[-+]?\d{1,19}", text):
        return int(text)
    return int(number) if number.is_integer() and abs(number) < 2**53 else _SAME
