import unittest

import numpy as np
from hypothesis import given, settings
from hypothesis import strategies as st

from lamppost.core.schema.columns import Column, answer_rows_from_columns, columns_from_rows
from lamppost.core.schema.fields import Field, Schema
from lamppost.runtime.wire import HEAD, MAX_HEADER_BYTES, WireError, frame_size, pack_columns, pack_frame, read_header, unpack_columns

SCHEMA = Schema(
    (
        Field("x", "number", missing=True),
        Field("n", "integer", missing=True),
        Field("b", "yes/no", missing=True),
        Field("c", "choice", choices=("a", "b"), unseen="accept", missing=True),
        Field("t", "text", missing=True),
        Field("v", "vector", choices=("p", "q")),
    )
)
FINITE = st.floats(allow_nan=False, allow_infinity=False)
ROWS = st.lists(
    st.fixed_dictionaries(
        {
            "x": st.none() | FINITE,
            "n": st.none() | st.integers(-(2**63), 2**63 - 1),
            "b": st.none() | st.booleans(),
            "c": st.none() | st.text(max_size=5),
            "t": st.none() | st.text(max_size=20),
            "v": st.fixed_dictionaries({"p": FINITE, "q": FINITE}),
        }
    ),
    min_size=1,
    max_size=20,
)


class Columns(unittest.TestCase):
    @given(ROWS)
    @settings(max_examples=80, deadline=None)
    def test_rows_survive_the_wire(self, rows: list[dict[str, object]]) -> None:
        entries, body = pack_columns(columns_from_rows(SCHEMA, rows))
        self.assertEqual(answer_rows_from_columns(SCHEMA, unpack_columns(SCHEMA, len(rows), entries, body), len(rows)), rows)

    def test_columns_that_do_not_fit_are_refused(self) -> None:
        one = Schema((Field("c", "choice", choices=("a",)),))
        text = Schema((Field("t", "text"),))
        good = Column(np.array([0], dtype=np.int32))
        entries, body = pack_columns([good])
        for schema, rows, header, data in (
            (one, 1, [], body),
            (one, 1, "no", body),
            (one, 1, [[4, 0]], body),
            (one, 1, [[-4, 0, []]], body),
            (one, 1, [[4, 0, [1]]], body),
            (one, 2, entries, body),
            (one, 1, entries, body[:-1]),
            (one, 1, entries, body + b"x"),
            (one, 1, [[4, 9, []]], body + b"123456789"),
            (one, 1, entries, np.array([1], dtype="<i4").tobytes()),
            (one, 1, entries, np.array([-2], dtype="<i4").tobytes()),
            (text, 1, [[3, 0, []]], b"abc"),
            (text, 1, [[5, 0, []]], np.array([2], "<i4").tobytes() + b"a"),
            (text, 1, [[5, 0, []]], np.array([1], "<i4").tobytes() + b"\xff"),
            (text, 1, [[4, 0, []]], np.array([-5], "<i4").tobytes()),
        ):
            self.assertRaises(WireError, unpack_columns, schema, rows, header, data)


class Frames(unittest.TestCase):
    def test_a_frame_announces_its_parts(self) -> None:
        frame = pack_frame({"op": "run"}, b"body")
        self.assertEqual(frame_size(frame[: HEAD.size]), (12, 4))
        self.assertEqual((read_header(frame[8:20]), frame[20:]), ({"op": "run"}, b"body"))

    def test_huge_claims_and_broken_headers_are_refused(self) -> None:
        for head in (HEAD.pack(MAX_HEADER_BYTES + 1, 0), HEAD.pack(2, 2**32 - 1), HEAD.pack(0, 0), b"garbage!"):
            self.assertRaises(WireError, frame_size, head)
        for raw in (b"[]", b"{", b"\xff\xff"):
            self.assertRaises(WireError, read_header, raw)
