"""Writes the table in docs/compiling.md: each model of the tests' collection, whether it is compiled, its speed, or the reason."""

from __future__ import annotations

import re
import warnings
from collections.abc import Iterator
from pathlib import Path
from typing import Any

import pandas as pd

from lamppost.core.artifact.schema_inference import infer_inputs
from lamppost.package import sklearn_model
from lamppost.packing.fitted import fitted_step, inputs_of, prepared
from lamppost.packing.recipe import Recipe
from tests.support import boosters, zoo

PAGE = Path(__file__).resolve().parents[1] / "docs" / "compiling.md"
MARK = "<!-- the table below is written by scripts/compiling_table.py -->"


Sample = tuple[str, Any, pd.DataFrame, Any, Any]


def samples() -> Iterator[Sample]:
    """Name, fitted model, frame, target and labels of every kind."""
    lamps = zoo.frame()
    for name, make, target, _ in zoo.models():
        model, frame = zoo.fitted(make, target, lamps)
        yield name, model, frame, target if target in frame else None, None
    for name, model, frame, several in zoo.others():
        yield name, model, frame, several, None
    for name, train, frame, target, labels, _ in boosters.CASES:
        yield name, train(), frame.assign(**{target: boosters.LAMPS[target]}), target, labels


def rows() -> list[str]:
    """One line of the table for each model."""
    out = ["| model | compiled | rows/s alone | rows/s in batches of 64 | why it is not compiled |", "|---|---|---|---|---|"]
    with warnings.catch_warnings():
        warnings.simplefilter("ignore")
        for name, model, frame, target, labels in samples():
            fields = {"note": {"kind": "text", "choices": []}} if "note" in frame else None
            recipe = Recipe("m", target, labels, fields)
            model = prepared(model)
            with sklearn_model.one_thread(model):
                inputs, reads, _ = inputs_of(model, frame, recipe.targets)
                note = fitted_step(model, inputs, infer_inputs(inputs, fields), reads, recipe, 0).notes[0]
            figures = re.search(r"([\d,]+) rows/s alone instead of ([\d,]+) .*, ([\d,]+) in batches of 64 instead of ([\d,]+)", note)
            if figures:
                out.append(f"| {name} | yes | {figures[1]} (original {figures[2]}) | {figures[3]} (original {figures[4]}) | |")
            else:
                out.append(f"| {name} | no | | | {note.partition(': ')[2]} |")
            print(out[-1], flush=True)
    return out


if __name__ == "__main__":
    kept = PAGE.read_text(encoding="utf-8").split(MARK)[0]
    PAGE.write_text(kept + MARK + "\n\n" + "\n".join(rows()) + "\n", encoding="utf-8")
