"""The manifest of a lamp file: what is in it, what goes in and out, how it was made. Bytes in, values out.

``manifest.json`` is the only member whose digest stands nowhere; its own SHA-256 is the package's digest, because it names
the digest of every other member.
"""

from __future__ import annotations

import hashlib
from dataclasses import dataclass
from dataclasses import field as default
from functools import cache
from typing import Any, ClassVar, Literal

import orjson
from pydantic import TypeAdapter, ValidationError

from lamppost.core.errors import PackageRefused
from lamppost.core.fields import Schema
from lamppost.core.names import check_name

FORMAT = 1
MANIFEST = "manifest.json"
ArtifactFormat = Literal["skops", "pickle"]


@dataclass(frozen=True, slots=True)
class Member:
    """One file in the package. sha256 : hex digest of its bytes. size_bytes : its size when unpacked."""

    sha256: str
    size_bytes: int


@dataclass(frozen=True, slots=True)
class FrameColumn:
    """How a fitted object saw one input in training.

    dtype : the pandas dtype's name, for example ``float64``, ``object``, ``str``.
    gone : what stood for a missing value. categories : of a ``category`` column, in their order.
    """

    name: str
    dtype: str
    gone: Literal["nan", "none"] = "nan"
    categories: tuple[str, ...] = ()


@dataclass(frozen=True, slots=True)
class Compiled:
    """A step as one ONNX graph that was held against the original before it was packed.

    file : member that holds the graph. numbers : inputs that make up its float64 matrix ``numbers``, in order.
    codes : inputs that make up its int64 matrix ``codes``: the index of the choice (of yes/no: 0, 1), then one code for a value never
    seen, then one for a missing value. Its outputs are ``label`` (int64) and ``scores`` (float64), or ``value`` (float64).
    """

    file: str
    numbers: tuple[str, ...]
    codes: tuple[str, ...]


@dataclass(frozen=True, slots=True)
class SklearnStep:
    """A fitted scikit-learn object with ``predict``, and ``predict_proba`` where there are labels.

    file : member that holds the object. format : how it is stored.
    columns : the inputs, in the order and of the dtypes of training.
    as_frame : whether it was fitted on named columns (a data frame) or on a plain matrix.
    labels : names of the classes, in the object's own order; empty for a regressor.
    compiled : the same as a graph, where that could be made; not_compiled : why it could not.
    label_from : whether the label is the class of the highest score (proven equal at packing time) or what ``predict`` says.
    """

    file: str
    format: ArtifactFormat
    columns: tuple[FrameColumn, ...]
    as_frame: bool = True
    labels: tuple[str, ...] = ()
    label_from: Literal["scores", "predict"] = "predict"
    compiled: Compiled | None = None
    not_compiled: str | None = None
    kind: Literal["sklearn"] = "sklearn"


@dataclass(frozen=True, slots=True)
class Story:
    """How the model came to be. All for people.

    trained_rows : rows of the training frame. libraries : distribution name to version. python : interpreter version.
    """

    notes: str = ""
    trained_rows: int | None = None
    metrics: dict[str, float] = default(default_factory=dict)
    tags: dict[str, str] = default(default_factory=dict)
    libraries: dict[str, str] = default(default_factory=dict)
    python: str = ""


@dataclass(frozen=True, slots=True)
class Manifest:
    """Everything about a package except its bytes.

    name : the model's name. inputs, answers : schemas of one row in and one row out. steps : run in order.
    proof : member with the proof. members : path to digest and size of every other file.
    """

    name: str
    inputs: Schema
    answers: Schema
    steps: tuple[SklearnStep, ...]
    proof: str
    members: dict[str, Member]
    story: Story = default(default_factory=Story)
    format: int = FORMAT

    __pydantic_config__: ClassVar = {"extra": "forbid", "strict": True}

    def __post_init__(self) -> None:
        check_name(self.name, "model")
        if not self.steps:
            raise PackageRefused("the manifest lists no steps")
        graphs = [step.compiled.file for step in self.steps if step.compiled]
        for path in [self.proof, *(step.file for step in self.steps), *graphs]:
            if path not in self.members:
                raise PackageRefused(f"the manifest uses {path!r} but does not list it among its members")
        for step in self.steps:
            used = {column.name for column in step.columns}
            if step.compiled:
                used |= {*step.compiled.numbers, *step.compiled.codes}
            if unknown := used - set(self.inputs.names):
                raise PackageRefused(f"a step reads columns that are no inputs: {', '.join(sorted(unknown))}")

    @property
    def formats(self) -> frozenset[str]:
        """Formats of the artifacts that are opened to serve; a server's policy is asked about each. Graphs are data and always allowed."""
        return frozenset(step.format for step in self.steps if step.compiled is None)


@cache
def _adapter() -> TypeAdapter[Manifest]:
    return TypeAdapter(Manifest)


def write_manifest(manifest: Manifest) -> bytes:
    """Canonical bytes: sorted keys, two-space indent, defaults left out except the format."""
    data: dict[str, Any] = _adapter().dump_python(manifest, mode="json", exclude_defaults=True)
    data["format"] = manifest.format
    return orjson.dumps(data, option=orjson.OPT_SORT_KEYS | orjson.OPT_INDENT_2)


def read_manifest(data: bytes) -> Manifest:
    """Read a manifest; raise PackageRefused with one clear sentence when it is newer, broken, or says impossible things."""
    try:
        raw = orjson.loads(data)
    except ValueError as error:
        raise PackageRefused(f"{MANIFEST} is not JSON ({error}); pack the model again") from error
    version = raw.get("format") if isinstance(raw, dict) else None
    if not isinstance(version, int) or version < 1:
        raise PackageRefused(f"{MANIFEST} names no format version; this is no lamp file, or a damaged one")
    if version > FORMAT:
        raise PackageRefused(
            f"the lamp file is of format {version} and this Lamp Post reads up to {FORMAT}; upgrade Lamp Post, or pack with this version"
        )
    try:
        return _adapter().validate_json(data)
    except ValidationError as error:
        first = error.errors(include_url=False)[0]
        place = ".".join(str(part) for part in first["loc"])
        raise PackageRefused(f"{MANIFEST} is wrong at {place or 'its top'}: {first['msg'].lower()}; pack the model again") from error


def digest_of(manifest_bytes: bytes) -> str:
    """The package's content digest: hex SHA-256 of its manifest's bytes."""
    return hashlib.sha256(manifest_bytes).hexdigest()
