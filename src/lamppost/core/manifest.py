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
from lamppost.core.fields import Field, Schema
from lamppost.core.names import check_name

FORMAT = 1
MANIFEST = "manifest.json"
ArtifactFormat = Literal["skops", "pickle"]
_STRICT = {"extra": "forbid", "strict": True}


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
    columns : what it reads, in the order and of the dtypes of training. gives : label and scores, or one number.
    as_frame : whether it was fitted on named columns (a data frame) or on a plain matrix.
    labels : names of the classes, in the object's own order; empty for a regressor.
    compiled : the same as a graph, where that could be made; not_compiled : why it could not.
    label_from : whether the label is the class of the highest score (proven equal at packing time) or what ``predict`` says.
    """

    file: str
    format: ArtifactFormat
    columns: tuple[FrameColumn, ...]
    gives: Schema
    as_frame: bool = True
    labels: tuple[str, ...] = ()
    label_from: Literal["scores", "predict"] = "predict"
    compiled: Compiled | None = None
    not_compiled: str | None = None
    kind: Literal["sklearn"] = "sklearn"

    __pydantic_config__: ClassVar = _STRICT

    @property
    def takes(self) -> tuple[str, ...]:
        """Names of the columns it reads."""
        return tuple(column.name for column in self.columns)

    @property
    def files(self) -> tuple[str, ...]:
        """Members it needs."""
        return (self.file, self.compiled.file) if self.compiled else (self.file,)


@dataclass(frozen=True, slots=True)
class PythonStep:
    """A class of the packer's own, in modules that the package carries.

    folder : member prefix under which the modules lie. module, name : the class. takes, gives : columns in and out.
    The class has ``open(folder)``, called once with the folder of its modules, and ``run(columns)``: a dict of name to array in, a
    dict of name to values out.
    """

    folder: str
    modules: tuple[str, ...]
    module: str
    name: str
    takes: tuple[str, ...]
    gives: Schema
    kind: Literal["python"] = "python"

    __pydantic_config__: ClassVar = _STRICT

    @property
    def files(self) -> tuple[str, ...]:
        """Members it needs."""
        return tuple(f"{self.folder}/{module}" for module in self.modules)


@dataclass(frozen=True, slots=True)
class TableStep:
    """A table that the package carries: a key becomes known fields.

    file : member with ``{"keys": [...], "columns": {name: [...]}}``. key : the column with the key. unknown : whether a key that is
    not in the table is refused, or its fields are missing.
    """

    file: str
    key: str
    gives: Schema
    unknown: Literal["refuse", "missing"] = "refuse"
    kind: Literal["table"] = "table"

    __pydantic_config__: ClassVar = _STRICT

    @property
    def takes(self) -> tuple[str, ...]:
        """Names of the columns it reads."""
        return (self.key,)

    @property
    def files(self) -> tuple[str, ...]:
        """Members it needs."""
        return (self.file,)


Step = SklearnStep | PythonStep | TableStep


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
    proof : member with the proof. reference : member with what training's inputs and answers looked like.
    members : path to digest and size of every other file.
    """

    name: str
    inputs: Schema
    answers: Schema
    steps: tuple[Step, ...]
    proof: str
    members: dict[str, Member]
    reference: str | None = None
    story: Story = default(default_factory=Story)
    format: int = FORMAT

    __pydantic_config__: ClassVar = _STRICT

    def __post_init__(self) -> None:
        check_name(self.name, "model")
        if not self.steps:
            raise PackageRefused("the manifest lists no steps")
        for path in [self.proof, *([self.reference] if self.reference else []), *(path for step in self.steps for path in step.files)]:
            if path not in self.members:
                raise PackageRefused(f"the manifest uses {path!r} but does not list it among its members")
        known = {field.name: field for field in self.inputs}
        for at, step in enumerate(self.steps):
            read_as(known, step.takes, f"step {at}")
            if isinstance(step, SklearnStep) and step.compiled:
                read_as(known, (*step.compiled.numbers, *step.compiled.codes), f"the graph of step {at}")
            known |= {field.name: field for field in step.gives}
        if wrong := [field.name for field in self.answers if known.get(field.name) != field]:
            raise PackageRefused(f"the answer {wrong[0]!r} is not what the steps give")

    @property
    def formats(self) -> frozenset[str]:
        """What is opened to serve and could run code: ``pickle``, ``python``; and ``skops``. Graphs and tables are data.

        A server's policy is asked about each.
        """
        opened: set[str] = set()
        for step in self.steps:
            if isinstance(step, PythonStep):
                opened.add("python")
            elif isinstance(step, SklearnStep) and step.compiled is None:
                opened.add(step.format)
        return frozenset(opened)

    @property
    def serves_graphs(self) -> bool:
        """Whether no step needs more than the ONNX runtime."""
        return all(not isinstance(step, SklearnStep) or step.compiled is not None for step in self.steps)


def about(step: Step) -> str:
    """One step in one line, for people."""
    if isinstance(step, TableStep):
        unknown = "is refused" if step.unknown == "refuse" else "leaves them missing"
        return f"table: {step.key} becomes {', '.join(step.gives.names)}; an unknown {step.key} {unknown}"
    if isinstance(step, PythonStep):
        return f"code: {step.module}:{step.name} makes {', '.join(step.gives.names)} of {', '.join(step.takes)}"
    served = "its compiled graph serves" if step.compiled else f"not compiled: {step.not_compiled or 'it was not asked for'}"
    return f"scikit-learn, stored as {step.format}; {served}"


def read_as(known: dict[str, Field], names: tuple[str, ...], who: str) -> Schema:
    """The fields of some columns; raise PackageRefused when one is not there yet."""
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
