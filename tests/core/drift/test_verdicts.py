"""Verdicts on drift: literal figures, mergeable counts, and the goals of the benchmark on a small scale."""

import unittest
from typing import Any

import numpy as np
from hypothesis import given, settings
from hypothesis import strategies as st

from bench.drift import SHIFTS, Stream, alarms, make_sketcher, power
from lamppost.core.drift.bins import bin_choices, bin_numbers, bin_scores
from lamppost.core.drift.sketches import Sketcher
from lamppost.core.drift.verdicts import (
    LADDER,
    DriftBaseline,
    DriftVerdict,
    FieldSketch,
    ReferenceField,
    WindowSketch,
    find_differences,
    judge_fields,
    judge_windows,
)

RNG = np.random.default_rng(12)


def numbers(values: Any, name: str = "x") -> ReferenceField:
    return ReferenceField(name, True, bin_numbers(list(values)), len(values), 0)


def looked(known: ReferenceField, values: list[Any]) -> DriftVerdict:
    sketcher = Sketcher(DriftBaseline((known,), known.rows))
    return judge_windows(sketcher.against, [sketcher.sketch_window({known.name: values}, len(values))])


class Cells(unittest.TestCase):
    def test_cells_count_every_row_once_and_scores_are_orthonormal(self) -> None:
        for values in (RNG.normal(size=1_000), np.round(RNG.normal(size=1_000)), np.where(RNG.random(1_000) < 0.7, 0.0, 5.0)):
            bins = bin_numbers(values.tolist())
            self.assertEqual(sum(bins.counts), 1_000)
            self.assertTrue(all(bins.counts), "no cell is empty, however the values are tied")
            counts = np.array(bins.counts)
            a, b = bin_scores(counts)
            shares = counts / counts.sum()
            self.assertAlmostEqual(float((shares * a).sum()), 0.0)
            self.assertAlmostEqual(float((shares * a * b).sum()), 0.0)
            self.assertAlmostEqual(float((shares * a**2).sum()), 1.0)

    def test_a_constant_has_one_cell_and_no_scores(self) -> None:
        bins = bin_numbers([7.0] * 100)
        self.assertEqual((bins.counts, bins.edges), ((100,), ()))
        self.assertEqual([float(one[0]) for one in bin_scores(np.array([100]))], [0.0, 0.0])

    def test_where_there_are_many_choices_the_frequent_are_not_counted_by_the_rows_that_chose_them(self) -> None:
        values = [f"v{int(value)}" for value in RNG.integers(0, 200, 2_000)]
        bins = bin_choices(values)
        self.assertEqual((len(bins.choices), len(bins.counts), sum(bins.counts)), (63, 64, 1_000))
        self.assertLess(abs(bins.counts[-1] / 1_000 - 137 / 200), 0.06, "the rest is as large as it will be")
        few = bin_choices(["a", "b", "a", "c"])
        self.assertEqual((few.choices, few.counts, few.once), (("a", "b", "c"), (2, 1, 1, 0), 2))


class Verdicts(unittest.TestCase):
    def test_each_way_to_differ_is_named_and_sized(self) -> None:
        reference = RNG.normal(size=10_000)
        known = numbers(reference)
        window = RNG.normal(size=2_000)
        self.assertEqual(looked(known, window.tolist()).state, "steady")
        for change, what, state in (
            (window + 0.5, "location", "drifted"),
            (window * 1.1, "spread", "shifting"),
            (np.where(RNG.random(2_000) < 0.02, np.nan, window), "missing", "shifting"),
            (np.where(RNG.random(2_000) < 0.06, 900.0, window), "outside", "drifted"),
            (np.where(window > 0, 1.0, -1.0), "shape", "drifted"),
        ):
            said = looked(known, change.tolist())
            large = [finding.what for finding in said.fields[0].findings if finding.p < 0.001]
            self.assertIn(what, large)
            self.assertEqual(said.state, state, (what, said.fields[0].findings[:2]))
        moved = next(finding for finding in looked(known, (window + 0.5).tolist()).fields[0].findings if finding.what == "location")
        self.assertAlmostEqual(moved.signed, 0.5, delta=0.06)

    def test_certain_and_small_is_steady_and_large_and_uncertain_too(self) -> None:
        known = numbers(RNG.normal(size=50_000))
        self.assertEqual(looked(known, (RNG.normal(size=50_000) + 0.03).tolist()).state, "steady")
        self.assertEqual(looked(known, (RNG.normal(size=12) + 0.4).tolist()).state, "steady")

    def test_unseen_choices_are_held_against_how_often_new_ones_came_in_training(self) -> None:
        known = ReferenceField("c", False, bin_choices(["a", "b"] * 500), 1_000, 0)
        said = looked(known, ["a", "b"] * 480 + ["new"] * 40)
        unseen = next(finding for finding in said.fields[0].findings if finding.what == "unseen")
        self.assertEqual((said.state, unseen.after, unseen.before), ("drifted", 0.04, 0.0))
        growing = ReferenceField("c", False, bin_choices(["a"] * 900 + [f"n{at}" for at in range(50)] + ["b"] * 50), 1_000, 0)
        self.assertEqual(growing.bins.once, 50)
        self.assertEqual(looked(growing, ["a"] * 900 + ["b"] * 50 + [f"m{at}" for at in range(50)]).state, "steady")

    def test_a_constant_and_an_empty_window_are_no_reason_to_fail(self) -> None:
        constant = numbers([7.0] * 500)
        self.assertEqual(looked(constant, [7.0] * 200).state, "steady")
        self.assertEqual(looked(constant, [7.0] * 100 + [9.0] * 100).state, "drifted")
        self.assertEqual(looked(constant, []).state, "steady")
        self.assertEqual(looked(constant, [None] * 50).state, "drifted")

    def test_a_season_in_the_order_of_the_reference_is_allowed_for(self) -> None:
        year = np.linspace(0, 1, 20_000, endpoint=False)
        wave = 0.8 * np.sin(2 * np.pi * year)
        known = numbers((RNG.normal(size=20_000) + wave).tolist())
        summer = (RNG.normal(size=1_000) + 0.8).tolist()
        self.assertEqual(looked(known, summer).state, "steady")
        mixed = numbers(RNG.permutation(RNG.normal(size=20_000) + wave).tolist())
        self.assertEqual(looked(mixed, summer).state, "drifted", "without the order nobody can know")
        self.assertEqual(looked(known, (RNG.normal(size=1_000) + 2.5).tolist()).state, "drifted")

    def test_slow_change_is_found_by_windows_taken_together(self) -> None:
        known = numbers(RNG.normal(size=20_000))
        sketcher = Sketcher(DriftBaseline((known,), 20_000))
        windows = [sketcher.sketch_window({"x": (RNG.normal(size=400) + 0.13).tolist()}, 400) for _ in range(LADDER[-1])]
        self.assertEqual(judge_windows(sketcher.against, windows[:1]).state, "steady")
        said = judge_windows(sketcher.against, windows)
        self.assertEqual((said.state, said.rows), ("shifting", 400 * said.windows))
        self.assertGreater(said.windows, 1)

    @settings(max_examples=30, deadline=None)
    @given(st.lists(st.floats(-5, 5), min_size=2, max_size=60), st.integers(1, 59))
    def test_counts_of_two_parts_are_the_counts_of_the_whole(self, values: list[float], cut: int) -> None:
        sketcher = Sketcher(DriftBaseline((numbers(RNG.normal(size=500)),), 500, ("x",), np.ones((1, 1))))
        cut = min(cut, len(values) - 1)
        parts = [sketcher.sketch_window({"x": part}, len(part)) for part in (values[:cut], values[cut:])]
        whole, sums = sketcher.sketch_window({"x": values}, len(values)), parts[0] + parts[1]
        self.assertEqual(sums.fields["x"].bins.tolist(), whole.fields["x"].bins.tolist())
        assert sums.moments is not None
        assert whole.moments is not None
        np.testing.assert_allclose(sums.moments.products, whole.moments.products)

    def test_more_fields_do_not_mean_more_alarms(self) -> None:
        known = [numbers(RNG.normal(size=2_000), f"x{at}") for at in range(200)]
        sketcher = Sketcher(DriftBaseline(tuple(known), 2_000))
        columns = {one.name: RNG.normal(size=500).tolist() for one in known}
        states = [one.state for one in judge_fields(known, sketcher.sketch_window(columns, 500).fields, 0.01)]
        self.assertLessEqual(len(states) - states.count("steady"), 1)
        self.assertEqual(find_differences(known[0], FieldSketch(np.zeros(len(known[0].bins.counts), dtype=np.int64))), [])


class Goals(unittest.TestCase):
    """The benchmark has the figures with their confidence; this keeps them from being lost."""

    def test_unchanged_streams_are_steady(self) -> None:
        for reference, rows in ((20_000, 200), (2_000, 5_000)):
            odd, worst, of = alarms(Stream(), reference, rows, 40, seed=31)
            self.assertLessEqual((odd, worst), (2, 0), f"{odd} of {of} windows of {rows} rows")
        odd, _, of = alarms(Stream(season=0.5), 20_000, 1_000, 20, seed=32, drawn=0.05)
        self.assertLessEqual(odd, 3, f"{odd} of {of} windows of a season")

    def test_shifts_are_found(self) -> None:
        for name in ("mean 0.25 sd", "missing 0 → 5 %", "10 % in wrong units", "a correlation flipped", "a share doubled"):
            found, of = power(SHIFTS[name][0], 20_000, 1_000, 10, seed=33)
            self.assertGreaterEqual(found, of - 1, name)

    def test_a_change_that_is_over_is_steady_again(self) -> None:
        rng = np.random.default_rng(5)
        sketcher = make_sketcher(Stream().rows(5_000, rng), 5_000)
        past = [sketcher.sketch_window(Stream().rows(1_000, rng), 1_000) for _ in range(15)]
        columns = Stream().rows(1_000, rng)
        SHIFTS["10 % in wrong units"][0](columns, rng)
        past[-2] = sketcher.sketch_window(columns, 1_000)
        self.assertEqual(judge_windows(sketcher.against, past[:-1]).state, "drifted")
        self.assertEqual(judge_windows(sketcher.against, past).state, "steady")

    def test_a_sketch_is_small(self) -> None:
        columns = Stream().rows(2_000, np.random.default_rng(1))
        window: WindowSketch = make_sketcher(columns, 2_000).sketch_window(columns, 2_000)
        for name, sketch in window.fields.items():
            self.assertLessEqual(len(sketch.bins), 20 if name.startswith("n") else 64)
