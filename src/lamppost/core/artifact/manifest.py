"""Reads and writes the manifest of a lamp file: its files, schemas, steps and provenance.

``manifest.json`` holds the digest of every other member, and its own SHA-256 is the package's digest.
"""

from __future__ import annotations

import hashlib
import re
from dataclasses import dataclass
from dataclasses import field as default
from functools import cache
from typing import Any, ClassVar, Literal

import orjson
from pydantic import TypeAdapter, ValidationError

from lamppost.core.artifact.documents import check_document
from lamppost.core.artifact.older_formats import upgrade_manifest
from lamppost.core.artifact.steps import NetworkStep, PixelsStep, PmmlStep, PythonStep, SklearnStep, Step, TableStep, ThresholdStep
from lamppost.core.errors import PackageRefused
from lamppost.core.limits import MAX_STEPS
from lamppost.core.names import check_name
from lamppost.core.schema.fields import Field, Schema
from lamppost.core.schema.value_kinds import default_fits

FORMAT = 4
MANIFEST = "manifest.json"
_LIBRARY = re.compile(r"[A-Za-z0-9](?:[A-Za-z0-9._-]{0,98}[A-Za-z0-9])?")
_VERSION = re.compile(r"[0-9A-Za-z][0-9A-Za-z.!+_-]{0,63}")
"""Names and versions of distributions (PyPA's specifications): what an installer is given must be nothing else."""
_STRICT = {"extra": "forbid", "strict": True}


@dataclass(frozen=True, slots=True)
class PackageFile:
    """One file in the package. sha256 : hex digest of its bytes. size_bytes : its size when unpacked."""

    sha256: str
    size_bytes: int


@dataclass(frozen=True, slots=True)
class Provenance:
    """How the model was made. No code depends on these values.

    trained_rows : rows of the training frame. libraries : distribution name to version. python : interpreter version.
    by : who packed it. commit : of the checkout it was packed in. changed : whether files differed from that commit. at : when, RFC 3339.
    quantized : what making a network smaller changed, in one sentence.
    """

    notes: str = ""
    trained_rows: int | None = None
    metrics: dict[str, float] = default(default_factory=dict)
    tags: dict[str, str] = default(default_factory=dict)
    libraries: dict[str, str] = default(default_factory=dict)
    python: str = ""
    by: str | None = None
    commit: str | None = None
    changed: bool = False
    at: str | None = None
    quantized: str | None = None

    def __post_init__(self) -> None:
        for name, version in self.libraries.items():
            if not (_LIBRARY.fullmatch(name) and _VERSION.fullmatch(version)):
                raise PackageRefused(f"the manifest names the library {name[:80]!r} in version {version[:80]!r}, which is none")


@dataclass(frozen=True, slots=True)
class Manifest:
    """Everything about a package except its bytes.

    name : the model's name. inputs, answers : schemas of one row in and one row out. options : named parameters of a call, which
    steps see as columns. steps : run in order.
    proof : member with the proof. reference : member with what training's inputs and answers looked like. insight : member with what the
    model has learned, if that was measured.
    members : path to digest and size of every other file.
    """

    name: str
    inputs: Schema
    answers: Schema
    steps: tuple[Step, ...]
    proof: str
    members: dict[str, PackageFile]
    reference: str | None = None
    provenance: Provenance = default(default_factory=Provenance)
    options: Schema | None = None
    insight: str | None = None
    format: int = FORMAT

    __pydantic_config__: ClassVar = _STRICT

    def __post_init__(self) -> None:
        check_name(self.name, "model")
        if not self.steps:
            raise PackageRefused("the manifest lists no steps")
        if len(self.steps) > MAX_STEPS:
            raise PackageRefused(f"the manifest lists {len(self.steps):,} steps; {MAX_STEPS} are allowed")
        for path in [self.proof, *self.notes_of_training, *(path for step in self.steps for path in step.files)]:
            if path not in self.members:
                raise PackageRefused(f"the manifest uses {path!r} but does not list it among its members")
        for field in self.columns:
            if not default_fits(field):
                raise PackageRefused(f"field {field.name!r}: its default is no {field.kind}, or out of its range; pack the model again")
        known = {field.name: field for field in self.columns}
        for at, step in enumerate(self.steps):
            fields_by_name(known, step.takes, f"step {at}")
            if isinstance(step, SklearnStep | PmmlStep) and step.compiled:
                fields_by_name(known, (*step.compiled.numbers, *step.compiled.codes), f"the graph of step {at}")
            known |= {field.name: field for field in step.gives}
        if wrong := [field.name for field in self.answers if known.get(field.name) != field]:
            raise PackageRefused(f"the answer {wrong[0]!r} is not what the steps give")
        if pictures := [field.name for field in self.answers if field.kind == "image"]:
            raise PackageRefused(f"the answer {pictures[0]!r} is an image; answers are numbers, text and lists")

    @property
    def columns(self) -> Schema:
        """The columns that the first step can read: inputs, then options."""
        return Schema((*self.inputs, *self.options)) if self.options else self.inputs

    @property
    def notes_of_training(self) -> tuple[str, ...]:
        """The members that tell of training and take no part in answers."""
        return tuple(path for path in (self.reference, self.insight) if path)

    @property
    def formats(self) -> frozenset[str]:
        """The formats of the steps that a server's policy is asked about: ``pickle``, ``python`` and ``torch``, which can run code, and
        ``skops``. Graphs, trees and tables are data and are not listed.

        A server's policy is asked about each.
        """
        opened: set[str] = set()
        for step in self.steps:
            if isinstance(step, PythonStep):
                opened.add("python")
            elif isinstance(step, NetworkStep) and step.format != "onnx":
                opened.add("torch")
            elif isinstance(step, SklearnStep) and step.compiled is None and step.file is not None:
                opened.add("python" if step.code else step.format)
        return frozenset(opened)

    @property
    def serves_graphs(self) -> bool:
        """Whether a worker needs the ONNX runtime only, and no library of models."""
        return all(
            isinstance(step, (TableStep, PixelsStep, PmmlStep, ThresholdStep))
            or (isinstance(step, SklearnStep) and step.compiled is not None)
            or (isinstance(step, NetworkStep) and step.format == "onnx")
            for step in self.steps
        )

    @property
    def is_one_graph(self) -> bool:
        """Whether one compiled graph gives all answers, without options: what exports are written from."""
        return len(self.steps) == 1 and not self.options and getattr(self.steps[0], "compiled", None) is not None

    @property
    def forms(self) -> tuple[Literal["compiled", "original"], ...]:
        """The forms of its fitted steps that a lane can serve, the usual one first."""
        compiled = any(isinstance(step, SklearnStep) and step.compiled is not None for step in self.steps)
        return ("compiled", "original") if compiled else ("original",)

    @property
    def computes_in_threads(self) -> bool:
        """Whether a batch can be computed on several threads: by a graph or a network."""
        return any(isinstance(step, NetworkStep) or getattr(step, "compiled", None) is not None for step in self.steps)


def fields_by_name(known: dict[str, Field], names: tuple[str, ...], who: str) -> Schema:
    """The fields of the named columns; raise PackageRefused for a name that no earlier step gives."""
    if unknown := [name for name in names if name not in known]:
        raise PackageRefused(f"{who} reads columns that are no inputs and that no step before it gives: {', '.join(unknown)}")
    return Schema(tuple(known[name] for name in dict.fromkeys(names)))


@cache
def _adapter() -> TypeAdapter[Manifest]:
    return TypeAdapter(Manifest)


def write_manifest(manifest: Manifest) -> bytes:
    """Canonical bytes: sorted keys, two-space indent, defaults left out except the format."""
    data: dict[str, Any] = _adapter().dump_python(manifest, mode="json", exclude_defaults=True)
    data["format"] = manifest.format
    for written, step in zip(data["steps"], manifest.steps, strict=True):
        written["kind"] = step.kind
    return orjson.dumps(data, option=orjson.OPT_SORT_KEYS | orjson.OPT_INDENT_2)


def read_manifest(data: bytes) -> Manifest:
    """Read a manifest; raise PackageRefused when it is of a newer format, damaged, or contradicts itself."""
    try:
        raw = orjson.loads(data)
    except ValueError as error:
        raise PackageRefused(f"{MANIFEST} is not JSON ({error}); pack the model again") from error
    check_document(raw, data, MANIFEST)
    version = raw.get("format") if isinstance(raw, dict) else None
    if not isinstance(version, int) or version < 1:
        raise PackageRefused(f"{MANIFEST} names no format version; this is no lamp file, or a damaged one")
    if version > FORMAT:
        raise PackageRefused(
            f"the lamp file is of format {version} and this Lamp Post reads up to {FORMAT}; upgrade Lamp Post, or pack with this version"
        )
    try:
        return _adapter().validate_json(data if version == FORMAT else orjson.dumps(upgrade_manifest(raw, version)))
    except ValidationError as error:
        first = error.errors(include_url=False)[0]
        place = ".".join(str(part) for part in first["loc"])
        raise PackageRefused(f"{MANIFEST} is wrong at {place or 'its top'}: {first['msg'].lower()}; pack the model again") from error


def manifest_digest(manifest_bytes: bytes) -> str:
    """The package's content digest: hex SHA-256 of its manifest's bytes."""
    return hashlib.sha256(manifest_bytes).hexdigest()
