"""Fields and schemas of inputs and answers.

A schema is an ordered tuple of fields. The manifest of a lamp file, the published JSON Schema 2020-12 (`Schema.to_json_schema`) and the
descriptions in words (`Field.expected_text`) are all made from the same values.
"""

from __future__ import annotations

import math
from collections import Counter
from collections.abc import Iterable, Iterator, Sequence
from dataclasses import dataclass
from typing import Any, ClassVar, Literal, get_args

from lamppost.core.errors import PackageRefused
from lamppost.core.limits import MAX_AXES, MAX_CHOICES, MAX_FIELDS
from lamppost.core.names import RESERVED_FIELDS, has_control_characters

Kind = Literal["number", "integer", "yes/no", "choice", "text", "time", "image", "vector", "tensor"]
KINDS: tuple[str, ...] = get_args(Kind)
Value = float | int | bool | str | list[Any] | None

INT_LOW, INT_HIGH = -(2**63), 2**63 - 1
MAX_TEXT = 10_000
MAX_ELEMENTS = 4_000_000


@dataclass(frozen=True, slots=True)
class Field:
    """One named column of an input or output schema.

    name : the key in a row.
    kind : number (float64), integer (int64), yes/no, choice (one of ``choices``), text, time (an instant, RFC 3339), image (PNG or
    JPEG), vector (float64, one per name in ``choices``), tensor (numbers of a ``shape``).
    unit : unit of a number, for people.
    low, high : limits that are enforced, inclusive, of a number or of each element of a tensor; None for none.
    seen : smallest and largest value in training; documented, never enforced.
    choices : values of a choice, or the names of a vector's elements, in a fixed order.
    unseen : whether a choice outside ``choices`` is refused or accepted.
    missing : whether null, or leaving the key out, is allowed.
    default : the value of a field that is left out; None for none.
    example : one real or typical value.
    meaning : one line for people.
    private : whether its values are kept out of records and messages.
    shape : lengths of a tensor's axes; 0 for an axis of any length. elements : what it is made of.
    size : width and height of an image in pixels; None for any. channels : 1 grey, 3 colour, 4 colour and opacity.
    changes : whether somebody can change the value of what is asked about, when another answer is looked for: a year of birth is
    ``fixed``, an age ``rises_only``.
    """

    name: str
    kind: Kind
    unit: str | None = None
    low: float | None = None
    high: float | None = None
    seen: tuple[float, float] | None = None
    choices: tuple[str, ...] = ()
    unseen: Literal["refuse", "accept"] = "refuse"
    missing: bool = False
    default: Value = None
    example: Value = None
    meaning: str | None = None
    private: bool = False
    shape: tuple[int, ...] = ()
    elements: Literal["number", "integer"] = "number"
    size: tuple[int, int] | None = None
    channels: Literal[1, 3, 4] = 3
    changes: Literal["freely", "rises_only", "fixed"] = "freely"

    __pydantic_config__: ClassVar = {"extra": "forbid", "strict": True, "allow_inf_nan": False}

    def __post_init__(self) -> None:
        problem = self._problem()
        if problem:
            raise PackageRefused(f"field {self.name!r}: {problem}")

    def _problem(self) -> str | None:
        if not self.name or len(self.name) > 200:
            return "a name of 1 to 200 characters is needed"
        if has_control_characters(self.name):
            return "a name has no control characters"
        if len(self.choices) > MAX_CHOICES:
            return f"it has {len(self.choices):,} choices; {MAX_CHOICES:,} are allowed"
        if self.name in RESERVED_FIELDS:
            return "this name is used by request bodies themselves; rename the column"
        if self.kind not in KINDS:
            return f"kind {self.kind!r} is not one of {', '.join(KINDS)}"
        if self.kind in ("choice", "vector") and (not self.choices or len(set(self.choices)) != len(self.choices)):
            return f"a {self.kind} needs at least one name in choices, none twice"
        if self.unseen not in ("refuse", "accept"):
            return "unseen is 'refuse' or 'accept'"
        if self.changes == "rises_only" and self.kind not in ("number", "integer", "time"):
            return f"only a number or a time rises; a {self.kind} changes freely or is fixed"
        if self.low is not None and self.high is not None and self.low > self.high:
            return f"low {self.low} is above high {self.high}"
        return self._shape_problem()

    def _shape_problem(self) -> str | None:
        if len(self.shape) > MAX_AXES:
            return f"it has {len(self.shape):,} axes; {MAX_AXES} are allowed"
        if self.kind == "tensor" and (not self.shape or min(self.shape) < 0 or math.prod(n or 1 for n in self.shape) > MAX_ELEMENTS):
            return f"a tensor needs a shape such as [28, 28], 0 for an axis of any length, of {MAX_ELEMENTS:,} elements at most"
        if self.kind in ("tensor", "vector") and self.missing:
            return f"a {self.kind} cannot be missing"
        if self.kind == "image" and (self.size is not None and min(self.size) < 1):
            return f"an image of {self.size[0]}×{self.size[1]} pixels cannot be"
        if self.kind == "image" and self.channels not in (1, 3, 4):
            return "channels is 1 (grey), 3 (colour) or 4 (colour and opacity)"
        return None

    @property
    def required(self) -> bool:
        """Whether the key must be in a row."""
        return not self.missing and self.default is None

    def expected_text(self) -> str:
        """What a value must be, in words: ``a number from 0 to 14 (m)``."""
        words = {
            "number": "a number",
            "integer": "a whole number",
            "yes/no": "true or false",
            "text": "text",
            "time": "a time such as 2026-11-23T18:30:00Z",
        }
        if self.kind == "choice":
            shown = ", ".join(self.choices[:12]) + (f" … ({len(self.choices)} in all)" if len(self.choices) > 12 else "")
            text = f"one of {shown}" if self.unseen == "refuse" else f"text, such as {shown}"
        elif self.kind == "vector":
            text = f"{len(self.choices)} numbers ({', '.join(self.choices[:12])})"
        elif self.kind == "tensor":
            text = f"lists of {'whole ' if self.elements == 'integer' else ''}numbers, {describe_shape(self.shape)}"
        elif self.kind == "image":
            pixels = f", {self.size[0]}×{self.size[1]} pixels" if self.size else ""
            text = f"a PNG or JPEG image in base64, {_CHANNELS[self.channels]}{pixels}"
        else:
            text = words[self.kind]
        if self.low is not None and self.high is not None:
            text += f" from {_short(self.low)} to {_short(self.high)}"
        elif self.low is not None:
            text += f", {_short(self.low)} or more"
        elif self.high is not None:
            text += f", {_short(self.high)} or less"
        if self.unit:
            text += f" ({self.unit})"
        if self.default is not None:
            text += f"; {format_value(self.default)} if it is left out"
        return f"{text}, or null" if self.missing else text

    def to_json_schema(self) -> dict[str, Any]:
        """This field as JSON Schema 2020-12; the unit is an annotation under ``x-unit``."""
        schema: dict[str, Any]
        if self.kind == "choice" and self.unseen == "refuse":
            schema = {"enum": [*self.choices, None] if self.missing else list(self.choices)}
        elif self.kind == "vector":
            properties = {name: {"type": "number"} for name in self.choices}
            schema = {"type": "object", "properties": properties, "required": list(self.choices), "additionalProperties": False}
        elif self.kind == "tensor":
            schema = self._element_schema()
            for length in reversed(self.shape):
                bounds = {"minItems": length, "maxItems": length} if length else {"minItems": 1}
                schema = {"type": "array", "items": schema, **bounds}
        else:
            kind = {"number": "number", "integer": "integer", "yes/no": "boolean"}.get(self.kind, "string")
            schema = {"type": [kind, "null"] if self.missing else kind}
        if self.kind in ("text", "choice") and "type" in schema:
            schema["maxLength"] = MAX_TEXT
        if self.kind == "time":
            schema["format"] = "date-time"
        if self.kind == "image":
            schema |= {"contentEncoding": "base64", "x-content-media-types": ["image/png", "image/jpeg"], "x-channels": self.channels}
            if self.size:
                schema |= {"x-width": self.size[0], "x-height": self.size[1]}
        if self.kind in ("number", "integer"):
            schema |= {key: value for key, value in self._element_schema().items() if key != "type"}
        if self.default is not None:
            schema["default"] = self.default
        if self.meaning:
            schema["description"] = self.meaning
        if self.unit:
            schema["x-unit"] = self.unit
        if self.example is not None:
            schema["examples"] = [self.example]
        return schema

    def _element_schema(self) -> dict[str, Any]:
        whole = self.kind == "integer" or (self.kind == "tensor" and self.elements == "integer")
        schema: dict[str, Any] = {"type": "integer", "minimum": INT_LOW, "maximum": INT_HIGH} if whole else {"type": "number"}
        if self.low is not None:
            schema["minimum"] = self.low
        if self.high is not None:
            schema["maximum"] = self.high
        return schema


def example_options(options: Schema | None) -> dict[str, Any]:
    """What stands in an example beside the fields, or rows: the options, where one of them is required."""
    return {"options": options.example()} if options is not None and any(field.required for field in options) else {}


_CHANNELS = {1: "grey", 3: "colour", 4: "colour with opacity"}


def describe_shape(shape: tuple[int, ...]) -> str:
    """A shape for people: ``(28, 0)`` is ``28×any``."""
    return "×".join(str(length) if length else "any" for length in shape)


def shape_holds(wanted: Sequence[int], shape: Sequence[int]) -> bool:
    """Whether a tensor of this shape is one of the wanted shape, in which 0 stands for any length."""
    return len(wanted) == len(shape) and all(want in (0, have) for want, have in zip(wanted, shape, strict=True))


def format_value(value: Value) -> str:
    """A default or example for people."""
    if isinstance(value, bool):
        return "true" if value else "false"
    return f"{value:g}" if isinstance(value, float) else str(value)


def _short(number: float) -> str:
    return f"{number:g}"


@dataclass(frozen=True, slots=True)
class Schema:
    """An ordered set of fields."""

    fields: tuple[Field, ...]

    __pydantic_config__: ClassVar = {"extra": "forbid", "strict": True}

    def __post_init__(self) -> None:
        names = [field.name for field in self.fields]
        if not names:
            raise PackageRefused("a schema needs at least one field")
        if len(names) > MAX_FIELDS:
            raise PackageRefused(f"a schema has {len(names):,} fields; {MAX_FIELDS:,} are allowed")
        if len(set(names)) != len(names):
            twice = sorted(name for name, times in Counter(names).items() if times > 1)
            raise PackageRefused(f"field names stand twice: {', '.join(twice[:20])}")

    def __iter__(self) -> Iterator[Field]:
        return iter(self.fields)

    def __len__(self) -> int:
        return len(self.fields)

    @property
    def names(self) -> tuple[str, ...]:
        """Field names in order."""
        return tuple(field.name for field in self.fields)

    def example(self) -> dict[str, Value]:
        """One row made of each field's example, or default; a field without either is null if it may be, else left out."""
        values = {f.name: f.default if f.example is None else f.example for f in self.fields}
        return {f.name: values[f.name] for f in self.fields if values[f.name] is not None or f.missing}

    def to_json_schema(self, options: Schema | None = None) -> dict[str, Any]:
        """One row as JSON Schema 2020-12, with options under their own key beside its fields."""
        properties = {field.name: field.to_json_schema() for field in self.fields}
        required = [field.name for field in self.fields if field.required]
        if options is not None:
            properties["options"] = {key: value for key, value in options.to_json_schema().items() if key != "$schema"}
            required += ["options"] if properties["options"]["required"] else []
        return {
            "$schema": "https://json-schema.org/draft/2020-12/schema",
            "type": "object",
            "properties": properties,
            "required": required,
            "additionalProperties": False,
            "examples": [self.example()],
        }


def find_field(fields: Iterable[Field], name: str) -> Field | None:
    """The field of that name, or None."""
    return next((field for field in fields if field.name == name), None)
