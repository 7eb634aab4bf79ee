import unittest

import numpy as np
import pandas as pd

from lamppost.core.artifact.schema_inference import infer_inputs
from lamppost.packing.pack_warnings import input_warnings, unused_input_warnings

ROWS = 300
RNG = np.random.default_rng(4)
FRAME = pd.DataFrame(
    {
        "age": RNG.uniform(0, 30, ROWS),
        "lamp_no": np.arange(ROWS),
        "town": "Tallowby",
        "kind": RNG.choice(["led", "sodium"], ROWS),
        "code": RNG.choice(["10", "20", "30"], ROWS),
    }
)
TARGET = pd.Series(np.where(FRAME["kind"] == "led", "holds", "fails"))


class Cautions(unittest.TestCase):
    def said(self, frame: pd.DataFrame, target: pd.Series | None = None) -> list[str]:
        return [text.split(";")[0] for text in input_warnings(infer_inputs(frame), frame, target)]

    def test_each_likely_mistake_is_named(self) -> None:
        self.assertEqual(
            self.said(FRAME, TARGET),
            [
                "lamp_no is another in nearly every row, like a key",
                "town has the same value in every row",
                "kind tells the target by itself",
                "code holds numbers as text",
            ],
        )

    def test_a_number_that_is_the_target_in_another_unit(self) -> None:
        kwh = pd.Series(RNG.gamma(2.0, 3.0, ROWS))
        self.assertEqual(self.said(pd.DataFrame({"wh": kwh * 1000 + 1e-7, "age": FRAME["age"]}), kwh), ["wh tells the target by itself"])

    def test_good_inputs_and_small_frames_are_left_in_peace(self) -> None:
        good = FRAME[["age", "kind"]].assign(tree=RNG.random(ROWS) < 0.3, nights=RNG.integers(0, 90, ROWS))
        self.assertEqual(self.said(good, pd.Series(RNG.choice(["holds", "fails"], ROWS))), [])
        self.assertEqual(self.said(FRAME.head(40), TARGET.head(40)), [])

    def test_inputs_that_change_no_answer(self) -> None:
        frame = FRAME[["age", "kind", "lamp_no"]]
        found = unused_input_warnings(infer_inputs(frame), frame, lambda rows: rows["age"].to_numpy() * (rows["kind"] == "led").to_numpy())
        self.assertEqual([text.split(";")[0] for text in found], ["lamp_no does not change any answer"])
