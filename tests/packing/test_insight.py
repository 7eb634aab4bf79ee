"""What packing measures of what a model has learned, held against models whose answers are known in closed form."""

import time
import unittest
from typing import Any

import numpy as np
import pandas as pd
from sklearn.datasets import load_diabetes, load_wine
from sklearn.ensemble import RandomForestClassifier
from sklearn.linear_model import LinearRegression, LogisticRegression
from sklearn.tree import DecisionTreeRegressor

from lamppost.core.insight.insight import ModelInsight
from lamppost.core.insight.insight_text import worse_slices
from lamppost.core.schema.fields import Field, Schema
from lamppost.packing.insight import measure_insight
from tests.support.packing import WithFolder

RNG = np.random.default_rng(23)
FRAME = pd.DataFrame({name: RNG.normal(size=600) for name in ("a", "b", "idle")}).assign(
    kind=RNG.choice(["led", "sodium"], 600), owner=RNG.choice(["one", "two"], 600)
)
INPUTS = Schema(
    (
        *(Field(name, "number") for name in ("a", "b", "idle")),
        Field("kind", "choice", choices=("led", "sodium")),
        Field("owner", "choice", choices=("one", "two"), private=True),
    )
)


def measured(answers: Any, truth: Any, **more: Any) -> ModelInsight:
    def ask(rows: pd.DataFrame) -> list[dict[str, Any]]:
        return [{"y": float(value)} for value in answers(rows)]

    found = measure_insight(FRAME, list(truth), ask, INPUTS, Field("y", "number"), held_out=True, **more)
    assert found is not None
    return found


class KnownAnswers(unittest.TestCase):
    def test_of_a_sum_the_parts_are_told_and_what_is_not_read_is_0(self) -> None:
        def answers(rows: pd.DataFrame) -> Any:
            return 3 * rows["a"] + rows["b"] + 2.0 * (rows["kind"] == "sodium")

        found = measured(answers, answers(FRAME))
        self.assertEqual([one.field for one in found.importance][:3], ["a", "b", "kind"])
        by_name = {one.field: one.worse for one in found.importance}
        self.assertEqual((by_name["idle"].value, by_name["owner"].value), (0.0, 0.0))
        self.assertEqual((found.quality.value, found.slices[0].figure.value), (0.0, 0.0))
        curve = next(curve for curve in found.curves if curve.field == "a")
        values = np.asarray(curve.values, dtype=float)
        np.testing.assert_allclose(np.diff(curve.mean), 3 * np.diff(values), atol=1e-5, err_msg="a straight line")
        self.assertEqual(sum(curve.rows), len(FRAME))
        self.assertNotIn(
            "owner", [curve.field for curve in found.curves] + [one.by for one in found.slices], "private values are kept nowhere"
        )
        assert found.interaction is None or found.interaction.strength < 1e-6

    def test_a_product_is_found_as_what_two_fields_do_together(self) -> None:
        def answers(rows: pd.DataFrame) -> Any:
            return rows["a"] * rows["b"] + 0.3 * rows["idle"]

        found = measured(answers, answers(FRAME) + RNG.normal(size=600) * 0.1)
        assert found.interaction is not None
        self.assertEqual({found.interaction.first, found.interaction.second}, {"a", "b"})
        self.assertGreater(found.interaction.strength, 0.9)
        assert found.residuals is not None
        self.assertAlmostEqual(found.residuals.root_mean_square, 0.1, delta=0.02)
        self.assertEqual(sum(found.residuals.counts), 600)

    def test_where_answers_are_worse_is_found(self) -> None:
        truth = np.asarray(FRAME["a"] + np.where(FRAME["kind"] == "sodium", RNG.normal(size=600) * 2, 0.0))
        found = measured(lambda rows: rows["a"], truth)
        self.assertEqual([(one.by, one.value) for one in worse_slices(found)], [("kind", "sodium")])

    def test_too_few_truths_slow_models_and_private_answers(self) -> None:
        few = [1.0] * 20 + [None] * 580
        ask = lambda rows: [{"y": 0.0}] * len(rows)  # noqa: E731
        self.assertIsNone(measure_insight(FRAME, few, ask, INPUTS, Field("y", "number"), True))
        self.assertIsNone(measure_insight(FRAME, [1.0] * 600, ask, INPUTS, Field("y", "number", private=True), True))
        found = measured(lambda rows: rows["a"], FRAME["a"], rows_asked=400)
        self.assertEqual((len(found.importance), found.importance[0].worse.of, found.interaction), (5, 100, None), "the least is measured")

        def slowly(rows: pd.DataFrame) -> Any:
            time.sleep(0.7)
            return rows["a"]

        slow = measured(slowly, FRAME["a"])
        self.assertEqual((slow.importance, slow.left_out), ((), "what it looks at, because this model takes long to answer"))


class Packed(WithFolder):
    def test_it_travels_with_the_package_unless_that_is_left_out(self) -> None:
        data = load_wine(as_frame=True)
        frame = data.data.assign(kind=data.target.map({0: "red", 1: "white", 2: "rose"}))
        model = RandomForestClassifier(20, random_state=0).fit(data.data, frame["kind"])
        insight = self.pack(model, frame, target="kind", prove=False).insight
        assert insight is not None
        self.assertEqual((insight.kind, insight.held_out, insight.rows), ("labels", False, 178))
        assert insight.confusion is not None
        assert insight.calibration is not None
        self.assertEqual(sum(map(sum, insight.confusion.counts)), 178)
        self.assertEqual({one.field for one in insight.importance}, set(data.data.columns))
        self.assertIsNone(self.pack(model, frame, target="kind", prove=False, insight=False).insight)
        self.assertIsNone(self.pack(model, data.data, prove=False).insight, "without a target nothing is known to be right")

    def test_numbers_and_rows_held_out(self) -> None:
        data = load_diabetes(as_frame=True)
        frame = data.data.assign(progress=data.target)
        fitted = frame.iloc[:300]
        held_out = [at >= 300 for at in range(len(frame))]
        for model in (LinearRegression(), DecisionTreeRegressor(random_state=0)):
            model.fit(fitted.drop(columns="progress"), fitted["progress"])
            insight = self.pack(model, frame, target="progress", held_out=held_out, prove=False).insight
            assert insight is not None
            self.assertEqual((insight.kind, insight.held_out, insight.rows), ("numbers", True, 142))
            self.assertGreater(insight.quality.value, 30, "a tree that knows its rows by heart is not measured on them")
            self.assertIn("bmi", [one.field for one in insight.importance[:3]])

    def test_labels_without_scores(self) -> None:
        frame = FRAME[["a", "b"]].assign(state=np.where(FRAME["a"] > 0, "on", "off"))
        model = LogisticRegression().fit(frame[["a", "b"]], frame["state"])
        insight = self.pack(model, frame, target="state", prove=False).insight
        assert insight is not None
        self.assertEqual(insight.importance[0].field, "a")
        self.assertGreater(insight.importance[0].worse.value, 0.8)


if __name__ == "__main__":
    unittest.main()
