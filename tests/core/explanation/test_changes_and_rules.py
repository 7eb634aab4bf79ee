"""Smallest changes against exhaustive search, rules against fresh cases, curves."""

import itertools
import math
import unittest
from collections.abc import Sequence
from typing import Any

import numpy as np
from sklearn.ensemble import RandomForestClassifier

from lamppost.core.errors import BadRequest
from lamppost.core.explanation.asking import Budget, Cases, Outputs, Row, drive
from lamppost.core.explanation.curves import field_curve
from lamppost.core.explanation.explanation import ExplainedReference
from lamppost.core.explanation.rules import RuleSearch
from lamppost.core.explanation.smallest_changes import SmallestChanges, smallest_changes
from lamppost.core.explanation.traits import FieldTraits, SeenTogether
from lamppost.core.schema.fields import Field, Schema

ANSWERS = Schema((Field("label", "choice", choices=("holds", "fails")), Field("scores", "vector", choices=("holds", "fails"))))
TYPES = ("led", "metal-halide", "sodium")
INPUTS = (Field("age", "number"), Field("visits", "integer"), Field("type", "choice", choices=TYPES), Field("trees", "yes/no"))


def lamps(rows: int, seed: int = 3) -> list[dict[str, Any]]:
    draw = np.random.default_rng(seed)
    return [
        {
            "age": round(float(draw.gamma(3, 6)), 1),
            "visits": int(draw.integers(0, 9)),
            "type": str(draw.choice(TYPES, p=(0.5, 0.2, 0.3))),
            "trees": bool(draw.random() < 0.3),
        }
        for _ in range(rows)
    ]


def traits(reference: Sequence[Row]) -> dict[str, FieldTraits]:
    return {field.name: FieldTraits(field, reference) for field in INPUTS}


def table(rows: Sequence[Row]) -> Any:
    return np.array([[row["age"], row["visits"], TYPES.index(row["type"]), row["trees"]] for row in rows], dtype=float)


class WithForest(unittest.TestCase):
    @classmethod
    def setUpClass(cls) -> None:
        x = table(lamps(2_000, seed=5))
        risk = 0.1 * x[:, 0] + 1.2 * (x[:, 2] == 2) - 0.3 * x[:, 1] + x[:, 3]
        cls.forest = RandomForestClassifier(25, max_depth=7, random_state=1).fit(x, (risk > 1.6).astype(int))

    def model(self, rows: Sequence[Row]) -> list[Row | None]:
        shares = self.forest.predict_proba(table(rows))
        return [{"label": ("holds", "fails")[int(b > a)], "scores": {"holds": float(a), "fails": float(b)}} for a, b in shares]

    def answer(self, row: Row) -> Row:
        (answer,) = self.model([row])
        assert answer is not None
        return answer

    def cases(self, row: Row, rows: int = 2_000) -> Cases:
        return Cases(Outputs(ANSWERS, self.answer(row)), Budget(rows, math.inf, lambda: 0.0))

    def search(self, row: Row, reference: Sequence[Row], inputs: Sequence[Field] = INPUTS, rows: int = 4_000) -> SmallestChanges:
        cases = self.cases(row, rows)
        known = ExplainedReference(Schema(tuple(inputs)), reference)
        turned = lambda answer: not cases.outputs.keeps_label(answer)  # noqa: E731
        found = drive(smallest_changes(row, known.traits, known.together, turned, cases), self.model)
        self.assertEqual(found.asked, rows - cases.budget.rows)
        return found


class Changes(WithForest):
    def test_all_are_valid_and_no_smaller_one_is_found_by_exhaustive_search(self) -> None:
        reference = lamps(60)
        known = traits(reference)
        together = SeenTogether(list(known.values()))
        found_some = 0
        for row in lamps(25, seed=11):
            found = self.search(row, reference)
            for change in found.changes:
                self.assertNotEqual(self.answer({**row, **change.fields})["label"], self.answer(row)["label"])
                wanted = sum(known[name].distances(row[name], [value])[0] for name, value in change.fields.items())
                self.assertAlmostEqual(change.distance, wanted)
            smallest = self.exhaustive(row, reference, known, together)
            self.assertAlmostEqual(found.changes[0].distance if found.changes else math.inf, smallest, places=9)
            self.assertEqual(found.searched, "found" if found.changes else "none")
            found_some += bool(found.changes)
        self.assertGreater(found_some, 15)

    def exhaustive(self, row: Row, reference: Sequence[Row], known: dict[str, FieldTraits], together: SeenTogether) -> float:
        candidates: list[dict[str, Any]] = [{name: value} for name, trait in known.items() for value in trait.values if value != row[name]]
        for many in (2, 3):
            for names in itertools.combinations(known, many):
                candidates += [
                    {name: other[name] for name in names} for other in reference if all(other[name] != row[name] for name in names)
                ]
        fitting = [one for one in candidates if together.fits(together.cells_of(row), one)]
        own = self.answer(row)["label"]
        answers = self.model([{**row, **one} for one in fitting])
        return min(
            (
                sum(known[name].distances(row[name], [value])[0] for name, value in one.items())
                for one, answer in zip(fitting, answers, strict=True)
                if answer is not None and answer["label"] != own
            ),
            default=math.inf,
        )

    def test_what_nobody_can_change_stays_and_an_age_only_rises(self) -> None:
        inputs = (Field("age", "number", changes="rises_only"), Field("visits", "integer"), *(
            Field(field.name, field.kind, choices=field.choices, changes="fixed") for field in INPUTS[2:]
        ))  # fmt: skip
        changed = set()
        for row in lamps(30, seed=12):
            for change in self.search(row, lamps(200), inputs).changes:
                changed |= set(change.fields)
                self.assertGreater(change.fields.get("age", math.inf), row["age"])
        self.assertEqual(changed, {"age", "visits"})

    def test_not_found_is_an_answer(self) -> None:
        fixed = tuple(Field(field.name, field.kind, choices=field.choices, changes="fixed") for field in INPUTS)
        found = self.search(lamps(1)[0], lamps(100), fixed)
        self.assertEqual((found.changes, found.searched, found.asked), ([], "none", 0))
        self.assertEqual(self.search({"age": 0.1, "visits": 8, "type": "led", "trees": False}, lamps(200), rows=5).searched, "budget")
        self.assertEqual(self.search(lamps(1)[0], []).searched, "none")

    def test_only_values_that_were_seen_together(self) -> None:
        reference = [{**row, "trees": row["type"] == "led"} for row in lamps(200)]
        for row in reference[:30]:
            for change in self.search(row, reference).changes:
                changed = {**row, **change.fields}
                self.assertEqual(changed["trees"], changed["type"] == "led")

    def test_a_reference_of_one_label_only(self) -> None:
        """A row of the other label finds the way back; one of the same label is told that there is no other, or finds a valid change."""
        rows = lamps(400)
        reference = [row for row in rows if self.answer(row)["label"] == "holds"]
        outside = [row for row in rows if self.answer(row)["label"] == "fails"][:10]
        for row in outside + reference[:10]:
            found = self.search(row, reference)
            self.assertEqual(found.searched, "found" if found.changes else "none")
            for change in found.changes:
                self.assertNotEqual(self.answer({**row, **change.fields})["label"], self.answer(row)["label"])
        self.assertTrue(all(self.search(row, reference).changes for row in outside))


class Rules(WithForest):
    def test_they_keep_what_they_state_on_fresh_cases(self) -> None:
        reference, fresh = lamps(400), lamps(400, seed=77)
        known, anew = ExplainedReference(Schema(INPUTS), reference), ExplainedReference(Schema(INPUTS), fresh)
        typical = self.model(reference)
        kept = reached = 0
        for seed, row in enumerate(lamps(60, seed=13)):
            cases = self.cases(row)
            rule = drive(RuleSearch(row, known.traits, reference, cases.outputs.keeps_label, seed).search(cases, typical), self.model)
            assert rule is not None
            others = RuleSearch(row, anew.traits, fresh, cases.outputs.keeps_label, seed + 1_000)
            fulfil = np.ones(len(fresh), dtype=bool)
            for condition in rule.conditions:
                self.assertTrue(condition.held_by(FieldTraits(known.traits[condition.field].field, [row]))[0])
                fulfil &= condition.held_by(anew.traits[condition.field])
            drawn = [case for half in (0, 1) for case, _ in others.draw_cases(rule.conditions, fulfil, half, 500)]
            answers = self.model(drawn)
            rate = sum(answer is not None and cases.outputs.keeps_label(answer) for answer in answers) / 1_000
            noise = 2 * math.sqrt(rate * (1 - rate) / 1_000)
            kept += rate >= rule.low - noise
            reached += rule.reached
            self.assertLessEqual(len(rule.conditions), 4)
            self.assertGreater(rule.coverage, 0)
        self.assertGreaterEqual(kept / 60, 0.95)
        self.assertGreater(reached / 60, 0.7)

    def test_a_model_that_follows_a_rule_is_told_by_it(self) -> None:
        def model(rows: Sequence[Row]) -> list[Row | None]:
            return [{"label": "fails" if row["type"] == "sodium" and row["age"] > 15 else "holds"} for row in rows]

        reference, row = lamps(500), {"age": 30.0, "visits": 4, "type": "sodium", "trees": False}
        cases = Cases(Outputs(Schema((ANSWERS.fields[0],)), {"label": "fails"}), Budget(2_000, math.inf, lambda: 0.0))
        rule = drive(RuleSearch(row, traits(reference), reference, cases.outputs.keeps_label).search(cases, model(reference)), model)
        assert rule is not None
        self.assertEqual({condition.field for condition in rule.conditions}, {"type", "age"})
        self.assertEqual((rule.precision, rule.reached), (1.0, True))

    def test_a_reference_of_one_label_only(self) -> None:
        """What all rows of the reference are answered needs no condition; a rule for the other label names how its row differs."""
        rows = lamps(400)
        reference = [row for row in rows if self.answer(row)["label"] == "holds"]
        known, typical = traits(reference), self.model(reference)
        for label, conditions in (("holds", 0), ("fails", 1)):
            row = next(row for row in rows if self.answer(row)["label"] == label)
            cases = self.cases(row)
            rule = drive(RuleSearch(row, known, reference, cases.outputs.keeps_label).search(cases, typical), self.model)
            assert rule is not None
            self.assertGreaterEqual(len(rule.conditions), conditions)
            if label == "holds":
                self.assertEqual((rule.conditions, rule.coverage), ((), 1.0))

    def test_without_a_reference_or_a_budget_there_is_none(self) -> None:
        row = lamps(1)[0]
        cases = self.cases(row)
        self.assertIsNone(drive(RuleSearch(row, traits([]), [], cases.outputs.keeps_label).search(cases, []), self.model))
        cases, few = self.cases(row, 0), lamps(9)
        self.assertIsNone(drive(RuleSearch(row, traits(few), few, cases.outputs.keeps_label).search(cases, self.model(few)), self.model))

    def test_always_the_same_label_needs_no_condition(self) -> None:
        model = lambda rows: [{"label": "holds"} for _ in rows]  # noqa: E731
        cases = Cases(Outputs(ANSWERS, {"label": "holds"}), Budget(500, math.inf, lambda: 0.0))
        rule = drive(
            RuleSearch(lamps(1)[0], traits(lamps(400)), lamps(400), cases.outputs.keeps_label).search(cases, model(lamps(400))), model
        )
        assert rule is not None
        self.assertEqual((rule.conditions, rule.precision, rule.coverage), ((), 1.0, 1.0))


class Curves(WithForest):
    def test_a_number_goes_through_the_range_of_the_reference_and_its_own_place(self) -> None:
        row, reference = {**lamps(1)[0], "age": 400.0}, lamps(300)
        curve = drive(field_curve(row, FieldTraits(INPUTS[0], reference), self.cases(row)), self.model)
        ages = [one["age"] for one in reference]
        self.assertEqual((curve.values[0], curve.values[-2], curve.values[-1]), (min(ages), max(ages), 400.0))
        self.assertEqual((curve.own, sum(curve.counts), curve.values), (len(curve.values) - 1, 300, sorted(curve.values)))
        for value, figures in zip(curve.values, curve.figures, strict=True):
            scores: Any = self.answer({**row, "age": value})["scores"]
            self.assertEqual(figures.tolist(), [scores["holds"], scores["fails"]])

    def test_choices_the_missing_value_and_what_has_no_range(self) -> None:
        row, reference = lamps(1)[0], lamps(300)
        field = Field("type", "choice", choices=TYPES, missing=True)
        curve = drive(
            field_curve(row, FieldTraits(field, reference), self.cases(row)), lambda rows: [{"scores": {"holds": 1.0}} for _ in rows]
        )
        self.assertEqual((set(curve.values), curve.values[-1]), ({*TYPES, None}, None))
        self.assertEqual((curve.counts, curve.counts[-1]), (sorted(curve.counts, reverse=True), 0))
        self.assertEqual(curve.values[curve.own], row["type"])
        with self.assertRaisesRegex(BadRequest, "note is a text, which has no range"):
            drive(field_curve(row, FieldTraits(Field("note", "text"), reference), self.cases(row)), self.model)

    def test_times_are_in_order(self) -> None:
        field = Field("at", "time")
        reference = [{"at": f"2026-0{month}-01T00:00:00Z"} for month in (5, 2, 9, 1)]
        row, cases = {"at": "2026-03-01T00:00:00Z"}, self.cases(lamps(1)[0])
        curve = drive(field_curve(row, FieldTraits(field, reference), cases), lambda rows: [None for _ in rows])
        self.assertEqual([value[5:7] for value in curve.values], ["01", "02", "03", "05", "09"])
        self.assertTrue(np.isnan(curve.figures).all())
