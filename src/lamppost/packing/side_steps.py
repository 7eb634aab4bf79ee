"""Steps beside the model: own code, look-up tables, encoders, pictures to numbers."""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from dataclasses import dataclass, field, replace
from pathlib import Path
from typing import TYPE_CHECKING, Any, ClassVar, Literal

import orjson

from lamppost.core.artifact.schema_inference import infer_inputs, json_value
from lamppost.core.artifact.steps import PixelsStep, PythonStep, TableStep, ThresholdStep
from lamppost.core.errors import BadRequest
from lamppost.core.schema.fields import Field, Schema

if TYPE_CHECKING:
    import pandas as pd


@dataclass(frozen=True, slots=True)
class Code:
    """A class of your own that runs in the worker: for cleaning a request, or for turning scores into an answer.

    path : a module file, or a folder of modules and data; all of it is carried. call : ``module:Class``.
    takes : columns it reads. gives : name to field attributes (``{"advice": {"kind": "choice", "choices": ["visit", "wait"]}}``).
    The class has ``run(columns)``, a dict of arrays in and a dict of values out, and may have ``open(folder)``.
    """

    path: str | Path
    call: str
    takes: Sequence[str]
    gives: Mapping[str, Mapping[str, Any]]


@dataclass(frozen=True, slots=True)
class Table:
    """A look-up table: the key in a request becomes the other columns of the frame.

    frame : one row a key. key : the column with the key. unknown : whether a key that is not there is refused, or its fields are missing.
    fields : attributes of the fields it gives, as in `lamppost.pack`.
    """

    frame: pd.DataFrame
    key: str
    unknown: Literal["refuse", "missing"] = "refuse"
    fields: Mapping[str, Mapping[str, Any]] = field(default_factory=dict)

    def __post_init__(self) -> None:
        if self.key not in self.frame.columns or not self.gives:
            raise BadRequest(
                f"the table needs the key column {self.key!r} and at least one other; it has {', '.join(map(str, self.frame.columns))}"
            )
        if self.frame[self.key].isna().any() or self.frame[self.key].duplicated().any():
            raise BadRequest(f"the table's key {self.key!r} must be there in every row, and never twice")

    @property
    def gives(self) -> list[str]:
        """Names of the columns it gives."""
        return [str(name) for name in self.frame.columns if name != self.key]


@dataclass(frozen=True, slots=True)
class Encoder:
    """A label encoder that was fitted on one column of inputs: requests hold its classes, the steps after it their numbers.

    column : the column, under the same name before and after. encoder : the fitted object, with ``classes_``.
    """

    column: str
    encoder: Any

    def __post_init__(self) -> None:
        if not hasattr(self.encoder, "classes_"):
            raise BadRequest(f"the encoder of {self.column!r} has no classes_; give the fitted label encoder")


def encoder_step(part: Encoder, at: int) -> tuple[TableStep, dict[str, bytes]]:
    """An encoder as a table: class to number, classes it never saw refused."""
    classes = [label.item() if hasattr(label, "item") else label for label in part.encoder.classes_]
    file = f"steps/{at}/table.json"
    gives = Schema((Field(part.column, "integer", low=0, high=len(classes) - 1),))
    data = orjson.dumps({"keys": classes, "columns": {part.column: list(range(len(classes)))}})
    return TableStep(file, part.column, gives), {file: data}


@dataclass(frozen=True, slots=True)
class Pixels:
    """A picture in a request becomes the numbers that a model reads: a tensor of one size.

    column : the picture. gives : name of the tensor. size : width and height that it is brought to.
    channels : 1 grey, 3 colour, 4 colour and opacity, of the picture as of the tensor.
    layout, resample, scale, mean, sd : as training did it; see `lamppost.core.artifact.steps.PixelsStep`.
    """

    column: str
    gives: str
    size: tuple[int, int]
    channels: Literal[1, 3, 4] = 3
    layout: Literal["hwc", "chw"] = "hwc"
    resample: Literal["box", "bilinear", "bicubic", "lanczos"] = "box"
    scale: float = 255.0
    mean: Sequence[float] = ()
    sd: Sequence[float] = ()

    __pydantic_config__: ClassVar = {"extra": "forbid"}


def pixels_step(part: Pixels) -> PixelsStep:
    """The step of `Pixels`."""
    width, height = part.size
    shape = (height, width, part.channels) if part.layout == "hwc" else (part.channels, height, width)
    gives = Schema((Field(part.gives, "tensor", shape=shape),))
    return PixelsStep(part.column, gives, part.layout, part.resample, part.scale, tuple(part.mean), tuple(part.sd))


def field_of(name: str, attributes: Mapping[str, Any]) -> Field:
    """A field from its name and attributes; raise BadRequest for unknown ones."""
    try:
        values: dict[str, Any] = {key: tuple(value) if isinstance(value, list) else value for key, value in attributes.items()}
        return Field(name, **{"kind": "number", **values})
    except TypeError as error:
        raise BadRequest(f"gives.{name}: {error}") from error


def code_step(part: Code, at: int) -> tuple[PythonStep, dict[str, bytes]]:
    """The step of a piece of code, and the members it needs."""
    path = Path(part.path)
    module, colon, name = part.call.partition(":")
    if not colon or not name.isidentifier():
        raise BadRequest(f"{part.call!r} names no class; write module:Class, for example cleaning:Clean")
    if not path.exists():
        raise BadRequest(f"there is no code at {path}")
    root = path if path.is_dir() else path.parent
    files = sorted(file for file in path.rglob("*") if file.is_file() and "__pycache__" not in file.parts) if path.is_dir() else [path]
    modules = tuple(file.relative_to(root).as_posix() for file in files)
    if f"{module.replace('.', '/')}.py" not in modules:
        raise BadRequest(f"{part.call!r} is in none of the files that would be carried: {', '.join(modules)}")
    folder = f"steps/{at}/code"
    gives = Schema(tuple(field_of(name, attributes) for name, attributes in part.gives.items()))
    step = PythonStep(folder, modules, module, name, tuple(part.takes), gives)
    return step, {f"{folder}/{name}": file.read_bytes() for name, file in zip(modules, files, strict=True)}


@dataclass(frozen=True, slots=True)
class Threshold:
    """A label is answered where its score reaches a threshold; below, the most likely of the others. The scores stay in the answer.

    label : the label, as it is answered. default : the threshold. option : name of the option by which a call sets it, None for no option.
    """

    label: str
    default: float = 0.5
    option: str | None = "threshold"

    __pydantic_config__: ClassVar = {"extra": "forbid"}

    def __post_init__(self) -> None:
        if not 0 <= self.default <= 1:
            raise BadRequest(f"the threshold of {self.label!r} is {self.default}; it lies between 0 and 1")


def threshold_step(part: Threshold, known: Mapping[str, Field]) -> ThresholdStep:
    """The step of `Threshold`, behind a model whose label and scores are known."""
    label, scores = known.get("label"), known.get("scores")
    if label is None or scores is None or label.choices != scores.choices:
        raise BadRequest(f"a threshold of {part.label!r} needs a classifier before it that answers with label and scores")
    if part.label not in label.choices:
        raise BadRequest(f"the threshold is of {part.label!r}, and the labels are {', '.join(label.choices)}")
    meaning = f"{part.label} where its score reaches the threshold"
    return ThresholdStep("scores", part.label, Schema((replace(label, meaning=meaning),)), part.default, part.option)


def table_step(part: Table, at: int) -> tuple[TableStep, dict[str, bytes]]:
    """The step of a table, and the member it needs."""
    fields = infer_inputs(part.frame.drop(columns=part.key), part.fields).fields
    if part.unknown == "missing":
        fields = tuple(replace(f, missing=True) for f in fields)
    gives = Schema(fields)
    keys = [value.item() if hasattr(value, "item") else value for value in part.frame[part.key].tolist()]
    columns = {f.name: [json_value(f.kind, value) for value in part.frame[f.name].tolist()] for f in gives}
    file = f"steps/{at}/table.json"
    return TableStep(file, part.key, gives, part.unknown), {file: orjson.dumps({"keys": keys, "columns": columns})}
