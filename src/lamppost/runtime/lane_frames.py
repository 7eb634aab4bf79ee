"""Packs rows and columns of one package into frames for a worker, and reads a worker's frames as checked answers.

A worker is not trusted: whatever does not fit the schema of answers becomes a ModelFault, and an error that the worker reports becomes
the error of that code. Knows neither queues nor seats.
"""

from __future__ import annotations

from collections.abc import Callable, Sequence
from typing import Any, TypeVar

from lamppost.core.errors import BY_CODE, LampPostError, ModelFault
from lamppost.core.payload.validation_plan import Row
from lamppost.core.schema.columns import Column
from lamppost.core.schema.fields import Schema
from lamppost.runtime.codec import FrameCodec
from lamppost.runtime.wire import WireError, unpack_columns

T = TypeVar("T")
_MAX_DETAIL = 2_000


class LaneFrames:
    """Packs what a lane sends and reads what its workers answer. name : of the version, for messages."""

    def __init__(self, name: str, columns: Schema, answers: Schema) -> None:
        self._name = name
        self._answers = answers
        self._sends = FrameCodec(columns)
        self._gets = FrameCodec(answers)

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
            raise reported_error(header)
        try:
            return unpack()
        except WireError as error:
            raise ModelFault(f"{self._name} gave an answer that does not fit its schema: {error}") from error


def reported_error(header: dict[str, Any]) -> LampPostError:
    """The error that a worker's frame reports, as the type that its code stands for; ModelFault for an unknown code."""
    kind = BY_CODE.get(str(header.get("code")), ModelFault)
    faults = header.get("faults")
    extra = {"faults": faults} if isinstance(faults, list) else {}
    return kind(str(header.get("detail", "the worker answered something that it was not asked"))[:_MAX_DETAIL], **extra)
