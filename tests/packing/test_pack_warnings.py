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

    def test_a_text_of_few_values_that_come_again_and_again_is_asked_about(self) -> None:
        streets = pd.Series([f"street-{number % 90}" for number in range(900)])
        found = input_warnings(infer_inputs(pd.DataFrame({"street": streets})), pd.DataFrame({"street": streets}), None)
        self.assertEqual(len(found), 1)
        self.assertIn("is read as text, because it has 90 different values; if these are choices, say so: fields={'street'", found[0])
        notes = pd.DataFrame({"note": [f"the lamp in street {number % 90} is out" for number in range(900)]})
        self.assertEqual(input_warnings(infer_inputs(notes), notes, None), [])

    def test_good_inputs_and_small_frames_are_left_in_peace(self) -> None:
        good = FRAME[["age", "kind"]].assign(tree=RNG.random(ROWS) < 0.3, nights=RNG.integers(0, 90, ROWS))
        self.assertEqual(self.said(good, pd.Series(RNG.choice(["holds", "fails"], ROWS))), [])
        self.assertEqual(self.said(FRAME.head(40), TARGET.head(40)), [])

    def test_inputs_that_change_no_answer_are_named_once_and_together(self) -> None:
        frame = FRAME[["age", "kind", "lamp_no", "code"]]
        found = unused_input_warnings(infer_inputs(frame), frame, lambda rows: rows["age"].to_numpy() * (rows["kind"] == "led").to_numpy())
        self.assertEqual(len(found), 1)
        self.assertIn("lamp_no and code change none of 300 answers, also together (at most 1.0% of all answers", found[0])

    def test_of_inputs_that_stand_in_for_each_other_one_is_named(self) -> None:
        frame = pd.DataFrame({"a": FRAME["age"], "b": FRAME["age"] + 1, "c": FRAME["lamp_no"]})

        def ask(rows: pd.DataFrame) -> np.ndarray:
            return np.where((rows["a"] < 0) & (rows["b"] < 0), 1, 0) + rows["c"].to_numpy() * 0

        def both(rows: pd.DataFrame) -> np.ndarray:
            """Changes only where both were shuffled."""
            own = frame.iloc[rows["place"]]
            return (rows["a"].to_numpy() != own["a"].to_numpy()) & (rows["b"].to_numpy() != own["b"].to_numpy())

        self.assertIn("a, b and c change none", unused_input_warnings(infer_inputs(frame), frame, ask)[0])
        frame["place"] = np.arange(len(frame))
        self.assertIn("a and c change none", unused_input_warnings(infer_inputs(frame), frame, both)[0])
