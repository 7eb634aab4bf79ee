"""Compares answers with the answers of training: the proof of a package, and the verdict on it.

Labels, choices, text, whole numbers and yes/no must be equal. A number ``given`` agrees with ``wanted`` when
``|given - wanted| <= absolute + relative * |wanted|``; the elements of a vector or tensor each by the same rule.
"""

from __future__ import annotations

import math
from collections.abc import Iterable, Iterator, Sequence
from dataclasses import dataclass
from dataclasses import field as default
from functools import cache
from typing import Any, ClassVar

import orjson
from pydantic import TypeAdapter, ValidationError

from lamppost.core.artifact.documents import check_document
from lamppost.core.errors import PackageRefused
from lamppost.core.schema.fields import Schema

SHOWN_DIFFERENCES = 20
MAX_RELATIVE = 0.1
"""The largest difference, as a fraction of a number, that a proof may allow. The absolute one is held to the same of the largest number."""
USUAL_CAUSES = (
    "Usual causes: preprocessing that is fitted again on the request, other library versions than in training, columns in another order."
)


@dataclass(frozen=True, slots=True)
class Tolerance:
    """The difference that a number may have from training's. absolute is in the unit of the number, relative a fraction; 0 asks for
    equality.
    """

    absolute: float = 1e-6
    relative: float = 1e-6

    __pydantic_config__: ClassVar = {"allow_inf_nan": False}

    def __post_init__(self) -> None:
        if not (0 <= self.absolute < math.inf and 0 <= self.relative <= MAX_RELATIVE):
            raise PackageRefused(
                f"a tolerance of {self.absolute:g} and {self.relative:g} of the value is none; the first is a number from 0, "
                f"the second goes from 0 to {MAX_RELATIVE:g}"
            )


DEFAULT_TOLERANCE = Tolerance()


@dataclass(frozen=True, slots=True)
class Proof:
    """Input rows, the answer training gave to each, and the tolerance for numbers."""

    rows: list[dict[str, Any]]
    answers: list[dict[str, Any]]
    tolerance: Tolerance = default(default_factory=Tolerance)

    __pydantic_config__: ClassVar = {"extra": "forbid"}

    def __post_init__(self) -> None:
        if not self.rows or len(self.rows) != len(self.answers):
            raise PackageRefused(f"the proof has {len(self.rows)} rows and {len(self.answers)} answers; it needs one answer a row")
        largest = max(map(abs, _numbers(self.answers)), default=0.0)
        if self.tolerance.absolute > max(1.0, largest) * MAX_RELATIVE:
            raise PackageRefused(
                f"the proof allows numbers to be off by {self.tolerance.absolute:g}, and its largest answer is {largest:g}; "
                "it would pass whatever the model says. Pack the model with a smaller tolerance"
            )


def _numbers(answers: Iterable[Any]) -> Iterator[float]:
    """Every finite number in answers, those within lists and objects, too."""
    for answer in answers:
        if isinstance(answer, dict):
            yield from _numbers(answer.values())
        elif isinstance(answer, list):
            yield from _numbers(answer)
        elif isinstance(answer, int | float) and not isinstance(answer, bool) and math.isfinite(answer):
            yield answer


@dataclass(frozen=True, slots=True)
class ProofDifference:
    """An answer that differs from training's.

    off : how far a number is away (None for labels and text).
    """

    row: int
    field: str
    trained: Any
    given: Any
    off: float | None = None

    def sentence(self) -> str:
        """``row 3, label: training gave "fails", this gives "holds"``."""
        by = "" if self.off is None else f", off by {self.off:.3g}"
        return f"row {self.row}, {self.field}: training gave {self.trained}, this gives {self.given}{by}"


@dataclass(frozen=True, slots=True)
class ProofVerdict:
    """What replaying a proof showed. wrong_rows : rows with at least one difference; differences : the first 20."""

    rows: int
    wrong_rows: int
    differences: tuple[ProofDifference, ...] = ()

    @property
    def passed(self) -> bool:
        """Whether every row got the answer from training."""
        return self.wrong_rows == 0

    def sentence(self) -> str:
        """The result for people, with the first difference."""
        if self.passed:
            return f"all {self.rows} rows get the answer that training gave"
        return f"{self.wrong_rows} of {self.rows} rows differ from training; {self.differences[0].sentence()}"


def compare_answers(schema: Schema, proof: Proof, answers: Sequence[dict[str, Any]]) -> ProofVerdict:
    """Compare answers with the proof's. answers : one row for each row of the proof; with another number of rows, all count as wrong."""
    if len(answers) != len(proof.rows):
        lost = ProofDifference(0, "(rows)", len(proof.rows), len(answers))
        return ProofVerdict(len(proof.rows), len(proof.rows), (lost,))
    shown: list[ProofDifference] = []
    wrong = 0
    for row, (trained, given) in enumerate(zip(proof.answers, answers, strict=True)):
        row_differences = [
            diff for name in schema.names for diff in _differ(row, name, trained.get(name), given.get(name), proof.tolerance)
        ]
        wrong += bool(row_differences)
        shown += row_differences[: max(0, SHOWN_DIFFERENCES - len(shown))]
    return ProofVerdict(len(proof.rows), wrong, tuple(shown))


def _differ(row: int, name: str, trained: Any, given: Any, tolerance: Tolerance) -> list[ProofDifference]:
    if isinstance(trained, dict) and isinstance(given, dict):
        keys = [*trained, *(key for key in given if key not in trained)]
        return [diff for key in keys for diff in _differ(row, f"{name}.{key}", trained.get(key), given.get(key), tolerance)]
    if isinstance(trained, list) and isinstance(given, list):
        if len(trained) != len(given):
            return [ProofDifference(row, name, f"{len(trained)} elements", f"{len(given)} elements")]
        pairs = enumerate(zip(trained, given, strict=True))
        return [diff for at, (first, second) in pairs for diff in _differ(row, f"{name}[{at}]", first, second, tolerance)]
    if isinstance(trained, float) and isinstance(given, (int, float)) and not isinstance(given, bool):
        off = abs(given - trained)
        if math.isnan(off) or off > tolerance.absolute + tolerance.relative * abs(trained):
            return [ProofDifference(row, name, trained, given, off)]
        return []
    return [] if trained == given else [ProofDifference(row, name, trained, given)]


@cache
def _adapter() -> TypeAdapter[Proof]:
    return TypeAdapter(Proof)


def write_proof(proof: Proof) -> bytes:
    """Canonical JSON bytes."""
    return orjson.dumps(_adapter().dump_python(proof, mode="json"), option=orjson.OPT_SORT_KEYS | orjson.OPT_INDENT_2)


def read_proof(data: bytes) -> Proof:
    """Read what `write_proof` wrote; raise PackageRefused for anything else."""
    try:
        check_document(orjson.loads(data), data, "the proof")
        return _adapter().validate_json(data)
    except ValidationError as error:
        first = error.errors(include_url=False)[0]
        raise PackageRefused(f"the proof cannot be read at {'.'.join(map(str, first['loc']))}: {first['msg'].lower()}") from error
    except ValueError as error:
        raise PackageRefused(f"the proof is not JSON ({error}); pack the model again") from error
