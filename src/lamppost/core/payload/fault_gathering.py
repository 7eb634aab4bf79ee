"""Schemas for objects with known keys, read in two ways: up to the first key that is unknown, or gathering faults up to a bound.

A body of ten megabytes can hold a million faults, and each would cost as much as a row. So reading ends at the first unknown key, and a
second pass, with a `FaultTally` as pydantic's context, gathers what is told and looks at nothing more once it has enough.
"""

from __future__ import annotations

from typing import Any

from pydantic_core import PydanticCustomError, ValidationError
from pydantic_core import core_schema as cs

MAX_FAULTS = 50


class UnknownKey(Exception):
    """Reading met a key that is no field."""


class MissingKey(Exception):
    """A row or the options lack a key that they need."""


UNREADABLE = (ValidationError, UnknownKey, MissingKey)
"""What reading raises for a body that is wrong."""


class FaultTally:
    """Counts faults while they are gathered. left_out : unknown keys that are not listed any more. skipped : whether values were not
    looked at any more.
    """

    def __init__(self) -> None:
        self.found = 0
        self.left_out = 0
        self.skipped = False

    @property
    def full(self) -> bool:
        """Whether enough were found."""
        return self.found >= MAX_FAULTS


def closed_object(entries: dict[str, cs.TypedDictField]) -> cs.CoreSchema:
    """The schema of an object with these keys and no others."""
    return cs.typed_dict_schema(entries, extras_schema=cs.with_info_plain_validator_function(_unknown_key), extra_behavior="allow")


def unless_full(schema: cs.CoreSchema) -> cs.CoreSchema:
    """A schema, for gathering only, whose values are not looked at any more once there are enough faults."""
    return cs.with_info_wrap_validator_function(_check_unless_full, schema)


def _unknown_key(value: Any, info: cs.ValidationInfo) -> Any:
    tally: FaultTally | None = info.context
    if tally is None:
        raise UnknownKey
    if tally.full:
        tally.left_out += 1
        return value
    tally.found += 1
    raise PydanticCustomError("unknown-key", "no field of that name")


def _check_unless_full(value: Any, check: cs.ValidatorFunctionWrapHandler, info: cs.ValidationInfo) -> Any:
    assert isinstance(info.context, FaultTally)
    tally = info.context
    if tally.full:
        tally.skipped = True
        return None
    before = tally.found
    try:
        return check(value)
    except ValidationError as error:
        tally.found = max(tally.found, before + error.error_count())
        raise
