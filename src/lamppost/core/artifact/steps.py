"""Describes the kinds of steps of a package as values: what each reads and gives, and which files it needs.

`lamppost.runtime.running_steps` runs them.
"""

from __future__ import annotations

import re
from dataclasses import dataclass
from typing import ClassVar, Literal

from lamppost.core.errors import PackageRefused
from lamppost.core.schema.fields import Schema, describe_shape

ArtifactFormat = Literal["skops", "pickle"]
Reads = Literal["frame", "matrix", "column"]
AnswersBy = Literal["predict", "transform", "anomaly"]
_STRICT = {"extra": "forbid", "strict": True}


_DTYPE = re.compile(
    r"u?int(8|16|32|64)|float(16|32|64)|U?Int(8|16|32|64)|Float(32|64)|bool|boolean|object|str|string(\[\w+\])?|category"
    r"|datetime64\[(s|ms|us|ns)(, [\w/+:-]{1,60})?\]|[a-z]\w{1,30}(\[\w{1,3}(, tz=[\w/+:-]{1,60})?\])?\[pyarrow\]"
)
"""Names of the dtypes that pandas gives to columns."""


@dataclass(frozen=True, slots=True)
class FrameColumn:
    """How a fitted object saw one input in training.

    dtype : the pandas dtype's name, for example ``float64``, ``object``, ``str``.
    gone : what stood for a missing value. categories : of a ``category`` column, in their order, as text.
    unseen : whether a number that is none of the categories is refused; else it is missing, as it is for pandas.
    """

    name: str
    dtype: str
    gone: Literal["nan", "none"] = "nan"
    categories: tuple[str, ...] = ()
    unseen: Literal["refuse", "missing"] = "missing"

    def __post_init__(self) -> None:
        if not _DTYPE.fullmatch(self.dtype):
            raise PackageRefused(f"the column {self.name} has the dtype {self.dtype!r}, which no data frame has; pack the model again")


@dataclass(frozen=True, slots=True)
class CompiledForm:
    """A step as one ONNX graph, whose answers were compared with the original's before packing.

    file : member that holds the graph. numbers : inputs that make up its float64 matrix ``numbers``, in order.
    codes : inputs that make up its int64 matrix ``codes``: the index of the choice (of yes/no: 0, 1), then one code for a value never
    seen, then one for a missing value. A tensor takes a column of ``numbers`` for each element. Its outputs are ``label`` (int64) and
    ``scores`` (float64; of shape (n_rows,) for one decision value), or ``value`` (float64), or ``values`` of shape (n_rows, n_targets),
    or ``vector`` of shape (n_rows, n_numbers).
    """

    file: str
    numbers: tuple[str, ...]
    codes: tuple[str, ...]


@dataclass(frozen=True, slots=True)
class BoosterFiles:
    """Boosted trees in the open format of their library. file : member with LightGBM's text or XGBoost's JSON. rounds : trees used."""

    library: Literal["lightgbm", "xgboost"]
    file: str
    rounds: int | None = None


@dataclass(frozen=True, slots=True)
class PredictedTarget:
    """One of several things that a model predicts at once. labels : names of its classes; empty for a number."""

    name: str
    labels: tuple[str, ...] = ()


@dataclass(frozen=True, slots=True)
class SklearnStep:
    """A fitted object with scikit-learn's ``predict``, and ``predict_proba`` for labels.

    file : member that holds the object; None where a booster stands alone. format : how it is stored.
    columns : what it reads, in the order and of the dtypes of training. gives : label and scores, or one number, or those of every target.
    reads : whether it was fitted on named columns (a data frame), on a plain matrix, or on one column of text.
    labels : names of the classes, in the object's own order; empty for a regressor. Where the label is a whole number or yes/no, these are
    its values as text. targets : where it predicts several things.
    booster : trees that take what the object in ``file`` gives. compiled : the same as a graph, where that could be made;
    not_compiled : why it could not.
    label_from : whether the label is the class of the highest score, because the object's class is known to define it so, or what
    ``predict`` says.
    answers_by : what answers: ``predict``; the last ``transform``, all its numbers as one vector; or, of a detector of anomalies, whether
    a row is one (``predict`` is -1) and ``decision_function``.
    code : modules of the packer's own that the object in ``file``, a pickle then, is made with; they lie in the folder
    ``code`` beside it.
    """

    file: str | None
    format: ArtifactFormat
    columns: tuple[FrameColumn, ...]
    gives: Schema
    reads: Reads = "frame"
    labels: tuple[str, ...] = ()
    targets: tuple[PredictedTarget, ...] = ()
    label_from: Literal["scores", "predict"] = "predict"
    booster: BoosterFiles | None = None
    compiled: CompiledForm | None = None
    not_compiled: str | None = None
    answers_by: AnswersBy = "predict"
    code: tuple[str, ...] = ()
    kind: Literal["sklearn"] = "sklearn"

    __pydantic_config__: ClassVar = _STRICT

    def __post_init__(self) -> None:
        if self.file is None and self.booster is None:
            raise PackageRefused("a step holds neither a fitted object nor boosted trees")
        if self.code and (self.file is None or self.format != "pickle"):
            raise PackageRefused("a step carries code, and no pickled object that is made with it")

    @property
    def code_folder(self) -> str:
        """Member prefix of the modules in ``code``."""
        return f"{(self.file or '').rpartition('/')[0]}/code"

    @property
    def takes(self) -> tuple[str, ...]:
        """Names of the columns it reads."""
        return tuple(column.name for column in self.columns)

    @property
    def files(self) -> tuple[str, ...]:
        """Members it needs."""
        parts = (self.file, self.booster and self.booster.file, self.compiled and self.compiled.file)
        return (*(part for part in parts if part), *(f"{self.code_folder}/{module}" for module in self.code))


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


@dataclass(frozen=True, slots=True)
class PixelsStep:
    """A picture becomes a tensor ``gives`` of shape (height, width, channels), or (channels, height, width).

    column : the image field. resample : how it is brought to that size, by Pillow's filter of that name; a picture of that size stays
    as it is. scale : what a pixel of 0 to 255 is divided by. mean, sd : per channel, subtracted and divided by after that.
    """

    column: str
    gives: Schema
    layout: Literal["hwc", "chw"] = "hwc"
    resample: Literal["box", "bilinear", "bicubic", "lanczos"] = "box"
    scale: float = 255.0
    mean: tuple[float, ...] = ()
    sd: tuple[float, ...] = ()
    kind: Literal["pixels"] = "pixels"

    __pydantic_config__: ClassVar = _STRICT
    files: ClassVar[tuple[str, ...]] = ()

    def __post_init__(self) -> None:
        (given, *more) = self.gives
        if more or given.kind != "tensor" or len(given.shape) != 3 or 0 in given.shape or not self.scale:
            raise PackageRefused("a pixels step gives one tensor of height, width and channels, all known")
        channels = given.shape[2 if self.layout == "hwc" else 0]
        if channels not in (1, 3, 4) or any(len(by) not in (0, channels) for by in (self.mean, self.sd)) or 0 in self.sd:
            raise PackageRefused(f"a pixels step of {channels} channels has other numbers of means or deviations, or a deviation of 0")

    @property
    def takes(self) -> tuple[str, ...]:
        """Names of the columns it reads."""
        return (self.column,)


Dtype = Literal["float16", "float32", "float64", "int8", "uint8", "int16", "uint16", "int32", "uint32", "int64", "uint64", "bool", "string"]


@dataclass(frozen=True, slots=True)
class NetworkInput:
    """One input of a network.

    name : its name there. columns : what it is made of, side by side where there are several. dtype : of its elements.
    shape : of one row, 0 for an axis of any length; empty for one element a row.
    """

    name: str
    columns: tuple[str, ...]
    dtype: Dtype
    shape: tuple[int, ...] = ()


@dataclass(frozen=True, slots=True)
class NetworkOutput:
    """One field that is made of an output of a network.

    name : the output's name there (of a PyTorch module: its position). field : the field. make : the elements as they are, their
    softmax or sigmoid, the place of the highest, or of a single one whether it is above 0.5 or 0.
    """

    name: str
    field: str
    make: Literal["as is", "softmax", "sigmoid", "highest", "above half", "above zero"] = "as is"


NetworkFormat = Literal["onnx", "exported", "torchscript"]


@dataclass(frozen=True, slots=True)
class NetworkStep:
    """A network in a format of its own: an ONNX graph, or a PyTorch exported program or TorchScript module.

    file : member that holds it. format : what that is. beside : members that the graph names by their paths beside it.
    feeds, outputs : what goes in and what comes out. rows : how many rows it takes at once, 0 for any number.
    """

    file: str
    format: NetworkFormat
    feeds: tuple[NetworkInput, ...]
    outputs: tuple[NetworkOutput, ...]
    gives: Schema
    beside: tuple[str, ...] = ()
    rows: int = 0
    kind: Literal["network"] = "network"

    __pydantic_config__: ClassVar = _STRICT

    def __post_init__(self) -> None:
        if [output.field for output in self.outputs] != list(self.gives.names) or not self.feeds or self.rows < 0:
            raise PackageRefused("a network's outputs are not the fields it gives, or nothing is fed to it")

    @property
    def takes(self) -> tuple[str, ...]:
        """Names of the columns it reads."""
        return tuple(dict.fromkeys(column for feed in self.feeds for column in feed.columns))

    @property
    def files(self) -> tuple[str, ...]:
        """Members it needs."""
        return (self.file, *self.beside)


@dataclass(frozen=True, slots=True)
class PmmlStep:
    """A model of a PMML document, as the graph that was made of it.

    file : member with the document. compiled : the graph. gives : label and scores, label and distance to its cluster, or a number.
    """

    file: str
    compiled: CompiledForm
    gives: Schema
    kind: Literal["pmml"] = "pmml"

    __pydantic_config__: ClassVar = _STRICT

    @property
    def takes(self) -> tuple[str, ...]:
        """Names of the columns it reads."""
        return (*self.compiled.numbers, *self.compiled.codes)

    @property
    def files(self) -> tuple[str, ...]:
        """Members it needs."""
        return (self.file, self.compiled.file)


@dataclass(frozen=True, slots=True)
class ThresholdStep:
    """Another label where its score reaches a threshold; below, the most likely of the others.

    scores : column with a score for each label. label : the label that the threshold is for. option : column with the threshold of a call,
    None where it is always ``default``. gives : the label that is answered.
    """

    scores: str
    label: str
    gives: Schema
    default: float
    option: str | None = None
    kind: Literal["threshold"] = "threshold"

    __pydantic_config__: ClassVar = _STRICT
    files: ClassVar[tuple[str, ...]] = ()

    def __post_init__(self) -> None:
        (given, *more) = self.gives
        if more or given.kind != "choice" or self.label not in given.choices or len(given.choices) < 2:
            raise PackageRefused(f"a threshold gives one label, {self.label!r} among others")
        if not 0 <= self.default <= 1:
            raise PackageRefused(f"a threshold lies between 0 and 1, and {self.default} does not")

    @property
    def takes(self) -> tuple[str, ...]:
        """Names of the columns it reads."""
        return (self.scores,) if self.option is None else (self.scores, self.option)


Step = SklearnStep | NetworkStep | PixelsStep | PmmlStep | PythonStep | TableStep | ThresholdStep


def step_summary(step: Step) -> str:
    """One step in one line, for people."""
    if isinstance(step, TableStep):
        unknown = "is refused" if step.unknown == "refuse" else "leaves them missing"
        return f"table: {step.key} becomes {', '.join(step.gives.names)}; an unknown {step.key} {unknown}"
    if isinstance(step, ThresholdStep):
        where = f"{step.default:g}" if step.option is None else f"the option {step.option}, {step.default:g} unless said otherwise"
        return f"threshold: {step.gives.names[0]} is {step.label} where its score is {where} or more"
    if isinstance(step, PythonStep):
        return f"code: {step.module}:{step.name} makes {', '.join(step.gives.names)} of {', '.join(step.takes)}"
    if isinstance(step, PixelsStep):
        return f"pixels: {step.column} becomes {step.gives.names[0]}, {describe_shape(step.gives.fields[0].shape)} {step.layout}"
    if isinstance(step, NetworkStep):
        called = {"onnx": "ONNX graph", "exported": "PyTorch exported program", "torchscript": "TorchScript module"}[step.format]
        rows = f", {step.rows} rows at a time" if step.rows else ""
        return f"{called}: makes {', '.join(step.gives.names)} of {', '.join(step.takes)}{rows}"
    if isinstance(step, PmmlStep):
        return f"PMML document, served by the graph made of it: makes {', '.join(step.gives.names)} of {', '.join(step.takes)}"
    served = "its compiled graph serves" if step.compiled else f"not compiled: {step.not_compiled or 'it was not asked for'}"
    with_code = f" with code of its own ({', '.join(step.code)})" if step.code else ""
    stored = f"scikit-learn, stored as {step.format}{with_code}" if step.file else ""
    trees = f"{_LIBRARIES[step.booster.library]} trees" if step.booster else ""
    return f"{' and '.join(part for part in (stored, trees) if part)}; {served}"


_LIBRARIES = {"lightgbm": "LightGBM", "xgboost": "XGBoost"}
