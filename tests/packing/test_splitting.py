"""Packages split in two: both halves answer together as the whole does, and what cannot be split is refused."""

import tempfile
import unittest
from pathlib import Path

import pandas as pd
from sklearn.linear_model import LogisticRegression
from sklearn.pipeline import make_pipeline
from sklearn.preprocessing import StandardScaler

from lamppost.core.errors import BadRequest
from lamppost.package.read import Lamp, read_lamp
from lamppost.packing.build import build_package
from lamppost.packing.recipe import Recipe
from lamppost.packing.side_steps import Table, Threshold
from lamppost.packing.splitting import split_package
from tests.support.other_lamps import photo_lamp

FORMATS = frozenset({"skops"})


class Splitting(unittest.TestCase):
    folder: Path

    def setUp(self) -> None:
        named = tempfile.TemporaryDirectory()
        self.addCleanup(named.cleanup)
        self.folder = Path(named.name)

    def split(self, lamp: Path, at: str) -> tuple[Lamp, Lamp, tuple[str, ...]]:
        files = self.folder / "first.lamp", self.folder / "second.lamp"
        halves = split_package(read_lamp(lamp), at, *files, ("first-half", "second-half"), FORMATS)
        return halves.first, halves.second, halves.notes

    def district_lamp(self, private: bool = False) -> Path:
        """A table gives two fields for a key, of which a model takes one, beside a field of the request; then a threshold."""
        frame = pd.DataFrame({"street": [f"street {at % 12}" for at in range(240)], "age": [at % 37 * 1.5 for at in range(240)]})
        streets = pd.DataFrame({"street": [f"street {at}" for at in range(12)], "height": [at / 2 for at in range(12)]})
        whole = frame.merge(streets, on="street")
        whole["label"] = ["fails" if row.age + 4 * row.height > 40 else "holds" for row in whole.itertuples()]
        model = make_pipeline(StandardScaler(), LogisticRegression()).fit(whole[["height", "age"]], whole["label"])
        recipe = Recipe(
            "street-risk",
            "label",
            before=[Table(streets, "street")],
            after=[Threshold("fails")],
            fields={"street": {"private": True, "example": "nowhere"} if private else {}, "age": {"low": 0}},
        )
        build_package(model, whole, recipe, self.folder / "street-risk.lamp")
        return self.folder / "street-risk.lamp"

    def test_a_picture_becomes_pixels_here_and_a_label_there(self) -> None:
        whole = read_lamp(photo_lamp())
        first, second, _ = self.split(photo_lamp(), "pixels")
        self.assertEqual((first.manifest.inputs.names, first.manifest.answers.names), (("photo",), ("pixels",)))
        self.assertEqual((second.manifest.inputs.names, second.manifest.answers), (("pixels",), whole.manifest.answers))
        self.assertEqual(first.proof.rows, whole.proof.rows)
        self.assertEqual([row["pixels"] for row in second.proof.rows], [answer["pixels"] for answer in first.proof.answers])
        self.assertEqual(second.proof.answers, whole.proof.answers)
        self.assertLessEqual({name.lower() for name in first.manifest.provenance.libraries}, {"numpy", "onnxruntime", "pillow"})
        self.assertIn("split at pixels", second.manifest.provenance.notes)
        assert second.reference is not None
        self.assertEqual([profile.name for profile in second.reference.answers], ["label", "scores.leans", "scores.rusts", "scores.sound"])

    def test_fields_of_the_request_go_to_the_half_that_takes_them(self) -> None:
        lamp = self.district_lamp()
        whole = read_lamp(lamp).manifest
        first, second, _ = self.split(lamp, "height")
        self.assertEqual(first.manifest.inputs.names, ("street",))
        self.assertEqual(first.manifest.answers.names, ("height",))
        self.assertEqual(second.manifest.inputs.names, ("height", "age"))
        self.assertEqual(second.manifest.inputs.fields[1], next(field for field in whole.inputs if field.name == "age"))
        self.assertEqual((first.manifest.options, second.manifest.options), (None, whole.options))
        self.assertIsInstance(second.manifest.inputs.fields[0].example, float)
        self.assertEqual(second.manifest.answers, whole.answers)

    def test_without_private_fields_there_is_no_reference(self) -> None:
        first, second, notes = self.split(self.district_lamp(private=True), "height")
        self.assertEqual((first.reference, second.reference), (None, None))
        self.assertIn("drift has nothing to compare with", notes[0])
        crossing = first.manifest.answers.fields[0], second.manifest.inputs.fields[0]
        self.assertEqual([(field.name, field.private, field.example) for field in crossing], [("height", True, None)] * 2)

    def test_what_cannot_be_split_says_where_it_can(self) -> None:
        lamp = self.district_lamp()
        for at, said in (
            ("heihgt", "no step gives 'heihgt'; did you mean height?"),
            ("age", "no step gives 'age'"),
            ("label", "comes of the last step"),
            ("scores", "'scores' would go from one half to the other, and numbers by name are answers"),
        ):
            with self.subTest(at), self.assertRaisesRegex(BadRequest, said):
                self.split(lamp, at)
        with self.assertRaisesRegex(BadRequest, "model name 'First' is not usable"):
            split_package(read_lamp(lamp), "height", self.folder / "a", self.folder / "b", ("First", "second"), FORMATS)
