"""API schema of any endpoint's answer in JSON, whatever its fields are."""

from __future__ import annotations

from typing import Any

from pydantic import Field as Described

from lamppost.service.api.schemas.base import ApiModel


class CoercionAnswer(ApiModel):
    """A value that a lenient endpoint took as another one. left_out : whether it is a field that the schema does not know."""

    row: int
    field: str
    given: str
    taken: str | None = None
    left_out: bool | None = None


class PredictionAnswer(ApiModel):
    """The answer of an endpoint: to one row, to rows, or to columns. What the values are, the endpoint's own schema says."""

    answer: dict[str, Any] | None = None
    answers: list[dict[str, Any]] | None = None
    columns: dict[str, Any] | None = None
    version: str
    request_id: str = Described(description="under which the call is recorded")
    changed: list[CoercionAnswer] | None = None
