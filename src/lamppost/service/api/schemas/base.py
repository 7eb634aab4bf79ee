"""The base of all API schemas, and fields of a schema. The OpenAPI document and the console's types are generated from these models."""

from __future__ import annotations

from collections.abc import Iterable
from datetime import datetime
from typing import Annotated, Literal

from pydantic import AfterValidator, AwareDatetime, BaseModel, ConfigDict
from pydantic import Field as Described

from lamppost.core.instants import bounded_instant
from lamppost.core.schema.fields import Field, Kind, Value


class ApiModel(BaseModel):
    """Root of all API schemas."""

    model_config = ConfigDict(extra="forbid")


class FieldAnswer(ApiModel):
    """One field of a schema; ``expected`` says in words what a value must be."""

    name: str
    kind: Kind
    unit: str | None
    low: float | None
    high: float | None
    seen: list[float] | None
    choices: list[str]
    unseen: Literal["refuse", "accept"]
    missing: bool
    default: Value
    example: Value
    meaning: str | None
    private: bool = Described(description="kept out of records and messages")
    shape: list[int] = Described(description="lengths of a tensor's axes, 0 for any length")
    elements: Literal["number", "integer"]
    size: list[int] | None = Described(description="width and height of an image in pixels")
    channels: int
    expected: str

    @classmethod
    def of(cls, field: Field) -> FieldAnswer:
        """The shape of a core field."""
        return cls(
            name=field.name,
            kind=field.kind,
            unit=field.unit,
            low=field.low,
            high=field.high,
            seen=None if field.seen is None else list(field.seen),
            choices=list(field.choices),
            unseen=field.unseen,
            missing=field.missing,
            default=field.default,
            example=field.example,
            meaning=field.meaning,
            private=field.private,
            shape=list(field.shape),
            elements=field.elements,
            size=None if field.size is None else list(field.size),
            channels=field.channels,
            expected=field.expected_text(),
        )


def field_answers(schema: Iterable[Field]) -> list[FieldAnswer]:
    """The shapes of all fields, in order."""
    return [FieldAnswer.of(field) for field in schema]


class FaultAnswer(ApiModel):
    """One thing that is wrong with one value of a request. row : from 0. expected : in words. hint : what to do."""

    row: int | None = None
    field: str | None = None
    given: str | None = None
    expected: str
    hint: str | None = None


class Problem(BaseModel):
    """An error as RFC 9457 has it; InvalidRows adds ``faults`` and an ``example``."""

    model_config = ConfigDict(extra="allow")

    type: str = Described(examples=["urn:lamppost:invalid-rows"])
    title: str
    status: int
    detail: str
    faults: list[FaultAnswer] | None = None


Instant = Annotated[datetime, AfterValidator(bounded_instant)]
"""A time in a request, in UTC from then on."""
InstantWithOffset = Annotated[AwareDatetime, AfterValidator(bounded_instant)]
Text = Annotated[str, Described(min_length=1, max_length=200)]


class OverridableRequest(ApiModel):
    """What a change insists on. break_callers : go on although callers would be refused. override : an admin's reason to skip review."""

    break_callers: bool = False
    override: str | None = Described(default=None, max_length=1_000)
