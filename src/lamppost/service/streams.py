"""Bodies too large to be held, or whose size nobody knows yet: NDJSON and CSV are read, answered and written block by block.

The first block is read and answered before anything is sent, so that a request that is wrong from the start gets its 4xx. After that
the status is out: a fault ends an NDJSON answer with a line ``{"problem": {...}}`` in place of further answers, and a CSV answer by
breaking the connection, so that nobody takes half of it for the whole.
"""

from __future__ import annotations

from collections.abc import AsyncIterator, Awaitable, Callable
from dataclasses import dataclass
from typing import Any

import orjson

from lamppost.core.blocks import Blocks
from lamppost.core.errors import Fault, InvalidRows, LampPostError
from lamppost.core.formats import CSV, NDJSON, read_csv, read_ndjson, write_csv, write_ndjson
from lamppost.core.plan import Row
from lamppost.service.serving import Asked, Headers, Serving

Pieces = AsyncIterator[bytes]
Write = Callable[[bytes], Awaitable[None]]


class Broken(Exception):
    """A CSV answer that cannot be finished: the connection is to be broken."""


@dataclass(slots=True)
class Stream:
    """One such request.

    options : those of the whole call. headers : of the request. rows : answered so far. first : the first block's rows, for the record.
    """

    serving: Serving
    kind: str
    wanted: str
    options: Row
    headers: Headers
    rows: int = 0
    first: list[Row] | None = None
    _lines: int = 0
    _header: bytes = b""

    async def answers(self, pieces: Pieces) -> AsyncIterator[bytes]:
        """The answer in pieces; raise what is wrong with the first block, or `Broken` later on in CSV."""
        blocks = Blocks(quoted=self.kind == CSV)
        async for piece in pieces:
            for block in blocks.feed(piece):
                async for out in self._answered(block):
                    yield out
        for block in blocks.finish():
            async for out in self._answered(block):
                yield out
        if not self.rows:
            self._read(b"")  # says what an empty body lacks

    async def _answered(self, block: bytes) -> AsyncIterator[bytes]:
        if not block.strip():
            self._lines += block.count(b"\n")
            return
        try:
            rows = self._read(block)
            if not rows:
                return
            said = (await self.serving.ask(Asked("rows", len(rows), rows), False, len(block), self.headers)).answer
        except LampPostError as error:
            if not self.rows:
                raise
            if self.wanted == CSV:
                raise Broken from error
            yield orjson.dumps({"problem": _later(error, self.rows).to_problem()}, default=str) + b"\n"
            raise Broken from error
        first, self.rows = not self.rows, self.rows + len(rows)
        if first:
            self.first = rows
        yield write_csv(self.serving.answers, said.rows, header=first) if self.wanted == CSV else write_ndjson(said.rows)

    def _read(self, block: bytes) -> list[Row]:
        before, self._lines = self._lines, self._lines + block.count(b"\n")
        if self.kind == NDJSON:
            rows = read_ndjson(self.serving.plan, block, before)
        else:
            if not self._header:
                header, _, rest = block.partition(b"\n")
                self._header = header + b"\n"
                if not rest.strip() and self.rows == 0 and block.endswith(b"\n"):
                    return []  # the rows are still on their way
                before += 1
                block = rest
            rows = read_csv(self.serving.plan, self._header + block, before - 1)
        return [row | self.options for row in rows] if self.options else rows


def _later(error: LampPostError, rows: int) -> LampPostError:
    """The error with its rows counted from the start of the whole body."""
    if not isinstance(error, InvalidRows) or not error.extra.get("faults"):
        return error
    faults: list[dict[str, Any]] = [{**fault, "row": fault["row"] + rows} if "row" in fault else fault for fault in error.extra["faults"]]
    named = ("row", "field", "given", "expected", "hint")
    said = Fault(*(faults[0].get(name) for name in named)).sentence()  # type: ignore[arg-type]
    return InvalidRows(said, **{**error.extra, "faults": faults})
