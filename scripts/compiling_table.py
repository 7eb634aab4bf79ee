"""Writes the table in docs/compiling.md anew: every kind of model of the tests' collection, compiled or not, how fast, and why not."""

from __future__ import annotations

import tempfile
import warnings
from pathlib import Path

from lamppost.core.proof import Tolerance
from lamppost.package import sklearn_model
from lamppost.package.read import read_lamp
from lamppost.packing.build import build
from lamppost.packing.compile import compile_step
from lamppost.packing.recipe import Recipe
from tests.support import zoo

PAGE = Path(__file__).resolve().parents[1] / "docs" / "compiling.md"
MARK = "<!-- the table below is written by scripts/compiling_table.py -->"


def rows() -> list[str]:
    """One line of the table for each model."""
    lamps = zoo.frame()
    out = ["| model | compiled | one row, ms | 64 rows, ms | why not |", "|---|---|---|---|---|"]
    with tempfile.TemporaryDirectory() as folder, warnings.catch_warnings():
        warnings.simplefilter("ignore")
        for name, make, target, _ in zoo.models():
            model, frame = zoo.fitted(make, target, lamps)
            path = Path(folder) / "m.lamp"
            build(model, frame, Recipe("m", target if target in frame else None, compile=False), path)
            lamp = read_lamp(path)
            step = lamp.manifest.steps[0]
            with sklearn_model.one_thread(model):
                outcome = compile_step(step, model, lamp.manifest.inputs, frame[list(step.takes)], Tolerance())  # type: ignore[arg-type]
            if outcome.why:
                out.append(f"| {name} | no | | | {outcome.why} |")
                continue
            gains = [f"{after:.2f} (was {before:.1f})" for before, after in zip(outcome.before_ms, outcome.after_ms, strict=True)]
            out.append(f"| {name} | yes | {gains[0]} | {gains[1]} | |")
            print(out[-1], flush=True)
    return out


if __name__ == "__main__":
    kept = PAGE.read_text(encoding="utf-8").split(MARK)[0]
    PAGE.write_text(kept + MARK + "\n\n" + "\n".join(rows()) + "\n", encoding="utf-8")
