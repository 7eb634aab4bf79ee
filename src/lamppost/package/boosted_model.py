"""Stores and opens boosted trees in their libraries' own formats, LightGBM's text and XGBoost's JSON, instead of pickles.

A chain that ends in such trees is kept in two files: the pieces before as a fitted object, the trees as text. Both together
answer like the estimator they came from: ``predict``, ``predict_proba`` and ``classes_`` as in scikit-learn.
"""

from __future__ import annotations

from typing import Any, Literal

import numpy as np

from lamppost.core.artifact.steps import BoosterFiles
from lamppost.core.errors import BadRequest, PackageRefused

Library = Literal["lightgbm", "xgboost"]


def library_of(model: Any) -> Library | None:
    """Which library's trees a model is, by its class and those above it; nothing is imported."""
    roots = {kind.__module__.partition(".")[0] for kind in type(model).__mro__}
    return "lightgbm" if "lightgbm" in roots else "xgboost" if "xgboost" in roots else None


def split(model: Any) -> tuple[Any | None, Any]:
    """The pieces before the trees (None where there are none), and the trees' own estimator or booster."""
    if type(model).__name__ == "Pipeline" and library_of(model.steps[-1][1]):
        return (model[:-1] if len(model.steps) > 1 else None), model.steps[-1][1]
    return None, model


def dump_trees(model: Any) -> tuple[bytes, int | None]:
    """The trees in their library's open format, and how many rounds of them are used (None for all)."""
    if library_of(model) == "lightgbm":
        booster = getattr(model, "booster_", model)
        best = booster.best_iteration if booster.best_iteration > 0 else None
        return booster.model_to_string(num_iteration=best).encode(), None
    booster = model.get_booster() if hasattr(model, "get_booster") else model
    best = booster.attr("best_iteration")
    return bytes(booster.save_raw("json")), None if best is None else int(best) + 1


class BoostedModel:
    """Trees read back, behind the pieces before them; a regressor's."""

    def __init__(self, before: Any | None, step: BoosterFiles, data: bytes) -> None:
        self.library, self.data, self.rounds = step.library, data, step.rounds
        self._before = before
        self._ask = _lightgbm(data) if step.library == "lightgbm" else _xgboost(data, step.rounds)

    def predict(self, matrix: Any) -> Any:
        """What the trees say, float64: a number a row, or a score for each class."""
        return np.asarray(self._ask(matrix if self._before is None else self._before.transform(matrix)), dtype=np.float64)


class BoostedClassifier:
    """A classifier's trees; classes are numbers from 0."""

    def __init__(self, model: BoostedModel, n_labels: int) -> None:
        self._model = model
        self.classes_ = np.arange(n_labels)

    def predict(self, matrix: Any) -> Any:
        """The class with the highest score."""
        return self.predict_proba(matrix).argmax(axis=1)

    def predict_proba(self, matrix: Any) -> Any:
        """Scores (n_rows, n_labels); trees of two classes give that of the second only."""
        predicted = self._model.predict(matrix)
        return np.column_stack([1.0 - predicted, predicted]) if predicted.ndim == 1 else predicted


def load_trees(before: Any | None, step: BoosterFiles, data: bytes, n_labels: int) -> BoostedModel | BoostedClassifier:
    """The model back from its files; raise PackageRefused where its library is not installed or refuses the file."""
    try:
        model = BoostedModel(before, step, data)
        return BoostedClassifier(model, n_labels) if n_labels else model
    except ImportError as error:
        raise PackageRefused(f"{step.library} is not installed here; install lamppost[trees], or pack a compiled form") from error
    except Exception as error:  # both raise errors of their own for files that they cannot read
        raise PackageRefused(f"{step.library} cannot read {step.file} ({type(error).__name__}: {error})"[:300]) from error


def _lightgbm(data: bytes) -> Any:
    import lightgbm

    booster = lightgbm.Booster(model_str=data.decode())
    return lambda matrix: booster.predict(matrix, num_threads=1)


def _xgboost(data: bytes, rounds: int | None) -> Any:
    import xgboost

    booster = xgboost.Booster({"nthread": 1})
    booster.load_model(bytearray(data))
    used = (0, rounds or 0)

    def ask(matrix: Any) -> Any:
        frame = hasattr(matrix, "dtypes")
        rows = xgboost.DMatrix(matrix, nthread=1, enable_categorical=frame)
        return booster.predict(rows, iteration_range=used)

    return ask


def n_classes(model: Any) -> int:
    """How many classes the trees tell apart, 0 for a regressor; raise BadRequest for objectives that rank or leave out scores."""
    if hasattr(model, "classes_"):
        return len(model.classes_)
    if hasattr(model, "get_params"):
        return 0
    objective = _objective(model)
    if objective.startswith(("multi:softmax",)):
        raise BadRequest("trees trained for multi:softmax give no scores; train with multi:softprob, or pack the scikit-learn estimator")
    if objective.startswith(("binary:logistic", "binary sigmoid", "binary", "cross_entropy")):
        return 2
    if objective.startswith(("multi:softprob", "multiclass")):
        return int(_number_of_classes(model))
    return 0


def _objective(booster: Any) -> str:
    if library_of(booster) == "lightgbm":
        return str(booster.dump_model(num_iteration=1).get("objective", ""))
    import json

    return str(json.loads(booster.save_config())["learner"]["objective"]["name"])


def _number_of_classes(booster: Any) -> int:
    if library_of(booster) == "lightgbm":
        return int(booster.num_model_per_iteration())
    import json

    return int(json.loads(booster.save_config())["learner"]["learner_model_param"]["num_class"])
