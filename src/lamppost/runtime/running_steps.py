"""Opens steps as running code. `open_steps` is the one place where artifacts become live objects.

Only workers, packers and the command ``shell`` call it.
"""

from __future__ import annotations

import hashlib
import importlib
from collections.abc import Callable, Sequence
from dataclasses import replace
from pathlib import Path
from typing import Any, Protocol

import numpy as np
import orjson

from lamppost.core.artifact.manifest import Manifest, fields_by_name
from lamppost.core.artifact.steps import NetworkStep, PixelsStep, PmmlStep, PythonStep, SklearnStep, Step, TableStep, ThresholdStep
from lamppost.core.errors import Fault, InvalidRows, ModelFault, PackageRefused
from lamppost.core.schema.columns import Array, Column, array_for_step, column_from_step
from lamppost.core.schema.fields import Schema
from lamppost.core.schema.value_kinds import shortened_json
from lamppost.package import sklearn_model
from lamppost.package.boosted_model import load_trees
from lamppost.package.compiled_model import CompiledModel
from lamppost.package.network_model import NetworkModel
from lamppost.package.own_code import importable


class RunningStep(Protocol):
    """An open step."""

    def run(self, columns: Sequence[Column]) -> list[Column]:
        """Columns out of columns, in the orders of its ``takes`` and ``gives``."""


class RunningSklearn:
    """A fitted scikit-learn object, ready to answer."""

    def __init__(self, step: SklearnStep, takes: Schema, model: Any) -> None:
        self.step = step
        self.takes = takes
        self.model = model
        sklearn_model.to_one_thread(model)  # parallel over requests, not inside one

    def run(self, columns: Sequence[Column]) -> list[Column]:
        """Label and scores, or one number."""
        matrix = sklearn_model.model_input(self.step, self.takes, columns)
        return sklearn_model.with_label_values(self.step, sklearn_model.predict(self.step, self.model, matrix))


class RunningTypedLabels:
    """A compiled classifier whose labels are whole numbers or yes/no."""

    def __init__(self, step: SklearnStep, model: CompiledModel) -> None:
        self.step = step
        self.model = model

    def run(self, columns: Sequence[Column]) -> list[Column]:
        """Label and scores."""
        return sklearn_model.with_label_values(self.step, self.model.run(columns))


class RunningPython:
    """An object of the packer's own class."""

    def __init__(self, step: PythonStep, takes: Schema, instance: Any) -> None:
        self.step = step
        self.takes = takes
        self.instance = instance

    def run(self, columns: Sequence[Column]) -> list[Column]:
        """The columns that the class returns."""
        rows = len(columns[0].values)
        given = {field.name: array_for_step(field, column) for field, column in zip(self.takes, columns, strict=True)}
        answers = self.instance.run(given)
        if not isinstance(answers, dict) or (lost := [name for name in self.step.gives.names if name not in answers]):
            message = "no dict" if not isinstance(answers, dict) else f"no {', '.join(lost)}"
            raise ModelFault(f"{self.step.name}.run gave {message}; it should give {', '.join(self.step.gives.names)}")
        columns_given = [column_from_step(field, answers[field.name]) for field in self.step.gives]
        for field, column in zip(self.step.gives, columns_given, strict=True):
            if len(column.values) != rows:
                raise ModelFault(f"{self.step.name}.run gave {len(column.values)} values of {field.name} for {rows} rows")
        return columns_given


class RunningPixels:
    """Pictures to tensors of one size."""

    def __init__(self, step: PixelsStep, takes: Schema) -> None:
        self.step = step
        self.field = takes.fields[0]
        if self.field.kind != "image":
            raise PackageRefused(f"{self.field.name} is {self.field.expected_text()}, and pixels are made of a picture")
        height, width, channels = (step.gives.fields[0].shape[at] for at in ((0, 1, 2) if step.layout == "hwc" else (1, 2, 0)))
        self._size = (width, height)
        self._plain = replace(self.field, size=None, channels=channels)  # type: ignore[arg-type]

    def run(self, columns: Sequence[Column]) -> list[Column]:
        """Pixels in the step's layout, float64; raise InvalidRows for a picture that is missing or cannot be decoded."""
        pictures = array_for_step(self._plain, columns[0])
        return [Column(np.stack([self._made(row, picture) for row, picture in enumerate(pictures)]))]

    def _made(self, row: int, picture: Any) -> Array:
        from PIL import Image

        if picture is None:
            fault = Fault(row, self.field.name, "null", self.field.expected_text(), "without a picture there is no answer")
            raise InvalidRows(fault.sentence(), faults=[fault.to_dict()])
        if (picture.shape[1], picture.shape[0]) != self._size:
            image = Image.fromarray(picture[..., 0] if picture.shape[2] == 1 else picture)
            sized = image.resize(self._size, Image.Resampling[self.step.resample.upper()])
            picture = np.asarray(sized).reshape(self._size[1], self._size[0], picture.shape[2])
        pixels = picture / self.step.scale
        if self.step.mean:
            pixels = pixels - np.array(self.step.mean)
        if self.step.sd:
            pixels = pixels / np.array(self.step.sd)
        return pixels if self.step.layout == "hwc" else np.moveaxis(pixels, 2, 0)


class RunningTable:
    """A look-up table in memory: key to row."""

    def __init__(self, step: TableStep, takes: Schema, data: bytes) -> None:
        self.step = step
        self.key = takes.fields[0]
        table = orjson.loads(data)
        self._rows = {key: at for at, key in enumerate(table["keys"])}
        self._columns = [table["columns"][field.name] for field in step.gives]

    def run(self, columns: Sequence[Column]) -> list[Column]:
        """The fields of each key; raise InvalidRows for a key that is not there, if such are refused."""
        keys = array_for_step(self.key, columns[0]).tolist()
        places = [self._rows.get(key) for key in keys]
        if self.step.unknown == "refuse" and None in places:
            row = places.index(None)
            given = "a private value" if self.key.private else shortened_json(keys[row])
            fault = Fault(row, self.key.name, given, f"one of the {len(self._rows):,} keys of the package's table")
            raise InvalidRows(fault.sentence(), faults=[fault.to_dict()])
        return [
            column_from_step(field, [None if at is None else values[at] for at in places])
            for field, values in zip(self.step.gives, self._columns, strict=True)
        ]


class RunningThreshold:
    """A label by a threshold on its score."""

    def __init__(self, step: ThresholdStep, takes: Schema) -> None:
        self.step = step
        scores = takes.fields[0]
        if scores.kind != "vector" or scores.choices != step.gives.fields[0].choices:
            raise PackageRefused(f"{scores.name} is {scores.expected_text()}, and a threshold needs a score for each label")
        self._place = scores.choices.index(step.label)

    def run(self, columns: Sequence[Column]) -> list[Column]:
        """The code of the label of each row."""
        scores = np.array(columns[0].values, dtype=np.float64)
        cut: Any = self.step.default
        if self.step.option is not None:
            given = np.asarray(columns[1].values, dtype=np.float64)
            cut = np.where(np.isnan(given), self.step.default, given)
        reaches = scores[:, self._place] >= cut
        scores[:, self._place] = -np.inf
        return [Column(np.where(reaches, self._place, scores.argmax(axis=1)).astype(np.int32))]


class StepChain:
    """Open steps in a row. run_single : answers one row of plain values, where there is a shorter way for it."""

    def __init__(self, inputs: Schema, steps: Sequence[tuple[Step, RunningStep]], answers: Schema) -> None:
        self._inputs = inputs.names
        self._steps = [(tuple(step.takes), step.gives.names, running.run) for step, running in steps]
        self._answers = answers.names
        self.run_single: Callable[[Sequence[Any]], list[Column]] | None = None
        if len(steps) == 1 and isinstance(model := steps[0][1], CompiledModel):
            step = steps[0][0]
            if tuple(step.takes) == inputs.names and step.gives.names == answers.names:
                self.run_single = model.run_single

    def run(self, columns: Sequence[Column]) -> list[Column]:
        """Answer columns of input columns, both in schema order."""
        table = dict(zip(self._inputs, columns, strict=True))
        for takes, gives, run in self._steps:
            table.update(zip(gives, run([table[name] for name in takes]), strict=True))
        return [table[name] for name in self._answers]


def open_chain(folder: Path, manifest: Manifest, formats: frozenset[str], original: bool = False, threads: int = 1) -> StepChain:
    """Open an unpacked package as one chain; see `open_steps`."""
    return StepChain(manifest.columns, open_steps(folder, manifest, formats, original, threads), manifest.answers)


def open_steps(
    folder: Path, manifest: Manifest, formats: frozenset[str], original: bool = False, threads: int = 1
) -> list[tuple[Step, RunningStep]]:
    """Open the steps of an unpacked package: compiled forms where there are some, unless the originals are asked for.

    threads : that graphs and networks compute one batch on; other steps compute on one. With one, sums come out in one order only.

    Raise PackageRefused for a format that the policy does not allow, or a member that was changed on disk.
    """

    def member(name: str) -> bytes:
        data = (folder / name).read_bytes()
        if hashlib.sha256(data).hexdigest() != manifest.members[name].sha256:
            raise PackageRefused(f"{name} was changed since it was unpacked; push the package again")
        return data

    known = {field.name: field for field in manifest.columns}
    opened: list[tuple[Step, RunningStep]] = []
    for at, step in enumerate(manifest.steps):
        takes = fields_by_name(known, step.takes, f"step {at}")
        opened.append((step, open_step(step, takes, folder, member, formats, original, threads)))
        known |= {field.name: field for field in step.gives}
    return opened


def open_step(
    step: Step,
    takes: Schema,
    folder: Path,
    member: Callable[[str], bytes],
    formats: frozenset[str],
    original: bool = False,
    threads: int = 1,
) -> RunningStep:
    """Open one step; ``member`` gives the checked bytes of a file of the package."""
    if isinstance(step, TableStep):
        return RunningTable(step, takes, member(step.file))
    if isinstance(step, PixelsStep):
        return RunningPixels(step, takes)
    if isinstance(step, ThresholdStep):
        return RunningThreshold(step, takes)
    if isinstance(step, PmmlStep):
        return CompiledModel(member(step.compiled.file), step.compiled, takes, threads)
    if isinstance(step, NetworkStep):
        if step.format != "onnx":
            _allowed("torch", formats)
        for path in step.files:
            member(path)  # checked before it is opened
        return NetworkModel(step, takes, folder / step.file, threads)
    if isinstance(step, PythonStep):
        _allowed("python", formats)
        return RunningPython(step, takes, _made(step, folder, member))
    if step.compiled is not None and not original:
        model = CompiledModel(member(step.compiled.file), step.compiled, takes, threads)
        return model if step.gives.fields[0].kind == "choice" or not step.labels else RunningTypedLabels(step, model)
    fitted = None
    if step.file is not None:
        _allowed("python" if step.code else step.format, formats)
        for path in step.files:
            member(path)  # checked before anything of it runs
        with importable(folder / step.code_folder, step.code):
            fitted = sklearn_model.load(member(step.file), step.format)
    if step.booster is not None:
        fitted = load_trees(fitted, step.booster, member(step.booster.file), len(step.labels))
    return RunningSklearn(step, takes, fitted)


def _allowed(artifact_format: str, formats: frozenset[str]) -> None:
    if artifact_format not in formats:
        raise PackageRefused(refused_format(artifact_format))


def refused_format(artifact_format: str) -> str:
    """The message for a format that this service does not open, with the way out."""
    if artifact_format == "python":
        return "the package carries Python code of its own, and this service does not allow that; start it with --allow-code"
    if artifact_format == "torch":
        return (
            "the package holds a PyTorch program, which can run code when it is opened, and this service does not allow that; "
            "export the network to ONNX, or start the service with --allow-pickle"
        )
    return (
        f"the model is stored as {artifact_format}, which can run code when it is opened, and this service does not allow that; "
        "start it with --allow-pickle, or change the part that lamppost pack says is not compiled"
    )


def _made(step: PythonStep, folder: Path, member: Callable[[str], bytes]) -> Any:
    """An open object of the class, imported from the package's own modules."""
    for path in step.files:
        member(path)  # checked before anything of it runs
    home = folder / step.folder
    with importable(home, step.modules):
        instance = getattr(importlib.import_module(step.module), step.name)()
    if hasattr(instance, "open"):
        instance.open(home)
    return instance
