"""Infers input and answer schemas from a training frame: kinds, ranges, choices, what may be missing, an example.

A column of text with at most 64 different values is a choice, with more it is text. The range seen in training is documented, not enforced:
limits are enforced only where the packer states them.
"""

from __future__ import annotations

import base64
from collections.abc import Mapping, Sequence
from dataclasses import fields as dataclass_fields
from datetime import UTC
from typing import TYPE_CHECKING, Any, Literal

import numpy as np

from lamppost.core.artifact.steps import PredictedTarget
from lamppost.core.errors import BadRequest
from lamppost.core.names import closest_name
from lamppost.core.schema.columns import Column, column_from_step, column_from_values, format_instant
from lamppost.core.schema.fields import Field, Kind, Schema, Value
from lamppost.core.schema.images import BadImage, encode_png, image_size

if TYPE_CHECKING:
    import pandas as pd

MAX_CHOICES = 64
_OVERRIDABLE = {spec.name for spec in dataclass_fields(Field)} - {"name"}


def infer_inputs(frame: pd.DataFrame, overrides: Mapping[str, Mapping[str, Any]] | None = None) -> Schema:
    """The input schema of a training frame (one column a field); ``overrides`` maps a field to the attributes to set."""
    overrides = overrides or {}
    for name, given in overrides.items():
        if name not in frame.columns:
            like = closest_name(name, map(str, frame.columns))
            raise BadRequest(f"fields.{name}: the training frame has no such column" + (f"; did you mean {like}?" if like else ""))
        if unknown := given.keys() - _OVERRIDABLE:
            raise BadRequest(f"fields.{name}: unknown {', '.join(sorted(unknown))}; known are {', '.join(sorted(_OVERRIDABLE))}")
    example = _example_row(frame)
    return Schema(tuple(_field(frame[name], example, overrides.get(str(name), {})) for name in frame.columns))


def _field(series: pd.Series, example: Mapping[str, Any], given: Mapping[str, Any]) -> Field:
    name = str(series.name)
    kind: Kind = given.get("kind") or infer_kind(series)
    present = series.dropna()
    if _has_plain_categories(series):
        present = present.astype(series.cat.categories.dtype)
    attributes: dict[str, Any] = {"missing": bool(series.isna().any())}
    if kind in ("number", "integer") and len(present):
        attributes["seen"] = (json_value(kind, present.min()), json_value(kind, present.max()))
    if kind == "choice":
        attributes["choices"] = tuple(sorted(present.astype(str).unique()))
    if kind == "tensor":
        attributes |= _tensor_attributes(present)
    if kind == "image":
        attributes |= _image_attributes(name, present)
    if not given.get("private"):
        attributes["example"] = json_value(kind, example[name])
    elif "example" not in given and not (given.get("missing") or attributes["missing"]):
        raise BadRequest(f"fields.{name}: a private field needs an example that is nobody's, because examples are published")
    attributes |= {key: tuple(value) if isinstance(value, list) and key != "example" else value for key, value in given.items()}
    return Field(name, **(attributes | {"kind": kind}))


def _tensor_attributes(present: pd.Series) -> dict[str, Any]:
    arrays = [np.asarray(value) for value in present]
    axes = {array.ndim for array in arrays}
    if len(axes) != 1 or min(axes) < 1 or any(array.dtype.kind not in "fiub" for array in arrays):
        raise BadRequest(f"column {present.name!r} holds lists that are no numbers, or of different depth; a tensor has one number of axes")
    shapes = np.array([array.shape for array in arrays])
    shape = tuple(int(first) if (shapes[:, at] == first).all() else 0 for at, first in enumerate(shapes[0]))
    return {"shape": shape, "elements": "integer" if all(array.dtype.kind in "iub" for array in arrays) else "number"}


def _image_attributes(name: str, present: pd.Series) -> dict[str, Any]:
    try:
        summary = {image_size(encode_png(value)) for value in present}
    except BadImage as error:
        raise BadRequest(f"column {name!r} holds {error}") from error
    sizes, channels = {look[:2] for look in summary}, {look[2] for look in summary}
    return {"size": sizes.pop() if len(sizes) == 1 else None, "channels": max(channels)}


def infer_kind(series: pd.Series) -> Kind:
    """The kind of field that a column of a frame is; raise BadRequest for one that no field can hold."""
    import pandas as pd

    if _has_plain_categories(series):
        return infer_kind(pd.Series(series.cat.categories, name=series.name))
    present = series.dropna()
    if pd.api.types.is_bool_dtype(series.dtype) or (len(present) and present.map(lambda value: isinstance(value, (bool, np.bool_))).all()):
        return "yes/no"
    if pd.api.types.is_datetime64_any_dtype(series.dtype):
        return "time"
    if pd.api.types.is_integer_dtype(series.dtype):
        return "integer"
    if pd.api.types.is_float_dtype(series.dtype):
        return "number"
    if len(present) and present.map(lambda value: isinstance(value, str)).all():
        return "choice" if present.nunique() <= MAX_CHOICES else "text"
    if len(present) and present.map(_is_picture).all():
        return "image"
    if len(present) and present.map(lambda value: isinstance(value, (list, tuple, np.ndarray))).all():
        return "tensor"
    raise BadRequest(
        f"column {series.name!r} has dtype {series.dtype}, which is no kind of field; "
        "make it numbers, text, times, true/false, lists of numbers or bytes of pictures before training, or leave it out"
    )


def _has_plain_categories(series: pd.Series) -> bool:
    """Whether a column is of categories that are numbers or true/false."""
    import pandas as pd

    if not isinstance(series.dtype, pd.CategoricalDtype):
        return False
    kind = series.cat.categories.dtype
    return bool(pd.api.types.is_numeric_dtype(kind) or pd.api.types.is_bool_dtype(kind))


def _is_picture(value: Any) -> bool:
    """Whether a value is a picture: bytes, or a uint8 array of shape (height, width, channels)."""
    if isinstance(value, np.ndarray):
        return value.dtype == np.uint8 and value.ndim == 3 and value.shape[2] in (1, 3, 4)
    return isinstance(value, bytes)


def json_value(kind: Kind, value: Any) -> Value:
    """A value of a frame as JSON would carry it: Python float, int, bool, str, lists or None. A time without an offset is in UTC."""
    if kind == "tensor":
        plain: list[Any] = np.asarray(value).tolist()
        return plain
    if kind == "image":
        return None if value is None or isinstance(value, float) else base64.b64encode(encode_png(value)).decode()
    if value is None or type(value).__name__ in ("NAType", "NaTType") or value != value:  # NA compares with nothing
        return None
    if kind == "time":
        return format_instant(int(np.datetime64(_in_utc(value), "us").astype(np.int64)))
    if kind == "yes/no":
        return bool(value)
    return float(value) if kind == "number" else int(value) if kind == "integer" else str(value)


def _in_utc(value: Any) -> Any:
    if getattr(value, "tzinfo", None) is None:
        return value
    return value.astimezone(UTC).replace(tzinfo=None)


def frame_rows(schema: Schema, frame: pd.DataFrame) -> list[dict[str, Any]]:
    """Rows of a frame as a request would carry them; keys in schema order."""
    columns = [_json_values(field.kind, frame[field.name]) for field in schema]
    return [dict(zip(schema.names, values, strict=True)) for values in zip(*columns, strict=True)]


def _json_values(kind: Kind, series: pd.Series) -> list[Value]:
    """`json_value` of each value; of columns that hold nothing else at once."""
    if kind == "number" and series.dtype == np.float64:
        values = series.to_numpy()
        listed: list[Value] = values.tolist()
        return [None if gone else value for value, gone in zip(listed, np.isnan(values), strict=True)] if np.isnan(values).any() else listed
    if kind == "integer" and series.dtype == np.int64:
        whole: list[Value] = series.tolist()
        return whole
    return [json_value(kind, value) for value in series.tolist()]


def _example_row(frame: pd.DataFrame) -> Mapping[str, Any]:
    """A real row: the first complete one, or the first."""
    if not len(frame):
        raise BadRequest("the training frame has no rows; give the frame the model was trained on")
    complete = frame.head(10_000).dropna()
    return dict((complete if len(complete) else frame).iloc[0])


LabelKind = Literal["choice", "integer", "yes/no"]


def classifier_answers(labels: tuple[str, ...], scored: bool, decided: bool = False, kind: LabelKind = "choice") -> Schema:
    """Answers of a classifier: the label, and a score for each label where the model gives scores.

    decided : whether there is a decision value in place of scores: a number for two labels, else one for each label.
    kind : what the label is. The labels of a whole number or of yes/no are these as text.
    """
    if kind == "integer":
        numbers = [int(label) for label in labels]
        label = Field("label", "integer", low=min(numbers), high=max(numbers), meaning="the most likely label")
    else:
        label = Field("label", kind, choices=labels if kind == "choice" else (), meaning="the most likely label")
    if scored:
        return Schema((label, Field("scores", "vector", choices=labels, meaning="score of each label, 0 to 1")))
    if not decided:
        return Schema((label,))
    if len(labels) == 2:
        return Schema((label, Field("decision", "number", meaning=f"decision value; the higher, the surer is {labels[1]}")))
    return Schema((label, Field("decisions", "vector", choices=labels, meaning="decision value of each label; no share of 1")))


def regressor_answers(name: str, unit: str | None) -> Schema:
    """Answers of a regressor: one number, named after the target."""
    return Schema((Field(name, "number", unit=unit),))


def multi_target_answers(targets: Sequence[PredictedTarget], scored: bool, unit: str | None) -> Schema:
    """Answers of a model with several targets: a number for each; or 0 or 1 (yes or no) and its score; or a label and a score for each."""
    fields: list[Field] = []
    for target in targets:
        if not target.labels:
            fields.append(Field(target.name, "number", unit=unit))
        elif target.labels in (("0", "1"), ("False", "True")):
            whole = target.labels[0] == "0"
            fields.append(Field(target.name, "integer", low=0, high=1) if whole else Field(target.name, "yes/no"))
            if scored:
                fields.append(Field(f"{target.name}_score", "number", meaning=f"score of {target.name}, 0 to 1"))
        else:
            fields.append(Field(target.name, "choice", choices=target.labels))
            if scored:
                fields.append(Field(f"{target.name}_scores", "vector", choices=target.labels, meaning="score of each label, 0 to 1"))
    return Schema(tuple(fields))


def columns_from_frame(schema: Schema, frame: pd.DataFrame) -> list[Column]:
    """The columns of a frame as steps get them."""
    return [_column_of(field, frame[field.name]) for field in schema]


def _column_of(field: Field, series: pd.Series) -> Column:
    if field.kind == "tensor":
        return column_from_step(field, series.tolist())
    if field.kind == "image":
        return Column([None if value is None or isinstance(value, float) else encode_png(value) for value in series.tolist()])
    if (field.kind, series.dtype) in (("number", np.dtype(np.float64)), ("integer", np.dtype(np.int64))):
        return Column(series.to_numpy(copy=True))
    return column_from_values(field, _json_values(field.kind, series))


def choose_proof_rows(schema: Schema, frame: pd.DataFrame, most: int, labels: np.ndarray[Any, Any] | None = None) -> list[int]:
    """Positions of at most ``most`` rows that cover the frame: each label, each choice, missing values and extremes first, then evenly
    spread.
    """
    chosen: dict[int, None] = {}

    def want(position: Any) -> None:
        chosen.setdefault(int(position))

    if labels is not None:
        for label in np.unique(labels):
            want(np.argmax(labels == label))
    for field in schema:
        gone = frame[field.name].isna().to_numpy()
        if gone.any():
            want(np.argmax(gone))
    for field in schema:
        if field.kind in ("number", "integer"):
            values = frame[field.name].to_numpy(dtype=float, na_value=np.nan)
            if np.isfinite(values).any():
                want(np.nanargmin(values))
                want(np.nanargmax(values))
        elif field.kind in ("choice", "yes/no"):
            text = frame[field.name].astype(object).to_numpy()
            for choice in dict.fromkeys(value for value in text if isinstance(value, (str, bool, np.bool_))):
                want(np.argmax(text == choice))
    for position in np.linspace(0, len(frame) - 1, num=min(len(frame), most)).astype(int):
        chosen.setdefault(int(position))
    return sorted(list(chosen)[:most])
