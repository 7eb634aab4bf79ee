"""The declared state: documents, differences, fingerprints."""

import unittest
from typing import Any

from hypothesis import given
from hypothesis import strategies as st

from lamppost.core.endpoint.declared import (
    DeclaredDifference,
    DeclaredEndpoint,
    declared_differences,
    read_declared,
    revisions_fingerprint,
    write_declared,
)
from lamppost.core.endpoint.rollout import RolloutPlan, RolloutStep
from lamppost.core.endpoint.rollout_guards import RolloutGuards
from lamppost.core.endpoint.setup import EndpointSetup, LaneRules, LookupSetup, ShadowSetup
from lamppost.core.endpoint.shares import Shares, StickyKey
from lamppost.core.errors import BadRequest

LOOKUP = LookupSetup("town", "lamps", "lamp", "number", {"age_years": "age"})
RICH = EndpointSetup(
    shares=Shares({"lamp@1": 60, "lamp@2": 40}, StickyKey("header", "customer")),
    shadows=(ShadowSetup("lamp@3", 5),),
    lookups=(LOOKUP,),
    lane=LaneRules(max_rows=64, keep_warm=True),
    rollout=RolloutPlan((RolloutStep(5, calls=10),), RolloutGuards(p99_ms=50, wrong=None)),
)


class Documents(unittest.TestCase):
    def test_what_is_written_is_read_and_defaults_are_left_out(self) -> None:
        state = {"plain": DeclaredEndpoint(EndpointSetup(version="lamp@1")), "rich": DeclaredEndpoint(RICH, 2)}
        document = write_declared(state)
        self.assertEqual(document["endpoints"]["plain"], {"version": "lamp@1"})
        self.assertEqual(document["endpoints"]["rich"]["approvals"], 2)
        self.assertEqual(read_declared(document), state)
        self.assertEqual(declared_differences(state, read_declared(document)), [])

    def test_a_document_that_contradicts_itself_names_the_place(self) -> None:
        cases: list[tuple[Any, str]] = [
            ([], r"\[endpoints.NAME\]"),
            ({}, r"\[endpoints.NAME\]"),
            ({"endpoints": {}, "models": {}}, "key 'models' at its top"),
            ({"endpoints": {"Not A Name": {}}}, "not-a-name"),
            ({"endpoints": {"x": 3}}, "endpoints.x is no table"),
            ({"endpoints": {"x": {"version": "lamp@1", "approvals": True}}}, "endpoints.x.approvals is True; it goes from 0 to 9"),
            ({"endpoints": {"x": {"version": "lamp@1", "shares": {"of": {"lamp@1": 100}}}}}, "endpoints.x: .*say exactly one"),
            ({"endpoints": {"x": {"shares": {"of": {"lamp@1": 70}}}}}, "endpoints.x: .*add up to 70 %"),
            ({"endpoints": {"x": {"version": "lamp@1", "rollout": {"steps": []}}}}, "endpoints.x: .*growing shares"),
            ({"endpoints": {"x": {"version": "lamp@1", "colour": "red"}}}, "endpoints.x: the setup is wrong at colour"),
        ]
        for data, summary in cases:
            with self.subTest(data=data), self.assertRaisesRegex(BadRequest, summary):
                read_declared(data)

    def test_differences_are_told_by_their_dotted_keys(self) -> None:
        now = {
            "a": DeclaredEndpoint(EndpointSetup(version="lamp@1")),
            "b": DeclaredEndpoint(RICH),
            "left": DeclaredEndpoint(EndpointSetup(version="lamp@1")),
        }
        changed = EndpointSetup(version="lamp@2", lane=LaneRules(max_rows=7))
        wanted = {"a": DeclaredEndpoint(changed, 1), "b": DeclaredEndpoint(RICH), "new": DeclaredEndpoint(EndpointSetup(version="lamp@1"))}
        self.assertEqual(
            declared_differences(now, wanted),
            [
                DeclaredDifference("a", "approvals", None, 1),
                DeclaredDifference("a", "lane.max_rows", None, 7),
                DeclaredDifference("a", "version", "lamp@1", "lamp@2"),
                DeclaredDifference("new", "", None, {"version": "lamp@1"}),
            ],
        )
        summary = [one.summary() for one in declared_differences(now, wanted)]
        self.assertEqual(summary[1:], ["a  lane.max_rows: – → 7", 'a  version: "lamp@1" → "lamp@2"', "new is new"])
        moved = declared_differences(now, {"b": DeclaredEndpoint(RICH.with_version(RICH.versions[0]))})
        self.assertIn(DeclaredDifference("b", "shares.of.lamp@2", 40, None), moved)

    @given(st.dictionaries(st.sampled_from("abc"), st.tuples(st.integers(1, 3), st.integers(0, 1)), min_size=1))
    def test_a_fingerprint_is_that_of_the_state_whatever_its_order(self, revisions: dict[str, tuple[int, int]]) -> None:
        turned = dict(reversed(list(revisions.items())))
        self.assertEqual(revisions_fingerprint(revisions), revisions_fingerprint(turned))
        name = next(iter(revisions))
        later = revisions | {name: (revisions[name][0] + 1, revisions[name][1])}
        self.assertNotEqual(revisions_fingerprint(revisions), revisions_fingerprint(later))
