"""Answers to rows that the model was not fitted on: labels by the model's own rule, and the same refusals over the range of a number."""

import unittest
import warnings
from typing import Any

import numpy as np
import pandas as pd
from sklearn.ensemble import ExtraTreesClassifier, GradientBoostingClassifier, HistGradientBoostingClassifier, RandomForestRegressor
from sklearn.gaussian_process import GaussianProcessClassifier
from sklearn.linear_model import LinearRegression, LogisticRegression, RidgeClassifier
from sklearn.model_selection import FixedThresholdClassifier
from sklearn.pipeline import make_pipeline
from sklearn.preprocessing import PolynomialFeatures, StandardScaler
from sklearn.tree import DecisionTreeClassifier

from lamppost.core.artifact.schema_inference import frame_rows
from lamppost.core.errors import BadRequest, ModelFault
from lamppost.core.schema.columns import check_answer_columns, columns_from_rows
from lamppost.package.read import Lamp
from lamppost.packing.compiling.known_types import label_is_highest_score
from lamppost.packing.unseen_rows import boundary_rows, mixed_rows
from lamppost.runtime.running_steps import open_chain
from tests.packing.test_chains import ALL, WithFolder

RNG = np.random.default_rng(7)
FRAME = pd.DataFrame(RNG.normal(size=(900, 6)), columns=list("abcdef"))
FRAME["y"] = (FRAME["a"] + FRAME["b"] * FRAME["c"] + RNG.normal(scale=0.8, size=900) > 0).astype(int)
FITTED, HELD_OUT = FRAME.head(400), FRAME.tail(500)
INPUTS = FRAME.columns.drop("y")


class Cautious(LogisticRegression):
    """Says 1 only when it is quite sure."""

    def predict(self, frame: Any) -> Any:
        return (self.predict_proba(frame)[:, 1] > 0.9).astype(int)


class HeldOut(WithFolder):
    def lamp(self, model: Any, target: str = "y", **recipe: Any) -> Lamp:
        with warnings.catch_warnings():
            warnings.simplefilter("ignore")
            return self.built(model, FITTED, target=target, **recipe)

    def test_labels_are_the_models_own_whatever_its_threshold_and_however_overfitted(self) -> None:
        trees = ExtraTreesClassifier(60, random_state=0)
        for model in (
            FixedThresholdClassifier(trees, threshold=0.2),
            make_pipeline(StandardScaler(), FixedThresholdClassifier(DecisionTreeClassifier(random_state=0), threshold=0.2)),
            GaussianProcessClassifier(random_state=0),
            Cautious(),
            make_pipeline(StandardScaler(), Cautious()),
            trees,
            GradientBoostingClassifier(n_estimators=10),
            HistGradientBoostingClassifier(max_iter=10),
            LogisticRegression(),
            RidgeClassifier(),
        ):
            with self.subTest(model):
                model.fit(FITTED[INPUTS], FITTED["y"])
                answers = self.ask(self.lamp(model), HELD_OUT[INPUTS].to_dict("records"))
                self.assertEqual([answer["label"] for answer in answers], [str(label) for label in model.predict(HELD_OUT[INPUTS])])

    def test_only_classes_that_define_it_so_have_the_label_of_the_highest_score(self) -> None:
        self.assertTrue(label_is_highest_score(make_pipeline(StandardScaler(), ExtraTreesClassifier())))
        for model in (FixedThresholdClassifier(ExtraTreesClassifier()), LogisticRegression(), Cautious()):
            self.assertFalse(label_is_highest_score(model), model)

    def test_a_number_that_the_model_cannot_take_is_refused_compiled_and_not(self) -> None:
        scaled = lambda *steps: make_pipeline(StandardScaler(), *steps)  # noqa: E731
        for model in (
            ExtraTreesClassifier(5),
            GradientBoostingClassifier(n_estimators=5),
            HistGradientBoostingClassifier(max_iter=5),
            RandomForestRegressor(5),
            LinearRegression(),
            scaled(LogisticRegression()),
            scaled(RidgeClassifier()),
            make_pipeline(PolynomialFeatures(2), LinearRegression()),
        ):
            with self.subTest(model):
                lamp = self.lamp(model.fit(FITTED[INPUTS], FITTED["y"]))
                self.assertTrue(lamp.manifest.serves_graphs)
                outcomes = [[self.outcome(lamp, value, original) for value in (1e30, 1e39, 1e300, 1.7e308)] for original in (False, True)]
                self.assertEqual(*outcomes)

    def outcome(self, lamp: Lamp, value: float, original: bool) -> object:
        rows = frame_rows(lamp.manifest.inputs, FITTED[INPUTS].head(2))
        rows[0]["a"] = value
        columns = columns_from_rows(lamp.manifest.inputs, rows)
        try:
            with np.errstate(all="ignore"):
                given = open_chain(lamp.unpack(self.folder), lamp.manifest, ALL, original).run(columns)
            check_answer_columns(lamp.manifest.answers, given, 2)
        except (ValueError, ModelFault):
            return "refused"
        return given[0].values.tolist() if given[0].values.dtype.kind == "i" else "answered"

    def test_a_proof_has_rows_that_the_model_was_not_fitted_on(self) -> None:
        model = DecisionTreeClassifier(random_state=0).fit(FITTED[INPUTS], FITTED["y"])
        rows = self.lamp(model).proof.rows
        known = {tuple(row) for row in FITTED[INPUTS].itertuples(index=False)}
        self.assertEqual((len(rows), sum(tuple(row.values()) in known for row in rows)), (20, 14))

    def test_a_misspelt_target_or_format_is_refused(self) -> None:
        model = LogisticRegression().fit(FITTED[INPUTS], FITTED["y"])
        frame = FITTED.rename(columns={"y": "failed"})
        with self.assertRaises(BadRequest) as caught:
            self.built(model, frame, target="faild")
        self.assertIn("did you mean 'failed'?", caught.exception.detail)
        with self.assertRaises(BadRequest) as caught:
            self.built(model, frame, target="failed", format="pikle")
        self.assertIn("choose skops or pickle", caught.exception.detail)


class Rows(unittest.TestCase):
    def test_boundary_rows_lie_close_to_each_other_on_both_sides(self) -> None:
        frame = FRAME[["a", "b"]].assign(n=RNG.integers(0, 9, 900), kind=RNG.choice(["led", "gas"], 900))
        ask = lambda rows: (rows["a"] > 0.25).to_numpy().astype(int)  # noqa: E731
        rows = boundary_rows(frame, ask(frame), ask, 10)
        near, far = rows.head(10), rows.tail(10)
        self.assertTrue((ask(near) != ask(far)).all())
        self.assertLess(np.abs(rows["a"] - 0.25).max(), 0.01)
        self.assertEqual([rows[name].dtype for name in rows], [frame[name].dtype for name in frame])
        self.assertEqual(len(boundary_rows(frame, np.zeros(900), ask, 10)), 0)

    def test_mixed_rows_hold_each_columns_own_values(self) -> None:
        rows = mixed_rows(FRAME, 50)
        for name in FRAME:
            self.assertTrue(set(rows[name]) <= set(FRAME[name]))
        self.assertEqual(len({tuple(row) for row in rows.itertuples()} & {tuple(row) for row in FRAME.itertuples()}), 0)
