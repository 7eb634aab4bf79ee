"""How far two versions agree, and what a node counts while a rollout goes on."""

import unittest
from typing import Any

from lamppost.core.artifact.reference import make_reference
from lamppost.core.endpoint.agreement import DisagreeingRow, DisagreeingSlice, LabelFlip, main_answer, measure_agreement
from lamppost.core.endpoint.rollout import Rollout, RolloutPlan
from lamppost.core.endpoint.rollout_counts import RolloutTally, counted_rollout, read_counted_rollout, write_counted_rollout
from lamppost.core.endpoint.rollout_guards import RolloutGuards
from lamppost.core.schema.fields import Field, Schema

INPUTS = Schema((Field("district", "choice", choices=("hill", "park")), Field("x", "number")))
LABELS = Schema((Field("label", "choice", choices=("holds", "fails")), Field("scores", "vector", choices=("holds", "fails"))))
NUMBER = Schema((Field("kwh", "number"),))


def said(label: str, fails: float) -> dict[str, Any]:
    return {"label": label, "scores": {"holds": 1 - fails, "fails": fails}}


class Agreements(unittest.TestCase):
    def test_flips_score_differences_slices_and_the_rows_that_differ_most(self) -> None:
        rows = [{"district": "hill" if at < 4 else "park", "x": float(at)} for at in range(8)]
        before = [said("holds", 0.25)] * 8
        after = [said("fails", 0.75)] * 3 + [said("holds", 0.25)] * 4 + [said("fails", 1.0)]
        found = measure_agreement(rows, before, after, INPUTS, LABELS)
        self.assertEqual((found.rows, found.agree, found.part), (8, 4, 0.5))
        self.assertEqual(found.by, "label (difference of scores)")
        self.assertEqual(found.flips, (LabelFlip("holds", "fails", 4),))
        self.assertEqual((found.mean, found.most), (0.28125, 0.75))
        self.assertEqual(found.slices, (DisagreeingSlice("district", "hill", 4, 1),))
        self.assertEqual(found.worst[:2], (DisagreeingRow(7, 1.75), DisagreeingRow(0, 1.5)))
        self.assertEqual(len(found.worst), 4)

    def test_numbers_agree_within_a_part_of_their_spread(self) -> None:
        before = [{"kwh": float(value)} for value in (0, 10, 20, 30)]
        after = [{"kwh": value["kwh"] + off} for value, off in zip(before, (0, 0.5, 2, -4), strict=True)]
        found = measure_agreement([{"district": "hill", "x": at} for at in range(4)], before, after, INPUTS, NUMBER)
        self.assertAlmostEqual(found.scale or 0, 11.1803, places=3)
        self.assertEqual((found.agree, found.flips, found.most), (2, (), 4.0))
        self.assertEqual([one.row for one in found.worst], [3, 2, 1])

    def test_no_rows_are_no_reason_to_fail(self) -> None:
        found = measure_agreement([], [], [], INPUTS, LABELS)
        self.assertEqual((found.rows, found.part, found.mean, found.worst), (0, None, None, ()))

    def test_the_answer_that_counts_is_the_label_then_a_number(self) -> None:
        self.assertEqual(main_answer(LABELS).name, "label")
        self.assertEqual(main_answer(Schema((LABELS.fields[1], Field("kwh", "number")))).name, "kwh")


class Tallies(unittest.TestCase):
    def test_calls_are_counted_by_arm_with_cells_of_the_reference(self) -> None:
        rows = [{"kwh": float(value)} for value in range(101)]
        reference = make_reference(NUMBER, rows, NUMBER, rows)
        rollout = Rollout("load@1", "load@2", RolloutPlan(guards=RolloutGuards(p99_ms=50, disagreement=0.1)))
        watch = counted_rollout(rollout, 7, NUMBER, reference)
        self.assertEqual(read_counted_rollout(write_counted_rollout(watch)), watch)
        self.assertEqual((watch.share, watch.edges[:2]), (1, (10.0, 20.0)))
        self.assertEqual(
            [watch.cell({"kwh": value}) for value in (3.0, 15.0, 99.0)], ["kwh up to 10", "kwh above 10 up to 20", "kwh above 90"]
        )
        tally = RolloutTally(watch, NUMBER)
        self.assertIsNone(tally.take_counts())
        tally.answered("load@1", 5.0, [{"kwh": 3.0}])
        tally.answered("load@2", 60.0, [{"kwh": 4.0}, {"kwh": 99.0}])
        tally.failed("load@2")
        tally.answered("load@3", 1.0, [{"kwh": 4.0}])
        tally.compared([{"kwh": 3.0}], [{"kwh": 3.5}])
        tally.compared([{"kwh": 3.0}], [{"kwh": 30.0}])
        counts = tally.take_counts()
        assert counts is not None
        self.assertEqual((counts.calls, counts.failed), ([1, 2], [0, 1]))
        self.assertEqual([counts.above(arm, 20.0) for arm in (0, 1)], [0, 1])
        self.assertEqual(counts.answers, [{"kwh up to 10": 1}, {"kwh up to 10": 1}])
        self.assertEqual((counts.compared, counts.apart), (2, 1))
