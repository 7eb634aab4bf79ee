import unittest

import numpy as np
import pandas as pd

from lamppost.core.artifact.schema_inference import choose_proof_rows, frame_rows, infer_inputs
from lamppost.core.errors import BadRequest

FRAME = pd.DataFrame(
    {
        "age": [1.5, np.nan, 3.0, 4.0],
        "nights": [1, 2, 3, 4],
        "tree": [True, False, True, False],
        "kind": ["led", "sodium", None, "led"],
        "maybe": pd.Series([True, None, False, True], dtype=object),
        "count": pd.array([1, None, 3, 4], dtype="Int64"),
    }
)


class Inferring(unittest.TestCase):
    def test_kinds_missing_ranges_choices_and_a_real_example(self) -> None:
        schema = infer_inputs(FRAME)
        found = [(f.name, f.kind, f.missing, f.seen, f.choices, f.example) for f in schema]
        self.assertEqual(
            found,
            [
                ("age", "number", True, (1.5, 4.0), (), 1.5),
                ("nights", "integer", False, (1, 4), (), 1),
                ("tree", "yes/no", False, None, (), True),
                ("kind", "choice", True, None, ("led", "sodium"), "led"),
                ("maybe", "yes/no", True, None, (), True),
                ("count", "integer", True, (1, 4), (), 1),
            ],
        )

    def test_many_different_texts_are_text(self) -> None:
        frame = pd.DataFrame({"note": [f"note {i}" for i in range(65)]})
        self.assertEqual(infer_inputs(frame).fields[0].kind, "text")

    def test_overrides_win_and_wrong_ones_are_refused(self) -> None:
        field = infer_inputs(FRAME, {"age": {"low": 0, "unit": "years"}, "kind": {"choices": ["led", "sodium", "gas"]}}).fields
        self.assertEqual((field[0].low, field[0].unit, field[3].choices), (0, "years", ("led", "sodium", "gas")))
        with self.assertRaises(BadRequest) as caught:
            infer_inputs(FRAME, {"agee": {}})
        self.assertIn("did you mean age?", caught.exception.detail)
        self.assertRaises(BadRequest, infer_inputs, FRAME, {"age": {"units": "m"}})

    def test_columns_no_field_can_hold_are_refused(self) -> None:
        for values in ([b"x"], [pd.Timedelta(1, "s")], [1 + 2j], [["a"]]):
            self.assertRaises(BadRequest, infer_inputs, pd.DataFrame({"odd": values}))
        self.assertRaises(BadRequest, infer_inputs, FRAME.head(0))

    def test_rows_as_a_request_would_carry_them(self) -> None:
        self.assertEqual(
            frame_rows(infer_inputs(FRAME), FRAME)[1],
            {"age": None, "nights": 2, "tree": False, "kind": "sodium", "maybe": None, "count": None},
        )

    def test_proof_rows_cover_labels_missing_values_extremes_and_choices(self) -> None:
        rng = np.random.default_rng(1)
        frame = pd.DataFrame({"x": rng.normal(size=5_000), "kind": np.where(np.arange(5_000) == 4_321, "rare", "common")})
        frame.loc[777, "x"] = np.nan
        frame.loc[1_234, "x"] = 99.0
        labels = (np.arange(5_000) == 3_210).astype(int)
        chosen = choose_proof_rows(infer_inputs(frame), frame, 20, labels)
        self.assertTrue({3_210, 777, 1_234, 4_321} <= set(chosen))
        self.assertEqual((len(chosen), chosen), (20, sorted(chosen)))
