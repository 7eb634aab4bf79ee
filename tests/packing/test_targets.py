"""Models that predict several things at once, models that read one column of text, tensors, options and private fields."""

import os
import subprocess
from pathlib import Path
from typing import Any

import lightgbm
import numpy as np
import pandas as pd
import xgboost
from sklearn.compose import ColumnTransformer
from sklearn.decomposition import PCA
from sklearn.ensemble import IsolationForest, RandomForestClassifier, RandomForestRegressor
from sklearn.feature_extraction.text import TfidfVectorizer
from sklearn.linear_model import LinearRegression, LogisticRegression, RidgeClassifier
from sklearn.mixture import GaussianMixture
from sklearn.multiclass import OneVsOneClassifier, OneVsRestClassifier
from sklearn.multioutput import ClassifierChain, MultiOutputClassifier, MultiOutputRegressor
from sklearn.pipeline import make_pipeline
from sklearn.preprocessing import LabelEncoder, OneHotEncoder, StandardScaler
from sklearn.svm import SVC, LinearSVC

import lamppost
from lamppost.core.artifact.steps import SklearnStep
from lamppost.core.errors import BadRequest, InvalidRows, LampPostError
from lamppost.core.payload.validation_plan import ValidationPlan
from lamppost.core.schema.columns import Column, answer_rows_from_columns, columns_from_rows
from lamppost.package.read import Lamp
from lamppost.runtime.running_steps import open_chain
from tests.support import zoo
from tests.support.packing import WithFolder

LAMPS = zoo.frame()
X = LAMPS[["height_m", "voltage_v", "flicker_per_night"]].fillna(0)
CODE = Path(__file__).parents[1] / "support" / "serving_code.py"


class WithRows(WithFolder):
    def rows(self, lamp: Lamp, frame: pd.DataFrame, original: bool = False) -> list[dict[str, Any]]:
        return answer_rows_from_columns(lamp.manifest.answers, self.columns(lamp, frame, original), len(frame))

    def pack(self, model: Any, frame: pd.DataFrame, **more: Any) -> Lamp:
        return super().pack(model, frame, prove=False, **more)


class SeveralTargets(WithRows):
    def test_regressors_give_a_number_for_each_and_compile(self) -> None:
        both = LAMPS[["kwh", "age_years"]]
        for make in (
            lambda: make_pipeline(StandardScaler(), LinearRegression()),
            lambda: RandomForestRegressor(10, random_state=0),
            lambda: MultiOutputRegressor(RandomForestRegressor(5, random_state=0)),
        ):
            model = make().fit(X, both)
            lamp = self.pack(model, X.assign(**both), target=["kwh", "age_years"])
            step = lamp.manifest.steps[0]
            assert isinstance(step, SklearnStep)
            self.assertIsNotNone(step.compiled, step.not_compiled)
            for original in (False, True):
                given = [[row["kwh"], row["age_years"]] for row in self.rows(lamp, X[:50], original)]
                np.testing.assert_allclose(given, model.predict(X[:50]), rtol=1e-6)

    def test_flags_stay_0_and_1_and_get_a_score(self) -> None:
        flags = pd.DataFrame({"old": (LAMPS.age_years > 15).astype(int), "tall": (LAMPS.height_m > 6).astype(int)})
        for make in (
            lambda: OneVsRestClassifier(LogisticRegression()),
            lambda: RandomForestClassifier(10, random_state=0),
            lambda: ClassifierChain(LogisticRegression(), random_state=0),
        ):
            model = make().fit(X, flags)
            lamp = self.pack(model, X.assign(**flags), target=["old", "tall"])
            given = self.rows(lamp, X[:40])
            self.assertEqual([[row["old"], row["tall"]] for row in given], np.asarray(model.predict(X[:40])).astype(int).tolist())
            scores = model.predict_proba(X[:40])
            wanted = np.column_stack([score[:, 1] for score in scores]) if isinstance(scores, list) else scores
            np.testing.assert_allclose([[row["old_score"], row["tall_score"]] for row in given], wanted, rtol=1e-6)

    def test_labels_give_a_label_and_scores_for_each(self) -> None:
        both = pd.DataFrame({"grade": LAMPS.grade, "state": np.where(LAMPS.failed, "fails", "holds")})
        model = MultiOutputClassifier(LogisticRegression(max_iter=300)).fit(X, both)
        lamp = self.pack(model, X.assign(**both), target=["grade", "state"])
        self.assertEqual(lamp.manifest.answers.names, ("grade", "grade_scores", "state", "state_scores"))
        self.assertEqual([[row["grade"], row["state"]] for row in self.rows(lamp, X[:30])], model.predict(X[:30]).tolist())

    def test_targets_must_be_named_all_or_not_at_all(self) -> None:
        model = LinearRegression().fit(X, LAMPS[["kwh", "age_years"]])
        self.assertEqual(self.pack(model, X).manifest.answers.names, ("target_0", "target_1"))
        with self.assertRaisesRegex(BadRequest, "answers with 2 values a row, and target names 1: kwh"):
            self.pack(model, X, target="kwh")


class OtherInputs(WithRows):
    def test_one_column_of_text(self) -> None:
        rng = np.random.default_rng(0)
        notes = [" ".join(rng.choice(["dark", "lamp", "hums", "street", "open", "door"], 5)) for _ in range(400)]
        about = ["dark" if "dark" in note else "other" for note in notes]
        model = make_pipeline(TfidfVectorizer(), LogisticRegression()).fit(notes, about)
        frame = pd.DataFrame({"note": notes, "about": about})
        lamp = self.pack(model, frame, target="about", fields={"note": {"kind": "text", "choices": []}})
        step = lamp.manifest.steps[0]
        assert isinstance(step, SklearnStep)
        self.assertEqual((step.reads, "the text column note" in (step.not_compiled or "")), ("column", True))
        self.assertEqual([row["label"] for row in self.rows(lamp, frame[:50])], list(model.predict(notes[:50])))

    def test_label_encoders_of_inputs_and_of_the_answer(self) -> None:
        lamps = LAMPS.dropna(subset=["maker", "lamp_type"])
        encoders = {name: LabelEncoder().fit(lamps[name]) for name in ("maker", "lamp_type")}
        grades = LabelEncoder().fit(lamps["grade"])
        coded = X.loc[lamps.index].assign(**{name: encoder.transform(lamps[name]) for name, encoder in encoders.items()})
        model = RandomForestClassifier(10, random_state=0).fit(coded, grades.transform(lamps["grade"]))
        frame = X.loc[lamps.index].assign(maker=lamps["maker"], lamp_type=lamps["lamp_type"])
        before = [lamppost.Encoder(name, encoder) for name, encoder in encoders.items()]
        lamp = self.pack(model, frame, before=before, labels=grades)
        self.assertEqual([field.kind for field in lamp.manifest.inputs][-2:], ["choice", "choice"])
        step = lamp.manifest.steps[-1]
        assert isinstance(step, SklearnStep)
        self.assertIsNotNone(step.compiled, step.not_compiled)
        for original in (False, True):
            given = [row["label"] for row in self.rows(lamp, frame[:60], original)]
            self.assertEqual(given, list(grades.inverse_transform(model.predict(coded[:60]))))
        with self.assertRaisesRegex(InvalidRows, "maker"):
            self.rows(lamp, frame[:1].assign(maker="Somebody New"))
        with self.assertRaisesRegex(BadRequest, "has no classes_"):
            lamppost.Encoder("maker", LabelEncoder())

    def test_a_column_of_arrays(self) -> None:
        spectra = np.random.default_rng(0).normal(size=(1_200, 6))
        for dtype in (np.float64, np.float32):
            values = spectra.astype(dtype)
            model = LogisticRegression().fit(values, values.sum(axis=1) > 0)
            lamp = self.pack(model, pd.DataFrame({"spectrum": list(values), "high": values.sum(axis=1) > 0}), target="high")
            self.assertEqual(lamp.manifest.inputs.fields[0].shape, (6,))
            for original in (False, True):
                given = [row["scores"]["True"] for row in self.rows(lamp, pd.DataFrame({"spectrum": list(values[:30])}), original)]
                np.testing.assert_allclose(given, model.predict_proba(values[:30])[:, 1], rtol=2e-6)

    def test_times_options_and_private_fields(self) -> None:
        frame = X.assign(at=pd.date_range("2026-01-01", periods=len(X), freq="h"), account=[f"a{n % 50}" for n in range(len(X))])
        hours = np.column_stack([X.to_numpy(), frame["at"].dt.hour])
        model = LogisticRegression(max_iter=500).fit(hours, LAMPS["failed"])
        code = self.folder / "code.py"
        code.write_text(
            "class Hour:\n    def run(self, columns):\n        return {'hour': columns['at'].astype('datetime64[h]').astype(int) % 24}\n"
            "class Cut:\n    def run(self, columns):\n        return {'visit': columns['scores'][:, 1] >= columns['threshold']}\n"
        )
        lamp = self.pack(
            model,
            frame.drop(columns="account"),
            before=[lamppost.Code(code, "code:Hour", ["at"], {"hour": {"kind": "number"}})],
            after=[lamppost.Code(code, "code:Cut", ["scores", "threshold"], {"visit": {"kind": "yes/no"}})],
            options={"threshold": {"kind": "number", "low": 0, "high": 1, "default": 0.5}},
        )
        self.assertEqual((lamp.manifest.inputs.names[-1], lamp.manifest.options and lamp.manifest.options.names), ("at", ("threshold",)))
        scores = model.predict_proba(hours[:60])[:, 1]
        for threshold in (0.05, 0.5):
            given = self.rows(lamp, frame[:60].assign(threshold=threshold))
            self.assertEqual([row["visit"] for row in given], (scores >= threshold).tolist())
        with self.assertRaisesRegex(BadRequest, "an option needs a default"):
            self.pack(model, X.assign(hour=1.0), options={"threshold": {"kind": "number"}})

    def test_private_examples_are_nobodys_and_are_not_in_the_reference(self) -> None:
        frame = X.assign(account=[f"a{n % 50}" for n in range(len(X))])
        model = with_accounts().fit(frame, LAMPS["failed"])
        with self.assertRaisesRegex(BadRequest, "a private field needs an example that is nobody's"):
            self.pack(model, frame, fields={"account": {"private": True}})
        lamp = self.pack(model, frame, fields={"account": {"private": True, "example": "a0"}})
        assert lamp.reference is not None
        self.assertFalse(any("account" in row for row in lamp.reference.sample))
        self.assertEqual(next(one for one in lamp.reference.inputs if one.name == "account").choices, {})


def with_accounts() -> Any:

    return make_pipeline(
        ColumnTransformer([("account", OneHotEncoder(), ["account"])], remainder="passthrough"), LogisticRegression(max_iter=300)
    )


class Stories(WithRows):
    def test_who_when_and_which_commit_without_a_clock(self) -> None:
        model = LinearRegression().fit(X, LAMPS["kwh"])

        def git(*words: str) -> None:
            dated = {"GIT_AUTHOR_DATE": "2026-11-01T10:00:00Z", "GIT_COMMITTER_DATE": "2026-11-01T10:00:00Z"}
            subprocess.run(["git", "-C", str(self.folder), *words], check=True, capture_output=True, env={**os.environ, **dated})

        git("init", "-q")
        git("config", "user.name", "Lamplighter")
        git("config", "user.email", "lamplighter@tallowby.example")
        (self.folder / "train.py").write_text("pass\n")
        git("add", ".")
        git("commit", "-qm", "Train")
        first = self.pack(model, X.assign(kwh=LAMPS["kwh"]), target="kwh")
        provenance = first.manifest.provenance
        self.assertEqual(
            (provenance.by, len(provenance.commit or ""), provenance.changed, provenance.at),
            ("Lamplighter", 40, False, "2026-11-01T10:00:00Z"),
        )
        self.assertEqual(self.pack(model, X.assign(kwh=LAMPS["kwh"]), target="kwh").digest, first.digest)
        (self.folder / "train.py").write_text("changed\n")
        again = self.pack(model, X.assign(kwh=LAMPS["kwh"]), target="kwh", by="nightly-job").manifest.provenance
        self.assertEqual((again.by, again.changed, again.commit), ("nightly-job", True, provenance.commit))


class OtherAnswers(WithRows):
    """What answers otherwise than with a label or a number."""

    FRAME = pd.DataFrame(np.random.default_rng(6).normal(size=(200, 4)), columns=list("abcd"))

    def answers(self, model: Any) -> tuple[Lamp, list[Column]]:
        lamp = self.pack(model.fit(self.FRAME), self.FRAME)
        return lamp, self.columns(lamp, self.FRAME)

    def test_a_transformer_as_the_last_step_gives_all_its_numbers_by_their_names(self) -> None:
        model = make_pipeline(StandardScaler(), PCA(2))
        lamp, (values,) = self.answers(model)
        np.testing.assert_allclose(values.values, model.transform(self.FRAME), rtol=1e-9, atol=1e-12)
        (field,) = lamp.manifest.answers
        self.assertEqual((field.name, field.choices, lamp.manifest.serves_graphs), ("values", ("pca0", "pca1"), True))

    def test_a_detector_of_anomalies_gives_a_flag_and_a_score_around_its_threshold(self) -> None:
        model = make_pipeline(StandardScaler(), IsolationForest(n_estimators=10, random_state=0))
        lamp, (unusual, score) = self.answers(model)
        self.assertEqual(lamp.manifest.answers.names, ("unusual", "score"))
        np.testing.assert_array_equal(np.asarray(unusual.values) == 1, model.predict(self.FRAME) == -1)
        np.testing.assert_allclose(score.values, model.decision_function(self.FRAME))
        np.testing.assert_array_equal(np.asarray(unusual.values) == 1, np.asarray(score.values) < 0)

    def test_a_mixture_gives_its_parts_with_their_scores(self) -> None:
        model = GaussianMixture(3, random_state=0)
        lamp, (label, scores) = self.answers(model)
        self.assertEqual(lamp.manifest.answers.fields[0].choices, ("0", "1", "2"))
        np.testing.assert_array_equal(label.values, model.predict(self.FRAME))
        np.testing.assert_allclose(scores.values, model.predict_proba(self.FRAME))


class Labels(WithRows):
    """What the label is, and what stands beside it where there are no scores."""

    def test_whole_numbers_and_true_and_false_stay_what_they_are(self) -> None:
        flags = LAMPS["failed"].astype(int)
        model = RandomForestClassifier(10, random_state=0).fit(X, flags)
        for labels, kind, make in (
            ({0: 0, 1: 1}, "integer", int),
            ({0: False, 1: True}, "yes/no", bool),
            ([7, 9], "integer", [7, 9].__getitem__),
        ):
            for compiled in (True, False):
                with self.subTest(labels=labels, compiled=compiled):
                    lamp = self.pack(model, X.assign(failed=flags), target="failed", labels=labels, compile=compiled)
                    self.assertEqual(lamp.manifest.answers.fields[0].kind, kind)
                    given = [row["label"] for row in self.rows(lamp, X[:200])]
                    self.assertEqual(given, [make(value) for value in model.predict(X[:200])])
                    self.assertEqual({type(value) for value in given}, {bool if kind == "yes/no" else int})
                    self.assertEqual(list(lamp.proof.answers[0]["scores"]), [str(make(0)), str(make(1))])
        for wrong in ({0: 0, 1: "one"}, {0: 0.5, 1: 1.0}, {0: 3, 1: 3}):
            with self.assertRaisesRegex(BadRequest, "labels are texts, or different whole numbers, or True and False"):
                self.pack(model, X.assign(failed=flags), target="failed", labels=wrong)

    def test_without_scores_the_decision_values_are_answered(self) -> None:
        two, three = LAMPS["failed"].astype(int), LAMPS["grade"]
        cases: list[tuple[Any, Any, str]] = [
            (LinearSVC(random_state=0).fit(X, two), two, "decision"),
            (make_pipeline(StandardScaler(), RidgeClassifier()).fit(X, three), three, "decisions"),
            (SVC(random_state=0).fit(X[:300], three[:300]), three, "decisions"),
            (OneVsOneClassifier(LinearSVC(random_state=0)).fit(X, three), three, "decisions"),
        ]
        for model, target, name in cases:
            with self.subTest(type(model).__name__):
                lamp = self.pack(model, X.assign(target=target), target="target")
                self.assertEqual(lamp.manifest.answers.names, ("label", name))
                step = lamp.manifest.steps[0]
                assert isinstance(step, SklearnStep)
                self.assertIsNotNone(step.compiled, step.not_compiled)
                wanted = model.decision_function(X[:100])
                for original in (False, True):
                    rows = self.rows(lamp, X[:100], original)
                    given = [row[name] if name == "decision" else list(row[name].values()) for row in rows]
                    np.testing.assert_allclose(given, wanted, rtol=1e-6, atol=1e-6)
                    self.assertEqual([row["label"] for row in rows], [str(label) for label in model.predict(X[:100])])
        pairs = SVC(decision_function_shape="ovo", random_state=0).fit(X[:300], three[:300])
        lamp = self.pack(pairs, X.assign(target=three), target="target")
        self.assertEqual(lamp.manifest.answers.names, ("label",), "values of pairs of labels are of no label")

    def test_rankers_give_their_number_and_compile(self) -> None:
        worth = LAMPS["failed"].astype(int) + (LAMPS["kwh"] > LAMPS["kwh"].median())
        spaced = X.rename(columns={"height_m": "height in m"})
        for make in (lightgbm.LGBMRanker(n_estimators=5, verbose=-1), xgboost.XGBRanker(n_estimators=5)):
            model = make.fit(spaced, worth, group=[50] * (len(X) // 50) + ([len(X) % 50] if len(X) % 50 else []))
            lamp = self.pack(model, spaced.assign(worth=worth), target="worth")
            step = lamp.manifest.steps[0]
            assert isinstance(step, SklearnStep)
            self.assertIsNotNone(step.compiled, step.not_compiled)
            np.testing.assert_allclose([row["worth"] for row in self.rows(lamp, spaced[:60])], model.predict(spaced[:60]), atol=1e-5)

    def test_categories_that_are_numbers(self) -> None:
        zones = LAMPS[["height_m"]].fillna(0).assign(zone=pd.Categorical((LAMPS["age_years"] // 10).astype(int)))
        encoded = make_pipeline(ColumnTransformer([("zone", OneHotEncoder(), ["zone"])], remainder="passthrough"), LogisticRegression())
        for model in (encoded, lightgbm.LGBMClassifier(n_estimators=5, verbose=-1)):
            with self.subTest(type(model).__name__):
                model.fit(zones, LAMPS["failed"])
                lamp = self.pack(model, zones.assign(failed=LAMPS["failed"]), target="failed")
                self.assertEqual(lamp.manifest.inputs.fields[1].kind, "integer")
                rows = [{"height_m": 5.0, "zone": zone} for zone in (0, 1, 2)]
                wanted = model.predict_proba(
                    pd.DataFrame(rows).assign(zone=pd.Categorical([0, 1, 2], categories=zones["zone"].cat.categories))
                )
                for original in (False, True):
                    given = self.asked(lamp, rows, original)
                    np.testing.assert_allclose([list(row["scores"].values()) for row in given], wanted, rtol=1e-6)
                with self.assertRaises(LampPostError):
                    self.asked(lamp, [{"height_m": 5.0, "zone": 99}], original=True)

    def asked(self, lamp: Lamp, rows: list[dict[str, Any]], original: bool) -> list[dict[str, Any]]:
        chain = open_chain(lamp.unpack(self.folder), lamp.manifest, frozenset({"skops", "pickle"}), original)
        return answer_rows_from_columns(lamp.manifest.answers, chain.run(columns_from_rows(lamp.manifest.inputs, rows)), len(rows))


class Thresholds(WithRows):
    """A label by a threshold on its score, without code."""

    MODEL = LogisticRegression().fit(X, LAMPS["failed"])

    def lamp(self, **threshold: Any) -> Lamp:
        part = lamppost.Threshold("fails", **threshold)
        return self.pack(self.MODEL, X.assign(failed=LAMPS["failed"]), target="failed", labels={0: "holds", 1: "fails"}, after=[part])

    def asked(self, lamp: Lamp, **option: float) -> list[str]:
        rows = X.head(50).to_dict("records")
        plan = ValidationPlan(lamp.manifest.inputs, options=lamp.manifest.options)
        read = plan.read_rows(rows)
        options = {field.name: option.get(field.name, field.default) for field in lamp.manifest.options or ()}
        columns = columns_from_rows(lamp.manifest.columns, [{**row, **options} for row in read])
        chain = open_chain(lamp.unpack(self.folder), lamp.manifest, frozenset({"skops"}))
        return [row["label"] for row in answer_rows_from_columns(lamp.manifest.answers, chain.run(columns), len(rows))]

    def labels(self, cut: float) -> list[str]:
        return np.where(self.MODEL.predict_proba(X.head(50))[:, 1] >= cut, "fails", "holds").tolist()

    def test_the_option_of_a_call_moves_it_and_the_scores_stay(self) -> None:
        lamp = self.lamp(default=0.2)
        self.assertEqual((lamp.manifest.answers.names, lamp.manifest.serves_graphs), (("label", "scores"), True))
        self.assertEqual(self.asked(lamp), self.labels(0.2))
        self.assertEqual(self.asked(lamp, threshold=0.05), self.labels(0.05))
        self.assertNotEqual(self.labels(0.05), self.labels(0.2))

    def test_without_an_option_it_is_fixed(self) -> None:
        lamp = self.lamp(default=0.1, option=None)
        self.assertEqual((lamp.manifest.options, self.asked(lamp)), (None, self.labels(0.1)))

    def test_of_several_labels_the_next_likely_is_answered_below_it(self) -> None:
        grade = LAMPS["grade"]
        model = LogisticRegression(max_iter=500).fit(X, grade)
        lamp = self.pack(model, X.assign(grade=grade), target="grade", after=[lamppost.Threshold("old", default=0.9, option=None)])
        scores = model.predict_proba(X.head(50))
        others = np.delete(model.classes_, list(model.classes_).index("old"))
        next_likely = others[np.delete(scores, list(model.classes_).index("old"), axis=1).argmax(axis=1)]
        expected = np.where(scores[:, list(model.classes_).index("old")] >= 0.9, "old", next_likely)
        self.assertEqual(self.asked(lamp), expected.tolist())

    def test_what_has_no_such_label_or_no_scores_is_refused(self) -> None:
        with self.assertRaises(BadRequest) as caught:
            self.pack(self.MODEL, X.assign(failed=LAMPS["failed"]), target="failed", after=[lamppost.Threshold("fails")])
        self.assertIn("the labels are 0, 1", caught.exception.detail)
        with self.assertRaises(BadRequest) as caught:
            self.pack(LinearRegression().fit(X, LAMPS["kwh"]), X, after=[lamppost.Threshold("fails")])
        self.assertIn("needs a classifier before it", caught.exception.detail)
        with self.assertRaises(BadRequest):
            lamppost.Threshold("fails", default=1.5)
