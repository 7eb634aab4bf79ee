"""Sweeps: what is measured next, what can be told apart, and what is picked."""

import math
import random
import unittest
from collections.abc import Callable
from dataclasses import replace

from hypothesis import given
from hypothesis import strategies as st

from lamppost.core.endpoint.setup import LaneRules
from lamppost.core.errors import BadRequest
from lamppost.core.sweep.measurement import (
    Measurement,
    compare_settings,
    frontier,
    median_rank,
    read_measurement,
    summarize,
    write_measurement,
)
from lamppost.core.sweep.sweep_pick import pick_sentences, pick_setting
from lamppost.core.sweep.sweep_plan import SweepGrid, SweepPlan, SweepSetting, limit_text, parse_limit, read_plan, sweep_grid, write_plan
from lamppost.core.sweep.sweep_search import MOST_REPEATS, next_settings

VERSION = "outage-risk@5"
PLAN = SweepPlan((VERSION,), limits=(parse_limit("p99=20ms"),))


def make_grid(plan: SweepPlan = PLAN) -> SweepGrid:
    return sweep_grid(plan, dict.fromkeys(plan.versions, ("compiled", "original")), plan.versions, 2)


def rate(setting: SweepSetting) -> float:
    """A made-up machine: requests a second. More rows than clients change nothing, a second thread and a linger cost."""
    rows = min(setting.max_rows, 64)
    cost = 0.05 * (10 if setting.form == "original" else 1)
    return setting.copies**0.7 * rows / (1 + rows * cost) * 1_000 / (1 + 0.3 * (setting.threads - 1)) / (1 + 0.2 * setting.linger_ms)


def run_sweep(plan: SweepPlan, grid: SweepGrid, machine: Callable[[SweepSetting], float], seed: int) -> list[Measurement]:
    """Measure all that the search asks for, with 4 % of noise, and rounds in which the machine is slow."""
    chance = random.Random(seed)
    measured: list[Measurement] = []
    while True:
        number, settings = next_settings(plan, grid, measured)
        if not settings:
            return measured
        slow = chance.choice((1.0, 1.0, 1.0, 0.6))
        for setting in settings:
            throughput = machine(setting) * slow * math.exp(chance.gauss(0, 0.04))
            measured.append(
                Measurement(
                    setting,
                    number,
                    throughput=throughput,
                    p50=64e3 / throughput,
                    p99=96e3 / throughput * math.exp(chance.gauss(0, 0.08)),
                    memory=1e8 * setting.copies * (4 if setting.form == "original" else 1),
                )
            )


def one(setting: SweepSetting, *throughputs: float, p99: float = 5.0, memory: float = 1e8) -> list[Measurement]:
    return [Measurement(setting, at + 1, throughput=value, p99=p99, memory=memory) for at, value in enumerate(throughputs)]


class Plans(unittest.TestCase):
    def test_a_plan_survives_being_written(self) -> None:
        plan = replace(PLAN, max_rows=(16, 64), linger_ms=(0.0, 0.5), forms=("original",), goal="p99")
        self.assertEqual(read_plan(write_plan(plan)), plan)

    def test_limits_are_read_with_their_units(self) -> None:
        for text, value in {"p99=50ms": 50.0, "p50=0.2s": 200.0, "memory=300MB": 3e8, "throughput=1000": 1_000.0, "cpu=40us": 40.0}.items():
            with self.subTest(text):
                self.assertEqual(parse_limit(text).value, value)
                self.assertEqual(parse_limit(limit_text(parse_limit(text))), parse_limit(text))

    def test_what_is_no_limit_is_refused_with_one_that_is(self) -> None:
        for text, example in {"p98=50ms": "p99=50ms", "p99=50": "p99=50ms", "memory=3 cats": "memory=300MB", "p99": "p99=50ms"}.items():
            with self.subTest(text), self.assertRaisesRegex(BadRequest, example):
                parse_limit(text)
        with self.assertRaisesRegex(BadRequest, "no amount above 0"):
            parse_limit("p99=0ms")

    def test_too_many_combinations_are_refused(self) -> None:
        many = tuple(range(1, 17))
        with self.assertRaisesRegex(BadRequest, "combinations, and a sweep has 600 at most"):
            make_grid(replace(PLAN, max_rows=many, copies=many, threads=many))

    def test_a_form_that_a_version_does_not_have_is_refused(self) -> None:
        with self.assertRaisesRegex(BadRequest, f"{VERSION} has no compiled form; it has: original"):
            sweep_grid(replace(PLAN, forms=("compiled",)), {VERSION: ("original",)}, [], 2)

    def test_originals_compute_on_one_thread(self) -> None:
        threads = {(setting.form, setting.threads) for setting in make_grid().settings()}
        self.assertEqual(threads, {("compiled", 1), ("compiled", 2), ("original", 1)})

    def test_the_rules_of_a_setting_leave_others_as_they_are(self) -> None:
        rules = SweepSetting(VERSION, max_rows=64, copies=2).lane_rules(LaneRules(target_ms=20.0, keep_warm=True))
        self.assertEqual((rules.target_ms, rules.keep_warm, rules.max_rows, rules.copies_most), (20.0, True, 64, 2))


class Search(unittest.TestCase):
    def test_the_best_setting_is_found_without_measuring_all(self) -> None:
        for seed in range(8):
            with self.subTest(seed):
                grid = make_grid()
                measured = run_sweep(PLAN, grid, rate, seed)
                picked = pick_setting(list(summarize(measured).values()), PLAN.limits, "throughput")
                assert picked.pick is not None
                best = max(rate(setting) for setting in grid.settings())
                self.assertGreater(rate(picked.pick.setting), 0.97 * best)
                self.assertLess(len(summarize(measured)), 0.6 * len(grid.settings()))

    def test_equal_settings_are_said_to_be_equal_and_the_plainer_one_wins(self) -> None:
        found = [
            pick_setting(list(summarize(run_sweep(PLAN, make_grid(), rate, seed)).values()), PLAN.limits, "throughput") for seed in range(8)
        ]
        plainest = sum(picked.pick is not None and picked.pick.setting.max_rows == 1_024 for picked in found)
        self.assertGreaterEqual(plainest, 7)  # with 64 clients, 64, 256 and 1,024 rows of a batch are the same
        self.assertGreaterEqual(sum(any(other.setting.max_rows == 256 for other in picked.equals) for picked in found), 6)

    def test_dominated_settings_are_left_early_and_the_best_ones_are_repeated(self) -> None:
        measured = run_sweep(PLAN, make_grid(), rate, 1)
        repeats = {setting: len(found.rounds) for setting, found in summarize(measured).items()}
        self.assertLessEqual(max(many for setting, many in repeats.items() if setting.form == "original"), 2)
        best = max(repeats, key=rate)
        self.assertGreaterEqual(repeats[best], 3)
        self.assertLessEqual(max(repeats.values()), len({one.round for one in measured}))
        self.assertLessEqual(len(measured), MOST_REPEATS * 20)

    def test_a_sweep_that_was_stopped_goes_on_as_if_it_had_not_been(self) -> None:
        whole = run_sweep(PLAN, make_grid(), rate, 3)
        for stopped_at in (1, 7, len(whole) // 2, len(whole) - 1):
            with self.subTest(stopped_at):
                number, settings = next_settings(PLAN, make_grid(), whole[:stopped_at])
                self.assertEqual((number, settings[0]), (whole[stopped_at].round, whole[stopped_at].setting))

    def test_settings_that_fail_are_measured_once(self) -> None:
        grid = make_grid()
        measured: list[Measurement] = []
        while (asked := next_settings(PLAN, grid, measured))[1]:
            number, settings = asked
            for setting in settings:
                failed = "two copies do not fit into memory" if setting.copies > 1 else None
                measured.append(Measurement(setting, number, throughput=rate(setting), p99=5.0, memory=1e8, failed=failed))
        tries = [one.setting for one in measured if one.failed]
        self.assertEqual(len(tries), len(set(tries)))
        self.assertIn("two copies do not fit into memory", {found.failed for found in summarize(measured).values()})


class Comparing(unittest.TestCase):
    usual, small = SweepSetting(VERSION), SweepSetting(VERSION, max_rows=16)

    def test_a_slow_round_does_not_count_against_whoever_was_measured_in_it(self) -> None:
        found = summarize([*one(self.usual, 100, 61, 100, 99), *one(self.small, 91, 55, 90, 91)])
        ratio = compare_settings(found[self.usual], found[self.small], "throughput")
        self.assertTrue(ratio.differs)
        self.assertAlmostEqual(ratio.ratio, 1.10, places=2)

    def test_figures_are_those_of_a_round_of_usual_pace(self) -> None:
        third, other = SweepSetting(VERSION, copies=2), SweepSetting(VERSION, threads=2)
        everywhere = [*one(self.usual, 100, 50, 100, p99=10), *one(self.small, 80, 40, 80), *one(other, 90, 45, 90)]
        found = summarize([*everywhere, *one(third, 100, 50)[1:], Measurement(third, 4, 100.0)])  # in the slow second round, and alone
        self.assertAlmostEqual(found[third].paces[2], 0.5, places=6)
        self.assertEqual([round(value) for value in found[third].values("throughput")], [100, 100])
        self.assertEqual([round(value) for value in found[self.usual].values("p99")], [10, 5, 10])

    def test_with_fewer_than_three_rounds_nothing_is_told_apart(self) -> None:
        found = summarize([*one(self.usual, 100, 100), *one(self.small, 50, 50)])
        self.assertIsNone(compare_settings(found[self.usual], found[self.small], "throughput").low)

    @given(st.lists(st.floats(1.0, 1e6), min_size=1, max_size=12))
    def test_the_median_lies_in_its_interval(self, values: list[float]) -> None:
        found = summarize(one(self.usual, *values))[self.usual]
        low, high = found.interval("throughput")
        self.assertLessEqual(low, found.figure("throughput"))
        self.assertGreaterEqual(high, found.figure("throughput"))

    def test_the_interval_of_a_median_holds_it_as_often_as_it_says(self) -> None:
        chance = random.Random(4)
        for repeats in (6, 9, 12, 20):
            outside = median_rank(repeats)
            draws = [sorted(chance.random() for _ in range(repeats)) for _ in range(4_000)]
            held = sum(values[outside] <= 0.5 <= values[-1 - outside] for values in draws) / len(draws)
            self.assertGreater(held, 0.945, repeats)

    def test_a_measurement_survives_being_written(self) -> None:
        whole = Measurement(self.usual, 2, throughput=10.0, phases={"queue": (0.5, 2.0)}, failed=None)
        self.assertEqual(read_measurement(write_measurement(whole)), whole)

    def test_the_frontier_is_what_nothing_beats(self) -> None:
        third = SweepSetting(VERSION, copies=2)
        found = summarize([*one(self.usual, 100, p99=5), *one(self.small, 90, p99=6), *one(third, 50, p99=2)])
        self.assertEqual(frontier(list(found.values())), {self.usual, third})


class Picking(unittest.TestCase):
    fast, slow = SweepSetting(VERSION, max_rows=256), SweepSetting(VERSION, max_rows=16)

    def setUp(self) -> None:
        measured = [*one(self.fast, 200, 201, 199, p99=40, memory=4e8), *one(self.slow, 100, 101, 99, p99=8, memory=1e8)]
        self.found = list(summarize(measured).values())

    def test_any_limit_picks_from_what_was_measured(self) -> None:
        for texts, wanted in (([], self.fast), (["p99=20ms"], self.slow), (["memory=300MB"], self.slow), (["p99=50ms"], self.fast)):
            with self.subTest(texts):
                picked = pick_setting(self.found, [parse_limit(text) for text in texts], "throughput")
                assert picked.pick is not None
                self.assertEqual(picked.pick.setting, wanted)

    def test_what_would_be_best_without_limits_is_said(self) -> None:
        limits = [parse_limit("p99=20ms")]
        said = pick_sentences(pick_setting(self.found, limits, "throughput"), limits, "throughput")
        self.assertIn("compiled, 16 rows a batch, 1 copy: 100 requests/s, p99 8 ms, 100 MB", said[0])
        self.assertEqual(said[-1], "without limits: compiled, 256 rows a batch, 1 copy (throughput 200 requests/s, p99 40 ms)")

    def test_a_limit_that_nothing_meets_names_the_nearest(self) -> None:
        limits = [parse_limit("p99=5ms"), parse_limit("throughput=90")]
        picked = pick_setting(self.found, limits, "throughput")
        self.assertIsNone(picked.pick)
        self.assertEqual(
            pick_sentences(picked, limits, "throughput"),
            [
                "no setting has p99 at most 5 ms and throughput at least 90 requests/s; "
                "nearest is compiled, 16 rows a batch, 1 copy: its p99 is 8 ms"
            ],
        )

    def test_a_limit_that_some_repeats_miss_is_said(self) -> None:
        measured = [*one(self.slow, 100, 101, p99=8), Measurement(self.slow, 3, throughput=99, p99=30.0, memory=1e8)]
        limits = [parse_limit("p99=20ms")]
        picked = pick_setting(list(summarize(measured).values()), limits, "throughput")
        self.assertIn("not in each repeat: p99 went up to 30 ms", pick_sentences(picked, limits, "throughput"))

    def test_the_least_of_a_figure_is_picked_likewise(self) -> None:
        picked = pick_setting(self.found, [], "memory")
        assert picked.pick is not None
        self.assertEqual(picked.pick.setting, self.slow)

    def test_settings_that_are_far_apart_are_not_called_equal_however_noisy_they_are(self) -> None:
        usual = SweepSetting(VERSION)
        measured = [*one(self.fast, 300, 90, 310), *one(usual, 100, 120, 100)]
        picked = pick_setting(list(summarize(measured).values()), [], "throughput")
        assert picked.pick is not None
        self.assertEqual((picked.pick.setting, picked.equals), (self.fast, ()))

    def test_nothing_measured_is_said(self) -> None:
        failed = Measurement(self.fast, 1, failed="it does not open")
        picked = pick_setting(list(summarize([failed]).values()), [], "throughput")
        self.assertEqual(pick_sentences(picked, [], "throughput"), ["nothing was measured that could be picked from"])
