"""Rows that a bulk run leaves out, each with its reason, and when there are too many of them."""

from __future__ import annotations

from collections.abc import Mapping
from dataclasses import dataclass
from typing import Any

import orjson

from lamppost.core.errors import LampPostError
from lamppost.core.payload.fault_gathering import MAX_FAULTS
from lamppost.core.schema.fields import Schema
from lamppost.core.schema.value_kinds import shortened_json

_MOST_TEXT = 2_000
_LEAST_ROWS = 1_000
"""Rows before which a share of rejects says little, where nobody knows how many rows there are."""


@dataclass(frozen=True, slots=True)
class Reject:
    """A row that was not scored. row : its number in the source, from 0. line : in a file of text, from 1. field : the wrong one.

    values : the row as it came, without private values; a line that is no row is a text.
    """

    row: int
    fault: str
    field: str | None = None
    line: int | None = None
    values: Any = None

    def to_line(self) -> bytes:
        """The line of the file of rejects."""
        document = {"row": self.row, "line": self.line, "field": self.field, "fault": self.fault, "values": self.values}
        return orjson.dumps({name: value for name, value in document.items() if value is not None}, default=str) + b"\n"


def shown_values(values: Mapping[str, Any], private: frozenset[str]) -> dict[str, Any]:
    """Values of a row for the file of rejects: private ones are not repeated, long ones are cut. private : names of columns."""
    return {name: "a private value" if name in private else _shown(value) for name, value in values.items()}


def _shown(value: Any) -> Any:
    if isinstance(value, bytes | bytearray | memoryview):
        return f"{len(value):,} bytes"
    if isinstance(value, str):
        return value if len(value) <= _MOST_TEXT else value[:_MOST_TEXT] + "…"
    if isinstance(value, list | dict) and len(text := shortened_json(value)) >= _MOST_TEXT:
        return text
    return value


def fault_text(error: LampPostError) -> tuple[str, str | None]:
    """What is wrong with one row by itself, and with which field."""
    faults = error.extra.get("faults") or []
    if not faults:
        return error.detail, None
    first = faults[0]
    hint = f" ({first['hint']})" if "hint" in first else ""
    return f"given {first.get('given')}, expected {first.get('expected')}{hint}", first.get("field")


def faults_by_row(error: LampPostError, count: int) -> tuple[dict[int, tuple[str, str | None]], bool]:
    """The fault of each row that an error names, by place, and whether it names every wrong row. count : rows that were asked."""
    named = error.extra.get("faults") or []
    wrong: dict[int, tuple[str, str | None]] = {}
    for fault in named:
        if "row" in fault and fault["row"] < count:
            wrong.setdefault(fault["row"], fault_text(LampPostError("", faults=[fault])))
    told = error.extra.get("fault_count", 0) <= len(named) < MAX_FAULTS  # at the bound nobody counts on
    return wrong, bool(wrong) and told


def private_columns(schema: Schema, columns: Mapping[str, str]) -> frozenset[str]:
    """Columns that hold private fields. columns : by field."""
    return frozenset(columns[field.name] for field in schema if field.private and field.name in columns)


def too_many_rejects(rows: int, rejects: int, most: float, total: int | None, ended: bool = False) -> str | None:
    """Why a run must stop over its rejects; None while it need not. rows : seen so far. total : all rows, if that is known."""
    if rejects == 0:
        return None
    over = rejects > most * total if total is not None else rejects > most * rows and (ended or rows >= _LEAST_ROWS)
    if not over:
        return None
    return (
        f"{rejects:,} of {rows:,} rows were rejected, and {most:.3g} of all rows may be; see its file of rejects, then mend the source and "
        "start again, or resume the run with a higher bound (--most-rejects)"
    )
