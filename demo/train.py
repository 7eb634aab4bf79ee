"""Training ``outage-risk``: will this lamp fail within 30 days?"""

from __future__ import annotations

from pathlib import Path

import pandas as pd
from sklearn.compose import ColumnTransformer
from sklearn.ensemble import HistGradientBoostingClassifier, RandomForestClassifier
from sklearn.impute import SimpleImputer
from sklearn.linear_model import LogisticRegression
from sklearn.metrics import accuracy_score, roc_auc_score
from sklearn.model_selection import train_test_split
from sklearn.pipeline import Pipeline, make_pipeline
from sklearn.preprocessing import OneHotEncoder, OrdinalEncoder, SplineTransformer, StandardScaler

import lamppost
from demo.lamps import FIELDS, make_lamps

TARGET = "failed"
CHOICES = ["district", "lamp_type", "maker"]
NUMBERS = ["age_years", "height_m", "voltage_v", "flicker_per_night", "nights_since_visit"]
FLAGS = ["under_trees"]


def outage_pipeline(trees: int = 100, depth: int = 12) -> Pipeline:
    """The unfitted pipeline: choices filled and one-hot encoded, numbers filled and scaled, then a forest."""
    columns = ColumnTransformer(
        [
            ("choices", make_pipeline(SimpleImputer(strategy="most_frequent"), OneHotEncoder(handle_unknown="ignore")), CHOICES),
            ("numbers", make_pipeline(SimpleImputer(strategy="median"), StandardScaler()), NUMBERS),
            ("flags", "passthrough", FLAGS),
        ]
    )
    forest = RandomForestClassifier(trees, max_depth=depth, min_samples_leaf=4, n_jobs=2, random_state=30)
    return Pipeline([("columns", columns), ("forest", forest)])


def curved_pipeline() -> Pipeline:
    """An unfitted pipeline that adds effects up on the scale of odds, with curves for voltage and flicker: both too low and too high a
    voltage wear a lamp out, which steps of trees follow only roughly.
    """
    curved = ["voltage_v", "flicker_per_night"]
    plain = [name for name in NUMBERS if name not in curved]
    columns = ColumnTransformer(
        [
            ("choices", make_pipeline(SimpleImputer(strategy="most_frequent"), OneHotEncoder(handle_unknown="ignore")), CHOICES),
            ("numbers", make_pipeline(SimpleImputer(strategy="median"), StandardScaler()), plain),
            ("curves", make_pipeline(SimpleImputer(strategy="median"), SplineTransformer(n_knots=6)), curved),
            ("flags", "passthrough", FLAGS),
        ]
    )
    return Pipeline([("columns", columns), ("odds", LogisticRegression(max_iter=2_000))])


def train_outage_risk(pipeline: Pipeline | None = None) -> tuple[Pipeline, pd.DataFrame, dict[str, float], list[bool]]:
    """The fitted pipeline (the forest unless another is given), the frame (target included), its metrics on held-out lamps, and which those
    are.
    """
    lamps = make_lamps()
    train, held_out = train_test_split(lamps, test_size=0.2, random_state=30, stratify=lamps[TARGET])
    inputs = CHOICES + NUMBERS + FLAGS
    pipeline = (pipeline or outage_pipeline()).fit(train[inputs], train[TARGET])
    scores = pipeline.predict_proba(held_out[inputs])[:, 1]
    metrics = {
        "accuracy": round(float(accuracy_score(held_out[TARGET], scores > 0.5)), 4),
        "roc_auc": round(float(roc_auc_score(held_out[TARGET], scores)), 4),
    }
    return pipeline, lamps, metrics, lamps.index.isin(held_out.index).tolist()


def pack_refit(to: Path) -> None:
    """``outage-risk`` as somebody else packed it: trained with encoders fitted on all lamps, served by code that fits them again.

    The package is written unproven, as another machine might; its proof holds what training really said.
    """
    lamps = make_lamps()
    inputs = lamps[CHOICES + NUMBERS + FLAGS]
    text = inputs[CHOICES].astype(object).where(inputs[CHOICES].notna(), "None").astype(str)
    codes = OrdinalEncoder().fit_transform(text)
    seen = inputs[NUMBERS + FLAGS].assign(**{f"{name}_code": codes[:, at] for at, name in enumerate(CHOICES)})
    model = HistGradientBoostingClassifier(max_iter=60, random_state=30).fit(seen, lamps[TARGET])
    scores = model.predict_proba(seen)
    answers = [{"label": "fails" if b > a else "holds", "scores": {"holds": a, "fails": b}} for a, b in scores.tolist()]
    gives = {f"{name}_code": {"kind": "number"} for name in CHOICES}
    lamppost.pack(
        model,
        inputs,
        name="outage-risk",
        labels=["holds", "fails"],
        fields=FIELDS,
        to=to,
        answers=answers,
        prove=False,
        quiet=True,
        by="night-shift",
        before=[lamppost.Code(Path(__file__).with_name("refit.py"), "refit:Encode", CHOICES, gives)],
        notes="Boosted trees. The serving code encodes the choices.",
    )
