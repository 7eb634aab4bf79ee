"""Rollouts whose callers a key keeps with one version: what is counted, what the guards make of it, what is said of it."""

import math
import unittest

import numpy as np

from bench.rollouts import simulate_sticky
from lamppost.core.endpoint.caller_counts import MOST_CALLERS, StickyCallers
from lamppost.core.endpoint.rollout import Rollout, RolloutPlan, RolloutStep, decide_rollout
from lamppost.core.endpoint.rollout_counts import RolloutTally, counted_rollout
from lamppost.core.endpoint.rollout_guards import StepCounts, read_counts, read_guards, write_counts
from lamppost.core.endpoint.sequential_tests import caller_evidence
from lamppost.core.endpoint.shares import Shares, StickyKey
from lamppost.core.schema.fields import Field, Schema

ANSWERS = Schema((Field("label", "choice", choices=("holds", "fails")),))
PLAN = RolloutPlan((RolloutStep(1, calls=10), RolloutStep(50, calls=100)))


def sticky_rollout() -> Rollout:
    return Rollout("lamps@1", "lamps@2", PLAN, StickyKey("header", "x-caller"))


class Counts(unittest.TestCase):
    def test_each_caller_weighs_one_however_often_it_calls(self) -> None:
        callers = StickyCallers()
        for _ in range(900):
            callers.note("busy", 1, "fails", lambda _: 50.0)
        for key in ("a", "b"):
            callers.note(key, 1, "holds", lambda _: 50.0)
        callers.note("a", 1, "fails", lambda _: 50.0)
        shares = callers.shares_of_labels(1)
        self.assertEqual(shares, {"fails": 1.5, "holds": 1.5})
        self.assertEqual(callers.shares_of_labels(0), {})
        self.assertNotIn("busy", repr(callers), "of a key nothing is kept that it could be found by")

    def test_two_nodes_count_the_same_callers_and_as_many_as_are_allowed(self) -> None:
        nodes = [StickyCallers(), StickyCallers()]
        for at in range(3 * MOST_CALLERS):
            for node in nodes:
                node.note(f"caller {at}", at % 2, "holds", lambda key: 100 - int(key.split()[1]) / 100)
        nodes[0].add(nodes[1])
        self.assertEqual(len(nodes[0].seen), MOST_CALLERS)
        self.assertEqual({sum(counts.answers.values()) for counts in nodes[0].seen.values()}, {2})
        self.assertAlmostEqual(nodes[0].reaching, 100 - (3 * MOST_CALLERS - 1) / 100)

    def test_counts_are_stored_and_read(self) -> None:
        tally = RolloutTally(counted_rollout(sticky_rollout(), 7, ANSWERS, None), ANSWERS)
        tally.answered("lamps@1", 2.0, [{"label": "holds"}], "one")
        tally.answered("lamps@1", 2.0, [{"label": "holds"}])
        counts = tally.take_counts()
        assert counts is not None
        assert counts.callers is not None
        self.assertEqual((len(counts.callers.seen), counts.answers[0]), (2, {"holds": 2}), "a call without a key is a caller of its own")
        self.assertEqual(read_counts(write_counts(counts)), counts)


class Evidence(unittest.TestCase):
    def test_it_says_nothing_of_a_share_that_keys_did_not_deliver(self) -> None:
        self.assertLess(caller_evidence({"holds": 8.0}, {"holds": 2.0}, 0.01), 0.0, "eight of ten callers at one percent")
        self.assertGreater(caller_evidence({"holds": 50.0}, {"fails": 50.0}, 0.5), math.log(400))
        self.assertEqual(caller_evidence({}, {}, 0.5), 0.0)

    def test_the_share_that_reaches_a_caller_is_exact(self) -> None:
        for key in ("old-town", "weir", "17"):
            share = Shares({"lamps@1": 99.0, "lamps@2": 1.0}).share_reaching(key, "lamps@2")
            for given, version in ((share * 0.999, "lamps@1"), (min(100.0, share * 1.001), "lamps@2")):
                self.assertEqual(Shares({"lamps@1": 100.0 - given, "lamps@2": given}).version_of_key(key), version)


class Decisions(unittest.TestCase):
    def test_a_step_that_reaches_nobody_says_so_and_what_would(self) -> None:
        rollout = sticky_rollout()
        tally = RolloutTally(counted_rollout(rollout, 1, ANSWERS, None), ANSWERS)
        keys = [key for key in map(str, range(60)) if rollout.shares.version_of_key(key) == "lamps@1"][:20]
        for turn in range(2_400):
            tally.answered("lamps@1", 2.0, [{"label": "holds"}], keys[turn % 20])
        counts = tally.take_counts()
        assert counts is not None
        decision = decide_rollout(rollout, read_guards(PLAN.guards, [counts], 10.0), counts, minutes=5)
        self.assertEqual(decision.do, "hold")
        self.assertRegex(decision.reason, r"^lamps@2 has 1 % and reaches none of 20 callers; from [\d.]+ % on it reaches one \(")
        self.assertIn("the step of 50 % would", decision.reason)

    def test_an_identical_version_is_not_taken_back_and_a_failing_one_is(self) -> None:
        for callers in (20, 100):
            ended = [simulate_sticky(callers, np.random.default_rng([callers, at]), most=30_000).state for at in range(2)]
            self.assertNotIn("back", ended, f"{callers} callers")
        self.assertEqual(simulate_sticky(20, np.random.default_rng(3), fails=0.3, most=30_000).state, "back")

    def test_without_a_key_nothing_of_callers_is_counted(self) -> None:
        counts = StepCounts(5.0)
        self.assertIsNone(counts.callers)
        self.assertEqual(counts.share_of_new(), 0.05)


if __name__ == "__main__":
    unittest.main()
