"""The quick ways to the wire and back give what the careful ones give, and let nothing through that these would refuse."""

import json
import unittest
from typing import Any

import numpy as np
from hypothesis import given, settings
from hypothesis import strategies as st

from lamppost.core.errors import ModelFault
from lamppost.core.schema.columns import Column, answer_rows_from_columns, columns_from_rows
from lamppost.core.schema.fields import Field, Schema
from lamppost.runtime.codec import FrameCodec
from lamppost.runtime.wire import WireError, pack_columns, unpack_columns

PLAIN = Schema(
    (
        Field("x", "number", missing=True),
        Field("n", "integer", missing=True),
        Field("b", "yes/no", missing=True),
        Field("c", "choice", choices=("a", "b"), unseen="accept", missing=True),
    )
)
LABELLED = Schema((Field("label", "choice", choices=("holds", "fails")), Field("scores", "vector", choices=("holds", "fails"))))
VALUED = Schema((Field("kwh", "number"), Field("lamps", "integer"), Field("parts", "vector", choices=("p", "q", "r"))))
NUMBERS = st.floats(allow_nan=False, allow_infinity=False)


def sent(entries: Any) -> Any:
    """Entries as they are after the wire."""
    return json.loads(json.dumps(entries))


def rows_of(schema: Schema, many: int) -> st.SearchStrategy[list[dict[str, Any]]]:
    kinds: dict[str, st.SearchStrategy[Any]] = {"number": NUMBERS, "integer": st.integers(-(2**63), 2**63 - 1), "yes/no": st.booleans()}
    values: dict[str, st.SearchStrategy[Any]] = {}
    for field in schema:
        if field.kind == "choice":
            one: st.SearchStrategy[Any] = st.text(max_size=4) if field.unseen == "accept" else st.sampled_from(field.choices)
            one = one | st.sampled_from(field.choices)
        elif field.kind == "vector":
            one = st.fixed_dictionaries(dict.fromkeys(field.choices, NUMBERS))
        else:
            one = kinds[field.kind]
        values[field.name] = st.none() | one if field.missing else one
    return st.lists(st.fixed_dictionaries(values), min_size=1, max_size=many)


class Codecs(unittest.TestCase):
    @given(rows_of(PLAIN, 12))
    @settings(max_examples=120, deadline=None)
    def test_what_goes_out_comes_in_as_the_careful_way_has_it(self, rows: list[dict[str, Any]]) -> None:
        codec = FrameCodec(PLAIN)
        entries, body = codec.pack(rows)
        for found, wanted in zip(codec.columns(len(rows), sent(entries), body), columns_from_rows(PLAIN, rows), strict=True):
            np.testing.assert_array_equal(np.asarray(found.values), np.asarray(wanted.values))
            np.testing.assert_array_equal(np.asarray(found.missing is not None), np.asarray(wanted.missing is not None))
            self.assertEqual(found.extras, wanted.extras)
        self.assertEqual(answer_rows_from_columns(PLAIN, unpack_columns(PLAIN, len(rows), sent(entries), body), len(rows)), rows)

    @given(st.one_of(rows_of(LABELLED, 8).map(lambda rows: (LABELLED, rows)), rows_of(VALUED, 8).map(lambda rows: (VALUED, rows))))
    @settings(max_examples=80, deadline=None)
    def test_answers_come_back_as_rows(self, given_rows: tuple[Schema, list[dict[str, Any]]]) -> None:
        schema, rows = given_rows
        entries, body = pack_columns(columns_from_rows(schema, rows))
        self.assertEqual(FrameCodec(schema).rows(len(rows), sent(entries), body), rows)

    def test_many_rows_go_by_arrays_and_are_the_same(self) -> None:
        rows = [{"x": float(at), "n": at, "b": at % 2 == 0, "c": "ab"[at % 2]} for at in range(600)]
        codec = FrameCodec(PLAIN)
        entries, body = codec.pack(rows)
        self.assertEqual(answer_rows_from_columns(PLAIN, codec.columns(600, sent(entries), body), 600), rows)
        few = FrameCodec(PLAIN).pack(rows[:10])
        self.assertEqual(few[1], pack_columns(columns_from_rows(PLAIN, rows[:10]))[1])

    def test_answers_that_are_none_are_faults_of_the_model(self) -> None:
        for schema, columns, summary in (
            (LABELLED, [Column(np.array([0, 2], np.int32)), Column(np.zeros((2, 2)))], "a label that is"),
            (LABELLED, [Column(np.array([-1, 0], np.int32)), Column(np.zeros((2, 2)))], "a label that is"),
            (LABELLED, [Column(np.array([0, 1], np.int32)), Column(np.array([[0.5, 0.5], [np.nan, 1.0]]))], "scores in row 1"),
            (VALUED, [Column(np.array([1.0, np.inf])), Column(np.array([1, 2])), Column(np.zeros((2, 3)))], "kwh in row 1"),
        ):
            entries, body = pack_columns(columns)
            with self.subTest(summary), self.assertRaises(ModelFault) as caught:
                FrameCodec(schema).rows(2, sent(entries), body)
            self.assertIn(summary, caught.exception.detail)
            wrong = 0 if summary.startswith("a label") and columns[0].values[0] < 0 else 1
            alone = [Column(np.asarray(column.values)[wrong : wrong + 1]) for column in columns]
            entries, body = pack_columns(alone)
            with self.subTest(summary, alone=True), self.assertRaises(ModelFault) as caught:
                FrameCodec(schema).rows(1, sent(entries), body)
            self.assertIn(summary.split(" in row")[0], caught.exception.detail)

    @given(rows_of(PLAIN, 1))
    @settings(max_examples=80, deadline=None)
    def test_a_single_row_is_the_values_of_its_columns(self, rows: list[dict[str, Any]]) -> None:
        codec = FrameCodec(PLAIN)
        entries, body = codec.pack(rows)
        values = codec.single(body)
        columns = codec.columns(1, sent(entries), body)
        if columns[1].missing is not None:
            self.assertIsNone(values, "a missing integer is marked beside its value")
            return
        self.assertIsNotNone(values)
        np.testing.assert_array_equal(values or (), [np.asarray(column.values)[0] for column in columns])

    def test_sums_that_overflow_are_no_fault(self) -> None:
        rows = [{"kwh": 1.7e308, "lamps": 1, "parts": {"p": 1.7e308, "q": 1.7e308, "r": 0.0}}] * 3
        entries, body = pack_columns(columns_from_rows(VALUED, rows))
        self.assertEqual(FrameCodec(VALUED).rows(3, sent(entries), body), rows)

    def test_frames_that_do_not_fit_are_refused(self) -> None:
        rows = [{"label": "holds", "scores": {"holds": 0.75, "fails": 0.25}}]
        made, body = pack_columns(columns_from_rows(LABELLED, rows))
        entries = sent(made)
        for what, header, data in (
            ("no list", None, body),
            ("a column short", entries[:1], body[:4]),
            ("a byte short", entries, body[:-1]),
            ("a byte over", entries, body + b"x"),
            ("a size below zero", [[-4, 0, []], entries[1]], body),
            ("a size of another row", [entries[0], [8, 0, []]], body),
            ("an entry that is none", ["x", entries[1]], body),
        ):
            with self.subTest(what), self.assertRaises((WireError, ModelFault)):
                FrameCodec(LABELLED).rows(1, header, data)


if __name__ == "__main__":
    unittest.main()
