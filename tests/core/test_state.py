"""The declared state: documents, differences, fingerprints."""

import unittest
from typing import Any

from hypothesis import given
from hypothesis import strategies as st

from lamppost.core.errors import BadRequest
from lamppost.core.rollout import Guards, Plan, Step
from lamppost.core.setup import LaneRules, Lookup, Setup, Shadow
from lamppost.core.shares import Shares, Sticky
from lamppost.core.state import Difference, Wanted, differences, fingerprint, read_state, write_state

LOOKUP = Lookup("town", "lamps", "lamp", "number", {"age_years": "age"})
RICH = Setup(
    shares=Shares({"lamp@1": 60, "lamp@2": 40}, Sticky("header", "customer")),
    shadows=(Shadow("lamp@3", 5),),
    lookups=(LOOKUP,),
    lane=LaneRules(max_rows=64, keep_warm=True),
    rollout=Plan((Step(5, calls=10),), Guards(p99_ms=50, wrong=None)),
)


class Documents(unittest.TestCase):
    def test_what_is_written_is_read_and_defaults_are_left_out(self) -> None:
        state = {"plain": Wanted(Setup(version="lamp@1")), "rich": Wanted(RICH, 2)}
        document = write_state(state)
        self.assertEqual(document["endpoints"]["plain"], {"version": "lamp@1"})
        self.assertEqual(document["endpoints"]["rich"]["approvals"], 2)
        self.assertEqual(read_state(document), state)
        self.assertEqual(differences(state, read_state(document)), [])

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
        for data, says in cases:
            with self.subTest(data=data), self.assertRaisesRegex(BadRequest, says):
                read_state(data)

    def test_differences_are_told_by_their_dotted_keys(self) -> None:
        now = {"a": Wanted(Setup(version="lamp@1")), "b": Wanted(RICH), "left": Wanted(Setup(version="lamp@1"))}
        changed = Setup(version="lamp@2", lane=LaneRules(max_rows=7))
        wanted = {"a": Wanted(changed, 1), "b": Wanted(RICH), "new": Wanted(Setup(version="lamp@1"))}
        self.assertEqual(
            differences(now, wanted),
            [
                Difference("a", "approvals", None, 1),
                Difference("a", "lane.max_rows", None, 7),
                Difference("a", "version", "lamp@1", "lamp@2"),
                Difference("new", "", None, {"version": "lamp@1"}),
            ],
        )
        says = [one.says() for one in differences(now, wanted)]
        self.assertEqual(says[1:], ["a  lane.max_rows: – → 7", 'a  version: "lamp@1" → "lamp@2"', "new is new"])
        moved = differences(now, {"b": Wanted(RICH.pointed(RICH.versions[0]))})
        self.assertIn(Difference("b", "shares.of.lamp@2", 40, None), moved)

    @given(st.dictionaries(st.sampled_from("abc"), st.tuples(st.integers(1, 3), st.integers(0, 1)), min_size=1))
    def test_a_fingerprint_is_that_of_the_state_whatever_its_order(self, revisions: dict[str, tuple[int, int]]) -> None:
        turned = dict(reversed(list(revisions.items())))
        self.assertEqual(fingerprint(revisions), fingerprint(turned))
        name = next(iter(revisions))
        later = revisions | {name: (revisions[name][0] + 1, revisions[name][1])}
        self.assertNotEqual(fingerprint(revisions), fingerprint(later))
