"""Stores, opens and calls fitted scikit-learn objects. Packing and workers use the same code, so both compute the same answers."""

from __future__ import annotations

import io
import pickle
import zipfile
from collections.abc import Callable, Collection, Iterator, Sequence
from contextlib import contextmanager
from typing import TYPE_CHECKING, Any, Literal

import numpy as np
import orjson

from lamppost.core.artifact.steps import ArtifactFormat, FrameColumn, Reads, SklearnStep
from lamppost.core.errors import BadRequest, Fault, InvalidRows, ModelFault, PackageRefused
from lamppost.core.quantities import few_names
from lamppost.core.schema.columns import Column, column_texts, json_values
from lamppost.core.schema.fields import Field, Schema
from lamppost.core.schema.value_kinds import shortened_json
from lamppost.package.skops_import import import_skops

if TYPE_CHECKING:
    import pandas as pd

_SHOWN_CATEGORIES = 20
_KERNELS = ("ConstantKernel", "DotProduct", "ExpSineSquared", "Exponentiation", "Matern", "Product", "RBF", "RationalQuadratic", "Sum")
#: Types that hold numbers and cannot run code when they are restored, beyond those that skops trusts by itself.
TRUSTED = frozenset(
    {
        "numpy.dtype",
        "sklearn.tree._tree.Tree",
        "sklearn.ensemble._hist_gradient_boosting.predictor.TreePredictor",
        "sklearn.neural_network._stochastic_optimizers.AdamOptimizer",
        "sklearn.neural_network._stochastic_optimizers.SGDOptimizer",
        "sklearn.neighbors._kd_tree.KDTree",
        "sklearn.neighbors._ball_tree.BallTree",
        *(f"sklearn.metrics._dist_metrics.{name}Distance64" for name in ("Euclidean", "Manhattan", "Minkowski", "Chebyshev")),
        "sklearn.utils._bunch.Bunch",
        "sklearn.calibration._CalibratedClassifier",
        "sklearn.calibration._SigmoidCalibration",
        "sklearn.gaussian_process._gpc._BinaryGaussianProcessClassifierLaplace",
        *(f"sklearn.gaussian_process.kernels.{name}" for name in _KERNELS),
        "sklearn.multiclass._ConstantPredictor",
        "sklearn.impute._iterative._ImputerTriplet",
        "sklearn._loss.loss.HalfTweedieLossIdentity",
        *("scipy.interpolate._bsplines.BSpline", "scipy._lib.array_api_compat.numpy._aliases.asarray"),
        *(
            "sklearn.metrics._scorer._CurveScorer",
            "sklearn.metrics._scorer._Scorer",
            "sklearn.metrics._classification.balanced_accuracy_score",
        ),
        *(f"sklearn.utils._metadata_requests.{name}" for name in ("MetadataRequest", "MethodMetadataRequest")),
    }
)


def _untrusted(data: bytes) -> list[str]:
    return sorted(set(import_skops().get_untrusted_types(data=data)) - TRUSTED)


def dump(model: Any, artifact_format: ArtifactFormat | None) -> tuple[bytes, ArtifactFormat, list[str]]:
    """The object's bytes, the format they are in, and the types that kept it out of skops.

    ``skops`` is taken where it holds the object with none but types it trusts by itself; else ``pickle``.
    """
    skops_io = import_skops()
    reasons: list[str] = []
    if artifact_format != "pickle":
        try:
            # a copy, because what shares which object differs between a model just fitted and the same one loaded from a file
            data = skops_io.dumps(pickle.loads(pickle.dumps(model)))
            reasons = _untrusted(data)
        except Exception as error:  # skops raises many kinds for what it cannot hold
            reasons = [f"{type(error).__name__}: {error}"]
        else:
            if not reasons:
                return steady(data), "skops", []
        if artifact_format == "skops":
            raise BadRequest(f"skops cannot hold this model safely ({', '.join(reasons)}); leave the format open, or use pickle")
    try:
        return pickle.dumps(model, protocol=5), "pickle", reasons
    except Exception as error:  # objects' own pickling raises what it likes
        raise BadRequest(f"the model holds something that cannot be stored: {error}; take it out of the model before packing") from error


def steady(data: bytes) -> bytes:
    """A skops archive whose bytes depend on its content only: objects numbered in order instead of by address, no times."""
    numbers: dict[int, int] = {}

    def renumbered(node: Any) -> Any:
        if isinstance(node, list):
            return [renumbered(item) for item in node]
        if not isinstance(node, dict):
            return node
        sorted_node = {key: renumbered(value) for key, value in node.items()}
        if isinstance(node.get("__id__"), int):
            sorted_node["__id__"] = numbers.setdefault(node["__id__"], len(numbers) + 1)
        if isinstance(node.get("file"), str):
            sorted_node["file"] = renamed(node["file"])
        return sorted_node

    def renamed(file: str) -> str:
        number, dot, ending = file.partition(".")
        if not number.isdigit():
            return file
        return f"{numbers.setdefault(int(number), len(numbers) + 1)}{dot}{ending}"

    with zipfile.ZipFile(io.BytesIO(data)) as old:
        schema = orjson.dumps(renumbered(orjson.loads(old.read("schema.json"))), option=orjson.OPT_INDENT_2)
        members = {renamed(name): _without_padding(old.read(name)) for name in old.namelist() if name != "schema.json"}
        members["schema.json"] = schema
    buffer = io.BytesIO()
    with zipfile.ZipFile(buffer, "w") as new:
        for name in sorted(members):
            new.writestr(zipfile.ZipInfo(name), members[name])  # stored: the lamp file compresses it
    return buffer.getvalue()


def _without_padding(data: bytes) -> bytes:
    """A stored array with zeros where a structured dtype has gaps; what stands there is whatever was in memory."""
    if not data.startswith(b"\x93NUMPY"):
        return data
    array = np.load(io.BytesIO(data), allow_pickle=False)
    if array.dtype.names is None:
        return data
    clean = np.zeros(array.shape, dtype=array.dtype)
    for name in array.dtype.names:
        clean[name] = array[name]
    buffer = io.BytesIO()
    np.save(buffer, clean, allow_pickle=False)
    return buffer.getvalue()


def load(data: bytes, stored: ArtifactFormat) -> Any:
    """The object back from its bytes. Pickles run code: only a worker calls this, and only when the policy allows the format."""
    if stored == "skops":
        skops_io = import_skops()
        from skops.io.exceptions import UntrustedTypesFoundException

        try:
            return skops_io.loads(data, trusted=sorted(TRUSTED))
        except UntrustedTypesFoundException as error:
            raise PackageRefused(f"the skops artifact holds types that are not trusted ({error}); pack it as pickle") from error
    return pickle.loads(data)


def to_one_thread(model: Any) -> dict[str, Any]:
    """Let the model compute on one thread: sums come out in one order only, and small batches are faster. Returns what was set."""
    before = {name: value for name, value in getattr(model, "get_params", dict)().items() if name.split("__")[-1] == "n_jobs"}
    if before:
        model.set_params(**dict.fromkeys(before, 1))
    return before


@contextmanager
def one_thread(model: Any) -> Iterator[None]:
    """`to_one_thread` inside the block, as it was afterwards."""
    before = to_one_thread(model)
    try:
        yield
    finally:
        if before:
            model.set_params(**before)


def frame_columns(frame: pd.DataFrame, takes_unknown: Collection[str] = ()) -> tuple[FrameColumn, ...]:
    """How each column of the training frame looked. takes_unknown : columns whose encoder takes categories that training never saw."""
    columns = []
    for name in frame.columns:
        series = frame[name]
        gone = series[series.isna()]
        marker = "none" if len(gone) and gone.iloc[0] is None else "nan"
        categories = tuple(map(str, series.cat.categories)) if series.dtype == "category" else ()
        dtype = str(stacked(series).dtype) if holds_arrays(series) else str(series.dtype)
        unseen: Literal["refuse", "missing"] = "refuse" if categories and name not in takes_unknown else "missing"
        columns.append(FrameColumn(str(name), dtype, marker, categories, unseen))  # type: ignore[arg-type]
    return tuple(columns)


def holds_arrays(series: pd.Series) -> bool:
    """Whether a column holds an array, or a list, in each row."""
    return series.dtype == object and len(series) > 0 and isinstance(series.iloc[0], (np.ndarray, list, tuple))


def stacked(series: pd.Series) -> np.ndarray[Any, Any]:
    """The arrays of a column as one array, rows first."""
    return np.stack([np.asarray(value) for value in series])


def as_read(reads: Reads, frame: pd.DataFrame) -> Any:
    """What a fitted object reads, out of the columns of a training frame."""
    if reads == "frame":
        return frame
    if reads == "column":
        return frame.iloc[:, 0].to_numpy(dtype=object)
    if any(holds_arrays(frame[name]) for name in frame.columns):
        parts = [stacked(frame[name]) if holds_arrays(frame[name]) else frame[name].to_numpy() for name in frame.columns]
        return np.concatenate([part.reshape(len(frame), -1) for part in parts], axis=1)
    return frame.to_numpy()


def _series(field: Field, column: Column, spec: FrameColumn) -> Any:
    """The values of one column as training saw them: same dtype, same mark for missing."""
    import pandas

    pd: Any = pandas  # its overloads do not know dtypes by name
    gone = None if spec.gone == "none" else np.nan
    dtype = spec.dtype
    values: Any
    if dtype == "category":
        return _categorical(field, column, spec)
    if field.kind in ("choice", "text"):
        values = column_texts(field, column)
        if spec.dtype == "object":
            objects = np.empty(len(values), dtype=object)
            objects[:] = [gone if value is None else value for value in values]
            return objects
        return pd.array(values, dtype=spec.dtype)
    values = column.values
    if field.kind in ("tensor", "vector"):
        return np.asarray(values).astype(spec.dtype, copy=False)
    if field.kind == "time":
        times = pd.DatetimeIndex(np.asarray(values).view("datetime64[us]"), tz="UTC")
        aware = isinstance(pd.Series([], dtype=spec.dtype).dtype, pd.DatetimeTZDtype)
        return (times if aware else times.tz_localize(None)).astype(spec.dtype)
    if field.kind == "yes/no":
        if spec.dtype == "bool":
            return values.astype(bool)
        plain = [gone if value == 2 else bool(value) for value in values.tolist()]
        return np.array(plain, dtype=object) if spec.dtype == "object" else pd.array(plain, dtype=spec.dtype)
    if dtype[:1].isupper() or dtype.endswith("[pyarrow]"):  # numbers that pandas can mark as missing
        gone_at = np.isnan(values) if column.missing is None else column.missing
        return pd.array([pd.NA if m else v for v, m in zip(values.tolist(), gone_at.tolist(), strict=True)], dtype=dtype)
    if column.missing is not None:  # whole numbers that training held as floats, because some were missing
        values = np.where(column.missing, np.nan, values)
    return values if values.dtype == dtype else values.astype(dtype)


def _categorical(field: Field, column: Column, spec: FrameColumn) -> Any:
    """A column of categories; raise InvalidRows for a number that is none of them, where such are refused."""
    import pandas as pd

    reads: dict[str, Callable[[str], Any]] = {"choice": str, "text": str, "integer": int, "number": float, "yes/no": "True".__eq__}
    read = reads.get(field.kind)
    if read is None:
        raise PackageRefused(f"the column {spec.name} is of categories, and its field is a {field.kind}; pack the model again")
    values: list[Any] = json_values(field, column)
    categories = [read(category) for category in spec.categories]
    codes = {category: code for code, category in enumerate(categories)}
    if spec.unseen == "refuse" and field.kind in ("integer", "number"):  # of choices, the schema says it
        for row, value in enumerate(values):
            if value is not None and value == value and value not in codes:
                shown = "a private value" if field.private else shortened_json(value)
                fault = Fault(row, field.name, shown, f"one of {few_names(spec.categories, _SHOWN_CATEGORIES)}")
                raise InvalidRows(fault.sentence(), faults=[fault.to_dict()])
    return pd.Categorical.from_codes([codes.get(value, -1) for value in values], categories=pd.Index(categories))


def model_input(step: SklearnStep, inputs: Schema, columns: Sequence[Column]) -> Any:
    """A data frame, matrix or column of text just like the one in training, of columns in schema order."""
    by_name = {field.name: (field, column) for field, column in zip(inputs, columns, strict=True)}
    arrays = {spec.name: _series(*by_name[spec.name], spec) for spec in step.columns}
    if step.reads == "frame":
        import pandas as pd

        return pd.DataFrame({name: list(array) if np.ndim(array) > 1 else array for name, array in arrays.items()}, copy=False)
    if step.reads == "column":
        return np.asarray(next(iter(arrays.values())), dtype=object)
    mixed = any(array.dtype == object for array in arrays.values())
    parts = [np.asarray(array, dtype=object) if mixed else np.asarray(array) for array in arrays.values()]
    matrix = np.concatenate([part.reshape(len(part), -1) for part in parts], axis=1)
    return matrix if mixed or matrix.dtype == np.float32 else matrix.astype(np.float64, copy=False)


def predict(step: SklearnStep, model: Any, matrix: Any) -> list[Column]:
    """Answer columns: label codes and scores or decision values of a classifier, numbers of a regressor; of each target where there are
    several.

    What a transformer makes is one vector; a detector of anomalies gives a flag and a score.
    """
    if step.answers_by == "transform":
        made = model.transform(matrix)
        return [Column(np.asarray(made.toarray() if hasattr(made, "toarray") else made, dtype=np.float64))]
    if step.answers_by == "anomaly":
        unusual = (np.asarray(model.predict(matrix)) == -1).astype(np.uint8)
        return [Column(unusual), Column(np.asarray(model.decision_function(matrix), dtype=np.float64).reshape(-1))]
    if step.targets:
        return _several(step, model, matrix)
    if not step.labels:
        values = np.asarray(model.predict(matrix), dtype=np.float64)
        if values.ndim == 2 and values.shape[1] == 1:
            values = values[:, 0]
        if values.ndim != 1:
            raise ModelFault(f"predict gave shape {values.shape}; one number a row is expected")
        return [Column(values)]
    scores = np.asarray(model.predict_proba(matrix), dtype=np.float64) if hasattr(model, "predict_proba") else None
    if step.label_from == "scores" and scores is not None:
        codes = scores.argmax(axis=1).astype(np.int32)
    else:
        codes = class_codes(step_classes(step, model), model.predict(matrix))
    if scores is None and len(step.gives) > 1:
        return [Column(codes), Column(np.asarray(model.decision_function(matrix), dtype=np.float64))]
    return [Column(codes)] if scores is None else [Column(codes), Column(scores)]


def with_label_values(step: SklearnStep, columns: list[Column]) -> list[Column]:
    """Answer columns whose label is a whole number or yes/no, where the schema says so, in place of its code; others as they are.

    Raise ModelFault for a row without a label.
    """
    kind = step.gives.fields[0].kind
    if not step.labels or kind == "choice":
        return columns
    codes = np.asarray(columns[0].values)
    if (codes < 0).any():
        row = int(np.argmax(codes < 0))
        raise ModelFault(f"the model gave no label in row {row}", row=row, field=step.gives.names[0])
    if kind == "integer":
        values = np.array([int(label) for label in step.labels], dtype=np.int64)
    else:
        values = np.array([label == "True" for label in step.labels], dtype=np.uint8)
    return [Column(values[codes]), *columns[1:]]


def step_classes(step: SklearnStep, model: Any) -> Any:
    """The classes of a model, in the order of its scores; the parts of a mixture are counted from 0."""
    return getattr(model, "classes_", np.arange(len(step.labels)))


def target_classes(model: Any, count: int) -> list[list[Any]]:
    """The classes of each target of a classifier that answers with ``count`` columns; 0 and 1 where these are flags of labels."""
    classes = getattr(model, "classes_", None)
    if isinstance(classes, list):
        return [np.asarray(label_class).tolist() for label_class in classes]
    return [[0, 1]] * count


def _several(step: SklearnStep, model: Any, matrix: Any) -> list[Column]:
    """Answers of a model that predicts several targets: numbers, or a label and scores for each."""
    predicted = model.predict(matrix)
    predicted = predicted.toarray() if hasattr(predicted, "toarray") else np.asarray(predicted)
    if predicted.ndim != 2 or predicted.shape[1] != len(step.targets):
        raise ModelFault(f"predict gave shape {predicted.shape}; {len(step.targets)} answers a row are expected")
    if not step.targets[0].labels:
        return [Column(values) for values in np.asarray(predicted, dtype=np.float64).T]
    scores = model.predict_proba(matrix) if any(field.kind in ("vector", "number") for field in step.gives) else None
    fields = {field.name: field for field in step.gives}
    columns = []
    for at, (target, classes) in enumerate(zip(step.targets, target_classes(model, len(step.targets)), strict=True)):
        codes = class_codes(classes, predicted[:, at])
        kind = fields[target.name].kind
        flag = kind in ("yes/no", "integer")
        columns.append(Column(codes.astype(np.uint8 if kind == "yes/no" else np.int64) if flag else codes))
        if scores is not None:
            mine = np.asarray(scores[at] if isinstance(scores, list) else scores[:, at], dtype=np.float64)
            columns.append(Column((mine if mine.ndim == 1 else mine[:, -1]) if flag else mine))
    return columns


def class_codes(classes: Any, predicted: Any) -> np.ndarray[Any, np.dtype[np.int32]]:
    """Index into ``classes`` of each predicted class."""
    index = {value: code for code, value in enumerate(np.asarray(classes).tolist())}
    return np.array([index[value] for value in np.asarray(predicted).tolist()], dtype=np.int32)
