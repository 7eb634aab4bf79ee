"""Cutting a file for its way, and finding a version among many."""

import unittest

from hypothesis import given
from hypothesis import strategies as st

from lamppost.core.catalogue import matches, told_of
from lamppost.core.chunks import cuts
from lamppost.core.fields import Field, Schema
from lamppost.core.manifest import Manifest, Member, Story
from lamppost.core.steps import FrameColumn, SklearnStep


class Cutting(unittest.TestCase):
    def test_files_begin_chunks_of_their_own_unless_they_are_small(self) -> None:
        self.assertEqual(cuts(10, starts=[0, 3], most=4, least=1), [(0, 3), (3, 7), (7, 10)])
        self.assertEqual(cuts(10, starts=[0, 2, 3, 8], most=9, least=3), [(0, 3), (3, 10)])
        self.assertEqual(cuts(0), [])

    @given(st.integers(0, 5_000), st.lists(st.integers(-10, 6_000)), st.integers(1, 700), st.integers(1, 700))
    def test_chunks_cover_the_file_and_none_is_too_large(self, size: int, starts: list[int], most: int, least: int) -> None:
        cut = cuts(size, starts, most, least)
        self.assertEqual([0, *(end for _, end in cut)], [*(start for start, _ in cut), size])
        self.assertTrue(all(0 < end - start <= most for start, end in cut))


class Searching(unittest.TestCase):
    MANIFEST = Manifest(
        "evening-load",
        Schema((Field("led_share", "number"),)),
        Schema((Field("kwh", "number"),)),
        (SklearnStep("m", "skops", (FrameColumn("led_share", "float64"),), Schema((Field("kwh", "number"),))),),
        "p",
        {"m": Member("", 0), "p": Member("", 0)},
        story=Story(notes="How much will a feeder take?", metrics={"mae_kwh": 4.6}, tags={"season": "Winter"}, by="lighting"),
    )

    def test_every_word_must_be_found_somewhere(self) -> None:
        for search, found in (
            ("", True),
            ("EVENING", True),
            ("winter feeder", True),
            ("season:winter", True),
            ("led_share mae", True),
            ("lighting weekly", False),
            ("nightly-job", True),
            ("@3", True),
            ("summer", False),
        ):
            with self.subTest(search=search):
                self.assertEqual(matches(search, "evening-load@3", told_of(self.MANIFEST), "nightly-job"), found)
