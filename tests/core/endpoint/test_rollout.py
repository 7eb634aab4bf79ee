"""Rollouts: the states, the decisions, and whether the stated risks are kept."""

import math
import unittest

import numpy as np
from hypothesis import given, settings
from hypothesis import strategies as st

from bench.rollouts import SAME, WORSE, many
from lamppost.core.endpoint import sequential_tests
from lamppost.core.endpoint.rollout import (
    Rollout,
    RolloutDecision,
    RolloutPlan,
    RolloutStep,
    apply_decision,
    decide_rollout,
    read_rollout,
    write_rollout,
)
from lamppost.core.endpoint.rollout_guards import RolloutGuards, StepCounts, read_counts, read_guards, write_counts
from lamppost.core.endpoint.rollout_steering import OVER
from lamppost.core.errors import BadRequest, Conflict, LampPostError
from lamppost.core.monitoring.latency_histogram import bucket_of

PLAN = RolloutPlan((RolloutStep(5, calls=100), RolloutStep(25, calls=100, minutes=2)), RolloutGuards())


def seen(share: float, calls: tuple[int, int], failed: tuple[int, int] = (0, 0), **more: object) -> StepCounts:
    return StepCounts(share, list(calls), list(failed), **more)  # type: ignore[arg-type]


def took(old: tuple[int, int], new: tuple[int, int]) -> list[dict[str, int]]:
    """Calls of 4 ms and of 60 ms, by version."""
    return [{str(bucket_of(4e3)): quick, str(bucket_of(60e3)): slow} for quick, slow in (old, new)]


class Evidence(unittest.TestCase):
    def test_literal_values(self) -> None:
        self.assertEqual(sequential_tests.events_evidence(0, 0, 0.05), 0.0)
        one = [math.log(r * 0.05 / (r * 0.05 + 0.95) / 0.05) for r in sequential_tests.RATIOS]
        self.assertAlmostEqual(sequential_tests.events_evidence(1, 0, 0.05), sequential_tests.mean_evidence(one))
        self.assertAlmostEqual(
            sequential_tests.rate_evidence(1, 1, 0.01),
            sequential_tests.mean_evidence([math.log(min(r, 50.5)) for r in sequential_tests.RATIOS]),
        )
        a, b = sequential_tests.PRIOR * 0.5, sequential_tests.PRIOR * 0.5
        self.assertAlmostEqual(
            sequential_tests.distribution_evidence({"x": 2}, {}, 0.5), math.log(a / (a + b) * (a + 1) / (a + b + 1) / 0.25)
        )
        self.assertAlmostEqual(sequential_tests.distribution_distance({"a": 1, "b": 1}, {"a": 1, "c": 1}), 0.5)

    def test_while_nothing_is_wrong_e_values_are_one_on_average_and_seldom_reach_a_hundred(self) -> None:
        rng, share, reached = np.random.default_rng(5), 0.2, np.zeros(3)
        last: list[list[float]] = [[], [], []]
        for _ in range(1_500):
            new = rng.random(300) < share
            fails = rng.random(300) < 0.05
            labels = rng.integers(0, 3, 300)
            best = [0.0, 0.0, 0.0]
            for until in (50, 100, 200, 300):
                n, f = new[:until], fails[:until]
                counts = [{str(k): int(((labels[:until] == k) & (n == arm)).sum()) for k in range(3)} for arm in (True, False)]
                logs = (
                    sequential_tests.events_evidence(int((f & n).sum()), int((f & ~n).sum()), share),
                    sequential_tests.rate_evidence(int(f.sum()), until, 0.05),
                    sequential_tests.distribution_evidence(counts[0], counts[1], share),
                )
                best = [max(pair) for pair in zip(best, logs, strict=True)]
            reached += [log >= math.log(100) for log in best]
            for kept, log in zip(last, logs, strict=True):
                kept.append(math.exp(log))
        self.assertTrue((reached <= 1_500 * 0.01 + 8).all(), reached)
        self.assertTrue(all(0.02 < float(np.mean(kept)) < 2.0 for kept in last), [float(np.mean(kept)) for kept in last])


class Risks(unittest.TestCase):
    def test_an_identical_version_is_seldom_taken_back_and_bad_ones_are_in_the_first_step(self) -> None:
        same = list(many(SAME, SAME, 60, seed=3))
        self.assertLessEqual(sum(one.state == "back" for one in same), 3)
        self.assertGreater(sum(one.state == "done" for one in same), 55)
        for name in ("fails in 20 %", "all slow", "two labels swapped"):
            ended = list(many(SAME, WORSE[name], 12, seed=4))
            self.assertEqual({(one.state, one.step) for one in ended}, {("back", 0)}, name)


class Decisions(unittest.TestCase):
    def setUp(self) -> None:
        self.rollout = Rollout("lamp@1", "lamp@2", PLAN)

    def decide(self, *steps: StepCounts, minutes: float = 0.0, p99_ms: float | None = 10.0) -> RolloutDecision:
        return decide_rollout(self.rollout, read_guards(PLAN.guards, steps, p99_ms), steps[-1], minutes)

    def test_it_waits_goes_on_and_finishes_and_says_why(self) -> None:
        self.assertEqual(self.decide(seen(5, (800, 40))), RolloutDecision("hold", "lamp@2 has 5 % and 60 calls to go"))
        self.assertEqual(
            self.decide(seen(5, (1900, 100))), RolloutDecision("go on", "lamp@2 goes on to 25 % after 100 calls at 5 %, all guards calm")
        )
        self.rollout = apply_decision(self.rollout, self.decide(seen(5, (1900, 100))))
        calm = (seen(5, (1900, 100)), seen(25, (300, 100)))
        self.assertEqual(self.decide(*calm, minutes=0.5), RolloutDecision("hold", "lamp@2 has 25 % and 1.5 minutes to go"))
        last = self.decide(*calm, minutes=2)
        self.assertEqual(last, RolloutDecision("finish", "lamp@2 serves alone after 100 calls in 2 minutes at 25 %, all guards calm"))
        self.assertEqual(apply_decision(self.rollout, last).shares.of, {"lamp@2": 100.0})

    def test_it_goes_back_with_the_figures_and_the_risk(self) -> None:
        back = self.decide(seen(5, (760, 40), (1, 6)))
        self.assertEqual(
            back.reason,
            "went back to lamp@1 at 5 %: lamp@2 failed in 6 of 40 calls, and the version before it 1 of 760 "
            "(the chance of this, were it no worse, is at most 0.01)",
        )
        self.assertEqual(apply_decision(self.rollout, back).shares.of, {"lamp@1": 100.0})
        slow = self.decide(seen(5, (760, 40), latency=took((759, 1), (1, 39))))
        self.assertIn("was slower than 20 ms in 39 of 40 calls", slow.reason)
        answers: list[dict[str, int]] = [{"holds": 700, "fails": 60}, {"holds": 4, "fails": 36}]
        other = self.decide(seen(5, (760, 40), answers=answers))
        self.assertIn("lamp@2 answers otherwise: fails in 90% of 40 answers, and the version before it in 8% of 760", other.reason)

    def test_what_is_not_sure_is_held_and_what_is_small_is_let_through(self) -> None:
        doubtful = self.decide(seen(5, (1900, 100), (2, 2)))
        self.assertEqual(doubtful.do, "hold")
        self.assertIn("not sure yet", doubtful.reason)
        many_answers: list[dict[str, int]] = [{"a": 95_000, "b": 95_000}, {"a": 5_300, "b": 4_700}]
        small = self.decide(seen(5, (190_000, 10_000), answers=many_answers))
        self.assertEqual(small.do, "hold", "certain, and smaller than the guard: neither back nor on")
        unknown = self.decide(seen(5, (1900, 100)), p99_ms=None)
        self.assertEqual(
            (unknown.do, "which has no p99 yet" in unknown.reason), ("hold", True), "a guard that sees nothing lets nothing by"
        )

    def test_without_a_p99_from_before_the_old_version_is_measured_meanwhile(self) -> None:
        few = self.decide(seen(5, (90, 10), latency=took((90, 0), (0, 10))), p99_ms=None)
        self.assertEqual(few.do, "hold", "of 90 calls there is no p99 yet")
        slow = self.decide(seen(5, (760, 40), latency=took((760, 0), (0, 40))), p99_ms=None)
        self.assertIn("lamp@2 was slower than 8.06 ms in 40 of 40 calls, and the version before it in 0 of 760", slow.reason)

    def test_disagreement_and_outcomes(self) -> None:
        guards = RolloutGuards(None, None, None, None, disagreement=0.05)
        wrong = seen(5, (100, 10), compared=60, apart=30, judged=[500, 60], wrong=[10, 30])
        read = {one.guard: one for one in read_guards(guards, [wrong])}
        self.assertEqual([read[name].crossed for name in ("disagreement", "wrong")], [True, True])
        self.assertIn("30 of 60 calls that both answered", read["disagreement"].summary)

    def test_while_paused_the_guards_still_watch(self) -> None:
        self.rollout = self.rollout.pause("ops")
        self.assertEqual(self.decide(seen(5, (1900, 200))).do, "hold")
        self.assertEqual(self.decide(seen(5, (760, 40), (1, 9))).do, "back")
        self.assertEqual(self.rollout.resume("ops").state, "running")
        self.assertRaises(Conflict, self.rollout.resume("ops").resume, "ops")

    @settings(max_examples=200, deadline=None)
    @given(st.lists(st.sampled_from(["pause", "resume", "finish", "back", "end", "calm", "bad", "few"]), max_size=12))
    def test_no_sequence_of_events_reaches_a_state_in_which_nothing_serves(self, events: list[str]) -> None:
        rollout = Rollout("lamp@1", "lamp@2", PLAN)
        for event in events:
            was = rollout
            try:
                if event in ("calm", "bad", "few"):
                    counts = seen(5, (1900, 1 if event == "few" else 100), (0, 90 if event == "bad" else 0))
                    if rollout.state not in OVER:
                        rollout = apply_decision(rollout, decide_rollout(rollout, read_guards(PLAN.guards, [counts], 10.0), counts, 3.0))
                else:
                    rollout = getattr(rollout, event)("somebody")
            except LampPostError:
                self.assertIs(rollout, was)
            self.assertAlmostEqual(sum(rollout.shares.of.values()), 100.0)
            self.assertLessEqual(set(rollout.shares.of), {"lamp@1", "lamp@2"})
            if was.state in OVER:
                self.assertEqual(rollout, was, "what is over stays over")
            self.assertEqual(read_rollout(write_rollout(rollout)), rollout)


class Plans(unittest.TestCase):
    def test_plans_that_make_no_sense_are_refused(self) -> None:
        for make, message in (
            (lambda: RolloutPlan(()), "growing shares"),
            (lambda: RolloutPlan((RolloutStep(5, calls=1), RolloutStep(5, calls=1))), "growing shares"),
            (lambda: RolloutStep(100, calls=1), "between 0 and 100"),
            (lambda: RolloutStep(5), "calls, minutes or both"),
            (lambda: RolloutGuards(answers=2), "guard answers is 2"),
        ):
            with self.subTest(message):
                self.assertRaisesRegex(BadRequest, message, make)
        with self.assertRaisesRegex(Conflict, "lamp@1 is served already"):
            Rollout("lamp@1", "lamp@1", PLAN)

    def test_counts_of_two_nodes_add_up_and_come_back_as_they_went(self) -> None:
        one = seen(5, (10, 1), (1, 0), answers=[{"a": 10}, {"a": 1}], compared=1)
        one.add(seen(5, (5, 2), (0, 1), answers=[{"b": 5}, {"a": 2}], apart=1))
        self.assertEqual(
            (one.calls, one.failed, one.answers, one.compared, one.apart), ([15, 3], [1, 1], [{"a": 10, "b": 5}, {"a": 3}], 1, 1)
        )
        self.assertEqual(read_counts(write_counts(one)), one)
