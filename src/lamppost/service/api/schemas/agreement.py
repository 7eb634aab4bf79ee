"""API schemas of comparing the answers of two versions."""

from __future__ import annotations

from typing import Any

from pydantic import Field as Described

from lamppost.service.api.schemas.base import ApiModel


class AgreementRequest(ApiModel):
    """On which rows two versions are compared: exactly one of proof, rows, and endpoint with its last calls."""

    before: str = Described(examples=["outage-risk@1"])
    after: str = Described(examples=["outage-risk@2"])
    endpoint: str | None = None
    last: int = Described(default=500, ge=1, le=5_000)
    proof: bool = False
    rows: list[dict[str, Any]] | None = Described(default=None, max_length=10_000)
    tolerance: float = Described(default=0.1, ge=0, le=1e6, description="standard deviations that two numbers may lie apart and agree")


class LabelFlipAnswer(ApiModel):
    """How many answers changed from one label to another."""

    before: str
    after: str
    rows: int


class DisagreeingSliceAnswer(ApiModel):
    """Rows in which a field has a value, and how many of them agree."""

    field: str
    value: str
    rows: int
    agree: int


class DisagreeingRowAnswer(ApiModel):
    """A row on which two versions differ, with both answers."""

    distance: float
    row: dict[str, Any]
    before: dict[str, Any]
    after: dict[str, Any]


class AgreementAnswer(ApiModel):
    """How far two versions agree. on : which rows. mean, p95, most : of the difference of a number, or of the label's score.

    refused : rows that one of them does not take, which are left out. before_ms, after_ms : for all rows in batches of 64.
    """

    before: str
    after: str
    on: str
    by: str
    rows: int
    agree: int
    refused: int
    flips: list[LabelFlipAnswer]
    mean: float | None
    p95: float | None
    most: float | None
    scale: float | None
    slices: list[DisagreeingSliceAnswer]
    worst: list[DisagreeingRowAnswer]
    before_ms: float
    after_ms: float
    summary: str
