"""Compiles a step to one ONNX graph, and compares the graph with the original before it is used."""

from __future__ import annotations

import time
import warnings
from dataclasses import dataclass
from functools import partial
from typing import TYPE_CHECKING, Any

import numpy as np
from onnx import TensorProto

from lamppost.core.artifact.proof import Tolerance
from lamppost.core.artifact.schema_inference import columns_from_frame
from lamppost.core.artifact.steps import CompiledForm, SklearnStep
from lamppost.core.schema.columns import Column
from lamppost.core.schema.fields import Schema
from lamppost.package import sklearn_model
from lamppost.package.compiled_model import CompiledModel
from lamppost.packing.compiling.columns import Raw, code_fields, number_fields
from lamppost.packing.compiling.composed import COMPOSED
from lamppost.packing.compiling.estimators import argmax, estimate, undo_target
from lamppost.packing.compiling.graph import Answer, Graph, NotCompiled
from lamppost.packing.compiling.known_types import converter_for
from lamppost.packing.compiling.transformers import transform
from lamppost.packing.unseen_rows import boundary_rows, mixed_rows

if TYPE_CHECKING:
    import pandas as pd

LEAST_ROWS = 1_000
_PAIRS = 64
_MEASURED_ROWS = 64
_MEASURE_S = 0.1


@dataclass(frozen=True, slots=True)
class CompileOutcome:
    """The result of compiling a step. graph : the ONNX bytes; None if it was not compiled. reason : why it was not.

    before_ms, after_ms : milliseconds for one row and for 64, of the original and of the graph.
    """

    graph: bytes | None
    compiled: CompiledForm | None
    reason: str | None
    before_ms: tuple[float, float] = (0.0, 0.0)
    after_ms: tuple[float, float] = (0.0, 0.0)

    def sentence(self) -> str:
        """One line for the packer."""
        if self.graph is None:
            return f"not compiled, the original serves: {self.reason}"
        gains = [before / after for before, after in zip(self.before_ms, self.after_ms, strict=True)]
        alone, batch = ([rows * 1e3 / ms[at] for ms in (self.after_ms, self.before_ms)] for at, rows in enumerate((1, _MEASURED_ROWS)))
        return (
            f"compiled: {alone[0]:,.0f} rows/s alone instead of {alone[1]:,.0f} ({gains[0]:.0f} times as fast), "
            f"{batch[0]:,.0f} in batches of {_MEASURED_ROWS} instead of {batch[1]:,.0f} ({gains[1]:.0f} times)"
        )


def compile_step(
    step: SklearnStep, model: Any, inputs: Schema, frame: pd.DataFrame, tolerance: Tolerance, file: str = "steps/0/compiled.onnx"
) -> CompileOutcome:
    """Compile a fitted object and check it on rows of its training frame, at least 1,000: labels exactly, numbers within tolerance.

    frame : rows to check on, columns as the model reads them. Whatever goes wrong, the outcome says so and the original serves.
    """
    try:
        compiled = CompiledForm(file, number_fields(inputs), code_fields(inputs))
        graph = _convert(step, model, inputs)
        running = CompiledModel(graph, compiled, inputs)
        rows = _rows_to_check(step, model, frame)
        difference = _differs(step, model, running, inputs, rows, tolerance)
        if difference is not None:
            return CompileOutcome(None, None, difference)
    except NotCompiled as error:
        return CompileOutcome(None, None, f"there is no exact counterpart for {error}")
    except Exception as error:  # a converter met a shape it does not know; the original is always there
        return CompileOutcome(None, None, f"{type(error).__name__}: {error}"[:300])
    return CompileOutcome(graph, compiled, None, *_measure(step, model, running, inputs, rows))


def _convert(step: SklearnStep, model: Any, inputs: Schema) -> bytes:
    if step.targets and step.targets[0].labels:
        raise NotCompiled("a classifier of several targets")
    if step.answers_by == "anomaly":
        raise NotCompiled("a detector of anomalies")
    graph = Graph()
    raw = Raw(graph, step, inputs)
    if step.answers_by == "transform":
        made = raw.transform(model, raw.names())
        return graph.finish(raw.width, len(code_fields(inputs)), {"vector": (made.name, [None, made.width], TensorProto.DOUBLE)})
    tensor = _chain(graph, raw, model)
    return graph.finish(raw.width, len(code_fields(inputs)), _outputs(graph, step, tensor))


def _chain(graph: Graph, raw: Raw, model: Any) -> Answer:
    """The answer of a whole model to a request's columns."""
    if type(model).__name__ == "TransformedTargetRegressor":
        return undo_target(graph, model.transformer_, _chain(graph, raw, model.regressor_))
    if composed := converter_for(model, COMPOSED):
        return composed(graph, model, lambda part: _chain(graph, raw, part), partial(estimate, graph))
    if type(model).__name__ != "Pipeline":
        return estimate(graph, model, raw.numbers(raw.names()))
    *before, last = [part for _, part in model.steps if part is not None and not (isinstance(part, str) and part == "passthrough")]
    if not before:
        return _chain(graph, raw, last)
    tensor = raw.transform(before[0], raw.names())
    for part in before[1:]:
        tensor = transform(graph, part, tensor)
    return estimate(graph, last, tensor)


def _outputs(graph: Graph, step: SklearnStep, estimated: Answer) -> dict[str, tuple[str, list[int | None], int]]:
    if not step.labels:
        if estimated.value is None:
            raise NotCompiled("an estimator that gives no number")
        if step.targets:
            return {"values": (estimated.value.name, [None, len(step.targets)], TensorProto.DOUBLE)}
        flat = graph.add("Reshape", estimated.value.name, graph.constant(np.array([-1])))
        return {"value": (flat, [None], TensorProto.DOUBLE)}
    decision = estimated.decision or estimated.scores
    if decision is None:
        raise NotCompiled("a classifier that gives neither scores nor a decision")
    highest = argmax(graph, decision)
    if estimated.scores is None:  # no label where there is no decision
        unknown = graph.add("IsNaN", graph.add("ReduceSum", decision.name, graph.constant(np.array([1])), keepdims=0))
        highest = graph.add("Where", unknown, graph.constant(np.int64(-1)), highest)
        return {"label": (highest, [None], TensorProto.INT64), **_decisions(graph, step, estimated)}
    scores = (estimated.scores.name, [None, len(step.labels)], TensorProto.DOUBLE)
    return {"label": (highest, [None], TensorProto.INT64), "scores": scores}


def _decisions(graph: Graph, step: SklearnStep, estimated: Answer) -> dict[str, tuple[str, list[int | None], int]]:
    """The output of the decision values, where the step gives some."""
    if len(step.gives) == 1:
        return {}
    if estimated.margin is None:
        raise NotCompiled("the decision values")
    if estimated.margin.width > 1:
        return {"scores": (estimated.margin.name, [None, estimated.margin.width], TensorProto.DOUBLE)}
    flat = graph.add("Reshape", estimated.margin.name, graph.constant(np.array([-1])))
    return {"scores": (flat, [None], TensorProto.DOUBLE)}


def _rows_to_check(step: SklearnStep, model: Any, frame: pd.DataFrame) -> pd.DataFrame:
    """The rows given, as many again (1,000 at least) with every column drawn by itself, and rows beside the boundaries of labels."""
    import pandas as pd

    parts = [frame.reset_index(drop=True), mixed_rows(frame, max(LEAST_ROWS, len(frame)))]
    if step.labels:
        codes = _original(step, model, frame)[0].values
        parts.append(boundary_rows(frame, np.asarray(codes), lambda rows: np.asarray(_original(step, model, rows)[0].values), _PAIRS))
    return pd.concat(parts, ignore_index=True)


def _original(step: SklearnStep, model: Any, rows: pd.DataFrame) -> list[Column]:
    with warnings.catch_warnings():
        warnings.simplefilter("ignore")  # what the original has to say about its input was said in training
        return sklearn_model.predict(step, model, sklearn_model.as_read(step.reads, rows))


def _differs(step: SklearnStep, model: Any, running: CompiledModel, inputs: Schema, rows: pd.DataFrame, tolerance: Tolerance) -> str | None:
    """In one sentence where the graph's answers are not the original's; None when they all are."""
    trained = _original(step, model, rows)
    given = running.run(columns_from_frame(inputs, rows))
    if len(trained) != len(given):
        return "the graph gives other answers than the original has"
    for trained_column, given_column in zip(trained, given, strict=True):
        left, right = np.asarray(trained_column.values), np.asarray(given_column.values)
        if left.dtype.kind in "iu":
            wrong = left != right
            kind = "labels"
        else:
            wrong = ~(np.abs(right - left) <= tolerance.absolute + tolerance.relative * np.abs(left))
            kind = "numbers"
        if wrong.any():
            count = int(wrong.reshape(len(rows), -1).any(axis=1).sum())
            far = f", by up to {np.nanmax(np.abs(right - left)):.3g}" if kind == "numbers" else ""
            return f"the graph gives other {kind} on {count} of {len(rows)} rows{far}"
    return None


def _measure(
    step: SklearnStep, model: Any, running: CompiledModel, inputs: Schema, rows: pd.DataFrame
) -> tuple[tuple[float, float], tuple[float, float]]:
    """Milliseconds for one row and for 64: columns in, answers out, on this machine, before and after."""
    before, after = [], []
    for count in (1, _MEASURED_ROWS):
        columns = columns_from_frame(inputs, rows.head(count))
        before.append(
            _best_ms(lambda columns=columns: sklearn_model.predict(step, model, sklearn_model.model_input(step, inputs, columns)))
        )
        after.append(_best_ms(lambda columns=columns: running.run(columns)))
    return (before[0], before[1]), (after[0], after[1])


def _best_ms(call: Any) -> float:
    """The median of as many runs as fit into the time, three at least."""
    took: list[float] = []
    deadline = time.perf_counter() + _MEASURE_S
    while len(took) < 3 or (time.perf_counter() < deadline and len(took) < 1_000):
        start = time.perf_counter()
        call()
        took.append(time.perf_counter() - start)
    return float(np.median(took)) * 1e3
