"""Cuts a body that arrives in pieces into blocks of whole lines, or of whole CSV records with line breaks in quotes."""

from __future__ import annotations

from lamppost.core.errors import BadBody

BLOCK_LINES = 2_000
BLOCK_BYTES = 2**18
MAX_RECORD_BYTES = 10 * 2**20


class LineBlocks:
    r"""`feed` what came, take the blocks it gives, and `finish` at the end. quoted : whether a line break between quotes ends nothing.

    >>> blocks = LineBlocks(quoted=False, lines=2)
    >>> blocks.feed(b"a\nb\nc"), blocks.finish()
    ([b'a\nb\n'], [b'c'])
    """

    def __init__(self, quoted: bool, lines: int = BLOCK_LINES, size: int = BLOCK_BYTES) -> None:
        self._quoted = quoted
        self._lines = lines
        self._size = size
        self._held = bytearray()
        self._begin_block()

    def _begin_block(self) -> None:
        """Nothing of what is held belongs to a block yet."""
        self._end = self._count = 0  # of the records that are whole: where they end, how many they are
        self._line = self._searched = 0  # where the present line begins, and how far a line break was looked for
        self._open = False  # whether a quote is

    def feed(self, data: bytes) -> list[bytes]:
        """Blocks that are whole now; raise BadBody for a line that has no end in sight."""
        self._held += data
        blocks: list[bytes] = []
        while (at := self._held.find(b"\n", self._searched)) >= 0:
            if self._quoted and self._held.count(b'"', self._line, at) % 2:
                self._open = not self._open
            self._line = self._searched = at + 1
            if self._open:
                continue
            self._end, self._count = at + 1, self._count + 1
            if self._count >= self._lines or self._end >= self._size:
                blocks.append(self._take())
        self._searched = len(self._held)
        if len(self._held) - self._end > MAX_RECORD_BYTES:
            raise BadBody(f"a line has over {MAX_RECORD_BYTES:,} bytes; a quote that is not closed, perhaps")
        return blocks

    def finish(self) -> list[bytes]:
        """What is left."""
        blocks = [self._take()] if self._end else []
        if self._held:
            blocks.append(bytes(self._held))
            self._held.clear()
        return blocks

    def _take(self) -> bytes:
        block = bytes(self._held[: self._end])
        del self._held[: self._end]
        self._begin_block()
        return block
