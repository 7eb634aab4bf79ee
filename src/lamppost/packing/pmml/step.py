"""The step of a PMML document in a package, held against the rows that the document verifies itself with."""

from __future__ import annotations

from collections.abc import Mapping
from typing import TYPE_CHECKING, Any

from lamppost.core.artifact.steps import PmmlStep
from lamppost.core.payload.validation_plan import ValidationPlan
from lamppost.core.schema.columns import columns_from_rows, rows_from_columns
from lamppost.core.schema.fields import Field, Schema
from lamppost.package.compiled_model import CompiledModel
from lamppost.packing.pmml.document import PmmlRefused
from lamppost.packing.pmml.reading import Pmml, PmmlDocument

if TYPE_CHECKING:
    import pandas as pd

_SHOWN = 3


def columns_read(pmml: Pmml, frame: pd.DataFrame) -> tuple[pd.DataFrame, list[str]]:
    """The columns of a frame that a document reads, in its order, and a sentence about those it does not."""
    used = list(pmml.document.used)
    if lost := [name for name in used if name not in frame.columns]:
        raise PmmlRefused(f"the document reads {', '.join(lost)}, and the rows have no such column; they have {', '.join(map(str, frame))}")
    left = [str(name) for name in frame.columns if name not in used]
    return frame[used], [f"left out, because the document does not read them: {', '.join(left)}"] if left else []


def pmml_step(pmml: Pmml, at: int, known: Mapping[str, Field]) -> tuple[PmmlStep, dict[str, bytes]]:
    """The step and its members. known : the fields that steps can read."""
    document = pmml.document
    if lost := [name for name in document.used if name not in known]:
        raise PmmlRefused(f"the document reads {', '.join(lost)}, and no step before it gives that")
    inputs = Schema(tuple(known[name] for name in document.used))
    file = f"steps/{at}/{pmml.path.name}"
    read = document.as_graph(inputs, f"steps/{at}/compiled.onnx")
    step = PmmlStep(file, read.compiled, read.gives)
    _verify(document, CompiledModel(read.graph, read.compiled, inputs), inputs, read.gives)
    return step, {file: pmml.path.read_bytes(), read.compiled.file: read.graph}


def _verify(document: PmmlDocument, model: CompiledModel, inputs: Schema, gives: Schema) -> None:
    """Raise PmmlRefused, with rows that differ, if the document's own rows get other answers than it expects."""
    known = document.verification
    if not known:
        return
    parsed = ValidationPlan(inputs, max_rows=len(known)).read_rows([row for row, _ in known])
    answers = rows_from_columns(gives, model.run(columns_from_rows(inputs, parsed)))
    wrong = []
    for (row, expected), answer in zip(known, answers, strict=True):
        for name, (text, precision, zero) in expected.items():
            given = document.answer_named(name, answer, gives)
            if given is not None and not _agrees(text, given, precision, zero):
                wrong.append(f"{row}: {name} is {given} and not {text}")
    if wrong:
        shown = "; ".join(wrong[:_SHOWN])
        raise PmmlRefused(f"the answers to {len(wrong)} of the values that the document verifies itself with are others: {shown}")


def _agrees(text: str, given: Any, precision: float, zero: float) -> bool:
    """The standard's comparison: texts exactly, numbers within the precision, around zero within the threshold."""
    if isinstance(given, str):
        return given == text
    expected = float(text)
    far, allowed = (given, zero) if abs(expected) <= zero else (given - expected, precision * abs(expected))
    return bool(abs(far) <= allowed)
