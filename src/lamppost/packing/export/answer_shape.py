"""What a form of a package is asked and answers: the fields of a row, and what stands for each part of an answer."""

from __future__ import annotations

from dataclasses import dataclass
from pathlib import Path

from lamppost.core.artifact.manifest import Manifest
from lamppost.core.artifact.steps import CompiledForm, PmmlStep, SklearnStep
from lamppost.core.schema.fields import Field
from lamppost.packing.export.expressions import Expression, RowProgram
from lamppost.packing.export.row_program import NoSuchForm, read_graph

_KINDS = frozenset({"number", "integer", "choice", "yes/no"})


@dataclass(frozen=True, slots=True)
class ExportedModel:
    """A package as a program. fields : of a row, in schema order. label : the field of the label, None for a regressor.

    scores : the field of scores by label, None where there are none. values : the fields of numbers. written_by : what stands in the
    form as its writer.
    """

    manifest: Manifest
    program: RowProgram
    fields: tuple[Field, ...]
    label: Field | None
    scores: Field | None
    values: tuple[Field, ...]
    written_by: str = "Lamp Post"

    @property
    def by_name(self) -> dict[str, Field]:
        """The fields by their names."""
        return {field.name: field for field in self.fields}

    @property
    def answer_columns(self) -> list[str]:
        """Names of the answer's parts: the label, a score for each label, and numbers."""
        scores = [] if self.scores is None else [f"{self.scores.name}_{choice}" for choice in self.scores.choices]
        return [*([self.label.name] if self.label is not None else []), *scores, *(field.name for field in self.values)]


def read_model(manifest: Manifest, folder: Path, with_program: bool = True) -> ExportedModel:
    """The program of an unpacked package; raise NoSuchForm, with the reason, where there is none. with_program : whether what it computes
    is read, or only its fields.
    """
    if manifest.options is not None and len(manifest.options):
        raise NoSuchForm(f"{manifest.name} takes options, and a form of it would not")
    step = manifest.steps[0]
    if len(manifest.steps) != 1 or not isinstance(step, SklearnStep | PmmlStep) or step.compiled is None:
        raise NoSuchForm(f"{manifest.name} has no compiled graph that gives its answers; lamppost inspect says why")
    compiled: CompiledForm = step.compiled
    if odd := [field for field in manifest.inputs if field.kind not in _KINDS]:
        raise NoSuchForm(f"{odd[0].name} is {odd[0].expected_text()}, which has no counterpart outside")
    answers = list(manifest.answers)
    program = RowProgram(tuple(compiled.numbers), tuple(compiled.codes))
    if with_program:
        program = read_graph((folder / compiled.file).read_bytes(), compiled, manifest.inputs)
    label = next((field for field in answers if field.kind == "choice"), None)
    scores = next((field for field in answers if field.kind == "vector"), None)
    values = tuple(field for field in answers if field.kind == "number")
    if len(answers) != (label is not None) + (scores is not None) + len(values):
        raise NoSuchForm("the answers hold more than a label, scores and numbers")
    return ExportedModel(manifest, program, tuple(manifest.inputs), label, scores, values)


def number_outputs(model: ExportedModel) -> tuple[Expression, ...]:
    """The expressions of the fields of numbers, in their order."""
    if not model.values:
        return ()
    outputs = model.program.outputs
    return outputs["values"] if "values" in outputs else outputs["value"] if "value" in outputs else outputs["scores"]
