"""Makes a lamp file from a model and its training frame."""

from __future__ import annotations

import platform
import tempfile
from collections.abc import Callable, Mapping, Sequence
from contextlib import nullcontext
from dataclasses import replace
from pathlib import Path
from typing import TYPE_CHECKING, Any, get_args

import numpy as np

from lamppost.core.artifact.manifest import Manifest, Provenance, fields_by_name
from lamppost.core.artifact.proof import write_proof
from lamppost.core.artifact.reference import write_reference
from lamppost.core.artifact.schema_inference import choose_proof_rows, columns_from_frame, infer_inputs, infer_kind
from lamppost.core.artifact.steps import ArtifactFormat, FrameColumn, NetworkStep, PixelsStep, PmmlStep, Reads, SklearnStep, Step, TableStep
from lamppost.core.errors import BadRequest
from lamppost.core.insight.insight import write_insight
from lamppost.core.names import check_name
from lamppost.core.schema.columns import Column, column_from_values
from lamppost.core.schema.fields import Field, Schema
from lamppost.package import sklearn_model
from lamppost.package.compiled_model import CompiledModel
from lamppost.package.sklearn_model import as_read, model_input, with_label_values
from lamppost.package.write import describe, write_lamp
from lamppost.packing.evidence import Evidence, rows_of
from lamppost.packing.fitted import fitted_step, inputs_of, prepared, takes_unknown
from lamppost.packing.frames import training_frame
from lamppost.packing.networks import Network, field_hints, network_step, read_notes
from lamppost.packing.pins import find_pins
from lamppost.packing.pmml.reading import Pmml
from lamppost.packing.pmml.step import columns_read, pmml_step
from lamppost.packing.provenance import find_origin
from lamppost.packing.quantizing import quantized
from lamppost.packing.recipe import Part, Recipe, Remarks
from lamppost.packing.side_steps import (
    Code,
    Encoder,
    Pixels,
    Table,
    Threshold,
    code_step,
    encoder_step,
    field_of,
    pixels_step,
    table_step,
    threshold_step,
)
from lamppost.packing.stages import Stages
from lamppost.runtime.running_steps import RunningSklearn, RunningStep, open_step

if TYPE_CHECKING:
    import pandas as pd

_LOOKED_AT_ROWS = 8
_COMPARED_ROWS = 1_000
_SAMPLE_ROWS = 20_000
FORMATS = get_args(ArtifactFormat)
_EVERYTHING = frozenset({"python", "torch"})


def build_package(
    model: Any, frame: Any, recipe: Recipe, to: Path, stages: Stages | None = None, on_written: Callable[[], object] = lambda: None
) -> Remarks:
    """Write the lamp file of a fitted object, or of a `Network`.

    frame : see `lamppost.packing.frames.training_frame`. stages : is told what begins. on_written : is called once the file is there;
    what is said about the model is found out after that.
    """
    stages = stages or Stages()
    stages.begin("reading the frame")
    check_name(recipe.name, "model")
    if recipe.proof_rows < 1:
        raise BadRequest(f"a proof needs at least one row, not {recipe.proof_rows}")
    if recipe.format not in (None, *FORMATS):
        raise BadRequest(f"there is no format {recipe.format!r}; choose {' or '.join(FORMATS)}, or leave it out")
    if isinstance(model, type):
        raise BadRequest(f"{model.__name__} is a class; give the object that was fitted: model = {model.__name__}().fit(…)")
    if isinstance(model, (str, Path)):
        model = Pmml(Path(model)) if str(model).lower().endswith(".pmml") else Network(model)
    drawn = isinstance(model, Pmml) and frame is None
    if drawn:
        frame, own = model.document.rows()
        recipe = replace(recipe, drawn_rows=not own)
    frame, notes = training_frame(frame, model)
    if not len(frame):
        raise BadRequest("the training frame has no rows; give the frame the model was trained on")
    if recipe.drawn_rows:
        notes.append(
            "without rows of training: the proof's were drawn from the values in the document, and drift has nothing to compare with"
        )
    from_file = isinstance(model, Network | Pmml)
    if recipe.quantize and not isinstance(model, Network):
        raise BadRequest("only a network can be quantized; compiled graphs of other models stay exact")
    model = model if from_file else prepared(model)
    with nullcontext() if from_file else sklearn_model.one_thread(model), tempfile.TemporaryDirectory(prefix="lamppost-packing-") as folder:
        return _build(_Package(frame, recipe, Path(folder)), model, to, notes, stages, on_written)


def _build(package: _Package, model: Any, to: Path, notes: list[str], stages: Stages, on_written: Callable[[], object]) -> Remarks:
    recipe = package.recipe
    provenance = Provenance(notes=recipe.notes, tags=dict(recipe.tags or {}))
    if isinstance(model, Network):
        own_notes, tags = read_notes(model)
        provenance = replace(provenance, notes=recipe.notes or own_notes, tags=tags | provenance.tags)
    if isinstance(model, Pmml):
        provenance = replace(provenance, notes=recipe.notes or model.document.notes)
    package.begin(model, notes)
    package.add_parts(recipe.before)
    stages.begin("asking the model")
    if isinstance(model, Network):
        if recipe.quantize:
            model, change, faster = package.quantize(model)
            notes.append(f"{change}; {faster:.2f} times as fast as before here")
            provenance = replace(provenance, quantized=change)
        package.add_parts([model])
    elif isinstance(model, Pmml):
        package.add_parts([model])
        notes.append("answers are those of a graph made of the document")
    else:
        package.add_fitted(model, notes)
    package.add_parts(recipe.after)
    package.refuse_unread_options()
    answers = package.answers()
    evidence = package.evidence(answers)
    stages.begin("making the proof")
    members = package.members | {"proof.json": write_proof(evidence.proof())}
    stages.begin("describing the training")
    if not recipe.drawn_rows:
        members["reference.json"] = write_reference(evidence.reference())
    insight = None
    if recipe.insight:
        stages.begin("measuring what it learned")
        insight = evidence.insight()
    if insight is not None:
        members["insight.json"] = write_insight(insight)
    origin = find_origin(to.parent.absolute(), recipe.by)
    provenance = replace(
        provenance,
        trained_rows=None if recipe.drawn_rows else package.trained_rows,
        metrics=dict(recipe.metrics or {}),
        libraries=find_pins(None if isinstance(model, Pmml) else model, package.members, package.imports()),
        python=platform.python_version(),
        by=origin.by,
        commit=origin.commit,
        changed=origin.changed,
        at=origin.at,
    )
    manifest = Manifest(
        recipe.name,
        package.inputs,
        answers,
        tuple(package.steps),
        "proof.json",
        describe(members),
        None if recipe.drawn_rows else "reference.json",
        provenance,
        package.options,
        "insight.json" if insight is not None else None,
    )
    write_lamp(to, manifest, members)
    on_written()
    stages.begin("looking for mistakes")
    qualities = evidence.qualities()
    return Remarks(
        notes + [quality.summary for quality in qualities],
        [quality.caution for quality in qualities if quality.caution is not None] + evidence.cautions(),
    )


class _Package:
    """A package being built: the columns after the steps so far, for every row of the training frame."""

    def __init__(self, frame: pd.DataFrame, recipe: Recipe, folder: Path) -> None:
        self.frame = frame
        self._frame_given = frame
        self.recipe = recipe
        self.folder = folder
        self.steps: list[Step] = []
        self.members: dict[str, bytes] = {}
        self.inputs: Schema
        self.request_frame: pd.DataFrame
        self._whole_request_frame: pd.DataFrame
        self.options: Schema | None = None
        self._running: list[RunningStep] = []
        self._columns: dict[str, Column] = {}
        self._known: dict[str, Field] = {}
        self._reads: Reads = "frame"
        self._quick_answers: Callable[[pd.DataFrame], list[Column]] | None = None
        self._decisions: Callable[[pd.DataFrame], Any] | None = None
        self._label_of: dict[str, str] = {}
        self._model_answers: Callable[[pd.DataFrame], list[Column]] | None = None

    @property
    def trained_rows(self) -> int:
        """Rows of the training frame."""
        return len(self._frame_given)

    def imports(self) -> list[str]:
        """Modules that the steps need beside those of the model's own objects."""
        needed = ["numpy"]
        if any(isinstance(step, SklearnStep) for step in self.steps):
            needed.append("pandas")
        graphs = [step for step in self.steps if isinstance(step, SklearnStep) and step.compiled]
        networks = {step.format for step in self.steps if isinstance(step, NetworkStep)}
        if graphs or "onnx" in networks or any(isinstance(step, PmmlStep) for step in self.steps):
            needed.append("onnxruntime")
        if networks - {"onnx"}:
            needed.append("torch")
        if any(isinstance(step, PixelsStep) for step in self.steps):
            needed.append("PIL")
        return needed + [step.booster.library for step in self.steps if isinstance(step, SklearnStep) and step.booster]

    # -- the columns of a request ---------------------------------------------------------------------------------------

    def begin(self, model: Any, notes: list[str]) -> None:
        """Take the columns of a request from the training frame."""
        recipe = self.recipe
        given = {name for part in recipe.before for name in (part.gives if isinstance(part, Table) else ())}
        if recipe.before or isinstance(model, Network | Pmml):
            lost = [name for name in recipe.targets if name not in self.frame.columns]
            if lost and not isinstance(model, Network | Pmml):
                raise BadRequest(f"the target {lost[0]!r} is no column of the training frame")
            self.request_frame = self.frame.drop(columns=[n for n in self.frame.columns if n in given or n in recipe.targets])
            if isinstance(model, Pmml) and not recipe.before:
                self.request_frame, left = columns_read(model, self.request_frame)
                notes += left
        else:
            self.request_frame, self._reads, left = inputs_of(model, self.frame, recipe.targets)
            notes += left
        self.inputs = infer_inputs(self.request_frame, self._hinted(model))
        if recipe.drawn_rows:
            self.inputs = Schema(tuple(replace(field, seen=None) for field in self.inputs))
        self._whole_request_frame = self.request_frame
        self._take_sample(notes)
        self._known = {field.name: field for field in self.inputs}
        if options := _options_of(recipe):
            self.options = Schema(tuple(field_of(name, given) for name, given in options.items()))
            if needed := [field.name for field in self.options if field.required]:
                raise BadRequest(f"options.{needed[0]}: an option needs a default, or missing = true; the proof is made with it")
            self._known |= {field.name: field for field in self.options}
        if recipe.before or recipe.after or isinstance(model, Network | Pmml):
            self._flow(columns_from_frame(self.inputs, self.request_frame), self.inputs)
            if self.options:
                rows = len(self.frame)
                self._flow([column_from_values(field, [field.default] * rows) for field in self.options], self.options)

    def _take_sample(self, notes: list[str]) -> None:
        """Go on with 20,000 rows of a longer frame, spread evenly, and with rows that hold each choice and the extremes.

        To ask the model for every row of a long frame is what packing would spend its time on.
        """
        rows = len(self.frame)
        for name, given in self._by_row():
            if given is not None and len(given) != rows:
                raise BadRequest(f"{name} has {len(given):,} entries, the training frame has {rows:,} rows; one for each is needed")
        if rows <= _SAMPLE_ROWS or self.recipe.all_rows:
            return
        spread = np.linspace(0, rows - 1, num=_SAMPLE_ROWS).astype(int)
        places = np.unique([*spread, *choose_proof_rows(self.inputs, self.request_frame, _COMPARED_ROWS)])
        self.frame, self.request_frame = self.frame.iloc[places], self.request_frame.iloc[places]
        held_out, answers = (None if given is None else [given[place] for place in places] for _, given in self._by_row())
        self.recipe = replace(self.recipe, held_out=held_out, answers=answers)
        notes.append(f"answers were taken for {len(places):,} of {rows:,} rows, spread evenly; all of them are with all_rows=True or --all")

    def _by_row(self) -> list[tuple[str, Sequence[Any] | None]]:
        """What the packer says of each row."""
        return [("held_out", self.recipe.held_out), ("answers", self.recipe.answers)]

    def _hinted(self, model: Any) -> dict[str, Mapping[str, Any]]:
        """Attributes of fields: those that the packer states, and those that follow from the network that reads them."""
        said: dict[str, Mapping[str, Any]] = dict(self.recipe.fields or {})
        if isinstance(model, Pmml):
            return {name: {**hint, **said.get(name, {})} for name, hint in model.document.hints().items() if name in self.request_frame}
        if not isinstance(model, Network) and not self.recipe.before:
            columns = [str(name) for name in self.request_frame.columns]
            for name in takes_unknown(model, columns) & set(columns):
                if infer_kind(self.request_frame[name]) == "choice":
                    said[name] = {"unseen": "accept", **said.get(name, {})}
        if not isinstance(model, Network) or self.recipe.before:
            return said
        hints = field_hints(model, [str(name) for name in self.request_frame.columns], list(self.recipe.options or ()))
        plain = infer_inputs(self.request_frame, said)
        for field in plain:
            hint = hints.get(field.name, {})
            if field.kind in ("number", "integer") and hint.get("kind") in ("number", "integer"):
                said[field.name] = {"kind": hint["kind"], **said.get(field.name, {})}
            elif field.kind == "tensor" and "elements" in hint:
                said[field.name] = {"elements": hint["elements"], **said.get(field.name, {})}
            elif field.kind == "choice" and hint.get("kind") == "text":
                said[field.name] = {"kind": "text", "choices": [], **said.get(field.name, {})}
        return said

    def _flow(self, columns: Sequence[Column], gives: Schema) -> None:
        self._columns.update(zip(gives.names, columns, strict=True))
        self._known |= {field.name: field for field in gives}

    # -- steps ----------------------------------------------------------------------------------------------------------

    def add_parts(self, parts: Sequence[Part]) -> None:
        """Add steps of code, tables, pictures or networks, and run them over the training frame."""
        for part in parts:
            step, members = self._step(part)
            running = self._opened(step, members)
            given = running.run([self._columns[name] for name in step.takes])
            self.steps.append(step)
            self._running.append(running)
            self.members |= members
            self._flow(given, step.gives)

    def _step(self, part: Part) -> tuple[Step, dict[str, bytes]]:
        """The next step, of such a part, with its members."""
        at = len(self.steps)
        if isinstance(part, Code):
            return code_step(part, at)
        if isinstance(part, Table):
            return table_step(part, at)
        if isinstance(part, Encoder):
            return encoder_step(part, at)
        if isinstance(part, Pixels):
            return pixels_step(part), {}
        if isinstance(part, Threshold):
            return threshold_step(part, self._known), {}
        if isinstance(part, Pmml):
            return pmml_step(part, at, self._known)
        return network_step(part, at, *self._some(_LOOKED_AT_ROWS), self._unread())

    def _some(self, rows: int) -> tuple[dict[str, Field], dict[str, Column]]:
        """The fields there are, and their values in some rows."""
        positions = list(range(min(rows, len(self.frame))))
        columns = {name: rows_of(column, positions) for name, column in self._columns.items()}
        return {name: field for name, field in self._known.items() if name in columns}, columns

    def quantize(self, network: Network) -> tuple[Network, str, float]:
        """The network made smaller, what that changed on up to 1,000 rows, and how many times as fast it is."""
        folder = self.folder / "quantized"
        folder.mkdir()
        return quantized(network, *self._some(_COMPARED_ROWS), folder)

    def _opened(self, step: Step, members: Mapping[str, bytes]) -> RunningStep:
        for path, data in members.items():
            (self.folder / path).parent.mkdir(parents=True, exist_ok=True)
            (self.folder / path).write_bytes(data)
        takes = fields_by_name(self._known, step.takes, f"step {len(self.steps)}")
        return open_step(step, takes, self.folder, members.__getitem__, _EVERYTHING)

    def add_fitted(self, model: Any, notes: list[str]) -> None:
        """Add the model's step, compiled if that is exact."""
        recipe = self.recipe
        frame = self._model_frame(model) if recipe.before else self.request_frame
        takes = fields_by_name(self._known, tuple(str(name) for name in frame.columns), "the model")
        fitted = fitted_step(model, frame, takes, self._reads, recipe, len(self.steps))
        notes[:0] = fitted.notes
        self.steps.append(fitted.step)
        self.members |= fitted.members
        self._running.append(RunningSklearn(fitted.step, takes, model))
        matrix = as_read(self._reads, frame)
        self._flow(with_label_values(fitted.step, sklearn_model.predict(fitted.step, model, matrix)), fitted.step.gives)
        if fitted.step.labels:
            classes = np.asarray(sklearn_model.step_classes(fitted.step, model)).tolist()
            self._label_of = dict(zip(map(str, classes), fitted.step.labels, strict=True))
        if not recipe.before and not recipe.after:
            if (form := fitted.step.compiled) is not None:  # it was held against the original, and takes a part of the time
                graph = CompiledModel(fitted.members[form.file], form, takes)
                self._quick_answers = lambda rows: with_label_values(fitted.step, graph.run(columns_from_frame(takes, rows[frame.columns])))
            if fitted.step.labels and not hasattr(model, "predict_proba") and hasattr(model, "decision_function"):
                self._decisions = lambda rows: model.decision_function(as_read(self._reads, rows[frame.columns]))
            self._model_answers = lambda rows: with_label_values(
                fitted.step, sklearn_model.predict(fitted.step, model, as_read(self._reads, rows[frame.columns]))
            )

    def _model_frame(self, model: Any) -> pd.DataFrame:
        """The columns that the model reads, for every row of the training frame."""
        names = getattr(model, "feature_names_in_", None)
        columns = [str(name) for name in names] if names is not None else self._unread()
        takes = fields_by_name(self._known, tuple(columns), "the model")
        if names is None:
            text = len(columns) == 1 and takes.fields[0].kind in ("text", "choice") and not hasattr(model, "n_features_in_")
            self._reads = "column" if text else "matrix"
        specs = tuple(FrameColumn(field.name, _DTYPES[field.kind]) for field in takes)
        table: pd.DataFrame = model_input(SklearnStep("-", "skops", specs, takes), takes, [self._columns[name] for name in columns])
        table.index = self.frame.index
        return table

    def answers(self) -> Schema:
        """What is answered: what the last step gives, and label, scores or decisions of a classifier before it, where it does not give
        these anew. Where the packer states the answers, only what the last step gives.
        """
        last = self.steps[-1]
        given = {field.name: field for field in last.gives}
        stated = None if self.recipe.answers is None else self.recipe.answers[0]
        for field in self._classified:
            if stated is None or (isinstance(stated, Mapping) and field.name in stated):
                given.setdefault(field.name, field)
        return Schema(tuple(given.values()))

    @property
    def _classified(self) -> list[Field]:
        """Label, and scores or decisions, of the models that are classifiers, as the last steps left them."""
        models = [step for step in self.steps if isinstance(step, SklearnStep | NetworkStep)]
        return [self._known[name] for step in models for name in step.gives.names if name in _CLASSIFIED]

    def refuse_unread_options(self) -> None:
        """Raise BadRequest for an option that no step reads: callers would set it, and nothing would change."""
        read = {name for step in self.steps for name in step.takes}
        if unread := [name for name in (self.options.names if self.options else ()) if name not in read]:
            raise BadRequest(f"options.{unread[0]}: no step reads it; name it in takes=[…] of a lamppost.Code step, or leave it out")

    def _unread(self) -> list[str]:
        """Columns that no step has read yet; a model without column names gets these."""
        read = {name for step in self.steps if not isinstance(step, TableStep) for name in step.takes}
        options = self.options.names if self.options else ()
        return [name for name in self._known if name not in read and name not in options]

    def evidence(self, answers: Schema) -> Evidence:
        """The training frame with the answers to it."""
        return Evidence(
            self.recipe,
            self.inputs,
            answers,
            self._frame_given,
            self._whole_request_frame,
            self.frame,
            self.request_frame,
            self._columns,
            self._label_of,
            lambda rows: self._answer_columns(rows, answers),
            lambda rows: self._quick_columns(rows, answers),
            lambda rows: self._ask(rows, answers),
        )

    # -- asking ----------------------------------------------------------------------------------------------------------------

    def _ask(self, rows: pd.DataFrame, answers: Schema) -> np.ndarray[Any, Any]:
        """The answers of the whole package to some rows, as bytes that can be compared; decisions, where answers are labels only."""
        if self._decisions is not None:
            return np.asarray(self._decisions(rows), dtype=np.float64).reshape(len(rows), -1)
        columns = self._quick_columns(rows, answers)
        return np.array([[np.asarray(value).tobytes() for value in column.values] for column in columns], dtype=object).T

    def _quick_columns(self, rows: pd.DataFrame, answers: Schema) -> list[Column]:
        return self._answer_columns(rows, answers) if self._quick_answers is None else self._quick_answers(rows)

    def _answer_columns(self, rows: pd.DataFrame, answers: Schema) -> list[Column]:
        """The answers of the whole package to rows of a request: of the fitted object itself, where there is no other step."""
        if self._model_answers is not None:
            return self._model_answers(rows)
        table = dict(zip(self.inputs.names, columns_from_frame(self.inputs, rows), strict=True))
        for field in self.options or ():
            table[field.name] = column_from_values(field, [field.default] * len(rows))
        for step, running in zip(self.steps, self._running, strict=True):
            table.update(zip(step.gives.names, running.run([table[name] for name in step.takes]), strict=True))
        return [table[name] for name in answers.names]


_CLASSIFIED = ("label", "scores", "decision", "decisions")
_DTYPES = {
    "number": "float64",
    "integer": "int64",
    "yes/no": "bool",
    "choice": "str",
    "text": "str",
    "time": "datetime64[us]",
    "vector": "float64",
    "tensor": "float64",
}


def _options_of(recipe: Recipe) -> dict[str, Mapping[str, Any]]:
    """Options that the packer states, and those of thresholds."""
    options: dict[str, Mapping[str, Any]] = dict(recipe.options or {})
    for part in recipe.after:
        if isinstance(part, Threshold) and part.option is not None:
            meaning = f"score from which {part.label} is answered"
            options.setdefault(part.option, {"kind": "number", "low": 0.0, "high": 1.0, "default": part.default, "meaning": meaning})
    return options
