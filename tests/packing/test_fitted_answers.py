"""Answers to rows that a model was fitted on: what a reference knows of how far they lie from answers to fresh rows."""

import unittest
from typing import Any

import numpy as np
import pandas as pd
from sklearn.ensemble import ExtraTreesClassifier, RandomForestClassifier
from sklearn.linear_model import LogisticRegression

from lamppost.core.artifact.reference import drift_baseline
from lamppost.core.drift.sketches import Sketcher
from lamppost.core.drift.verdicts import DriftVerdict, judge_windows
from lamppost.core.drift.watched_features import FeatureExtractor
from lamppost.core.schema.columns import answer_rows_from_columns
from tests.support.packing import WithFolder


def lamps(count: int, rng: np.random.Generator) -> pd.DataFrame:
    frame = pd.DataFrame({f"n{at}": rng.normal(size=count) for at in range(6)})
    frame["volts"] = 228 + 2 * frame["n0"] + rng.normal(size=count)
    chance = 1 / (1 + np.exp(-1.5 * frame["n0"] - frame["n1"] * frame["n2"]))
    frame["fails"] = np.where(rng.random(count) < chance, "yes", "no")
    return frame


class FittedAnswers(WithFolder):
    def verdict_on(self, model: Any, shift: float = 0.0) -> DriftVerdict:
        rng = np.random.default_rng(8)
        frame, fresh = lamps(3_000, rng), lamps(1_000, rng)
        inputs = frame.drop(columns="fails")
        lamp = self.pack(model.fit(inputs, frame["fails"]), frame, target="fails", prove=False)
        fresh["n0"] += shift
        document = answer_rows_from_columns(lamp.manifest.answers, self.columns(lamp, fresh.drop(columns="fails")), len(fresh))
        assert lamp.reference is not None
        sketcher = Sketcher(drift_baseline(lamp.reference))
        rows = fresh.drop(columns="fails").to_dict("records")
        columns = FeatureExtractor(lamp.manifest.inputs, lamp.manifest.answers, {}).extract_columns(rows, document)
        return judge_windows(sketcher.against, [sketcher.sketch_window(columns, len(rows))])

    def test_fresh_rows_are_steady_for_models_that_know_their_training_by_heart(self) -> None:
        for model in (RandomForestClassifier(50, random_state=1), ExtraTreesClassifier(50, random_state=1), LogisticRegression()):
            verdict = self.verdict_on(model)
            self.assertEqual(verdict.state, "steady", [field for field in verdict.fields if field.state != "steady"])

    def test_answers_that_really_moved_are_found(self) -> None:
        verdict = self.verdict_on(RandomForestClassifier(50, random_state=1), shift=2.5)
        states = {field.name: field.state for field in verdict.fields}
        self.assertIn("drifted", {state for name, state in states.items() if name.startswith("answers.")}, states)


if __name__ == "__main__":
    unittest.main()
