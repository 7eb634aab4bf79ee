"""Packages of several steps: separately fitted pieces, look-up tables, code of the packer's own."""

import tempfile
import unittest
from pathlib import Path
from typing import Any

import numpy as np
import pandas as pd
from sklearn.decomposition import PCA
from sklearn.ensemble import RandomForestClassifier
from sklearn.linear_model import LinearRegression, LogisticRegression
from sklearn.preprocessing import LabelEncoder, StandardScaler
from sklearn.tree import DecisionTreeClassifier

from lamppost.core.errors import BadRequest, InvalidRows, ModelFault, PackageRefused
from lamppost.core.payload.validation_plan import ValidationPlan
from lamppost.core.schema.columns import answer_rows_from_columns, columns_from_rows
from lamppost.package.read import Lamp, read_lamp
from lamppost.packing.build import build_package
from lamppost.packing.recipe import Recipe
from lamppost.packing.side_steps import Code, Table
from lamppost.runtime.proving import prove
from lamppost.runtime.running_steps import open_chain
from tests.support import serving_code
from tests.support.models import small_outage_model

CODE = Path(serving_code.__file__)
ALL = frozenset({"skops", "pickle", "python"})


class WithFolder(unittest.TestCase):
    def setUp(self) -> None:
        folder = tempfile.TemporaryDirectory()
        self.addCleanup(folder.cleanup)
        self.folder = Path(folder.name)

    def built(self, model: Any, frame: pd.DataFrame, **recipe: Any) -> Lamp:
        build_package(model, frame, Recipe(**{"name": "m", **recipe}), self.folder / "m.lamp")
        return read_lamp(self.folder / "m.lamp")

    def ask(self, lamp: Lamp, rows: list[dict[str, Any]], original: bool = False, formats: frozenset[str] = ALL) -> list[dict[str, Any]]:
        chain = open_chain(lamp.unpack(self.folder), lamp.manifest, formats, original)
        read = ValidationPlan(lamp.manifest.inputs).read_rows(rows)
        return answer_rows_from_columns(lamp.manifest.answers, chain.run(columns_from_rows(lamp.manifest.inputs, read)), len(rows))


class Pieces(WithFolder):
    def test_separately_fitted_pieces_and_a_label_encoder_become_one_compiled_step(self) -> None:
        rng = np.random.default_rng(3)
        frame = pd.DataFrame(rng.normal(size=(300, 5)), columns=list("abcde"))
        names = np.where(frame["a"] + frame["b"] > 0, "holds", "fails")
        labels = LabelEncoder().fit(names)
        scaler = StandardScaler().fit(frame)
        reducer = PCA(3).fit(scaler.transform(frame))
        model = LogisticRegression().fit(reducer.transform(scaler.transform(frame)), labels.transform(names))
        lamp = self.built([scaler, reducer, model], frame, labels=labels)
        self.assertEqual(lamp.manifest.answers.fields[0].choices, ("fails", "holds"))
        self.assertTrue(lamp.manifest.serves_graphs)
        wanted = labels.inverse_transform(model.predict(reducer.transform(scaler.transform(frame))))
        asked = frame.to_dict(orient="records")
        for original in (False, True):
            self.assertEqual([answer["label"] for answer in self.ask(lamp, asked, original)], wanted.tolist())
        self.assertTrue(prove(lamp).passed)
        with self.assertRaises(BadRequest):
            self.built([], frame)


class Tables(WithFolder):
    def lamp(self, unknown: str) -> tuple[Lamp, Any, pd.DataFrame]:
        model, frame = small_outage_model()
        frame = frame.assign(lamp_no=np.arange(len(frame)) + 70_000)
        known = ["district", "lamp_type", "maker", "age_years", "height_m", "under_trees"]
        table = Table(frame[["lamp_no", *known]], "lamp_no", unknown)  # type: ignore[arg-type]
        return self.built(model, frame, target="failed", before=[table], labels=["holds", "fails"]), model, frame

    def test_a_key_becomes_its_known_fields(self) -> None:
        lamp, model, frame = self.lamp("refuse")
        self.assertEqual(set(lamp.manifest.inputs.names), {"voltage_v", "flicker_per_night", "nights_since_visit", "lamp_no"})
        asked = frame.tail(40)
        rows = [
            {name: None if value != value else value for name, value in row.items()}
            for row in asked[list(lamp.manifest.inputs.names)].to_dict(orient="records")
        ]
        scores = model.predict_proba(asked[list(model.feature_names_in_)])[:, 1]
        for original in (False, True):
            said = [answer["scores"]["fails"] for answer in self.ask(lamp, rows, original)]
            np.testing.assert_allclose(said, scores, rtol=1e-9)
        self.assertTrue(prove(lamp).passed)
        with self.assertRaises(InvalidRows) as caught:
            self.ask(lamp, [rows[0], rows[0] | {"lamp_no": 5}])
        self.assertIn("row 1, lamp_no: given 5, expected one of the 2,000 keys", caught.exception.detail)

    def test_an_unknown_key_may_mean_missing_fields(self) -> None:
        lamp, _, _ = self.lamp("missing")
        said = self.ask(lamp, [{"lamp_no": 5, "voltage_v": 230.0, "flicker_per_night": 0.1, "nights_since_visit": 4}], original=True)
        self.assertIn(said[0]["label"], ("holds", "fails"))

    def test_tables_that_make_no_sense_are_refused(self) -> None:
        frame = pd.DataFrame({"k": [1, 1], "v": [2.0, 3.0]})
        for given, key, summary in (
            (frame, "k", "never twice"),
            (frame, "z", "needs the key column"),
            (frame[["k"]], "k", "at least one other"),
        ):
            with self.assertRaisesRegex(BadRequest, summary):
                Table(given, key)


class OwnCode(WithFolder):
    def test_code_before_and_after_the_model(self) -> None:
        model, frame = small_outage_model()
        spelled = frame.drop(columns="lamp_type").assign(kind="  " + frame["lamp_type"].str.upper())
        clean = Code(CODE, "serving_code:Clean", ["kind"], {"lamp_type": {"kind": "choice", "choices": ["led", "metal-halide", "sodium"]}})
        gives = {"advice": {"kind": "choice", "choices": ["visit", "wait"]}, "per_mille": {"kind": "integer"}}
        advise = Code(CODE, "serving_code:Advise", ["scores"], gives)
        lamp = self.built(
            model, spelled, target="failed", before=[clean], after=[advise], labels=["holds", "fails"], fields={"kind": {"kind": "text"}}
        )
        self.assertEqual(lamp.manifest.answers.names, ("advice", "per_mille", "label", "scores"), "what the model says stays beside it")
        self.assertEqual(lamp.manifest.formats, frozenset({"python"}))
        row = dict(lamp.proof.rows[0])
        scores = model.predict_proba(frame[list(model.feature_names_in_)])[:, 1]
        self.assertEqual({a["advice"] for a in lamp.proof.answers}, set(np.where(scores > 0.5, "visit", "wait")))
        self.assertEqual(self.ask(lamp, [row]), lamp.proof.answers[:1])
        self.assertTrue(prove(lamp).passed)
        with self.assertRaisesRegex(PackageRefused, "--allow-code"):
            self.ask(lamp, [row], formats=frozenset({"skops"}))
        (lamp.unpack(self.folder) / "steps/0/code/serving_code.py").write_text("raise SystemExit")
        with self.assertRaisesRegex(PackageRefused, "was changed since it was unpacked"):
            self.ask(lamp, [row])

    def test_an_encoder_fitted_again_at_serving_time_fails_the_proof(self) -> None:
        rng = np.random.default_rng(1)
        frame = pd.DataFrame({"kind": rng.choice(["led", "halide", "sodium"], 400), "age": rng.uniform(0, 30, 400)})
        encoder = LabelEncoder().fit(frame["kind"])
        seen = pd.DataFrame({"code": encoder.transform(frame["kind"]).astype(float), "age": frame["age"]})
        model = DecisionTreeClassifier(max_depth=4).fit(seen, np.where((frame["kind"] == "sodium") & (frame["age"] > 12), "fails", "holds"))
        truth = model.predict(seen)
        refit = Code(CODE, "serving_code:Refit", ["kind"], {"code": {"kind": "number"}})
        scores = model.predict_proba(seen)
        answers = [
            {"label": label, "scores": dict(zip(model.classes_, row, strict=True))}
            for label, row in zip(truth, scores.tolist(), strict=True)
        ]
        lamp = self.built(model, frame, before=[refit], answers=answers)
        verdict = prove(lamp)
        self.assertFalse(verdict.passed)
        self.assertIn("training gave", verdict.sentence())

    def test_code_that_gives_what_it_should_not_is_a_fault_of_the_model(self) -> None:
        frame = pd.DataFrame({"x": np.arange(10.0, 30.0), "y": np.arange(10.0, 30.0)})
        broken = Code(CODE, "serving_code:Broken", ["x"], {"y": {"kind": "number"}})
        lamp = self.built(LinearRegression().fit(frame[["y"]], frame["y"]), frame[["x"]], before=[broken])
        self.assertAlmostEqual(self.ask(lamp, [{"x": 9.0}])[0]["value"], 9.0)
        for x, summary in ((1.0, "gave 0 values of y for 1 rows"), (2.0, "gave no y"), (3.0, "values of y are not a number")):
            with self.assertRaisesRegex(ModelFault, summary):
                self.ask(lamp, [{"x": x}])

    def test_code_that_is_not_there_is_refused(self) -> None:
        frame = pd.DataFrame({"x": [1.0, 2.0]})
        model = LinearRegression().fit(frame, frame["x"])
        for code, summary in (
            (Code("none.py", "none:A", [], {}), "there is no code"),
            (Code(CODE, "serving_code", [], {}), "names no class"),
            (Code(CODE, "other:A", [], {}), "in none of the files"),
            (Code(CODE, "serving_code:Clean", ["z"], {"a": {}}), "reads columns that are no inputs"),
        ):
            with self.assertRaisesRegex((BadRequest, PackageRefused), summary):
                self.built(model, frame, before=[code])


class Order(WithFolder):
    def test_columns_in_another_order_make_no_difference(self) -> None:
        rng = np.random.default_rng(2)
        frame = pd.DataFrame(rng.normal(size=(200, 3)), columns=list("abc"))
        model = RandomForestClassifier(5, random_state=1).fit(frame, frame["a"] > frame["b"])
        lamp = self.built(model, frame[["c", "b", "a"]])
        self.assertEqual(lamp.manifest.inputs.names, ("a", "b", "c"))
        rows = [dict(reversed(row.items())) for row in frame.head(20).to_dict(orient="records")]
        self.assertEqual([a["label"] for a in self.ask(lamp, rows)], [str(v) for v in model.predict(frame.head(20))])
