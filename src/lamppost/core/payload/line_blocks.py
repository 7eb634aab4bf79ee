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

    def feed(self, data: bytes) -> list[bytes]:
        """Blocks that are whole now; raise BadBody for a line that has no end in sight."""
        self._held += data
        blocks = self._take_lines(final=False)
        if len(self._held) > MAX_RECORD_BYTES:
            raise BadBody(f"a line has over {MAX_RECORD_BYTES:,} bytes; a quote that is not closed, perhaps")
        return blocks

    def finish(self) -> list[bytes]:
        """What is left."""
        blocks = self._take_lines(final=True)
        if self._held:
            blocks.append(bytes(self._held))
            self._held.clear()
        return blocks

    def _take_lines(self, final: bool) -> list[bytes]:
        blocks = []
        while (end := self._cut(final)) is not None:
            blocks.append(bytes(self._held[:end]))
            del self._held[:end]
        return blocks

    def _cut(self, final: bool) -> int | None:
        """Where the next block ends: after so many lines, or so many bytes of whole lines."""
        at, count = -1, 0
        while count < self._lines and (line_end := self._held.find(b"\n", at + 1)) >= 0:
            at, count = line_end, count + 1
        if at < 0 or (count < self._lines and len(self._held) < self._size and not final):
            return None
        while self._quoted and self._held.count(b'"', 0, at) % 2:
            at = self._held.find(b"\n", at + 1)
            if at < 0:
                return None
        return at + 1
