"""Holds a form of a package against the package's own answers: on the rows of its proof, of its reference, and as many drawn anew."""

from __future__ import annotations

import math
from collections.abc import Callable, Sequence
from dataclasses import dataclass
from pathlib import Path
from typing import Any

import pandas as pd

from lamppost.core.artifact.proof import Tolerance
from lamppost.core.errors import BadRequest
from lamppost.core.payload.validation_plan import ValidationPlan
from lamppost.core.schema.columns import columns_from_rows, rows_from_columns
from lamppost.package.read import Lamp
from lamppost.packing.unseen_rows import mixed_rows
from lamppost.runtime.running_steps import open_chain

LEAST_ROWS = 2_000
_SHOWN = 3
Row = dict[str, Any]


class DiffersFromPackage(BadRequest):
    """A form does not give the answers of its package."""


@dataclass(frozen=True, slots=True)
class CheckedForm:
    """How a form was held against its package. rows : how many. largest : the largest difference between numbers."""

    rows: int
    largest: float


def rows_to_check(lamp: Lamp) -> list[Row]:
    """Rows of the proof and the reference, and every column of these drawn by itself, 2,000 rows at least."""
    names = lamp.manifest.inputs.names
    known = [*lamp.proof.rows, *([] if lamp.reference is None else lamp.reference.sample)]
    known = [{name: row[name] for name in names} for row in known if set(names) <= row.keys()]
    if not known:
        raise BadRequest(f"{lamp.manifest.name} has no whole rows to hold its forms against; pack the model again")
    frame = pd.DataFrame(known, columns=list(names), dtype=object)
    drawn = mixed_rows(frame, max(LEAST_ROWS, len(known)))
    columns = {name: drawn[name].tolist() for name in names}
    rows = [*known, *({name: columns[name][at] for name in names} for at in range(len(drawn)))]
    return [{name: None if isinstance(value, float) and math.isnan(value) else value for name, value in row.items()} for row in rows]


def own_answers(lamp: Lamp, folder: Path, rows: Sequence[Row], formats: frozenset[str], original: bool = False) -> list[Row]:
    """What the package itself answers. folder : where it is unpacked. original : by the fitted objects and not by their graph."""
    manifest = lamp.manifest
    plan = ValidationPlan(manifest.inputs, options=manifest.options, max_rows=len(rows))
    parsed = plan.read_rows(list(rows))
    chain = open_chain(folder, manifest, formats, original=original)
    return rows_from_columns(manifest.answers, chain.run(columns_from_rows(manifest.columns, parsed)))


def check_form(
    lamp: Lamp, folder: Path, formats: frozenset[str], answer: Callable[[Sequence[Row]], Sequence[Row]], form: str
) -> CheckedForm:
    """Hold a form against its package on the rows to check it on. folder : where the package is unpacked. Raises as `hold_against` does."""
    rows = rows_to_check(lamp)
    return hold_against(rows, own_answers(lamp, folder, rows, formats), answer, lamp.proof.tolerance, form)


def hold_against(
    rows: Sequence[Row], own: Sequence[Row], answer: Callable[[Sequence[Row]], Sequence[Row]], tolerance: Tolerance, form: str
) -> CheckedForm:
    """Compare the answers of a form with the package's own; raise DiffersFromPackage that names rows that differ.

    Labels must be the same, and numbers within the tolerance of the proof.
    """
    given = list(answer(rows))
    if len(given) != len(rows):
        raise DiffersFromPackage(f"the {form} form gives {len(given)} answers to {len(rows)} rows")
    wrong, largest = [], 0.0
    for row, ours, theirs in zip(rows, own, given, strict=True):
        pairs = [pair for name in ours for pair in _parts(ours[name], theirs.get(name))]
        far = max((abs(a - b) for a, b in pairs if isinstance(a, float) and isinstance(b, float)), default=0.0)
        largest = max(largest, far)
        if not all(_same(a, b, tolerance) for a, b in pairs):
            wrong.append((row, ours, theirs))
    if wrong:
        shown = "; ".join(f"{row} is {theirs} and not {ours}" for row, ours, theirs in wrong[:_SHOWN])
        raise DiffersFromPackage(f"the {form} form differs from the package on {len(wrong)} of {len(rows)} rows: {shown}")
    return CheckedForm(len(rows), largest)


def _parts(ours: Any, theirs: Any) -> list[tuple[Any, Any]]:
    if isinstance(ours, dict):
        return [(value, theirs.get(name) if isinstance(theirs, dict) else None) for name, value in ours.items()]
    return [(ours, theirs)]


def _same(ours: Any, theirs: Any, tolerance: Tolerance) -> bool:
    if isinstance(ours, float) and isinstance(theirs, int | float):
        return abs(ours - theirs) <= tolerance.absolute + tolerance.relative * abs(ours)
    return bool(ours == theirs)
