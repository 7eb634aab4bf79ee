"""What packing says of the answers and the frame's own target."""

import unittest
from typing import Any

import numpy as np
import pandas as pd

from lamppost.core.schema.columns import Column
from lamppost.core.schema.fields import Field
from lamppost.packing.quality import AnswerQuality, answer_quality

LABELS = Field("label", "choice", choices=("holds", "fails"))
NAMED = {"0": "holds", "1": "fails"}
RNG = np.random.default_rng(2)
TRUTH = RNG.integers(0, 2, 400)


class Quality(unittest.TestCase):
    def of(self, field: Field, answered: Any, target: Any, held_out: Any = None) -> AnswerQuality:
        quality = answer_quality(field, Column(np.asarray(answered)), pd.Series(target), NAMED, held_out)
        assert quality is not None
        return quality

    def test_labels_are_counted_on_the_frame_and_on_the_rows_held_out(self) -> None:
        codes = TRUTH.astype(np.int32)
        codes[:40] = 1 - codes[:40]
        held_out = np.arange(400) < 80
        quality = self.of(LABELS, codes, TRUTH, held_out)
        self.assertEqual((quality.summary, quality.caution), ("right on 90% of this frame, 50% of the rows held out", quality.caution))
        self.assertIn("no better than by chance", quality.caution or "")
        self.assertEqual(self.of(LABELS, codes, TRUTH.astype(float)), AnswerQuality("right on 90% of this frame"))
        self.assertEqual(self.of(LABELS, codes, np.where(TRUTH == 1, "fails", "holds")), AnswerQuality("right on 90% of this frame"))

    def test_labels_in_another_order_and_another_target_are_found(self) -> None:
        self.assertIn("in the order of the classes", self.of(LABELS, (1 - TRUTH).astype(np.int32), TRUTH).caution or "")
        self.assertIn("in the order", self.of(LABELS, RNG.integers(0, 2, 400).astype(np.int32), TRUTH).caution or "")
        other = self.of(LABELS, TRUTH.astype(np.int32), RNG.choice(["north", "south"], 400))
        self.assertIn("none that the model can give (holds, fails)", other.caution or "")

    def test_numbers_are_held_against_the_median(self) -> None:
        kwh = RNG.gamma(2.0, 3.0, 400)
        field = Field("kwh", "number", unit="kWh")
        good = self.of(field, kwh + 0.5, kwh)
        self.assertEqual((good.summary.split(";")[0], good.caution), ("off by 0.5 kWh on average over this frame", None))
        self.assertIn("in the same unit", self.of(field, kwh * 1000, kwh).caution or "")

    def test_what_cannot_be_compared_is_left_alone(self) -> None:
        self.assertIsNone(answer_quality(Field("v", "vector", choices=("a",)), Column(np.ones((2, 1))), pd.Series([1, 2]), {}, None))
        self.assertIsNone(answer_quality(LABELS, Column(np.zeros(2, np.int32)), pd.Series([None, None]), {}, None))
