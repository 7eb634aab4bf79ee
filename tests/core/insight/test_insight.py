"""What a model has learned: its document, its words, and how two of them differ."""

import unittest
from dataclasses import replace

import orjson

from lamppost.core.errors import PackageRefused
from lamppost.core.insight.comparison import compare_insights
from lamppost.core.insight.insight import (
    Confusion,
    Dependence,
    FieldImportance,
    Figure,
    ModelInsight,
    SliceQuality,
    read_insight,
    write_insight,
)
from lamppost.core.insight.insight_text import insight_lines, worse_slices

INSIGHT = ModelInsight(
    "label",
    "labels",
    1_000,
    True,
    Figure(0.84, 0.82, 0.86, 1_000),
    0.7,
    "score of fails",
    importance=(FieldImportance("age_years", Figure(0.46, 0.4, 0.52, 1_000)), FieldImportance("maker", Figure(0.01, -0.01, 0.03, 1_000))),
    curves=(Dependence("age_years", (1, 5.5, 30), (0.1, 0.2, 0.6), (0.05, 0.1, 0.4), (0.2, 0.3, 0.8), (10, 20, 5)),),
    slices=(
        SliceQuality("district", "old-town", Figure(0.7, 0.62, 0.77, 160)),
        SliceQuality("district", "hill", Figure(0.85, 0.8, 0.9, 200)),
    ),
    confusion=Confusion(("fails", "holds"), ((100, 80), (80, 740))),
)


class Documents(unittest.TestCase):
    def test_what_is_written_is_read(self) -> None:
        self.assertEqual(read_insight(write_insight(INSIGHT)), INSIGHT)

    def test_whatever_else_comes_is_refused(self) -> None:
        raw = orjson.loads(write_insight(INSIGHT))
        uneven = raw | {"confusion": {"labels": ["a", "b"], "counts": [[1, 2]]}}
        short = raw | {"curves": [raw["curves"][0] | {"mean": [0.1]}]}
        for document in (b"", b"[]", b'{"answer": 3}', orjson.dumps(raw | {"more": 1}), orjson.dumps(uneven), orjson.dumps(short)):
            self.assertRaises(PackageRefused, read_insight, document)


class Words(unittest.TestCase):
    def test_what_matters_is_said(self) -> None:
        lines = dict(insight_lines(INSIGHT))
        self.assertEqual(
            lines["quality"], "right on 84.0 % (82.0 to 86.0) of 1,000 rows that it was not fitted on; always the commonest label: 70.0 %"
        )
        self.assertEqual(lines["worse"], "district is old-town: 70.0 % (62.0 to 77.0) of 160 rows")
        self.assertTrue(lines["looks at"].startswith("age_years 46 % ("))
        self.assertEqual(lines["hardly at"], "maker")
        fitted = replace(INSIGHT, held_out=False, kind="numbers", quality=Figure(1.5, 1.4, 1.6, 1_000), by_chance=3.0, unit="kWh")
        self.assertIn(
            "off by 1.5 kWh (1.4 to 1.6) on average over 1,000 rows that it was fitted on", dict(insight_lines(fitted))["quality"]
        )
        self.assertEqual(worse_slices(fitted), [])


class Comparison(unittest.TestCase):
    def test_what_moved_by_more_than_chance_is_told(self) -> None:
        other = replace(
            INSIGHT,
            quality=Figure(0.90, 0.88, 0.92, 1_000),
            importance=(
                FieldImportance("age_years", Figure(0.2, 0.15, 0.25, 1_000)),
                FieldImportance("lamp_type", Figure(0.5, 0.45, 0.55, 1_000)),
                FieldImportance("maker", Figure(0.02, -0.01, 0.05, 1_000)),
            ),
            curves=(replace(INSIGHT.curves[0], mean=(0.6, 0.2, 0.1)),),
            slices=(SliceQuality("district", "old-town", Figure(0.85, 0.8, 0.9, 160)),),
        )
        self.assertEqual(
            compare_insights(INSIGHT, other),
            [
                "right on 90.0 % of 1,000 rows; it was 84.0 % of 1,000",
                "looks at lamp_type (50 %), which is new",
                "looks less at age_years: 20 %, it was 46 %",
                "the score of fails falls with age_years; it rose",
                "better where district is old-town: 85.0 %, it was 70.0 %",
            ],
        )

    def test_what_cannot_be_compared_is_not(self) -> None:
        self.assertEqual(compare_insights(INSIGHT, None), [])
        self.assertEqual(compare_insights(INSIGHT, replace(INSIGHT, answer="kwh", kind="numbers")), [])
        self.assertIn("the intervals overlap", compare_insights(INSIGHT, INSIGHT)[0])
        self.assertIn("cannot be compared", compare_insights(INSIGHT, replace(INSIGHT, held_out=False))[0])


if __name__ == "__main__":
    unittest.main()
