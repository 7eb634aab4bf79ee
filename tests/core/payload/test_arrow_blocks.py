"""Arrow streams that come bit by bit: every row comes out once, in order; what is damaged is said before memory is taken for it."""

import io
import struct
import unittest

import pyarrow as pa
from hypothesis import given
from hypothesis import strategies as st

from lamppost.core.errors import BadBody
from lamppost.core.payload.arrow_blocks import END, ArrowBlocks, continue_stream


def stream(sizes: list[int], end: bool = True) -> bytes:
    """A number, a text and a dictionary of text in batches of those sizes; the dictionary grows from batch to batch."""
    schema = pa.schema([("x", pa.float64()), ("note", pa.string()), ("kind", pa.dictionary(pa.int32(), pa.string()))])
    sink, at = io.BytesIO(), 0
    with pa.ipc.new_stream(sink, schema) as writer:
        for size in sizes:
            rows = range(at, at + size)
            kinds = pa.array([f"kind {row // 3}" for row in rows], pa.string()).dictionary_encode()
            writer.write_batch(
                pa.record_batch([pa.array(list(map(float, rows))), pa.array(["é" * (row % 3) for row in rows]), kinds], schema)
            )
            at += size
    return sink.getvalue() if end else sink.getvalue().removesuffix(END)


def rows_of(data: bytes) -> list[dict[str, object]]:
    return list(pa.ipc.open_stream(data).read_all().to_pylist())


class Cutting(unittest.TestCase):
    @given(st.lists(st.integers(0, 5), max_size=6), st.lists(st.integers(0, 10_000), max_size=8), st.booleans())
    def test_every_row_comes_once_however_it_is_cut(self, sizes: list[int], cuts: list[int], end: bool) -> None:
        data = stream(sizes, end)
        blocks, found, at = ArrowBlocks(), [], 0
        for cut in sorted({cut % (len(data) + 1) for cut in cuts} | {len(data)}):
            found += blocks.feed(data[at:cut])
            at = cut
        blocks.finish()
        self.assertEqual([row for block in found for row in rows_of(block)], rows_of(data))
        self.assertEqual(len(found), sum(size > 0 for size in sizes))
        joined = b"".join(continue_stream(block, first=not at) for at, block in enumerate(found)) + END
        if found:
            self.assertEqual(rows_of(joined), rows_of(data))

    def test_what_is_no_arrow_stream_is_refused_early(self) -> None:
        good = stream([3])
        huge = b"\xff\xff\xff\xff" + struct.pack("<i", 2**30)
        for data, said in (
            (b"\x00" * 3 + b"\xff" * 40, "bytes of metadata"),
            (huge, "announces 1,073,741,824 bytes of metadata"),
            (b'{"rows": [{"a": 1}]}' * 20, "bytes of metadata"),
            (b"\xff\xff\xff\xff" + struct.pack("<i", 16) + b"\xff" * 16, "cannot be read"),
            (good + good, "goes on after its end"),
        ):
            with self.subTest(said=said), self.assertRaisesRegex(BadBody, said):
                ArrowBlocks().feed(data)
        cut = ArrowBlocks()
        cut.feed(good[:-20])
        self.assertRaisesRegex(BadBody, "cut short", cut.finish)

    @given(st.integers(0, 10_000), st.integers(0, 255))
    def test_a_bent_stream_is_cut_or_refused(self, at: int, value: int) -> None:
        data = bytearray(stream([2, 3]))
        data[at % len(data)] = value
        blocks = ArrowBlocks()
        try:
            blocks.feed(bytes(data))
            blocks.finish()
        except BadBody:
            pass
