"""Blocks of a body that comes bit by bit: nothing is lost, every block ends where a record ends."""

import csv
import io
import unittest

from hypothesis import given
from hypothesis import strategies as st

from lamppost.core.errors import BadBody
from lamppost.core.payload.line_blocks import MAX_RECORD_BYTES, LineBlocks


def all_of(data: bytes, cuts: list[int], blocks: LineBlocks) -> list[bytes]:
    out, at = [], 0
    for cut in sorted({cut % (len(data) + 1) for cut in cuts} | {len(data)}):
        out += blocks.feed(data[at:cut])
        at = cut
    return out + blocks.finish()


class Cutting(unittest.TestCase):
    @given(st.binary(max_size=300), st.lists(st.integers(0, 300)), st.integers(1, 5), st.integers(1, 60))
    def test_lines(self, data: bytes, cuts: list[int], lines: int, size: int) -> None:
        found = all_of(data, cuts, LineBlocks(quoted=False, lines=lines, size=size))
        self.assertEqual(b"".join(found), data)
        for block in found[:-1]:
            self.assertTrue(block.endswith(b"\n") and block.count(b"\n") <= lines)

    @given(
        st.lists(st.lists(st.text('ab,"\n', max_size=6), min_size=2, max_size=3), min_size=1, max_size=20), st.lists(st.integers(0, 500))
    )
    def test_csv_records_stay_whole(self, rows: list[list[str]], cuts: list[int]) -> None:
        buffer = io.StringIO()
        csv.writer(buffer).writerows(rows)
        data = buffer.getvalue().encode()
        found = all_of(data, cuts, LineBlocks(quoted=True, lines=2, size=20))
        self.assertEqual(b"".join(found), data)
        read = [cells for block in found for cells in csv.reader(io.StringIO(block.decode(), newline=""), strict=True) if cells]
        self.assertEqual(read, rows)

    def test_a_quote_that_is_never_closed_is_refused_in_bounded_memory(self) -> None:
        blocks = LineBlocks(quoted=True)
        blocks.feed(b'a,b\n"')
        with self.assertRaisesRegex(BadBody, "a quote that is not closed"):
            for _ in range(MAX_RECORD_BYTES // 2**20 + 1):
                blocks.feed(b"\n" + b"x" * 2**20)
