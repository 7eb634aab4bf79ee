"""Rules of a rollout over outposts: whose turn it is, what holds it, and what takes it back."""

import unittest
from dataclasses import replace

from lamppost.core.endpoint.outpost_rollout import (
    OutpostRollout,
    OutpostRolloutPlan,
    OutpostStanding,
    advance_outpost_rollout,
    read_outpost_rollout,
    write_outpost_rollout,
)
from lamppost.core.endpoint.outposts import OutpostVersion, WantedVersions
from lamppost.core.endpoint.rollout import RolloutStep
from lamppost.core.endpoint.rollout_guards import GuardReading, RolloutGuards
from lamppost.core.endpoint.shares import Shares
from lamppost.core.errors import BadRequest, Conflict

PLAN = OutpostRolloutPlan(RolloutStep(20, calls=50))
BEGUN = OutpostRollout("region=coast", "risk@1", "risk@2", ("harbour", "mill", "pier"), PLAN)
OLD = OutpostStanding("there", frozenset({"risk@1"}))
BOTH = OutpostStanding("there", frozenset({"risk@1", "risk@2"}))
AWAY = OutpostStanding("away", frozenset({"risk@1"}))
CALM = [GuardReading("errors", 1.0, 1.5, 0.0, "failed in 0 of 50 calls")]


def advance(rollout: OutpostRollout, calls: int = 0, read: list[GuardReading] = CALM, **standings: OutpostStanding) -> OutpostRollout:
    return advance_outpost_rollout(rollout, read, calls, 0.0, dict.fromkeys(rollout.outposts, OLD) | standings)


class OutpostRollouts(unittest.TestCase):
    def test_the_first_that_is_there_has_the_first_turn(self) -> None:
        self.assertEqual((advance(BEGUN).at, advance(BEGUN).reason), ("harbour", "risk@2 goes to harbour"))
        self.assertEqual(advance(BEGUN, harbour=AWAY).at, "mill")
        none = advance(BEGUN, harbour=AWAY, mill=AWAY, pier=AWAY)
        self.assertEqual((none.at, none.reason), (None, "waits for harbour, mill, pier, not heard of for a minute"))

    def test_a_turn_lasts_from_both_versions_serving_to_its_calls(self) -> None:
        at = replace(BEGUN, at="harbour")
        self.assertEqual(advance(at).reason, "harbour fetches and proves risk@2")
        self.assertFalse(advance(at).under_way)
        under_way = advance(at, harbour=BOTH)
        self.assertEqual((under_way.under_way, under_way.reason), (True, "risk@2 has 20 % at harbour; 50 calls to go"))
        self.assertEqual(advance(under_way, 49, harbour=BOTH).reason, "risk@2 has 20 % at harbour and 1 call to go")
        away = advance(under_way, 49, harbour=AWAY)
        self.assertEqual(away.at, "harbour")
        self.assertTrue(away.reason.endswith("1 call to go; harbour is away, and its records come when it is there"))
        after = advance(under_way, 50, harbour=BOTH)
        self.assertEqual((after.done, after.at, after.under_way), (("harbour",), "mill", False))
        self.assertEqual(after.reason, "risk@2 goes to mill after harbour, all guards calm")

    def test_one_that_goes_away_before_its_turn_began_is_passed_over(self) -> None:
        at = replace(BEGUN, at="harbour")
        self.assertEqual(advance(at, harbour=AWAY).at, "mill")

    def test_one_that_is_no_longer_concerned_is_left_out(self) -> None:
        last = replace(BEGUN, done=("harbour",), at="mill", under_way=True)
        after = advance_outpost_rollout(last, CALM, 0, 0.0, {"harbour": OLD, "pier": OutpostStanding("barred")})
        self.assertEqual((after.state, after.reason), ("done", "risk@2 serves alone at harbour, all guards calm"))
        nobody = advance_outpost_rollout(BEGUN, CALM, 0, 0.0, {})
        self.assertEqual((nobody.state, nobody.reason), ("ended", "no outpost is left at region=coast"))

    def test_the_last_turn_ends_it(self) -> None:
        last = replace(BEGUN, done=("harbour", "mill"), at="pier", under_way=True)
        after = advance(last, 50, pier=BOTH)
        self.assertEqual((after.state, after.reason), ("done", "risk@2 serves alone at the 3 outposts, all guards calm"))

    def test_a_crossed_guard_takes_it_back_even_while_it_is_paused(self) -> None:
        at = replace(BEGUN, at="harbour", under_way=True).pause("ida")
        crossed = [GuardReading("errors", 9.0, 1.5, 1.2, "failed in 9 of 50 calls")]
        after = advance(at, read=crossed, harbour=BOTH)
        self.assertEqual(after.state, "back")
        self.assertIn("went back to risk@1 at harbour: risk@2 failed in 9 of 50 calls (the chance of this", after.reason)
        self.assertEqual(advance(at, 50, harbour=BOTH), at)

    def test_a_refusal_where_it_is_or_was_takes_it_back(self) -> None:
        refused = OutpostStanding("there", frozenset({"risk@1"}), "its proof fails")
        for rollout in (replace(BEGUN, at="harbour"), replace(BEGUN, done=("harbour",), at="mill")):
            after = advance(rollout, harbour=refused)
            self.assertEqual((after.state, after.reason), ("back", "went back to risk@1: harbour cannot serve risk@2: its proof fails"))
        self.assertEqual(advance(replace(BEGUN, at="mill"), harbour=refused).state, "running", "of another time")

    def test_a_guard_in_doubt_holds_it(self) -> None:
        doubtful = [GuardReading("errors", 3.0, 1.5, 0.9, "failed in 4 of 50 calls")]
        held = advance(replace(BEGUN, at="harbour", under_way=True), 50, doubtful, harbour=BOTH)
        self.assertEqual((held.at, held.reason), ("harbour", "holds at harbour: risk@2 failed in 4 of 50 calls; this is not sure yet"))

    def test_what_outposts_are_to_serve_meanwhile(self) -> None:
        at = replace(BEGUN, done=("harbour",), at="mill")
        versions = [OutpostVersion("outage", "region=coast", "risk@1", 1), OutpostVersion("outage", "pier", "risk@7", 2)]
        wanted = WantedVersions(versions, {"outage": at})

        def shares(name: str, label: str = "region=coast") -> Shares:
            return wanted.at_outpost(name, [label])["outage"].shares

        self.assertEqual(shares("harbour"), Shares({"risk@2": 100}))
        self.assertEqual(shares("mill"), Shares({"risk@1": 80, "risk@2": 20}))
        self.assertEqual(wanted.at_outpost("mill", ["region=coast"])["outage"].newest, "risk@2")
        self.assertEqual(shares("pier"), Shares({"risk@7": 100}), "what was set for its own name goes first")
        self.assertEqual(shares("late"), Shares({"risk@1": 100}), "it joined later, and gets what the rollout ends with")
        other = WantedVersions([OutpostVersion("outage", "region=coast", "risk@9", 3)], {"outage": at})
        self.assertEqual(other.at_outpost("mill", ["region=coast"])["outage"].version, "risk@9", "what was set meanwhile goes first")

    def test_it_reads_what_it_wrote(self) -> None:
        for rollout in (BEGUN, replace(BEGUN, done=("harbour",), at="mill", under_way=True), BEGUN.back("ida")):
            self.assertEqual(read_outpost_rollout(write_outpost_rollout(rollout)), rollout)

    def test_what_is_no_rollout(self) -> None:
        with self.assertRaisesRegex(Conflict, "is set for region=coast already"):
            replace(BEGUN, new="risk@1")
        with self.assertRaisesRegex(Conflict, "no outpost serves what is set for region=coast"):
            replace(BEGUN, outposts=())
        with self.assertRaisesRegex(BadRequest, "the guard disagreement needs"):
            OutpostRolloutPlan(guards=RolloutGuards(disagreement=0.1))
        for act in ("pause", "finish", "back"):
            with self.assertRaisesRegex(Conflict, "is over"):
                getattr(BEGUN.back("ida"), act)("ida")
        with self.assertRaisesRegex(Conflict, "is running, not paused"):
            BEGUN.resume("ida")
