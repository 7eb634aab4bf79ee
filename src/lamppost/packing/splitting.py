"""Splits a package in two between its steps: the first makes columns, the second takes them and answers.

So preprocessing can run on one kind of machine and a network on another. The rows of the proof go through both: what the first must give
for a row, the second must take, and what that must answer is what training answered.
"""

from __future__ import annotations

import tempfile
from collections.abc import Sequence
from dataclasses import dataclass, replace
from pathlib import Path
from typing import Any

import orjson

from lamppost.core.artifact.manifest import Manifest, Provenance
from lamppost.core.artifact.proof import Proof, write_proof
from lamppost.core.artifact.reference import make_reference, write_reference
from lamppost.core.artifact.steps import NetworkStep, PixelsStep, PmmlStep, Step, TableStep, ThresholdStep
from lamppost.core.errors import BadRequest, InvalidRows, PackageRefused, ProofFailed
from lamppost.core.limits import MAX_MEMBER_BYTES
from lamppost.core.names import check_name, closest_name
from lamppost.core.payload.validation_plan import Row, ValidationPlan
from lamppost.core.schema.columns import Column, answer_rows_from_columns, columns_from_rows
from lamppost.core.schema.fields import Field, Schema
from lamppost.package.read import Lamp, read_lamp
from lamppost.package.write import describe, write_lamp
from lamppost.runtime.proving import prove
from lamppost.runtime.running_steps import open_steps

_DATA_STEPS = (NetworkStep, PixelsStep, PmmlStep, TableStep, ThresholdStep)
_NEEDED_BY_DATA = frozenset({"numpy", "onnxruntime", "pillow"})
"""Libraries, in lower case, that steps without objects and code of their own need."""
_MOST_BYTES = MAX_MEMBER_BYTES * 3 // 4
_MOST_EXAMPLE = 400
Steps = tuple[Step, ...]
_PROOF, _REFERENCE = "proof.json", "reference.json"


@dataclass(frozen=True, slots=True)
class SplitPackage:
    """The two halves. crossing : the columns that the first gives and the second takes. notes : what is otherwise than in the whole."""

    first: Lamp
    second: Lamp
    crossing: Schema
    notes: tuple[str, ...]


def split_package(lamp: Lamp, at: str, first: Path, second: Path, names: tuple[str, str], formats: frozenset[str]) -> SplitPackage:
    """Write two lamp files that answer together as one does, and prove both in fresh processes.

    at : a column that a step gives; the steps up to that one are the first half. first, second : the files to write. names : of the two
    models. formats : of artifacts that may be opened. Raise BadRequest where there is nothing to split, ProofFailed where a half does not
    give what it gave within the whole.
    """
    for name in names:
        check_name(name, "model")
    manifest = lamp.manifest
    cut = _cut(manifest, at)
    halves = (manifest.steps[:cut], manifest.steps[cut:])
    crossing = _crossing(manifest, *halves)
    with tempfile.TemporaryDirectory(prefix="lamppost-splitting-") as folder:
        flow = _Flow(manifest, lamp.unpack(Path(folder)), formats)
        given = flow.crossing_rows(lamp.proof.rows, cut, crossing)
        notes: list[str] = []
        rows, answers, given = _fitting(lamp.proof.rows, lamp.proof.answers, given, notes)
        if any(field.private for field in _taken(manifest.columns, halves[0])):
            crossing, halves = _kept_private(crossing, halves)
        taken = _taken(manifest.inputs, halves[0])
        if not taken:
            raise BadRequest(f"the steps up to {at!r} take no field of a request; there is nothing to split")
        asked_of_second = (field if field in manifest.answers.fields else _with_example(field, given) for field in crossing)
        inputs = (Schema(taken), Schema((*asked_of_second, *_taken(manifest.inputs, halves[1]))))
        proofs = [_Rows(rows, given), _Rows(_beside(rows, given), answers)]
        samples: Sequence[_Rows | None] = (None, None)
        if (sampled := flow.samples(lamp, crossing, notes)) is not None:
            asked, made, said = sampled
            samples = (_Rows(asked, made), _Rows(_beside(asked, made), said))
        note = f"one of two halves of {manifest.name} {lamp.digest[:12]}, split at {at}"
        for place, (to, steps, answered) in enumerate(zip((first, second), halves, (crossing, manifest.answers), strict=True)):
            options = _taken(manifest.options or (), steps)
            kept = {*inputs[place].names, *(field.name for field in options)}
            proof = Proof(proofs[place].of(kept), proofs[place].answers, lamp.proof.tolerance)
            members = {path: (flow.folder / path).read_bytes() for step in steps for path in step.files} | {_PROOF: write_proof(proof)}
            if (sample := samples[place]) is not None:
                unseen = lamp.reference is not None and lamp.reference.unseen
                reference = make_reference(inputs[place], sample.of(kept), answered, sample.answers, unseen)
                members[_REFERENCE] = write_reference(reference)
            half = Manifest(
                names[place],
                inputs[place],
                answered,
                tuple(steps),
                _PROOF,
                describe(members),
                _REFERENCE if _REFERENCE in members else None,
                _provenance(manifest.provenance, steps, note),
                Schema(options) if options else None,
            )
            write_lamp(to, half, members)
    return SplitPackage(_proven(first, lamp, formats), _proven(second, lamp, formats), crossing, tuple(notes))


@dataclass(frozen=True, slots=True)
class _Rows:
    """Rows and the answers to them."""

    rows: Sequence[Row]
    answers: list[Row]

    def of(self, names: set[str]) -> list[Row]:
        """The rows with these fields alone."""
        return [{name: value for name, value in row.items() if name in names} for row in self.rows]


def _beside(rows: Sequence[Row], given: Sequence[Row]) -> list[Row]:
    """Rows with what crosses the cut beside their own fields."""
    return [{**row, **made} for row, made in zip(rows, given, strict=True)]


def _proven(file: Path, whole: Lamp, formats: frozenset[str]) -> Lamp:
    half = read_lamp(file)
    verdict = prove(half, formats)
    if not verdict.passed:
        raise ProofFailed(f"{file} does not answer as it does within {whole.path.name}: {verdict.sentence()}")
    return half


def _cut(manifest: Manifest, at: str) -> int:
    """The number of steps before the cut."""
    given = [name for step in manifest.steps for name in step.gives.names]
    if at not in given:
        like = closest_name(at, given)
        raise BadRequest(f"no step gives {at!r}; " + (f"did you mean {like}?" if like else f"there are: {', '.join(given[:20])}"))
    cut = max(place for place, step in enumerate(manifest.steps) if at in step.gives.names) + 1
    if cut == len(manifest.steps):
        before = [name for step in manifest.steps[:-1] for name in step.gives.names]
        there = f"split at {' or '.join(before)}" if before else "it has one step and cannot be split"
        raise BadRequest(f"{at!r} comes of the last step, and nothing would be left; {there}")
    return cut


def _crossing(manifest: Manifest, before: Sequence[Step], after: Sequence[Step]) -> Schema:
    """The columns that the second half needs of the first."""
    known = {field.name: field for step in before for field in step.gives}
    needed = {name for step in after for name in step.takes} | set(manifest.answers.names)
    given_later = {field.name for step in after for field in step.gives}
    crossing = [field for name, field in known.items() if name in needed and name not in given_later]
    if odd := [field for field in crossing if field.kind in ("image", "vector")]:
        what = "a picture is no answer" if odd[0].kind == "image" else "numbers by name are answers, and no input"
        raise BadRequest(f"{odd[0].name!r} would go from one half to the other, and {what}; split elsewhere")
    return Schema(tuple(crossing))


def _taken(fields: Sequence[Field] | Schema, steps: Sequence[Step]) -> tuple[Field, ...]:
    names = {name for step in steps for name in step.takes}
    return tuple(field for field in fields if field.name in names)


class _Flow:
    """The open steps of the whole package."""

    def __init__(self, manifest: Manifest, folder: Path, formats: frozenset[str]) -> None:
        self.folder = folder
        self._manifest = manifest
        self._plan = ValidationPlan(manifest.inputs, options=manifest.options)
        self._steps = open_steps(folder, manifest, formats)

    def _columns(self, rows: Sequence[Row], steps: int) -> dict[str, Column]:
        """All columns after so many steps."""
        read = self._plan.read_rows(rows)
        columns = dict(zip(self._manifest.columns.names, columns_from_rows(self._manifest.columns, read), strict=True))
        for step, running in self._steps[:steps]:
            made = running.run([columns[name] for name in step.takes])
            columns |= dict(zip(step.gives.names, made, strict=True))
        return columns

    def crossing_rows(self, rows: Sequence[Row], cut: int, crossing: Schema) -> list[Row]:
        """What crosses the cut, for each row, as JSON has it."""
        columns = self._columns(rows, cut)
        return answer_rows_from_columns(crossing, [columns[name] for name in crossing.names], len(rows))

    def samples(self, lamp: Lamp, crossing: Schema, notes: list[str]) -> tuple[list[Row], list[Row], list[Row]] | None:
        """Rows of the reference's sample, what crosses the cut, and the answers; None where there is no whole row to ask about."""
        if lamp.reference is None or not lamp.reference.sample:
            return None
        rows = lamp.reference.sample
        try:
            columns = self._columns(rows, len(self._steps))
            given, said = (
                answer_rows_from_columns(schema, [columns[name] for name in schema.names], len(rows))
                for schema in (crossing, self._manifest.answers)
            )
        except InvalidRows:
            notes.append("without private fields the rows of training cannot be asked again, so drift has nothing to compare with")
            return None
        notes.append(f"drift is compared with {len(rows):,} rows of training, those that the whole package carries")
        return rows, given, said


def _fitting(rows: list[Row], answers: list[Row], given: list[Row], notes: list[str]) -> tuple[list[Row], list[Row], list[Row]]:
    """As many rows of the proof as a half can carry, spread evenly."""
    size = len(orjson.dumps(given))
    if size <= _MOST_BYTES:
        return rows, answers, given
    most = len(rows) * _MOST_BYTES // size
    if not most:
        raise PackageRefused(f"one row of what crosses the cut takes {size // len(rows):,} bytes; split where there is less")
    places = [at * len(rows) // most for at in range(most)]
    notes.append(f"the proofs have {most} rows of {len(rows)}: more of what crosses the cut do not fit into a proof")
    return [rows[at] for at in places], [answers[at] for at in places], [given[at] for at in places]


def _kept_private(crossing: Schema, halves: tuple[Steps, Steps]) -> tuple[Schema, tuple[Steps, Steps]]:
    """What crosses the cut, and both halves, with that as private as what it is made of."""
    names = set(crossing.names)

    def kept(fields: Schema) -> Schema:
        return Schema(tuple(replace(field, private=True, example=None) if field.name in names else field for field in fields))

    return kept(crossing), (tuple(replace(step, gives=kept(step.gives)) for step in halves[0]), halves[1])


def _with_example(field: Field, given: Sequence[Row]) -> Field:
    """A column as an input of the second half, with a value of its own as an example where that is short and nobody's secret."""
    if field.private:
        return field
    value: Any = next((row[field.name] for row in given if row[field.name] is not None), None)
    return replace(field, example=value) if len(orjson.dumps(value)) <= _MOST_EXAMPLE else field


def _provenance(whole: Provenance, steps: Sequence[Step], note: str) -> Provenance:
    """The provenance of a half: the libraries that it can do without are left out."""
    data_only = all(isinstance(step, _DATA_STEPS) for step in steps) and not any(
        isinstance(step, NetworkStep) and step.format != "onnx" for step in steps
    )
    kept = {name: version for name, version in whole.libraries.items() if not data_only or name.lower() in _NEEDED_BY_DATA}
    return replace(whole, libraries=kept, notes=f"{whole.notes}\n{note}".strip())
