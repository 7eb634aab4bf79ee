"""LightGBM and XGBoost: carried in their own open formats, compiled where that is exact, and answering as the library does."""

import json
import tempfile
import unittest
import warnings
from collections.abc import Callable
from pathlib import Path
from typing import Any

import lightgbm as lgb
import numpy as np
import pandas as pd
import xgboost as xgb
from sklearn.pipeline import make_pipeline

from lamppost.core.errors import PackageRefused
from lamppost.core.infer import columns_of
from lamppost.core.steps import Booster, SklearnStep
from lamppost.package.boosted_model import load_trees
from lamppost.package.read import read_lamp
from lamppost.packing.build import build
from lamppost.packing.recipe import Recipe
from lamppost.runtime.steps import open_chain
from tests.support import zoo

LAMPS = zoo.frame()
INPUTS = LAMPS[zoo.CHOICES + zoo.NUMBERS + zoo.FLAGS]
NUMBERS = LAMPS[zoo.NUMBERS]
CATEGORIES = INPUTS.assign(**{name: INPUTS[name].astype("category") for name in zoo.CHOICES})
FAILED, GRADE = LAMPS["failed"].astype(int), LAMPS["grade"].map({"new": 0, "fair": 1, "old": 2})
GRADES = ["new", "fair", "old"]
KWH, PLAIN = LAMPS["kwh"], NUMBERS.to_numpy()
BINARY, THREE = {"objective": "binary", "verbose": -1}, {"objective": "multi:softprob", "num_class": 3}
SMALL = {"n_estimators": 20, "verbose": -1}

FEW = {"n_estimators": 20}


def _in_chain(trees: Any) -> Any:
    return make_pipeline(zoo.columns(), trees).fit(INPUTS, FAILED)


# name, fitted model, frame of inputs, target, labels, whether it compiles
Case = tuple[str, Callable[[], Any], pd.DataFrame, str, list[str] | None, bool]
CASES: list[Case] = [
    ("LightGBM in a chain", lambda: _in_chain(lgb.LGBMClassifier(**SMALL)), INPUTS, "failed", None, True),
    ("LightGBM, 3 classes", lambda: lgb.LGBMClassifier(**SMALL).fit(NUMBERS, LAMPS["grade"]), NUMBERS, "grade", None, True),
    ("LightGBM, regression with gaps", lambda: lgb.LGBMRegressor(**SMALL).fit(NUMBERS, KWH), NUMBERS, "kwh", None, True),
    ("LightGBM, Poisson", lambda: lgb.LGBMRegressor(objective="poisson", **SMALL).fit(PLAIN, KWH), NUMBERS, "kwh", None, True),
    ("LightGBM, categories", lambda: lgb.LGBMClassifier(**SMALL).fit(CATEGORIES, FAILED), CATEGORIES, "failed", None, False),
    ("LightGBM's own booster", lambda: lgb.train(BINARY, lgb.Dataset(PLAIN, FAILED), 15), NUMBERS, "failed", ["holds", "fails"], True),
    ("XGBoost in a chain", lambda: _in_chain(xgb.XGBClassifier(**FEW)), INPUTS, "failed", None, True),
    ("XGBoost, 3 classes", lambda: xgb.XGBClassifier(**FEW).fit(NUMBERS, GRADE), NUMBERS, "grade", GRADES, True),
    ("XGBoost, regression with gaps", lambda: xgb.XGBRegressor(**FEW).fit(NUMBERS, KWH), NUMBERS, "kwh", None, True),
    ("XGBoost, gamma", lambda: xgb.XGBRegressor(objective="reg:gamma", **FEW).fit(NUMBERS, KWH), NUMBERS, "kwh", None, True),
    ("XGBoost, stopped early", lambda: _stopped(), NUMBERS, "failed", None, True),
    ("XGBoost, categories", lambda: _with_categories(), CATEGORIES, "failed", None, False),
    ("XGBoost's own booster", lambda: xgb.train(THREE, xgb.DMatrix(PLAIN, GRADE), 10), NUMBERS, "grade", GRADES, True),
]


def _with_categories() -> Any:
    return xgb.XGBClassifier(enable_categorical=True, **FEW).fit(CATEGORIES, FAILED)


def _stopped() -> Any:
    model = xgb.XGBClassifier(n_estimators=60, early_stopping_rounds=3, learning_rate=0.5)
    return model.fit(NUMBERS[:1000], FAILED[:1000], eval_set=[(NUMBERS[1000:], FAILED[1000:])], verbose=False)


def said_by(model: Any, frame: pd.DataFrame) -> Any:
    """What the library says: scores where there are some, else values."""
    if isinstance(model, lgb.Booster):
        return model.predict(frame.to_numpy())
    if isinstance(model, xgb.Booster):
        return model.predict(xgb.DMatrix(frame.to_numpy()))
    if hasattr(model, "predict_proba"):
        return model.predict_proba(frame)
    return model.predict(frame if hasattr(model, "feature_names_in_") else frame.to_numpy())


class EveryKind(unittest.TestCase):
    def test_original_and_graph_answer_as_the_library_does(self) -> None:
        for name, make, frame, target, labels, compiles in CASES:
            with self.subTest(name), tempfile.TemporaryDirectory() as folder, warnings.catch_warnings():
                warnings.simplefilter("ignore")
                model = make()
                path = Path(folder) / "m.lamp"
                build(model, frame.assign(**{target: LAMPS[target]}), Recipe("m", target, labels), path)
                lamp = read_lamp(path)
                step = lamp.manifest.steps[0]
                assert isinstance(step, SklearnStep)
                assert step.booster is not None
                self.assertEqual(step.compiled is not None, compiles, step.not_compiled)
                unpacked = lamp.unpack(Path(folder))
                self.assertRegex((unpacked / step.booster.file).read_bytes()[:40], rb"^tree\n|^\{")
                wanted = np.asarray(said_by(model, frame), dtype=np.float64)
                for original in (False, True):
                    chain = open_chain(unpacked, lamp.manifest, frozenset({"skops"}), original)
                    given = np.asarray(chain.run(columns_of(lamp.manifest.inputs, frame))[-1].values)
                    given = given[:, 1] if given.ndim > wanted.ndim else given
                    np.testing.assert_allclose(given, wanted, rtol=2e-6, atol=2e-6)

    def test_no_pickle_is_needed(self) -> None:
        with tempfile.TemporaryDirectory() as folder:
            path = Path(folder) / "m.lamp"
            frame = NUMBERS.assign(kwh=LAMPS["kwh"])
            build(lgb.LGBMRegressor(**SMALL).fit(NUMBERS, LAMPS["kwh"]), frame, Recipe("m", "kwh", compile=False), path)
            lamp = read_lamp(path)
            self.assertEqual(lamp.manifest.formats, frozenset())
            self.assertEqual([name for name in lamp.manifest.members if name.startswith("steps")], ["steps/0/trees.txt"])
            self.assertIn("lightgbm", lamp.manifest.story.libraries)

    def test_damaged_trees_are_refused(self) -> None:
        for library, data in (("lightgbm", b"no trees"), ("xgboost", json.dumps({"learner": 1}).encode())):
            with self.assertRaisesRegex(PackageRefused, f"{library} cannot read t"):
                load_trees(None, Booster(library, "t"), data, 2)  # type: ignore[arg-type]
