"""API schemas of models and versions."""

from __future__ import annotations

from datetime import datetime
from typing import Any, Literal

from pydantic import Field as Described

from lamppost.core.artifact.difference import PackagePart
from lamppost.core.artifact.manifest import Provenance
from lamppost.core.artifact.reference import FeatureProfile
from lamppost.core.insight.insight import ModelInsight
from lamppost.service.api.schemas.base import ApiModel, FieldAnswer, OverridableRequest


class OpeningMeasurementAnswer(ApiModel):
    """What the first opening of a version measured on the node that did it; see `lamppost.core.engine.opening_measurement`."""

    open_s: float
    memory_bytes: int
    row_ms: float = Described(description="milliseconds there and back for one row")
    batch_ms: float = Described(description="milliseconds there and back for 64 rows together")


class VersionAnswer(ApiModel):
    """A version in a list. measured : null until it was first opened."""

    name: str
    model: str
    number: int
    digest: str
    size_bytes: int
    pushed_by: str
    pushed_at: datetime
    proof: Literal["not yet", "passed", "failed"]
    proof_summary: str | None
    serves: list[str]
    tags: dict[str, str]
    metrics: dict[str, float]
    measured: OpeningMeasurementAnswer | None
    retired_at: datetime | None


class PackageFileAnswer(ApiModel):
    """One file of a package."""

    path: str
    size_bytes: int
    sha256: str


class InsightLine(ApiModel):
    """What is to be said of what a model has learned. word : what it is about."""

    word: str
    text: str


class VersionDetailAnswer(VersionAnswer):
    """A version with its content. steps : each in one line. reference : the profile of training; null in packages without one."""

    inputs: list[FieldAnswer]
    options: list[FieldAnswer]
    answers: list[FieldAnswer]
    steps: list[str]
    provenance: Provenance
    formats: list[str] = Described(description="what runs code when it is opened")
    signers: list[str] = Described(description="public keys that signed the package, Ed25519, base64")
    proof_rows: int
    served: list[str] = Described(description="endpoints that it ever served")
    owner: str | None
    purpose: str | None
    files: list[PackageFileAnswer]
    reference_rows: int | None
    reference_inputs: list[FeatureProfile]
    reference_answers: list[FeatureProfile]
    insight: ModelInsight | None = Described(description="what it has learned, if packing measured that")
    insight_lines: list[InsightLine] = Described(description="the same in words")
    exportable: bool = Described(description="whether one compiled graph gives its answers, from which other forms are written")


class VersionPredictionAnswer(ApiModel):
    """The answers of a version to some rows."""

    version: str
    answers: list[dict[str, Any]]
    took_ms: float


class SchemaChangeAnswer(ApiModel):
    """One difference between two versions. breaks : whether a request that was accepted before may be refused now."""

    part: PackagePart
    summary: str
    breaks: bool


class ComparisonAnswer(ApiModel):
    """Two versions, and all that changed from one to the other. learned : how what they have learned differs, what matters most first."""

    before: VersionDetailAnswer
    after: VersionDetailAnswer
    breaks: bool
    changes: list[SchemaChangeAnswer]
    learned: list[str]


class PushAnswer(ApiModel):
    """The result of a push. new : false if the same package had been pushed before."""

    version: str
    digest: str
    new: bool


class ModelAnswer(ApiModel):
    """The owner and the purpose of a model."""

    name: str
    owner: str | None
    purpose: str | None


class ModelRequest(ApiModel):
    """The owner and the purpose to set; null leaves a value as it is."""

    owner: str | None = Described(default=None, max_length=200)
    purpose: str | None = Described(default=None, max_length=2_000)


class RetireRequest(OverridableRequest):
    """undo : take it out of retirement. replace_with : the version that takes its place in every endpoint."""

    undo: bool = False
    replace_with: str | None = Described(default=None, examples=["outage-risk@3"])


class RetireAnswer(ApiModel):
    """The result of retiring a version. replaced_in : the endpoints that serve or shadow another version in its place now."""

    version: str
    replaced_in: list[str]
    summary: str
    undo: list[str] = Described(description="the commands that take it back")
