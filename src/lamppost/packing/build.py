"""From a fitted model and its training frame to a lamp file."""

from __future__ import annotations

import platform
from collections.abc import Mapping, Sequence
from dataclasses import dataclass, field, replace
from importlib import metadata
from pathlib import Path
from typing import TYPE_CHECKING, Any

import numpy as np

from lamppost.core.columns import to_rows
from lamppost.core.errors import BadRequest
from lamppost.core.fields import Schema
from lamppost.core.infer import classifier_answers, infer_inputs, plain_rows, proof_rows, regressor_answers
from lamppost.core.manifest import ArtifactFormat, Manifest, SklearnStep, Story
from lamppost.core.names import check_name
from lamppost.core.proof import Proof, Tolerance, write_proof
from lamppost.package import sklearn_model
from lamppost.package.write import describe, write_lamp
from lamppost.packing.compile import compile_step

if TYPE_CHECKING:
    import pandas as pd

_CHECKED_ROWS = 5_000
_LIBRARIES = ("numpy", "pandas", "scikit-learn", "scipy", "skops", "joblib")


@dataclass(frozen=True, slots=True)
class Recipe:
    """Everything `build` needs beside model and frame; the same as the arguments of `lamppost.pack`, where they are described."""

    name: str
    target: str | None = None
    labels: Mapping[Any, str] | Sequence[str] | None = None
    fields: Mapping[str, Mapping[str, Any]] | None = None
    format: ArtifactFormat | None = None
    proof_rows: int = 20
    tolerance: Tolerance = field(default_factory=Tolerance)
    notes: str = ""
    metrics: Mapping[str, float] | None = None
    tags: Mapping[str, str] | None = None
    unit: str | None = None
    compile: bool = True


def build(model: Any, frame: pd.DataFrame, recipe: Recipe, to: Path) -> list[str]:
    """Write the lamp file and return remarks for the packer (compiled or not, columns left out, why pickle was needed)."""
    check_name(recipe.name, "model")
    if not hasattr(model, "predict"):
        raise BadRequest(f"{type(model).__name__} has no predict; pack the fitted estimator or pipeline that answers")
    if recipe.proof_rows < 1:
        raise BadRequest(f"a proof needs at least one row, not {recipe.proof_rows}")
    with sklearn_model.one_thread(model):
        return _build(model, frame, recipe, to)


def _build(model: Any, frame: pd.DataFrame, recipe: Recipe, to: Path) -> list[str]:
    from sklearn.base import is_classifier

    inputs_frame, as_frame, remarks = _inputs(model, frame, recipe.target)
    inputs = infer_inputs(inputs_frame, recipe.fields)
    classes = _classes(model) if is_classifier(model) else None
    labels = () if classes is None else _labels(classes, recipe.labels)
    scored = hasattr(model, "predict_proba")
    answers = classifier_answers(labels, scored) if labels else regressor_answers(recipe.target or "value", recipe.unit)

    data, stored, reasons = sklearn_model.dump(model, recipe.format)
    file = f"steps/0/model.{stored}"
    sample = _sample(inputs_frame)
    step = SklearnStep(
        file,
        stored,
        sklearn_model.frame_columns(inputs_frame),
        as_frame,
        labels,
        _label_from(model, sample if as_frame else sample.to_numpy()) if labels and scored else "predict",
    )
    members = {file: data, "proof.json": write_proof(_proof(step, model, inputs, answers, inputs_frame, recipe))}
    if recipe.compile:
        outcome = compile_step(step, model, inputs, sample, recipe.tolerance)
        step = replace(step, compiled=outcome.compiled, not_compiled=outcome.why)
        remarks.insert(0, outcome.sentence())
        if outcome.compiled is not None and outcome.graph is not None:
            members[outcome.compiled.file] = outcome.graph
    if reasons:
        who = "the compiled form serves" if step.compiled else "a server must allow pickles to open it"
        remarks.append(f"the model is stored as pickle, because skops does not hold {', '.join(reasons[:3])}; {who}")
    story = Story(recipe.notes, len(frame), dict(recipe.metrics or {}), dict(recipe.tags or {}), _libraries(), platform.python_version())
    write_lamp(to, Manifest(recipe.name, inputs, answers, (step,), "proof.json", describe(members), story), members)
    return remarks


def _inputs(model: Any, frame: pd.DataFrame, target: str | None) -> tuple[pd.DataFrame, bool, list[str]]:
    """The columns the model reads, in its order; whether it was fitted on named columns; remarks."""
    if target is not None and target not in frame.columns and not hasattr(model, "feature_names_in_"):
        raise BadRequest(f"the target {target!r} is no column of the training frame; its columns are {', '.join(map(str, frame.columns))}")
    names = getattr(model, "feature_names_in_", None)
    if names is not None:
        wanted = [str(name) for name in names]
        if lost := [name for name in wanted if name not in frame.columns]:
            raise BadRequest(f"the model was fitted on columns that the training frame lacks: {', '.join(lost)}")
        left = [str(name) for name in frame.columns if str(name) not in wanted and name != target]
        return frame[wanted], True, [f"not an input, because the model never saw it: {', '.join(left)}"] if left else []
    inputs = frame.drop(columns=[target] if target is not None else [])
    expected = getattr(model, "n_features_in_", inputs.shape[1])
    if inputs.shape[1] != expected:
        raise BadRequest(
            f"the model was fitted on {expected} columns, the training frame has {inputs.shape[1]}; "
            "give just the columns it was fitted on, in their order, and name the target"
        )
    return inputs, False, []


def _classes(model: Any) -> np.ndarray[Any, Any]:
    classes = model.classes_
    if isinstance(classes, list):
        raise BadRequest("a classifier with several targets cannot be packed yet; pack one model for each target")
    return np.asarray(classes)


def _labels(classes: np.ndarray[Any, Any], given: Mapping[Any, str] | Sequence[str] | None) -> tuple[str, ...]:
    values = classes.tolist()
    if given is None:
        return tuple(map(str, values))
    if isinstance(given, Mapping):
        by_text = {str(key): name for key, name in given.items()}
        if lost := [str(value) for value in values if str(value) not in by_text]:
            raise BadRequest(f"labels gives no name for the classes {', '.join(lost)}")
        return tuple(by_text[str(value)] for value in values)
    if len(given) != len(values):
        raise BadRequest(f"labels has {len(given)} names, the model has {len(values)} classes: {', '.join(map(str, values))}")
    return tuple(given)


def _sample(frame: pd.DataFrame) -> pd.DataFrame:
    """Rows spread evenly over the frame, so that a check on them is quick."""
    positions = np.linspace(0, len(frame) - 1, num=min(len(frame), _CHECKED_ROWS)).astype(int)
    return frame.iloc[positions]


def _label_from(model: Any, matrix: Any) -> Any:
    """``scores`` when the class of the highest score is what ``predict`` says on every checked row, which saves half the work."""
    codes = sklearn_model.class_codes(model.classes_, model.predict(matrix))
    return "scores" if (np.asarray(model.predict_proba(matrix)).argmax(axis=1) == codes).all() else "predict"


def _proof(step: SklearnStep, model: Any, inputs: Schema, answers: Schema, frame: pd.DataFrame, recipe: Recipe) -> Proof:
    """Rows and the answers of the object itself, on the training frame itself: nothing of the serving path takes part."""
    labels = None
    if step.labels:
        labels = np.asarray(model.predict(frame if step.as_frame else frame.to_numpy()))
    rows = frame.iloc[proof_rows(inputs, frame, recipe.proof_rows, labels)]
    columns = sklearn_model.predict(step, model, rows if step.as_frame else rows.to_numpy())
    return Proof(plain_rows(inputs, rows), to_rows(answers, columns, len(rows)), recipe.tolerance)


def _libraries() -> dict[str, str]:
    found = {}
    for name in _LIBRARIES:
        try:
            found[name] = metadata.version(name)
        except metadata.PackageNotFoundError:
            continue
    return found
