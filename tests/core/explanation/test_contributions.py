"""Contributions against closed forms, brute force, and their own stated errors."""

import itertools
import math
import unittest
from collections.abc import Callable, Sequence
from typing import Any

import numpy as np
from sklearn.ensemble import RandomForestClassifier, RandomForestRegressor

from lamppost.core.explanation.asking import Budget, Cases, Outputs, Row, drive
from lamppost.core.explanation.contributions import Contributions, contributions
from lamppost.core.explanation.games import FieldGame, fields_together
from lamppost.core.schema.fields import Field, Schema

NUMBER = Schema((Field("kwh", "number"),))
LABEL = Schema((Field("label", "choice", choices=("holds", "fails")), Field("scores", "vector", choices=("holds", "fails"))))
Model = Callable[[Sequence[Row]], list[Row | None]]


def cases(answers: Schema, explained: Row, rows: int = 2_000) -> Cases:
    return Cases(Outputs(answers, explained), Budget(rows, math.inf, lambda: 0.0))


def explain(model: Model, row: Row, reference: Sequence[Row], answers: Schema = NUMBER, rows: int = 2_000, seed: int = 1) -> Contributions:
    (answer,) = model([row])
    assert answer is not None
    names = [(name,) for name in row]
    return drive(contributions(FieldGame(row, names, reference), cases(answers, answer, rows), seed), model)


def frame(rows: int, fields: int, seed: int = 3) -> list[dict[str, Any]]:
    values = np.random.default_rng(seed).normal(size=(rows, fields))
    return [{f"x{at}": float(value) for at, value in enumerate(row)} for row in values]


def numbers(rows: Sequence[Row]) -> Any:
    return np.array([[float(value) for value in row.values()] for row in rows])


def regression(predict: Callable[[Any], Any]) -> Model:
    return lambda rows: [{"kwh": float(value)} for value in predict(np.array([[row[f"x{at}"] for at in range(len(row))] for row in rows]))]


class ClosedForms(unittest.TestCase):
    def test_a_linear_model_is_exact_though_it_is_sampled(self) -> None:
        weights = np.array([3.0, -2.0, 0.5, 0.0, 1.0, -0.25, 0.1, 4.0, 0.0])
        reference, row = frame(400, 9), frame(1, 9, seed=8)[0]
        found = explain(regression(lambda x: x @ weights + 7), row, reference)
        wanted = weights * (numbers([row])[0] - numbers(reference).mean(axis=0))
        np.testing.assert_allclose(found.amounts[:, 0], wanted, atol=1e-9)
        self.assertEqual(found.stopped, "certain")
        self.assertAlmostEqual(float(found.baseline[0]), float((numbers(reference) @ weights + 7).mean()), delta=1e-9)

    def test_a_linear_model_of_choices_is_exact_too(self) -> None:
        worth = {"led": -1.0, "sodium": 2.0, "metal-halide": 0.5}
        draw = np.random.default_rng(4)
        reference = [
            {"type": str(draw.choice(list(worth))), "age": float(draw.normal()), "trees": bool(draw.random() < 0.3)} for _ in range(300)
        ]
        model: Model = lambda rows: [{"kwh": worth[row["type"]] + 2 * row["age"] - row["trees"]} for row in rows]  # noqa: E731
        row = {"type": "sodium", "age": 1.5, "trees": False}
        found = explain(model, row, reference)
        wanted = [
            2.0 - np.mean([worth[one["type"]] for one in reference]),
            2 * (1.5 - np.mean([one["age"] for one in reference])),
            np.mean([one["trees"] for one in reference]),
        ]
        np.testing.assert_allclose(found.amounts[:, 0], wanted, atol=1e-9)

    def test_what_joins_only_together_is_shared_alike_and_what_is_unused_gets_nothing(self) -> None:
        reference, row = frame(40, 4), {"x0": 2.0, "x1": 2.0, "x2": 1.0, "x3": 5.0}
        symmetric = [{**one, "x1": one["x0"]} for one in reference]
        found = explain(regression(lambda x: x[:, 0] * x[:, 1] + x[:, 2]), row, symmetric, rows=5_000)
        self.assertEqual(found.stopped, "exact")
        self.assertAlmostEqual(found.amounts[0, 0], found.amounts[1, 0], places=12)
        self.assertEqual(found.amounts[3, 0], 0.0)

    def test_brute_force_on_a_forest_of_six_fields(self) -> None:
        reference, row = frame(30, 6), frame(1, 6, seed=9)[0]
        x = numbers(frame(400, 6, seed=5))
        forest = RandomForestRegressor(20, random_state=1).fit(x, x[:, 0] * x[:, 1] + np.sin(3 * x[:, 2]))
        found = explain(regression(forest.predict), row, reference, rows=100_000)
        self.assertEqual(found.stopped, "exact")
        own, others = numbers([row])[0], numbers(reference)

        def value(present: tuple[int, ...]) -> float:
            mixed = others.copy()
            mixed[:, list(present)] = own[list(present)]
            return float(forest.predict(mixed).mean())

        wanted = np.zeros(6)
        for order in itertools.permutations(range(6)):
            for at, part in enumerate(order):
                wanted[part] += value_of(value, order[: at + 1]) - value_of(value, order[:at])
        np.testing.assert_allclose(found.amounts[:, 0], wanted / math.factorial(6), atol=1e-9)


_known: dict[tuple[int, ...], float] = {}


def value_of(value: Callable[[tuple[int, ...]], float], present: tuple[int, ...]) -> float:
    key = tuple(sorted(present))
    if key not in _known:
        _known[key] = value(key)
    return _known[key]


class Sampled(unittest.TestCase):
    @classmethod
    def setUpClass(cls) -> None:
        x = numbers(frame(800, 8, seed=5))
        y = (x[:, 0] * x[:, 1] + np.abs(x[:, 2]) + 0.4 * x[:, 3] > 0.8).astype(int)
        forest = RandomForestClassifier(30, max_depth=8, random_state=1).fit(x, y)
        cls.reference = frame(200, 8)

        def model(rows: Sequence[Row]) -> list[Row | None]:
            shares = forest.predict_proba(np.array([[row[f"x{at}"] for at in range(8)] for row in rows]))
            return [{"label": ("holds", "fails")[int(b > a)], "scores": {"holds": float(a), "fails": float(b)}} for a, b in shares]

        cls.model = staticmethod(model)

    def test_what_is_sampled_lies_within_its_stated_errors(self) -> None:
        far = []
        for seed, row in enumerate(frame(12, 8, seed=21)):
            exact = explain(self.model, row, self.reference, LABEL, rows=60_000)
            self.assertEqual(exact.stopped, "exact")
            found = explain(self.model, row, self.reference, LABEL, rows=1_200, seed=seed)
            self.assertLessEqual(found.asked, 1_200)
            np.testing.assert_allclose(found.amounts.sum(axis=0), found.answer - found.baseline, atol=1e-12)
            far += (np.abs(found.amounts - exact.amounts) / found.errors)[:, 1].tolist()
        self.assertLess(np.mean(np.array(far) > 3), 0.03)
        self.assertGreater(np.mean(np.array(far) > 0.5), 0.3, "the errors are not merely large")

    def test_both_labels_are_explained_and_mirror_each_other(self) -> None:
        found = explain(self.model, frame(1, 8, seed=2)[0], self.reference, LABEL)
        np.testing.assert_allclose(found.amounts[:, 0], -found.amounts[:, 1], atol=1e-9)

    def test_fields_that_move_together_are_one_part(self) -> None:
        names = [f"x{at}" for at in range(8)]
        parts = fields_together(names, {("x0", "x1"): 0.9, ("x1", "x4"): -0.85, ("x2", "x3"): 0.79})
        self.assertEqual(parts[0], ("x0", "x1", "x4"))
        self.assertEqual(len(parts), 6)
        row = frame(1, 8, seed=2)[0]
        (answer,) = self.model([row])
        assert answer is not None
        found = drive(contributions(FieldGame(row, parts, self.reference), cases(LABEL, answer, 20_000)), self.model)
        self.assertEqual((found.stopped, found.amounts.shape), ("exact", (6, 2)))


class BadLuck(unittest.TestCase):
    def test_rows_that_the_model_fails_on_are_left_out_and_counted(self) -> None:
        def model(rows: Sequence[Row]) -> list[Row | None]:
            return [None if row["x0"] < -1 and row["x1"] > 0 else {"kwh": row["x0"] + row["x1"]} for row in rows]

        found = explain(model, {f"x{at}": 1.0 for at in range(6)}, frame(300, 6))
        self.assertGreater(found.left_out, 0)
        self.assertTrue(np.isfinite(found.amounts).all())
        self.assertAlmostEqual(float(found.amounts.sum()), float((found.answer - found.baseline)[0]), places=9)

    def test_a_constant_model_moves_nothing(self) -> None:
        found = explain(lambda rows: [{"kwh": 4.0} for _ in rows], frame(1, 5)[0], frame(100, 5))
        self.assertEqual(float(np.abs(found.amounts).max()), 0.0)

    def test_a_budget_of_one_row_and_one_that_is_small(self) -> None:
        model = regression(lambda x: x.sum(axis=1))
        found = explain(model, frame(1, 5)[0], frame(100, 5), rows=1)
        self.assertEqual((found.stopped, found.asked), ("budget", 1))
        self.assertTrue(np.isnan(found.amounts).all())
        found = explain(model, frame(1, 5)[0], frame(100, 5), rows=60)
        self.assertLessEqual(found.asked, 60)
        self.assertTrue(np.isfinite(found.amounts).all())

    def test_three_hundred_fields(self) -> None:
        weights = np.zeros(300)
        weights[:3] = 9.0, -5.0, 2.0
        found = explain(regression(lambda x: x @ weights), {f"x{at}": 1.0 for at in range(300)}, frame(500, 300), rows=4_000)
        self.assertLessEqual(found.asked, 4_000)
        order = np.argsort(-np.abs(found.amounts[:, 0]))[:3].tolist()
        self.assertEqual(order, [0, 1, 2])

    def test_one_field_and_no_reference(self) -> None:
        found = explain(regression(lambda x: x[:, 0] ** 2), {"x0": 3.0}, frame(50, 1))
        self.assertEqual(found.stopped, "exact")
        self.assertAlmostEqual(float(found.amounts[0, 0]), float((found.answer - found.baseline)[0]))
        found = explain(regression(lambda x: x[:, 0] ** 2), {"x0": 3.0}, [])
        self.assertTrue(np.isnan(found.amounts).all())
