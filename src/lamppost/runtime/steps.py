"""Steps as running code. `open_steps` is the one place where an artifact becomes a live object; only workers call it."""

from __future__ import annotations

import hashlib
from collections.abc import Sequence
from pathlib import Path
from typing import Any

from lamppost.core.columns import Column
from lamppost.core.errors import PackageRefused
from lamppost.core.fields import Schema
from lamppost.core.manifest import Manifest, SklearnStep
from lamppost.package import sklearn_model


class RunningSklearn:
    """A fitted scikit-learn object, ready to answer."""

    def __init__(self, step: SklearnStep, inputs: Schema, model: Any) -> None:
        self.step = step
        self.inputs = inputs
        self.model = model
        if hasattr(model, "get_params"):  # parallel over requests, not inside one: threads cost more than they give here
            model.set_params(**{name: 1 for name in model.get_params() if name.split("__")[-1] == "n_jobs"})

    def run(self, columns: Sequence[Column]) -> list[Column]:
        """Answer columns of input columns, both in schema order."""
        matrix = sklearn_model.model_input(self.step, self.inputs, columns)
        return sklearn_model.predict(self.step, self.model, matrix)


def open_steps(folder: Path, manifest: Manifest, formats: frozenset[str]) -> RunningSklearn:
    """Load the steps of an unpacked package; raise PackageRefused for a format that the policy does not allow."""
    step = manifest.steps[0]
    if step.format not in formats:
        raise PackageRefused(
            f"the model is stored as {step.format}, which runs code when it is opened, and this service does not allow it; "
            "pack it as skops, or start the service with --allow-pickle"
        )
    data = (folder / step.file).read_bytes()
    if hashlib.sha256(data).hexdigest() != manifest.members[step.file].sha256:
        raise PackageRefused(f"{step.file} was changed since it was unpacked; push the package again")
    return RunningSklearn(step, manifest.inputs, sklearn_model.load(data, step.format))
