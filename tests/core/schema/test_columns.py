import unittest

import numpy as np

from lamppost.core.errors import ModelFault
from lamppost.core.schema.columns import Column, answer_rows_from_columns, column_texts, columns_from_rows
from lamppost.core.schema.fields import Field, Schema

INPUTS = Schema(
    (
        Field("x", "number", missing=True),
        Field("n", "integer", missing=True),
        Field("b", "yes/no", missing=True),
        Field("c", "choice", choices=("a", "b"), unseen="accept", missing=True),
        Field("t", "text", missing=True),
    )
)
ANSWERS = Schema((Field("label", "choice", choices=("holds", "fails")), Field("scores", "vector", choices=("holds", "fails"))))


def answer(codes: list[int], scores: list[list[float]]) -> list[Column]:
    return [Column(np.array(codes, dtype=np.int32)), Column(np.array(scores, dtype=np.float64))]


class Rows(unittest.TestCase):
    def test_rows_become_typed_columns(self) -> None:
        rows = [
            {"x": 1.5, "n": 7, "b": True, "c": "b", "t": "hello"},
            {"x": None, "n": None, "b": None, "c": None, "t": None},
            {"x": 2.0, "n": -1, "b": False, "c": "new", "t": ""},
        ]
        x, n, b, c, t = columns_from_rows(INPUTS, rows)
        np.testing.assert_array_equal(np.asarray(x.values), [1.5, np.nan, 2.0])
        np.testing.assert_array_equal(np.asarray(n.values), [7, 0, -1])
        np.testing.assert_array_equal(n.missing, [False, True, False])
        np.testing.assert_array_equal(np.asarray(b.values), [1, 2, 0])
        np.testing.assert_array_equal(np.asarray(c.values), [1, -1, 2])
        self.assertEqual(c.extras, ("new",))
        self.assertEqual(column_texts(INPUTS.fields[3], c), ["b", None, "new"])
        self.assertEqual(t.values, ["hello", None, ""])

    def test_columns_come_back_as_the_same_rows(self) -> None:
        rows = [{"x": 1.5, "n": 7, "b": True, "c": "b", "t": "é"}, {"x": None, "n": None, "b": None, "c": None, "t": None}]
        self.assertEqual(answer_rows_from_columns(INPUTS, columns_from_rows(INPUTS, rows), 2), rows)

    def test_answers_name_their_labels(self) -> None:
        self.assertEqual(
            answer_rows_from_columns(ANSWERS, answer([1, 0], [[0.25, 0.75], [1.0, 0.0]]), 2),
            [{"label": "fails", "scores": {"holds": 0.25, "fails": 0.75}}, {"label": "holds", "scores": {"holds": 1.0, "fails": 0.0}}],
        )


class Faults(unittest.TestCase):
    def test_an_answer_outside_its_schema_is_a_fault_of_the_model(self) -> None:
        for columns, summary in (
            (answer([1], [[0.5, np.nan]]), "no finite number for scores in row 0"),
            (answer([1], [[0.5, 0.5, 0.0]]), "scores of shape (1, 3)"),
            (answer([2], [[0.5, 0.5]]), "label that is none of its choices"),
            (answer([-1], [[0.5, 0.5]]), "a label that is not one of holds, fails"),
            (answer([0, 1], [[0.5, 0.5]]), "2 values of label for 1 rows"),
            (answer([0], [[0.5, 0.5]])[:1], "1 answer columns"),
        ):
            with self.assertRaises(ModelFault) as caught:
                answer_rows_from_columns(ANSWERS, columns, 1)
            self.assertIn(summary, caught.exception.detail)

    def test_a_number_that_may_be_missing_may_be(self) -> None:
        column = Column(np.array([np.nan]))
        self.assertEqual(answer_rows_from_columns(Schema((Field("kwh", "number", missing=True),)), [column], 1), [{"kwh": None}])
        with self.assertRaises(ModelFault):
            answer_rows_from_columns(Schema((Field("kwh", "number"),)), [column], 1)
