"""Packs rows and columns of one package into frames for a worker, and reads a worker's frames as checked answers.

A worker is not trusted: whatever does not fit the schema of answers becomes a ModelFault, and an error that the worker reports becomes
the error of that code. Knows neither queues nor seats.
"""

from __future__ import annotations

import math
from collections.abc import Callable, Sequence
from functools import partial
from typing import Any, TypeVar

from lamppost.core.errors import InvalidRows, LampPostError, ModelFault, PackageRefused, Unavailable
from lamppost.core.payload.validation_plan import Row
from lamppost.core.schema.columns import Column
from lamppost.core.schema.fields import MAX_ELEMENTS, MAX_TEXT, Field, Schema
from lamppost.runtime.codec import FrameCodec
from lamppost.runtime.wire import WireError, unpack_columns

T = TypeVar("T")
_MAX_DETAIL = 2_000
_MAX_FAULTS = 50
_MAX_TEXT = 500
_ENTRY_BYTES = 4_096
"""Of one part of an answer in the header of a frame: its error, or the sizes of a few columns."""
_WIDEST_TEXT = 4 * MAX_TEXT
MAX_FRAME_BYTES = 256 * 2**20


class LaneFrames:
    """Packs what a lane sends and reads what its workers answer. name : of the version, for messages."""

    def __init__(self, name: str, columns: Schema, answers: Schema) -> None:
        self._name = name
        self._answers = answers
        self._sends = FrameCodec(columns)
        self._gets = FrameCodec(answers)
        self._row_bytes = sum(map(_most_bytes, answers))
        self._entry_bytes = _ENTRY_BYTES + 64 * len(answers) + sum(_ENTRY_BYTES for field in answers if field.unseen == "accept")

    def most_bytes(self, rows: int) -> int:
        """The most that a worker's answer to so many rows may have, in bytes."""
        return min(MAX_FRAME_BYTES, self._entry_bytes + _MAX_FAULTS * 4 * _MAX_TEXT + rows * self._row_bytes)

    def pack(self, rows: Sequence[Row]) -> tuple[list[Any], bytes]:
        """Rows as columns on the wire: header entries and body."""
        return self._sends.pack(rows)

    def read_columns(self, header: dict[str, Any], body: bytes, rows: int) -> list[Column]:
        """Columns of a worker's answer; raise the error that it reports instead, or ModelFault."""
        return self._read(header, rows, lambda: unpack_columns(self._answers, rows, header.get("columns"), body))

    def read_rows(self, header: dict[str, Any], body: bytes, rows: int) -> list[Row]:
        """Answer rows of a worker's answer, checked against the schema of answers; raises as `read_columns` does."""
        return self._read(header, rows, lambda: self._gets.rows(rows, header.get("columns"), body))

    def _read(self, header: dict[str, Any], rows: int, unpack: Callable[[], T]) -> T:
        if header.get("op") != "answers" or header.get("rows") != rows:
            raise reported_error(header, rows)
        try:
            return unpack()
        except (WireError, ValueError, TypeError, OverflowError) as error:
            raise ModelFault(f"{self._name} gave an answer that does not fit its schema: {error}") from error


def _most_bytes(field: Field) -> int:
    """The most bytes of one value on the wire, with its mark of being missing."""
    if field.kind == "text":
        return 8 + _WIDEST_TEXT
    if field.kind == "tensor":
        return 8 + 4 * len(field.shape) + 8 * (MAX_ELEMENTS if 0 in field.shape else math.prod(field.shape))
    return 8 + (8 * len(field.choices) if field.kind == "vector" else 8)


def reported_error(header: dict[str, Any], rows: int = 0) -> LampPostError:
    """The error that a worker's frame reports, as the type that its code stands for; ModelFault for a code that no worker reports.

    rows : of the batch. Faults of other rows, and what is no fault, are left out.
    """
    kind = next((kind for kind in _REPORTED if kind.code == header.get("code")), ModelFault)
    faults = [fault for fault in map(partial(_fault, rows), _some(header.get("faults"))) if fault is not None]
    detail = header.get("detail")
    text = detail[:_MAX_DETAIL] if isinstance(detail, str) else "the worker answered something that it was not asked"
    return kind(text, **({"faults": faults} if faults else {}))


_REPORTED = (InvalidRows, ModelFault, PackageRefused, Unavailable)
_TEXTS = ("field", "given", "expected", "hint")


def _some(faults: Any) -> list[Any]:
    return faults[:_MAX_FAULTS] if isinstance(faults, list) else []


def _fault(rows: int, fault: Any) -> dict[str, Any] | None:
    """A fault that a worker reports, if it is one of a row of its batch."""
    if not isinstance(fault, dict) or not isinstance(fault.get("expected"), str):
        return None
    row = fault.get("row")
    if row is not None and (type(row) is not int or not 0 <= row < rows):
        return None
    texts = {name: fault[name][:_MAX_TEXT] for name in _TEXTS if isinstance(fault.get(name), str)}
    return texts if row is None else {"row": row, **texts}
