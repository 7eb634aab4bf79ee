"""Shares: exact without a key, sticky with one, and what moves when they change."""

import unittest

from hypothesis import given, settings
from hypothesis import strategies as st

from lamppost.core.endpoint.setup import EndpointSetup, ShadowSetup, read_setup, write_setup
from lamppost.core.endpoint.shares import Shares, StickyKey
from lamppost.core.errors import BadRequest

KEYS = [f"lamp-{number}" for number in range(20_000)]


def shares(draws: list[int]) -> Shares:
    whole = sum(draws)
    parts = [100 * draw / whole for draw in draws]
    parts[-1] = 100 - sum(parts[:-1])
    return Shares({f"lamp@{number}": max(0.0, part) for number, part in enumerate(parts, 1)})


class WithoutAKey(unittest.TestCase):
    @settings(max_examples=25, deadline=None)
    @given(st.lists(st.integers(1, 40), min_size=2, max_size=5), st.floats(0, 1), st.sampled_from([500, 5_000, 20_000]))
    def test_every_version_is_within_a_few_calls_of_its_share_at_any_time(self, draws: list[int], start: float, calls: int) -> None:
        of = shares(draws)
        seen = dict.fromkeys(of.of, 0)
        for n in range(calls):
            seen[of.version_of_nth_call(n, start)] += 1
        for name, share in of.of.items():
            self.assertLess(abs(seen[name] - calls * share / 100), 8, (of, seen))

    def test_no_rhythm_of_the_traffic_falls_in_step(self) -> None:
        of = Shares({"lamp@1": 95, "lamp@2": 5})
        for period in (2, 3, 7, 20, 64, 100):
            new = sum(of.version_of_nth_call(n) == "lamp@2" for n in range(0, 10_000 * period, period))
            self.assertLess(abs(new - 500), 40, f"of every {period}th call")


class WithAKey(unittest.TestCase):
    def test_the_same_key_has_the_same_version_and_keys_fall_by_the_shares(self) -> None:
        of = Shares({"lamp@1": 70, "lamp@2": 25, "lamp@3": 5}, StickyKey("header", "customer"))
        got = [of.version_of_key(key) for key in KEYS]
        self.assertEqual(got, [Shares(dict(of.of)).version_of_key(key) for key in KEYS])
        for name, share in of.of.items():
            spread = 4 * (len(KEYS) * share / 100 * (1 - share / 100)) ** 0.5
            self.assertLess(abs(got.count(name) - len(KEYS) * share / 100), spread)

    def test_as_a_share_grows_keys_only_move_towards_it(self) -> None:
        last = dict.fromkeys(KEYS[:3_000], "lamp@1")
        for share in (0, 1, 5, 25, 60, 100):
            of = Shares({"lamp@1": 100 - share, "lamp@2": share})
            now = {key: of.version_of_key(key) for key in last}
            moved = [(before, now[key]) for key, before in last.items() if before != now[key]]
            self.assertEqual(set(moved) - {("lamp@1", "lamp@2")}, set())
            self.assertLess(abs(list(now.values()).count("lamp@2") - 30 * share), 120)
            last = now

    @settings(max_examples=30, deadline=None)
    @given(st.lists(st.integers(1, 40), min_size=3, max_size=4), st.lists(st.integers(1, 40), min_size=3, max_size=4))
    def test_a_key_moves_only_where_the_share_grew_against_the_one_it_leaves(self, draws: list[int], others: list[int]) -> None:
        size = min(len(draws), len(others))
        before, after = shares(draws[:size]), shares(others[:size])
        for key in KEYS[:400]:
            one, other = before.version_of_key(key), after.version_of_key(key)
            if one != other:
                self.assertGreater(after.of[other] * before.of[one], after.of[one] * before.of[other] * (1 - 1e-9))


class Written(unittest.TestCase):
    def test_shares_that_do_not_add_up_are_refused_in_one_sentence(self) -> None:
        with self.assertRaisesRegex(BadRequest, r"add up to 95 %, and they must be 100 % together: lamp@1 90 %, lamp@2 5 %"):
            Shares({"lamp@1": 90, "lamp@2": 5})
        with self.assertRaisesRegex(BadRequest, "go from 0 to 100"):
            Shares({"lamp@1": 120, "lamp@2": -20})
        with self.assertRaisesRegex(BadRequest, "add up to 0 %"):
            Shares({})

    def test_a_setup_with_shares_and_shadows_comes_back_as_it_went(self) -> None:
        setup = EndpointSetup(
            shares=Shares({"lamp@1": 90, "lamp@2": 10}, StickyKey("field", "district")), shadows=(ShadowSetup("lamp@3", 20),)
        )
        self.assertEqual(read_setup(write_setup(setup)), setup)
        self.assertEqual([str(name) for name in setup.versions], ["lamp@1", "lamp@2"])
        self.assertEqual([str(name) for name in setup.shadow_versions], ["lamp@3"])
        self.assertEqual(setup.summary(), "lamp@1 90 %, lamp@2 10 %")
        self.assertEqual(setup.with_version(setup.shadow_versions[0]).shadows, ())
        with self.assertRaisesRegex(BadRequest, "shadow of its own answers"):
            EndpointSetup(version="lamp@1", shadows=(ShadowSetup("lamp@1"),))
        with self.assertRaisesRegex(BadRequest, "say exactly one"):
            EndpointSetup(version="lamp@1", shares=Shares({"lamp@1": 100}))
