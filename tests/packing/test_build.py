"""Building lamp files from fitted models."""

import pickle
import tempfile
import unittest
from pathlib import Path
from typing import get_args

import numpy as np
import pandas as pd
from sklearn.linear_model import LinearRegression, LogisticRegression

from lamppost.core.errors import BadRequest, LampPostError
from lamppost.package.read import read_lamp
from lamppost.packing.build import build_package
from lamppost.packing.recipe import Recipe
from lamppost.packing.stages import Stage, Stages
from lamppost.packing.summary import pack_summary
from tests.support.lamps import outage_lamp
from tests.support.models import OUTAGE, Coin, numbers_frame, small_outage_model


class Building(unittest.TestCase):
    def setUp(self) -> None:
        folder = tempfile.TemporaryDirectory()
        self.addCleanup(folder.cleanup)
        self.path = Path(folder.name) / "a.lamp"

    def test_the_proof_holds_what_training_gave(self) -> None:
        model, frame = small_outage_model()
        lamp = read_lamp(outage_lamp())
        inputs = [column.name for column in lamp.manifest.steps[0].columns]
        asked = pd.DataFrame(lamp.proof.rows)[inputs].astype(frame[inputs].dtypes)
        trained = model.predict_proba(asked)
        for row, answer in enumerate(lamp.proof.answers):
            self.assertEqual(answer["scores"], {"holds": trained[row][0], "fails": trained[row][1]})
            self.assertEqual(answer["label"], "fails" if trained[row][1] > 0.5 else "holds")

    def test_the_target_is_no_input_and_the_story_is_kept(self) -> None:
        model, frame = small_outage_model()
        extra = frame.assign(mayor="somebody")
        remarks = build_package(
            model, extra, Recipe(**OUTAGE, notes="night", metrics={"accuracy": 0.5}, tags={"owner": "lighting"}), self.path
        )
        manifest = read_lamp(self.path).manifest
        self.assertNotIn("failed", manifest.inputs.names)
        self.assertEqual(remarks.notes[1:], ["not an input, because the model never saw it: mayor", "right on 85% of this frame"])
        self.assertEqual(
            (manifest.provenance.notes, manifest.provenance.metrics, manifest.provenance.trained_rows), ("night", {"accuracy": 0.5}, 2_000)
        )
        self.assertIn("scikit-learn", manifest.provenance.libraries)

    def test_packing_twice_gives_the_same_bytes_and_digest(self) -> None:
        model, frame = small_outage_model()
        again = self.path.with_name("b.lamp")
        for path in (self.path, again):
            build_package(model, frame, Recipe(**OUTAGE), path)
            model = pickle.loads(pickle.dumps(model))  # as if it were loaded from the same file another day
        self.assertEqual(self.path.read_bytes(), again.read_bytes())
        self.assertEqual(read_lamp(self.path).digest, read_lamp(again).digest)

    def test_each_stage_is_told_when_it_begins(self) -> None:
        told: list[str] = []

        class Listening(Stages):
            def begin(self, stage: Stage) -> None:
                told.append(stage)

        model, frame = small_outage_model()
        build_package(model, frame, Recipe(**OUTAGE), self.path, Listening())
        self.assertEqual(told, list(get_args(Stage))[:-1])

    def test_what_skops_does_not_hold_is_pickled_and_said_so(self) -> None:
        frame = numbers_frame().assign(side=lambda f: np.where(f.x > 120, "heads", "tails"))
        remarks = build_package(Coin().fit(frame[["x"]], frame["side"]), frame, Recipe("coin", "side", installed=["tests"]), self.path)
        lamp = read_lamp(self.path)
        self.assertEqual((lamp.manifest.steps[0].format, lamp.manifest.answers.names), ("pickle", ("label",)))
        self.assertIn("skops does not hold tests.support.models.Coin", remarks.notes[1])
        self.assertIn("--allow-pickle", dict(pack_summary(lamp, remarks).facts)["needs"])
        self.assertRaises(
            BadRequest,
            build_package,
            Coin().fit(frame[["x"]], frame["side"]),
            frame,
            Recipe("coin", "side", format="skops", installed=["tests"]),
            self.path,
        )

    def test_regressors_and_models_of_plain_matrices(self) -> None:
        frame = pd.DataFrame({"a": [1.0, 2.0, 3.0], "b": [0.0, 1.0, 0.0], "kwh": [2.0, 5.0, 6.0]})
        build_package(
            LinearRegression().fit(frame[["a", "b"]].to_numpy(), frame["kwh"]), frame, Recipe("load", "kwh", unit="kWh"), self.path
        )
        lamp = read_lamp(self.path)
        self.assertEqual((lamp.manifest.answers.fields[0].name, lamp.manifest.steps[0].reads), ("kwh", "matrix"))
        self.assertAlmostEqual(lamp.proof.answers[0]["kwh"], 2.0)

    def test_model_and_frame_that_do_not_fit_are_refused_and_nothing_is_written(self) -> None:
        frame = pd.DataFrame({"a": [1.0, 2.0, 3.0, 4.0], "b": [0.0, 1.0, 0.0, 1.0], "y": [0, 1, 0, 1]})
        model = LogisticRegression().fit(frame[["a", "b"]], frame["y"])
        bare = LogisticRegression().fit(frame[["a", "b"]].to_numpy(), frame["y"])
        stranger = object()
        for given, data, recipe, summary in (
            (model, frame[["a", "y"]], Recipe("m", "y"), "lacks: b"),
            (bare, frame, Recipe("m", None), "fitted on 2 columns"),
            (bare, frame, Recipe("m", "z"), "is no column"),
            (model, frame, Recipe("M M", "y"), "'m-m'"),
            (stranger, frame, Recipe("m"), "no predict"),
            (model, frame, Recipe("m", "y", labels=["one"]), "1 names"),
            (model, frame, Recipe("m", "y", labels={0: "no"}), "no name for the classes 1"),
            (model, frame, Recipe("m", "y", proof_rows=0), "at least one row"),
        ):
            with self.assertRaises(LampPostError) as caught:
                build_package(given, data, recipe, self.path)
            self.assertIn(summary, caught.exception.detail)
            self.assertFalse(self.path.exists())
