"""Frames of many kinds: read, or refused with the column and what to do."""

import datetime
import decimal
from typing import Any

import numpy as np
import pandas as pd
import pyarrow as pa
from scipy import sparse
from sklearn.compose import make_column_transformer
from sklearn.impute import SimpleImputer
from sklearn.linear_model import LinearRegression
from sklearn.pipeline import make_pipeline
from sklearn.preprocessing import FunctionTransformer, OneHotEncoder

from lamppost.core.errors import BadRequest
from lamppost.packing.frames import training_frame
from tests.packing.test_chains import WithFolder

RNG = np.random.default_rng(3)
NUMBERS = RNG.normal(size=(80, 3))
FRAME = pd.DataFrame(NUMBERS, columns=list("abc"))
SUM = NUMBERS.sum(axis=1)


class Frames(WithFolder):
    def answers(self, frame: Any, fitted_on: Any, asked: list[dict[str, Any]], model: Any = None, **recipe: Any) -> list[float]:
        lamp = self.built((model or LinearRegression()).fit(fitted_on, SUM), frame, **recipe)
        return [round(value, 6) for row in self.ask(lamp, asked) for value in row.values()]

    def test_frames_of_other_kinds_are_read(self) -> None:
        asked = [{"a": 1.0, "b": 2.0, "c": 3.0}]
        for frame in (
            FRAME,
            pa.Table.from_pandas(FRAME),
            FRAME.convert_dtypes(dtype_backend="pyarrow"),
            FRAME.convert_dtypes(),
            FRAME.astype({"a": "Float64"}),
            pd.DataFrame.sparse.from_spmatrix(sparse.csr_matrix(NUMBERS), columns=list("abc")),
        ):
            with self.subTest(type(frame)):
                fitted_on = FRAME if not isinstance(frame, pd.DataFrame) else frame
                self.assertEqual(self.answers(frame, fitted_on, asked), [6.0])
        self.assertEqual(self.answers(NUMBERS, NUMBERS, [{"x0": 1.0, "x1": 2.0, "x2": 3.0}]), [6.0])
        whole = FRAME.set_axis([0, 1, 2], axis=1)
        self.assertEqual(self.answers(whole.assign(**{"3": SUM}), whole.to_numpy(), [{"0": 1.0, "1": 2.0, "2": 3.0}], target="3"), [6.0])

    def test_a_first_step_that_was_fitted_on_a_frame_gets_one(self) -> None:
        model = make_pipeline(FunctionTransformer(lambda frame: frame[["a", "c"]].to_numpy()), LinearRegression())
        lamp = self.built(model.fit(FRAME, FRAME["a"] - FRAME["c"]), FRAME)
        self.assertEqual([round(row["value"], 6) for row in self.ask(lamp, [{"a": 5.0, "b": 9.0, "c": 3.0}])], [2.0])

    def test_what_no_request_can_carry_is_refused_with_its_column_and_a_remedy(self) -> None:
        dates = [datetime.date(2026, 5, 1)] * 80
        for column, sentence in (
            (pd.to_timedelta(NUMBERS[:, 0], unit="h"), "holds durations"),
            (np.where(NUMBERS[:, 0] > 0, np.inf, 1.0), "holds infinite numbers"),
            (NUMBERS[:, 0] + 1j, "holds complex numbers"),
            ([decimal.Decimal("1.5")] * 80, "holds decimals"),
            (dates, "holds dates without a time"),
            (["a", 1] * 40, "holds values of several kinds (int, str)"),
        ):
            with self.assertRaises(BadRequest) as caught:
                training_frame(FRAME.assign(odd=column))
            self.assertIn(f"column 'odd' {sentence}", caught.exception.detail)
            self.assertIn("before training", caught.exception.detail)
        for given, sentence in (
            (pd.concat([FRAME, FRAME], axis=1), "several columns 'a'"),
            (NUMBERS[0], "an array of shape (3,)"),
            ({"a": [1.0]}, "is a dict"),
        ):
            with self.assertRaises(BadRequest) as caught:
                training_frame(given)
            self.assertIn(sentence, caught.exception.detail)

    def test_a_class_instead_of_an_object_is_refused(self) -> None:
        with self.assertRaises(BadRequest) as caught:
            self.built(LinearRegression, FRAME)
        self.assertIn("LinearRegression is a class", caught.exception.detail)

    def test_a_long_frame_is_answered_in_part_with_its_rare_values(self) -> None:
        frame = pd.DataFrame({"a": RNG.normal(size=60_000), "kind": "led"})
        frame.loc[33_333, ["a", "kind"]] = [99.0, "gas"]
        asked: list[int] = []

        class Counting(LinearRegression):
            def predict(self, rows: Any) -> Any:
                asked.append(len(rows))
                return rows["a"].to_numpy() * 2

        model = Counting()
        model.feature_names_in_, model.n_features_in_ = np.array(["a", "kind"], dtype=object), 2
        lamp = self.built(model, frame)
        self.assertLess(max(asked), 21_000)
        self.assertIn({"a": 99.0, "kind": "gas"}, lamp.proof.rows)
        self.assertEqual((lamp.manifest.provenance.trained_rows, lamp.manifest.inputs.fields[0].seen), (60_000, (frame["a"].min(), 99.0)))

    def test_an_encoder_that_takes_unknown_categories_makes_a_field_that_does(self) -> None:
        frame = FRAME.assign(kind=np.tile(["led", "gas"], 40), area=np.tile(["hill", "mill"], 40))
        encoders = make_column_transformer(
            (make_pipeline(SimpleImputer(strategy="most_frequent"), OneHotEncoder(handle_unknown="ignore")), ["kind"]),
            (OneHotEncoder(), ["area"]),
            remainder="passthrough",
        )
        model = make_pipeline(encoders, LinearRegression()).fit(frame, SUM)
        fields = {field.name: field.unseen for field in self.built(model, frame).manifest.inputs}
        self.assertEqual((fields["kind"], fields["area"]), ("accept", "refuse"))
        stated = self.built(model, frame, fields={"kind": {"unseen": "refuse"}}).manifest.inputs
        self.assertEqual({field.unseen for field in stated}, {"refuse"})

    def test_an_option_that_nothing_reads_is_refused(self) -> None:
        with self.assertRaises(BadRequest) as caught:
            self.built(LinearRegression().fit(FRAME, SUM), FRAME, options={"threshold": {"kind": "number", "default": 0.5}})
        self.assertIn("options.threshold: no step reads it", caught.exception.detail)
