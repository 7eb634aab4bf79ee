import unittest

import numpy as np

from lamppost.core.bulk.reason_terms import ReasonTerms, reason_columns
from lamppost.core.bulk.row_reasons import answer_figure, asked_rows, draw_backgrounds, draw_orders, leading_reasons
from lamppost.core.errors import BadRequest
from lamppost.core.schema.columns import Column
from lamppost.core.schema.fields import Field, Schema


class RowReasons(unittest.TestCase):
    def test_orders_come_in_pairs_within_the_budget_and_are_the_same_each_time(self) -> None:
        orders = draw_orders(5, ReasonTerms(3, 64))
        self.assertEqual(len(orders), 16)
        for order, reverse in zip(orders[::2], orders[1::2], strict=True):
            self.assertEqual(sorted(order), [0, 1, 2, 3, 4])
            self.assertEqual(order, reverse[::-1])
        self.assertEqual(orders, draw_orders(5, ReasonTerms(3, 64)))
        self.assertEqual(asked_rows(5, ReasonTerms(3, 64)), 64 + 8)
        with self.assertRaises(BadRequest) as caught:
            draw_orders(40, ReasonTerms(3, 64))
        self.assertIn("--reason-rows 78", str(caught.exception))

    def test_backgrounds_depend_on_the_block_and_the_pair_only(self) -> None:
        first = draw_backgrounds(1_000, 200, 3, 1)
        self.assertTrue((first == draw_backgrounds(1_000, 200, 3, 1)).all())
        self.assertFalse((first == draw_backgrounds(1_000, 200, 4, 1)).all())
        self.assertTrue(((first >= 0) & (first < 200)).all())

    def test_the_figure_of_a_label_is_its_score_and_of_a_number_itself(self) -> None:
        answers = Schema((Field("label", "choice", choices=("a", "b")), Field("scores", "vector", choices=("a", "b"))))
        figure = answer_figure(answers)
        columns = [Column(np.array([1, 0])), Column(np.array([[0.3, 0.7], [0.9, 0.1]]))]
        self.assertEqual(figure.of(columns, figure.labels(columns)).tolist(), [0.7, 0.9])
        plain = answer_figure(Schema((Field("label", "choice", choices=("a", "b")),)))
        self.assertEqual(plain.of([Column(np.array([1, 0]))], np.array([1, 1])).tolist(), [1.0, 0.0])
        number = answer_figure(Schema((Field("kwh", "number"),)))
        self.assertEqual(number.of([Column(np.array([2.5]))], None).tolist(), [2.5])
        with self.assertRaises(BadRequest):
            answer_figure(Schema((Field("scores", "vector", choices=("a",)),)))

    def test_the_largest_contributions_lead_and_what_is_unknown_is_no_reason(self) -> None:
        terms = ReasonTerms(2, 64)
        found = leading_reasons(np.array([[0.1, -0.5, 0.2], [np.nan, np.nan, np.nan]]), ["x", "y", "z"], terms)
        self.assertEqual([given for given, _ in found], [["y", None], ["z", None]])
        self.assertEqual([amounts[0] for _, amounts in found], [-0.5, 0.2])
        self.assertEqual(reason_columns(terms, "q."), ["q.reason_1", "q.reason_1_amount", "q.reason_2", "q.reason_2_amount"])
