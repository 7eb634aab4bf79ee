"""Cutting a file for its way, and finding a version among many."""

import unittest

from hypothesis import given
from hypothesis import strategies as st

from lamppost.core.artifact.chunks import chunk_bounds
from lamppost.core.artifact.manifest import Manifest, PackageFile, Provenance
from lamppost.core.artifact.steps import FrameColumn, SklearnStep
from lamppost.core.artifact.version_search import matches_search, summarize_manifest
from lamppost.core.schema.fields import Field, Schema


class Cutting(unittest.TestCase):
    def test_files_begin_chunks_of_their_own_unless_they_are_small(self) -> None:
        self.assertEqual(chunk_bounds(10, starts=[0, 3], most=4, least=1), [(0, 3), (3, 7), (7, 10)])
        self.assertEqual(chunk_bounds(10, starts=[0, 2, 3, 8], most=9, least=3), [(0, 3), (3, 10)])
        self.assertEqual(chunk_bounds(0), [])

    @given(st.integers(0, 5_000), st.lists(st.integers(-10, 6_000)), st.integers(1, 700), st.integers(1, 700))
    def test_chunks_cover_the_file_and_none_is_too_large(self, size: int, starts: list[int], most: int, least: int) -> None:
        cut = chunk_bounds(size, starts, most, least)
        self.assertEqual([0, *(end for _, end in cut)], [*(start for start, _ in cut), size])
        self.assertTrue(all(0 < end - start <= most for start, end in cut))


class Searching(unittest.TestCase):
    MANIFEST = Manifest(
        "evening-load",
        Schema((Field("led_share", "number"),)),
        Schema((Field("kwh", "number"),)),
        (SklearnStep("m", "skops", (FrameColumn("led_share", "float64"),), Schema((Field("kwh", "number"),))),),
        "p",
        {"m": PackageFile("", 0), "p": PackageFile("", 0)},
        provenance=Provenance(notes="How much will a feeder take?", metrics={"mae_kwh": 4.6}, tags={"season": "Winter"}, by="lighting"),
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
                self.assertEqual(matches_search(search, "evening-load@3", summarize_manifest(self.MANIFEST), "nightly-job"), found)
