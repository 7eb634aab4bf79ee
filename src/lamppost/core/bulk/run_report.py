"""What a report about a finished run says, and to whom it goes: set by whoever orders the run."""

from __future__ import annotations

from collections.abc import Mapping
from dataclasses import dataclass
from typing import Any, ClassVar

from lamppost.core.bulk.row_selection import RowSelection, read_condition
from lamppost.core.errors import BadRequest

MOST_ROWS = 200
_LONGEST_TEXT = 10_000
USUAL_TEXT = "{{ endpoint }} answered {{ '{:,}'.format(answered) }} rows of {{ source }}."


@dataclass(frozen=True, slots=True)
class RunReport:
    """The report of a run.

    to : names of mail channels; none for a report that is only read on the service. where : conditions on the rows that it lists, such as
    ``label = fails``. sort : their order, ``-scores.fails`` for the largest first. rows : how many it lists, 0 for none.
    text : a template of its first paragraph (Jinja), None for the usual one.
    """

    to: tuple[str, ...] = ()
    where: tuple[str, ...] = ()
    sort: tuple[str, ...] = ()
    rows: int = 20
    text: str | None = None

    __pydantic_config__: ClassVar = {"extra": "forbid"}

    def __post_init__(self) -> None:
        if not 0 <= self.rows <= MOST_ROWS:
            raise BadRequest(f"a report lists 0 to {MOST_ROWS} rows, and not {self.rows}")
        if self.text is not None and len(self.text) > _LONGEST_TEXT:
            raise BadRequest(f"the text of a report has up to {_LONGEST_TEXT:,} characters, and this one {len(self.text):,}")
        _ = self.selection

    @property
    def selection(self) -> RowSelection:
        """The rows that it lists, and their order."""
        return RowSelection(tuple(map(read_condition, self.where)), self.sort)


def count_changes(answers: Mapping[str, int], before: Mapping[str, int] | None) -> list[dict[str, Any]]:
    """How often each answer was given now and in the run before, the most frequent first; share : of all rows, 0 to 1.

    before : None where there is no run before.
    """
    total = max(1, sum(answers.values()))
    earlier = max(1, sum((before or {}).values()))
    names = [*answers, *(name for name in before or {} if name not in answers)]
    return [
        {
            "answer": name,
            "rows": answers.get(name, 0),
            "share": answers.get(name, 0) / total,
            "rows_before": None if before is None else before.get(name, 0),
            "share_before": None if before is None else before.get(name, 0) / earlier,
        }
        for name in names
    ]


def change_sentence(column: str, changes: list[dict[str, Any]], run_before: str | None) -> str:
    """What is different from the run before, in one sentence.

    >>> change_sentence("label", count_changes({"fails": 30, "holds": 70}, {"fails": 20, "holds": 80}), "night-1")
    'Since night-1, fails went from 20.0 % to 30.0 % of the rows, and holds from 80.0 % to 70.0 %.'
    """
    if run_before is None:
        return "There is no earlier run to compare with."
    moved = [one for one in changes if one["share_before"] is not None and abs(one["share"] - one["share_before"]) >= 0.0005]
    moved.sort(key=lambda one: -round(abs(one["share"] - one["share_before"]), 6))
    if not moved:
        return f"Since {run_before}, the parts of {column} have stayed the same."
    parts = [f"from {100 * one['share_before']:.1f} % to {100 * one['share']:.1f} %" for one in moved[:3]]
    first = f"Since {run_before}, {moved[0]['answer']} went {parts[0]} of the rows"
    rest = [f"{one['answer']} {part}" for one, part in zip(moved[1:3], parts[1:], strict=False)]
    return first + "".join(f", and {text}" if at == len(rest) - 1 else f", {text}" for at, text in enumerate(rest)) + "."
