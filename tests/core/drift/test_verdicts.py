"""Verdicts on drift: literal figures, mergeable counts, and the goals of the benchmark on a small scale."""

import unittest
from typing import Any

import numpy as np
from hypothesis import given, settings
from hypothesis import strategies as st

from bench.drift import SHIFTS, alarms, power
from bench.drift_live import judged_in_sequence, thinned_reference, unsteady_in_sequence
from bench.drift_streams import Stream, make_sketcher, rare_and_tied
from lamppost.core.drift.baseline import DriftBaseline, FieldSketch, ReferenceField, WindowSketch
from lamppost.core.drift.bins import bin_choices, bin_numbers, bin_scores
from lamppost.core.drift.field_tests import find_differences
from lamppost.core.drift.live_history import LiveHistory
from lamppost.core.drift.sketches import Sketcher
from lamppost.core.drift.verdict_text import describe_field
from lamppost.core.drift.verdicts import LADDER, DriftVerdict, judge_fields, judge_windows

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
        rng = np.random.default_rng(15)
        known = numbers(rng.normal(size=20_000))
        sketcher = Sketcher(DriftBaseline((known,), 20_000))
        windows = [sketcher.sketch_window({"x": (rng.normal(size=400) + 0.1).tolist()}, 400) for _ in range(LADDER[-1])]
        self.assertEqual(judge_windows(sketcher.against, windows[:1]).state, "steady")
        said = judge_windows(sketcher.against, windows)
        self.assertEqual((said.state, said.rows), ("shifting", 400 * said.windows))
        self.assertGreater(said.windows, 1)

    @settings(max_examples=30, deadline=None)
    @given(st.lists(st.floats(-5, 5), min_size=2, max_size=60), st.integers(1, 59))
    def test_counts_of_two_parts_are_the_counts_of_the_whole(self, values: list[float], cut: int) -> None:
        sketcher = Sketcher(DriftBaseline((numbers(RNG.normal(size=500)),), 500, ("x",)))
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
        states = [one.state for one in judge_fields(sketcher.against, sketcher.sketch_window(columns, 500).fields, 0.01)]
        self.assertLessEqual(len(states) - states.count("steady"), 1)
        self.assertEqual(find_differences(known[0], FieldSketch(np.zeros(len(known[0].bins.counts), dtype=np.int64))), [])


class RealTraffic(unittest.TestCase):
    """Streams that move by themselves, or whose values are rare."""

    def test_pairs_of_rare_values_are_no_alarm_and_a_changed_correlation_is_found(self) -> None:
        odd, _, of = alarms(rare_and_tied, 10_000, 1_000, 20, seed=41)
        self.assertLessEqual(odd, 1, f"{odd} of {of}")
        rng = np.random.default_rng(3)
        common = rng.normal(size=10_000)
        columns = {"a": common + 0.8 * rng.normal(size=10_000), "b": common + 0.8 * rng.normal(size=10_000)}
        sketcher = make_sketcher(columns, 10_000)
        window = {"a": rng.normal(size=1_000) * 1.28, "b": rng.normal(size=1_000) * 1.28}
        verdict = judge_windows(sketcher.against, [sketcher.sketch_window(window, 1_000)])
        self.assertEqual([(pair.first, pair.second, pair.state) for pair in verdict.pairs], [("a", "b", "drifted")])

    def test_a_few_values_far_outside_are_found_and_called_so(self) -> None:
        known = numbers(RNG.normal(size=20_000))
        window = RNG.normal(size=1_000)
        window[:12] *= 1_000
        verdict = looked(known, window.tolist())
        self.assertEqual(verdict.state, "shifting")
        self.assertRegex(describe_field(verdict.fields[0]), r"^far outside training's range in 1\.\d %, 0 % in training")

    def test_a_value_never_seen_is_found_among_many(self) -> None:
        values = [f"v{int(value)}" for value in RNG.integers(0, 200, 20_000)]
        known = ReferenceField("c", False, bin_choices(values), 20_000, 0)
        window = [f"v{int(value)}" for value in RNG.integers(0, 200, 1_000)]
        self.assertEqual(looked(known, window).state, "steady")
        verdict = looked(known, [*window[:980], *["new"] * 20])
        self.assertEqual(describe_field(verdict.fields[0]), "a value never seen before in 2 %, 0 % in training")

    def test_bursts_are_known_after_a_while(self) -> None:
        odd, of = unsteady_in_sequence(Stream(burst=20), True, 5_000, 200, 12, 30, seed=44)
        self.assertLessEqual(odd, 1, f"{odd} of {of}")

    def test_the_hours_of_a_day_are_known_after_four_days_and_a_change_among_them_is_found(self) -> None:
        def hotter(columns: dict[str, Any], _: np.random.Generator) -> None:
            columns["n8"] = columns["n8"] + 1.0

        rng, stream = np.random.default_rng(45), Stream(daily=0.8)
        reference = thinned_reference(stream, 5_000, rng, shuffled=True)
        states = [verdict.state for verdict in judged_in_sequence(stream, reference, 200, 116, rng, hotter, 108)]
        self.assertLessEqual(len(states[96:108]) - states[96:108].count("steady"), 1)
        self.assertGreater(len(states[:12]) - states[:12].count("steady"), 3, "a shuffled frame does not know of days")
        self.assertIn("drifted", states[108:])

    def test_what_came_later_does_not_change_what_is_said_of_a_window(self) -> None:
        rng = np.random.default_rng(47)
        sketcher = make_sketcher({"x": rng.normal(size=5_000)}, 5_000)
        history, windows = LiveHistory(sketcher.against, 24), []
        for number in range(12):
            drawn = rng.normal(size=300) + (2.0 if number in (8, 9) else 0.0)
            windows.append(sketcher.sketch_window({"x": drawn}, 300))
            history.add(number, windows[-1])
        for number, state in ((7, "steady"), (8, "drifted"), (9, "drifted"), (11, "steady")):
            verdict = judge_windows(sketcher.against, windows[: number + 1], history.baseline(number))
            self.assertEqual(verdict.state, state, f"window {number}")

    def test_drift_that_was_there_from_the_first_window_does_not_become_usual(self) -> None:
        rng = np.random.default_rng(46)

        def other(columns: dict[str, Any], _: np.random.Generator) -> None:
            columns["n4"] = columns["n4"] * 1_000

        verdicts = list(judged_in_sequence(Stream(), Stream().rows(5_000, rng), 100, 80, rng, other))
        self.assertEqual({verdict.state for verdict in verdicts[-6:]}, {"drifted"})


class Goals(unittest.TestCase):
    """The benchmark has the figures with their confidence; this keeps them from being lost."""

    def test_unchanged_streams_are_steady(self) -> None:
        for reference, rows in ((20_000, 200), (2_000, 5_000)):
            odd, worst, of = alarms(Stream().rows, reference, rows, 40, seed=31)
            self.assertLessEqual((odd, worst), (2, 0), f"{odd} of {of} windows of {rows} rows")
        odd, _, of = alarms(Stream(season=0.5).rows, 20_000, 1_000, 20, seed=32, drawn=0.05)
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
