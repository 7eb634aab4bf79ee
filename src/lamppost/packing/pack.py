"""`lamppost.pack`: makes a lamp file of a fitted model, and proves the file in a fresh process."""

from __future__ import annotations

import sys
import warnings
from collections.abc import Mapping, Sequence
from concurrent.futures import Future, ThreadPoolExecutor
from dataclasses import replace
from pathlib import Path
from typing import Any

from lamppost.core.artifact.proof import DEFAULT_TOLERANCE, USUAL_CAUSES, ProofVerdict, Tolerance
from lamppost.core.artifact.steps import ArtifactFormat
from lamppost.core.errors import ProofFailed
from lamppost.package.read import Lamp, read_lamp
from lamppost.packing.build import build_package
from lamppost.packing.pack_warnings import PackWarning
from lamppost.packing.recipe import Part, Recipe, Remarks
from lamppost.packing.stages import Stages, somebody_looks
from lamppost.packing.summary import pack_summary
from lamppost.runtime.proving import prove as prove_lamp


def pack(
    model: Any,
    frame: Any,
    *,
    name: str,
    to: str | Path | None = None,
    target: str | Sequence[str] | None = None,
    labels: Mapping[Any, str] | Sequence[str] | None = None,
    fields: Mapping[str, Mapping[str, Any]] | None = None,
    format: ArtifactFormat | None = None,
    proof_rows: int = 20,
    tolerance: Tolerance = DEFAULT_TOLERANCE,
    notes: str = "",
    metrics: Mapping[str, float] | None = None,
    tags: Mapping[str, str] | None = None,
    unit: str | None = None,
    compile: bool = True,
    before: Sequence[Part] = (),
    after: Sequence[Part] = (),
    answers: Sequence[Any] | None = None,
    options: Mapping[str, Mapping[str, Any]] | None = None,
    quantize: bool = False,
    by: str | None = None,
    held_out: Sequence[bool] | None = None,
    installed: Sequence[str] = (),
    all_rows: bool = False,
    insight: bool = True,
    prove: bool = True,
    quiet: bool = False,
) -> Lamp:
    """Write ``name.lamp`` (or ``to``) and return it, proven in a fresh process.

    model : fitted scikit-learn estimator or pipeline, LightGBM or XGBoost model, or a list of separately fitted pieces in the order in
    which they run; or a `lamppost.Network` (the path of an ``.onnx`` file will do).
    frame : the data frame it was trained on, one column a field: of pandas, or of a library that gives its columns as Arrow; or an array
    of rows and columns. A column may hold pictures (PNG or JPEG bytes, or uint8 arrays) or arrays.
    target : the column that was predicted, or all of them in the model's order; kept out of the inputs.
    labels : names of the classes, by class or in their order, or the fitted label encoder.
    fields : what to say beyond what the frame shows, such as ``{"height_m": {"unit": "m", "low": 0}}``; see
    `lamppost.core.schema.fields.Field`.
    format : ``skops`` (default where it holds the model) or ``pickle``. proof_rows : rows kept with the answers of ``model``.
    tolerance : how far a number may be from training's. notes, metrics, tags : the model's provenance. unit : of a regressor's answer.
    compile : make a graph of the whole chain too, and serve that, where it gives the same answers.
    before, after : `lamppost.Code`, `lamppost.Table`, `lamppost.Encoder`, `lamppost.Pixels` and `lamppost.Network` steps around the model.
    The frame then holds the columns of a request, and those that tables give.
    answers : what training is known to have said to each row of the frame (a label, a number, or a dict), where the proof shall hold the
    package against that instead of against the model as it is now.
    options : named parameters of a call, such as ``{"threshold": {"kind": "number", "low": 0, "high": 1, "default": 0.5}}``, which steps
    read as columns.
    quantize : weights of an ONNX network as 8-bit integers; what that changed is measured, reported and kept in the provenance.
    by : who packs it [the user's name in git].
    held_out : one for each row of the frame, whether the model was not fitted on it. Drift of the answers is then measured against what the
    model said to those; to rows that it was fitted on it says surer things than to any others.
    installed : modules of your own that are installed where the model is served, and so do not travel with it. Functions and classes of a
    notebook, a script, or other modules beside it do: as source, shown in what is said of the package, and opened with --allow-code only.
    all_rows : take the model's answers for every row of a frame of more than 20,000, and not for so many spread evenly over it.
    insight : measure what the model has learned, if the frame holds the target: how good it is and where it is not, which inputs its
    answers depend on, and how. It takes a few seconds, and travels with the package.
    prove : False writes the file unproven; a service proves it in any case before it takes traffic. quiet : print nothing.

    What was made is printed: fields and how they were read, compiled or why not, what a service needs to open the file, how often it is
    right. What is probably a mistake (the target among the inputs, keys, constants, columns that change nothing, numbers as text, answers
    no better than chance) is warned of with `PackWarning`.

    Raises BadRequest when model and frame do not fit each other, ProofFailed (and removes the file) when the written package
    does not give the model's own answers.
    """
    lamp, remarks = pack_with_remarks(
        model,
        frame,
        Path(to or f"{name}.lamp"),
        Recipe(
            name,
            target,
            labels,
            fields,
            format,
            proof_rows,
            tolerance,
            notes,
            metrics,
            tags,
            unit,
            compile,
            before,
            after,
            answers,
            options,
            quantize,
            by,
            held_out,
            installed,
            all_rows,
            insight,
        ),
        prove,
        not quiet,
    )
    summary = pack_summary(lamp, remarks, prove)
    if not quiet:
        sys.stdout.write("\n".join(replace(summary, cautions=[]).lines()) + "\n")
    for caution in summary.cautions:
        warnings.warn(caution, PackWarning, stacklevel=2)
    return lamp


def pack_with_remarks(
    model: Any, frame: Any, to: Path, recipe: Recipe, prove: bool = True, show_stages: bool = True
) -> tuple[Lamp, Remarks]:
    """Like `pack`, and also returns the remarks for the packer. show_stages : whether somebody who looks sees what it is at."""
    unproven = to.with_name(f".{to.name}.unproven")

    def read_and_prove() -> tuple[Lamp, ProofVerdict | None]:
        lamp = read_lamp(unproven)
        return lamp, prove_lamp(lamp) if prove else None

    try:
        with Stages(show_stages and somebody_looks()) as stages, ThreadPoolExecutor(1) as proving:
            proven: list[Future[tuple[Lamp, ProofVerdict | None]]] = []
            remarks = build_package(model, frame, recipe, unproven, stages, lambda: proven.append(proving.submit(read_and_prove)))
            stages.begin("proving it")
            lamp, verdict = proven[0].result()
            if verdict is not None and not verdict.passed:
                raise ProofFailed(
                    f"the package of {recipe.name} does not give training's answers: {verdict.sentence()}; nothing was written. "
                    + USUAL_CAUSES,
                    differences=[diff.sentence() for diff in verdict.differences],
                )
        unproven.replace(to)
    finally:
        unproven.unlink(missing_ok=True)
    return replace(lamp, path=to), remarks
