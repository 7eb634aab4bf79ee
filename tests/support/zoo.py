"""One model of each kind of scikit-learn's collection that people put into service, on Tallowby's lamps; shared by tests and docs."""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import dataclass
from typing import Any

import numpy as np
import pandas as pd
from sklearn import calibration, cluster, ensemble, linear_model, multiclass, multioutput, naive_bayes, neighbors, neural_network, svm, tree
from sklearn.compose import ColumnTransformer, TransformedTargetRegressor
from sklearn.decomposition import PCA, TruncatedSVD
from sklearn.feature_extraction.text import TfidfVectorizer
from sklearn.feature_selection import SelectKBest
from sklearn.impute import SimpleImputer
from sklearn.pipeline import FeatureUnion, make_pipeline
from sklearn.preprocessing import (
    FunctionTransformer,
    MinMaxScaler,
    Normalizer,
    OneHotEncoder,
    OrdinalEncoder,
    PolynomialFeatures,
    RobustScaler,
    StandardScaler,
    TargetEncoder,
)

from demo.lamps import make_lamps
from demo.train import CHOICES, FLAGS, NUMBERS
from lamppost.packing.recipe import Recipe
from tests.support.lamps import PackedModel, packed_once


@dataclass(frozen=True)
class Kind:
    """A model, fitted. why_not : part of the reason where it is known not to compile."""

    name: str
    model: Any
    frame: pd.DataFrame
    target: str
    why_not: str | None = None


def columns(*numeric: Any) -> ColumnTransformer:
    fill = SimpleImputer(strategy="most_frequent")
    return ColumnTransformer(
        [
            ("choices", make_pipeline(fill, OneHotEncoder(handle_unknown="ignore")), CHOICES),
            ("numbers", make_pipeline(SimpleImputer(), *numeric), NUMBERS),
            ("flags", "passthrough", FLAGS),
        ]
    )


def encoded() -> ColumnTransformer:
    """Choices as numbers by their target's mean, numbers with their gaps."""
    fill = SimpleImputer(strategy="constant", fill_value="?")
    ordinal = OrdinalEncoder(handle_unknown="use_encoded_value", unknown_value=-1)
    return ColumnTransformer(
        [
            ("a", make_pipeline(fill, TargetEncoder(random_state=1)), CHOICES[:2]),
            ("b", make_pipeline(fill, ordinal), CHOICES[2:]),
            ("c", "passthrough", NUMBERS),
        ]
    )


def numbers_only(*steps: Any) -> Any:
    return make_pipeline(ColumnTransformer([("numbers", SimpleImputer(), NUMBERS)]), *steps)


def models() -> list[tuple[str, Callable[[], Any], str, str | None]]:
    """Name, how to make it, what it predicts, and why it does not compile."""
    scaled = lambda *steps: make_pipeline(columns(StandardScaler()), *steps)  # noqa: E731
    return [
        ("logistic regression", lambda: scaled(linear_model.LogisticRegression(max_iter=500)), "failed", None),
        ("logistic regression, 3 classes", lambda: scaled(linear_model.LogisticRegression(max_iter=500)), "grade", None),
        ("log-loss SGD", lambda: scaled(linear_model.SGDClassifier(loss="log_loss", random_state=1)), "failed", None),
        ("ridge classifier (no scores)", lambda: scaled(linear_model.RidgeClassifier()), "grade", None),
        ("linear SVM (no scores)", lambda: scaled(svm.LinearSVC(random_state=1)), "failed", None),
        ("decision tree", lambda: make_pipeline(columns(), tree.DecisionTreeClassifier(max_depth=6, random_state=1)), "grade", None),
        ("random forest", lambda: make_pipeline(columns(), ensemble.RandomForestClassifier(30, random_state=1)), "failed", None),
        (
            "random forest, 3 classes",
            lambda: make_pipeline(columns(), ensemble.RandomForestClassifier(20, max_depth=8, random_state=1)),
            "grade",
            None,
        ),
        ("extra trees, regression", lambda: make_pipeline(columns(), ensemble.ExtraTreesRegressor(20, random_state=1)), "kwh", None),
        (
            "gradient boosting",
            lambda: make_pipeline(columns(), ensemble.GradientBoostingClassifier(n_estimators=20, random_state=1)),
            "grade",
            None,
        ),
        (
            "gradient boosting, regression",
            lambda: make_pipeline(columns(), ensemble.GradientBoostingRegressor(n_estimators=20)),
            "kwh",
            None,
        ),
        (
            "histogram boosting with gaps",
            lambda: make_pipeline(encoded(), ensemble.HistGradientBoostingClassifier(max_iter=20)),
            "failed",
            None,
        ),
        (
            "histogram boosting, 3 classes",
            lambda: make_pipeline(encoded(), ensemble.HistGradientBoostingClassifier(max_iter=10)),
            "grade",
            None,
        ),
        (
            "histogram boosting, Poisson",
            lambda: make_pipeline(encoded(), ensemble.HistGradientBoostingRegressor(loss="poisson", max_iter=20)),
            "kwh",
            None,
        ),
        (
            "linear regression, log target",
            lambda: TransformedTargetRegressor(scaled(linear_model.Ridge()), func=np.log1p, inverse_func=np.expm1),
            "kwh",
            None,
        ),
        (
            "log target inside a chain",
            lambda: scaled(TransformedTargetRegressor(linear_model.Ridge(), func=np.log1p, inverse_func=np.expm1)),
            "kwh",
            None,
        ),
        (
            "elastic net on polynomials",
            lambda: numbers_only(StandardScaler(), PolynomialFeatures(2), linear_model.ElasticNet(0.01)),
            "kwh",
            None,
        ),
        ("Poisson regression", lambda: scaled(linear_model.PoissonRegressor()), "kwh", None),
        (
            "PCA and a network",
            lambda: make_pipeline(
                columns(RobustScaler(), PCA(3, whiten=True)), neural_network.MLPClassifier((16,), max_iter=60, random_state=1)
            ),
            "grade",
            None,
        ),
        (
            "network, regression",
            lambda: make_pipeline(
                columns(MinMaxScaler()), neural_network.MLPRegressor(hidden_layer_sizes=(8,), max_iter=60, random_state=1)
            ),
            "kwh",
            None,
        ),
        (
            "naive Bayes on a union",
            lambda: numbers_only(FeatureUnion([("pca", PCA(2)), ("best", SelectKBest(k=2))]), naive_bayes.GaussianNB()),
            "failed",
            None,
        ),
        (
            "SVD, norm and logs",
            lambda: numbers_only(
                FunctionTransformer(np.abs),
                FunctionTransformer(np.log1p),
                Normalizer(),
                TruncatedSVD(3, random_state=1),
                linear_model.LogisticRegression(),
            ),
            "failed",
            None,
        ),
        ("k-means clusters", lambda: numbers_only(StandardScaler(), cluster.KMeans(4, n_init=2, random_state=1)), "cluster", None),
        (
            "voting",
            lambda: scaled(
                ensemble.VotingClassifier(
                    [("a", linear_model.LogisticRegression(max_iter=500)), ("b", tree.DecisionTreeClassifier(max_depth=4))], voting="soft"
                )
            ),
            "failed",
            None,
        ),
        ("nearest neighbours", lambda: scaled(neighbors.KNeighborsClassifier()), "failed", None),
        ("kernel SVM", lambda: scaled(svm.SVC(random_state=1)), "grade", None),
        ("neighbours within a radius", lambda: scaled(neighbors.RadiusNeighborsClassifier(50.0)), "failed", "RadiusNeighborsClassifier"),
        ("nearest centre", lambda: scaled(neighbors.NearestCentroid()), "grade", "NearestCentroid"),
        (
            "calibrated",
            lambda: scaled(calibration.CalibratedClassifierCV(linear_model.LogisticRegression(max_iter=500), cv=2)),
            "failed",
            None,
        ),
    ]


def frame() -> pd.DataFrame:
    lamps = make_lamps(1_500, seed=11)
    rng = np.random.default_rng(5)
    lamps["grade"] = np.select([lamps.age_years < 8, lamps.age_years < 16], ["new", "fair"], "old")
    lamps["kwh"] = (0.4 + 0.05 * lamps.height_m + 0.02 * lamps.age_years + rng.gamma(2.0, 0.1, len(lamps))).round(3)
    return lamps


def fitted(make: Callable[[], Any], target: str, lamps: pd.DataFrame) -> tuple[Any, pd.DataFrame]:
    """The fitted model, and the frame to pack it with."""
    inputs = lamps[CHOICES + NUMBERS + FLAGS]
    if target == "cluster":
        return make().fit(inputs), inputs
    return make().fit(inputs, lamps[target]), inputs.assign(**{target: lamps[target]})


def packed(name: str, make: Callable[[], Any], target: str, lamps: pd.DataFrame) -> PackedModel:
    """A model of `models`, fitted and packed once a run."""

    def pack() -> tuple[Any, pd.DataFrame, Recipe]:
        model, table = fitted(make, target, lamps)
        return model, table, Recipe("kind", target if target in table else None, fields={"maker": {"unseen": "accept"}}, insight=False)

    return packed_once(f"zoo {name}", pack)


NOTES = [" ".join(words) for words in np.random.default_rng(0).choice(["dark", "lamp", "hums", "street", "open", "door", "wire"], (900, 6))]


def others() -> list[tuple[str, Any, pd.DataFrame, str | list[str]]]:
    """Fitted models that do not predict one thing from a table: name, model, frame, target."""
    lamps = frame()
    numbers = lamps[["height_m", "voltage_v", "flicker_per_night"]].fillna(0)
    both = lamps[["kwh", "age_years"]]
    flags = pd.DataFrame({"old": (lamps.age_years > 15).astype(int), "tall": (lamps.height_m > 6).astype(int)})
    labels = pd.DataFrame({"grade": lamps.grade, "state": np.where(lamps.failed, "fails", "holds")})
    about = pd.DataFrame({"note": NOTES, "about": ["dark" if "dark" in note else "other" for note in NOTES]})
    words = make_pipeline(TfidfVectorizer(ngram_range=(1, 2)), linear_model.LogisticRegression()).fit(about["note"], about["about"])
    forest = ensemble.RandomForestRegressor(10, random_state=0).fit(numbers, both)
    several = multiclass.OneVsRestClassifier(linear_model.LogisticRegression(max_iter=500)).fit(numbers, flags)
    two = multioutput.MultiOutputClassifier(linear_model.LogisticRegression(max_iter=500)).fit(numbers, labels)
    return [
        ("TF-IDF of a text", words, about, "about"),
        ("several targets, regression forest", forest, numbers.assign(**both), ["kwh", "age_years"]),
        ("several labels, one against the rest", several, numbers.assign(**flags), ["old", "tall"]),
        ("several targets, labels", two, numbers.assign(**labels), ["grade", "state"]),
    ]
