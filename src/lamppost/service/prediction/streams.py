"""Answers bodies block by block that are too large to hold or whose size is unknown: NDJSON, CSV and Arrow.

The first block is read and answered before anything is sent, so that a request that is wrong from the start gets its 4xx. After that
the status is out: a fault ends an NDJSON answer with a line ``{"problem": {...}}`` in place of further answers, and a CSV or Arrow answer
by breaking the connection, so that nobody takes half of it for the whole.
"""

from __future__ import annotations

from collections.abc import AsyncIterator, Callable
from dataclasses import dataclass
from functools import partial

import orjson

from lamppost.core.errors import BadBody, LampPostError, shift_fault_rows
from lamppost.core.payload.arrow import read_arrow, write_arrow
from lamppost.core.payload.arrow_blocks import END, ArrowBlocks, continue_stream
from lamppost.core.payload.line_blocks import LineBlocks
from lamppost.core.payload.text_formats import ARROW, CSV, NDJSON, read_csv, read_ndjson, write_csv, write_ndjson
from lamppost.core.payload.validation_plan import Row
from lamppost.core.schema.columns import answer_rows_from_columns, column_from_values, columns_from_rows
from lamppost.runtime.lane_options import LaneAnswer, RequestOptions
from lamppost.service.prediction.predictors import Headers, PredictionInput, Predictor
from lamppost.service.prediction.side_thread import run_beside

Pieces = AsyncIterator[bytes]


class StreamBroken(Exception):
    """An answer that cannot be finished: the connection is to be broken."""


@dataclass(slots=True)
class AnswerStream:
    """One such request.

    content_type, answer_type : of the request and of its answer. options : those of the whole call.
    headers : of the request. terms : how it is served.
    require_permission : raises for a caller whose token has ended since; asked before every block.
    rows : answered so far. first : what the first block asked.
    """

    serving: Predictor
    content_type: str
    answer_type: str
    options: Row
    headers: Headers
    terms: RequestOptions
    require_permission: Callable[[], None] = lambda: None
    rows: int = 0
    first: PredictionInput | None = None
    _lines: int = 0
    _header: bytes = b""

    async def answers(self, pieces: Pieces) -> AsyncIterator[bytes]:
        """The answer in pieces; raise what is wrong with the first block, or `StreamBroken` later on."""
        blocks = ArrowBlocks() if self.content_type == ARROW else LineBlocks(quoted=self.content_type == CSV)
        try:
            async for piece in pieces:
                for block in blocks.feed(piece):
                    async for part in self._answered(block):
                        yield part
            for block in blocks.finish():
                async for part in self._answered(block):
                    yield part
        except BadBody as error:  # of the cutting; what is wrong inside a block has said so itself
            if not self.rows:
                raise
            for part in self._ended(error):
                yield part
            raise StreamBroken from error
        if not self.rows:
            self._read(b"")  # says what an empty body lacks
        if self.answer_type == ARROW:
            yield END

    async def _answered(self, block: bytes) -> AsyncIterator[bytes]:
        if self.content_type != ARROW and not block.strip():
            self._lines += block.count(b"\n")
            return
        try:
            self.require_permission()
            asked = await run_beside(partial(self._read, block))
            if asked is None:
                return
            answer = (
                await self.serving.predict(
                    asked._replace(size_bytes=len(block), as_columns=self.answer_type == ARROW, headers=self.headers), self.terms
                )
            ).answer
        except LampPostError as error:
            if not self.rows:
                raise
            for part in self._ended(error):
                yield part
            raise StreamBroken from error
        first, self.rows = not self.rows, self.rows + asked.row_count
        if first:
            self.first = asked
        yield await run_beside(partial(self._written, answer, asked.row_count, first))

    def _ended(self, error: LampPostError) -> list[bytes]:
        """The last line of an answer in lines."""
        if self.answer_type != NDJSON:
            return []
        placed = shift_fault_rows(error, lambda row: row + self.rows)
        return [orjson.dumps({"problem": self.serving.redaction.redact_problem(placed)}, default=str) + b"\n"]

    def _written(self, answer: LaneAnswer, rows: int, first: bool) -> bytes:
        answers = self.serving.answers
        if self.answer_type == ARROW:
            return continue_stream(
                write_arrow(answers, columns_from_rows(answers, answer.rows) if answer.columns is None else answer.columns), first
            )
        plain = answer.rows if answer.columns is None else answer_rows_from_columns(answers, answer.columns, rows)
        return write_csv(answers, plain, header=first) if self.answer_type == CSV else write_ndjson(plain)

    def _read(self, block: bytes) -> PredictionInput | None:
        """What a block asks for, None for a header that stands alone."""
        plan = self.serving.plan
        if self.content_type == ARROW:
            columns, count = read_arrow(plan.schema, block, plan.max_rows)
            given = self.serving.columns.fields[len(plan.schema) :]
            return PredictionInput(
                "rows", count, columns=columns + [column_from_values(option, [self.options[option.name]] * count) for option in given]
            )
        before, self._lines = self._lines, self._lines + block.count(b"\n")
        if self.content_type == NDJSON:
            rows = read_ndjson(plan, block, before)
        else:
            if not self._header:
                header, _, rest = block.partition(b"\n")
                self._header = header + b"\n"
                if not rest.strip() and self.rows == 0 and block.endswith(b"\n"):
                    return None  # the rows are still on their way
                before += 1
                block = rest
            rows = read_csv(plan, self._header + block, before - 1)
        rows = [row | self.options for row in rows] if self.options else rows
        return PredictionInput("rows", len(rows), rows) if rows else None
