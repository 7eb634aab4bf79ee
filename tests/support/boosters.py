"""LightGBM and XGBoost models of the kinds that people put into service, on Tallowby's lamps; shared by tests and docs."""

from collections.abc import Callable
from typing import Any

import lightgbm as lgb
import pandas as pd
import xgboost as xgb
from sklearn.pipeline import make_pipeline

from lamppost.packing.recipe import Recipe
from tests.support import zoo
from tests.support.lamps import PackedModel, packed_once

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


def packed(name: str, make: Callable[[], Any], frame: pd.DataFrame, target: str, labels: list[str] | None) -> PackedModel:
    """A model of `CASES`, fitted and packed once a run."""
    return packed_once(name, lambda: (make(), frame.assign(**{target: LAMPS[target]}), Recipe("kind", target, labels)))


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
