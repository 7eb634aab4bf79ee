"""From a fitted model and its training frame to a lamp file."""

from __future__ import annotations

import platform
import tempfile
from collections.abc import Callable, Mapping, Sequence
from dataclasses import dataclass, field, replace
from pathlib import Path
from typing import TYPE_CHECKING, Any

import numpy as np

from lamppost.core.columns import Column, from_rows, to_rows
from lamppost.core.errors import BadRequest
from lamppost.core.fields import Field, Schema
from lamppost.core.infer import classifier_answers, infer_inputs, plain_rows, proof_rows, regressor_answers
from lamppost.core.manifest import ArtifactFormat, FrameColumn, Manifest, SklearnStep, Step, Story, read_as
from lamppost.core.names import check_name
from lamppost.core.proof import Proof, Tolerance, write_proof
from lamppost.core.reference import Reference, make_reference, write_reference
from lamppost.package import sklearn_model
from lamppost.package.sklearn_model import model_input
from lamppost.package.write import describe, write_lamp
from lamppost.packing.cautions import cautions, unread
from lamppost.packing.compile import compile_step
from lamppost.packing.environment import pins
from lamppost.packing.parts import Code, Table, code_step, table_step
from lamppost.runtime.steps import open_step

if TYPE_CHECKING:
    import pandas as pd

_CHECKED_ROWS = 5_000
_REFERENCE_ROWS = 50_000


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
    before: Sequence[Code | Table] = ()
    after: Sequence[Code | Table] = ()
    answers: Sequence[Any] | None = None


@dataclass(frozen=True, slots=True)
class Remarks:
    """What the packer should know. notes : compiled or not, columns left out, why pickle was needed. cautions : likely mistakes."""

    notes: list[str]
    cautions: list[str]


def build(model: Any, frame: pd.DataFrame, recipe: Recipe, to: Path) -> Remarks:
    """Write the lamp file."""
    check_name(recipe.name, "model")
    if isinstance(model, (list, tuple)):
        model = _chained(model)
    if not hasattr(model, "predict"):
        raise BadRequest(f"{type(model).__name__} has no predict; pack the fitted estimator or pipeline that answers")
    if recipe.proof_rows < 1:
        raise BadRequest(f"a proof needs at least one row, not {recipe.proof_rows}")
    with sklearn_model.one_thread(model):
        return _build(model, frame, recipe, to)


def _build(model: Any, frame: pd.DataFrame, recipe: Recipe, to: Path) -> Remarks:
    remarks: list[str] = []
    package = _Package(frame, recipe)
    package.add_parts(recipe.before)
    model_frame = package.model_frame(model, remarks)
    answers = package.add_model(model, model_frame, remarks)
    package.add_parts(recipe.after)
    if recipe.after:
        answers = package.steps[-1].gives
    proof, reference = package.proof(answers), package.reference(answers)
    members = package.members | {"proof.json": write_proof(proof), "reference.json": write_reference(reference)}
    libraries = pins(model, package.members, ("numpy", "pandas", *(("onnxruntime",) if package.serves_graph else ())))
    story = Story(recipe.notes, len(frame), dict(recipe.metrics or {}), dict(recipe.tags or {}), libraries, platform.python_version())
    steps = tuple(package.steps)
    write_lamp(to, Manifest(recipe.name, package.inputs, answers, steps, "proof.json", describe(members), "reference.json", story), members)
    return Remarks(remarks, package.cautions(model_frame))


class _Package:
    """A package in the making: the columns that are there after the steps so far, for every row of the training frame."""

    def __init__(self, frame: pd.DataFrame, recipe: Recipe) -> None:
        if recipe.target is not None and recipe.target not in frame.columns and recipe.before:
            raise BadRequest(f"the target {recipe.target!r} is no column of the training frame")
        self.frame = frame
        self.recipe = recipe
        self.steps: list[Step] = []
        self.members: dict[str, bytes] = {}
        self.columns: dict[str, Column] = {}
        self.known: dict[str, Field] = {}
        self.labels: np.ndarray[Any, Any] | None = None
        self._as_frame = True
        self._ask: Callable[[pd.DataFrame], Any]
        self._answer: Callable[[list[int]], list[Column]]
        self._inputs: Schema | None = None
        if recipe.before:
            given = {name for part in recipe.before for name in part.gives if isinstance(part, Table)}
            self._start(frame.drop(columns=[name for name in frame.columns if name in given or name == recipe.target]))

    @property
    def serves_graph(self) -> bool:
        """Whether the model was compiled."""
        return any(isinstance(step, SklearnStep) and step.compiled is not None for step in self.steps)

    @property
    def inputs(self) -> Schema:
        """The schema of a request."""
        assert self._inputs is not None
        return self._inputs

    def _start(self, request_frame: pd.DataFrame) -> None:
        self._inputs = infer_inputs(request_frame, self.recipe.fields)
        self.request_frame = request_frame
        self.known = {field.name: field for field in self._inputs}
        if self.recipe.before or self.recipe.after:
            self._flow(from_rows(self._inputs, plain_rows(self._inputs, request_frame)), self._inputs)

    def _flow(self, columns: Sequence[Column], gives: Schema) -> None:
        self.columns.update(zip(gives.names, columns, strict=True))
        self.known |= {field.name: field for field in gives}

    def add_parts(self, parts: Sequence[Code | Table]) -> None:
        """Add steps of code or tables, and run them over the training frame."""
        for part in parts:
            at = len(self.steps)
            step, members = code_step(part, at) if isinstance(part, Code) else table_step(part, at)
            takes = read_as(self.known, step.takes, f"step {at}")
            with tempfile.TemporaryDirectory(prefix="lamppost-code-") as name:
                folder = Path(name)
                for path, data in members.items():
                    (folder / path).parent.mkdir(parents=True, exist_ok=True)
                    (folder / path).write_bytes(data)
                running = open_step(step, takes, folder, members.__getitem__, frozenset({"python"}))
                given = running.run([self.columns[name] for name in step.takes])
            self.steps.append(step)
            self.members |= members
            self._flow(given, step.gives)

    def model_frame(self, model: Any, remarks: list[str]) -> pd.DataFrame:
        """What the model reads, for every row of the training frame."""
        if not self.recipe.before:
            frame, self._as_frame, left = _inputs(model, self.frame, self.recipe.target)
            remarks += left
            self._start(frame)
            return frame
        names = getattr(model, "feature_names_in_", None)
        self._as_frame = names is not None
        wanted = [str(name) for name in names] if names is not None else list(self.known)
        takes = read_as(self.known, tuple(wanted), "the model")
        specs = tuple(FrameColumn(field.name, _DTYPES[field.kind]) for field in takes)
        picture = SklearnStep("", "skops", specs, takes, as_frame=True)
        made: pd.DataFrame = model_input(picture, takes, [self.columns[name] for name in wanted])
        made.index = self.frame.index
        return made

    def add_model(self, model: Any, frame: pd.DataFrame, remarks: list[str]) -> Schema:
        """Add the model's step, compiled if that is exact; returns what it gives."""
        from sklearn.base import is_classifier

        recipe = self.recipe
        classes = _classes(model) if is_classifier(model) else None
        labels = () if classes is None else _labels(classes, recipe.labels)
        scored = hasattr(model, "predict_proba")
        gives = classifier_answers(labels, scored) if labels else regressor_answers(recipe.target or "value", recipe.unit)
        data, stored, reasons = sklearn_model.dump(model, recipe.format)
        at = len(self.steps)
        sample = _sample(frame)
        step = SklearnStep(
            f"steps/{at}/model.{stored}",
            stored,
            sklearn_model.frame_columns(frame),
            gives,
            self._as_frame,
            labels,
            _label_from(model, sample if self._as_frame else sample.to_numpy()) if labels and scored else "predict",
        )
        self.members[step.file] = data
        takes = read_as(self.known, step.takes, "the model")
        if recipe.compile:
            outcome = compile_step(step, model, takes, sample, recipe.tolerance, f"steps/{at}/compiled.onnx")
            step = replace(step, compiled=outcome.compiled, not_compiled=outcome.why)
            remarks.insert(0, outcome.sentence())
            if outcome.compiled is not None and outcome.graph is not None:
                self.members[outcome.compiled.file] = outcome.graph
        if reasons:
            who = "the compiled form serves" if step.compiled else "a server must allow pickles to open it"
            remarks.append(f"the model is stored as pickle, because skops does not hold {', '.join(reasons[:3])}; {who}")
        self.steps.append(step)
        matrix = frame if self._as_frame else frame.to_numpy()
        if labels:
            self.labels = np.asarray(model.predict(matrix))
        if recipe.after:
            self._flow(sklearn_model.predict(step, model, matrix), gives)
        else:
            self.known |= {field.name: field for field in gives}

        def ask(rows: pd.DataFrame) -> list[Column]:
            return sklearn_model.predict(step, model, rows if self._as_frame else rows.to_numpy())

        self._ask = lambda rows: ask(rows)[-1].values
        self._answer = lambda rows: ask(frame.iloc[rows])
        return gives

    def cautions(self, model_frame: pd.DataFrame) -> list[str]:
        """What in the inputs is likely to be a mistake."""
        target = self.frame[self.recipe.target] if self.recipe.target in self.frame.columns else None
        found = cautions(self.inputs, self.request_frame, target)
        if self.recipe.before:
            return found
        return found + unread(self.inputs, model_frame, self._ask)

    def proof(self, answers: Schema) -> Proof:
        """Rows, and the answers of the fitted object itself on the training frame itself: nothing of the serving path takes part.

        With ``answers`` in the recipe these are the proof's; with code behind the model, what that code makes of the model's.
        """
        positions = proof_rows(self.inputs, self.request_frame, self.recipe.proof_rows, self.labels)
        rows = plain_rows(self.inputs, self.request_frame.iloc[positions])
        return Proof(rows, self._said(answers, positions), self.recipe.tolerance)

    def _said(self, answers: Schema, positions: list[int]) -> list[dict[str, Any]]:
        """The answers to some rows of the frame."""
        if self.recipe.answers is not None:
            known = _known_answers(self.recipe.answers, answers, len(self.frame))
            return [known[position] for position in positions]
        if self.recipe.after:
            whole = to_rows(answers, [self.columns[name] for name in answers.names], len(self.frame))
            return [whole[position] for position in positions]
        return to_rows(answers, self._answer(positions), len(positions))

    def reference(self, answers: Schema) -> Reference:
        """What inputs and answers look like over the frame, or over 50,000 rows spread evenly over it."""
        positions = np.linspace(0, len(self.frame) - 1, num=min(len(self.frame), _REFERENCE_ROWS)).astype(int).tolist()
        rows = plain_rows(self.inputs, self.request_frame.iloc[positions])
        return make_reference(self.inputs, rows, answers, self._said(answers, positions))


_DTYPES = {"number": "float64", "integer": "int64", "yes/no": "bool", "choice": "str", "text": "str"}


def _known_answers(given: Sequence[Any], answers: Schema, rows: int) -> list[dict[str, Any]]:
    """Answers that training is known to have given, one a row: dicts, or plain values of the first answer field."""
    known = [dict(one) if isinstance(one, Mapping) else {answers.names[0]: one} for one in given]
    if len(known) != rows:
        raise BadRequest(f"answers has {len(known)} entries, the training frame has {rows} rows; one for each is needed")
    for row, one in enumerate(known):
        if lost := [name for name in answers.names if name not in one]:
            raise BadRequest(f"answers, row {row}: there is no {', '.join(lost)}; give a dict with {', '.join(answers.names)}")
    return known


def _chained(pieces: Sequence[Any]) -> Any:
    """Separately fitted pieces as one pipeline; nothing is fitted again."""
    from sklearn.pipeline import Pipeline

    if not pieces:
        raise BadRequest("the list of pieces is empty; give the fitted objects in the order in which they run")
    return Pipeline([(f"{at}-{type(piece).__name__.lower()}", piece) for at, piece in enumerate(pieces)])


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
    if given is not None and hasattr(given, "inverse_transform"):  # a label encoder that was fitted beside the model
        return tuple(map(str, given.inverse_transform(classes)))
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
