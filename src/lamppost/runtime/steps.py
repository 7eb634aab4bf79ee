"""Steps as running code. `open_steps` is the one place where an artifact becomes a live object; only workers call it."""

from __future__ import annotations

import hashlib
from collections.abc import Sequence
from pathlib import Path
from typing import Any, Protocol

from lamppost.core.columns import Column
from lamppost.core.errors import PackageRefused
from lamppost.core.fields import Schema
from lamppost.core.manifest import Manifest, SklearnStep
from lamppost.package import sklearn_model
from lamppost.package.compiled_model import CompiledModel


class RunningSklearn:
    """A fitted scikit-learn object, ready to answer."""

    def __init__(self, step: SklearnStep, inputs: Schema, model: Any) -> None:
        self.step = step
        self.inputs = inputs
        self.model = model
        sklearn_model.to_one_thread(model)  # parallel over requests, not inside one

    def run(self, columns: Sequence[Column]) -> list[Column]:
        """Answer columns of input columns, both in schema order."""
        matrix = sklearn_model.model_input(self.step, self.inputs, columns)
        return sklearn_model.predict(self.step, self.model, matrix)


class Running(Protocol):
    """What a worker can ask."""

    def run(self, columns: Sequence[Column]) -> list[Column]:
        """Answer columns of input columns, both in schema order."""


def open_steps(folder: Path, manifest: Manifest, formats: frozenset[str], original: bool) -> Running:
    """Load the steps of an unpacked package: the compiled form where there is one, unless the original is asked for.

    Raise PackageRefused for a format that the policy does not allow, or a member that was changed on disk.
    """
    step = manifest.steps[0]
    if step.compiled is not None and not original:
        return CompiledModel(_member(folder, manifest, step.compiled.file), step.compiled, manifest.inputs)
    if step.format not in formats:
        raise PackageRefused(
            f"the model is stored as {step.format}, which runs code when it is opened, and this service does not allow it; "
            "pack it as skops, or start the service with --allow-pickle"
        )
    return RunningSklearn(step, manifest.inputs, sklearn_model.load(_member(folder, manifest, step.file), step.format))


def _member(folder: Path, manifest: Manifest, name: str) -> bytes:
    data = (folder / name).read_bytes()
    if hashlib.sha256(data).hexdigest() != manifest.members[name].sha256:
        raise PackageRefused(f"{name} was changed since it was unpacked; push the package again")
    return data
