"""Says of fitted objects what their classes are known to do: only scikit-learn's and the boosting libraries' own methods are known.

Rows cannot tell it: on rows that it was fitted on, an overfitted model with another threshold gives the class of its highest score
everywhere.
"""

from __future__ import annotations

from collections.abc import Mapping
from inspect import getattr_static
from typing import Any, TypeVar

from lamppost.package.boosted_model import BoostedModel, library_of
from lamppost.packing.compiling.graph import NotCompiled

T = TypeVar("T")

_METHODS = ("predict", "predict_proba", "predict_log_proba", "decision_function", "transform")


def unchanged(fitted: Any, known: type) -> bool:
    """Whether an object of a class, or of a class derived from it, answers with that class's own methods."""
    kind = type(fitted)
    return all(getattr_static(kind, name, None) is getattr_static(known, name, None) for name in _METHODS)


def converter_for(fitted: Any, converters: Mapping[str, T]) -> T | None:
    """The converter of the object's class, or of the first of scikit-learn's classes that it is derived from.

    Raise NotCompiled where the derived class has methods of its own.
    """
    for kind in type(fitted).__mro__:
        if kind.__module__.partition(".")[0] == "sklearn" and (converter := converters.get(kind.__name__)):
            if not unchanged(fitted, kind):
                raise NotCompiled(f"{type(fitted).__name__}, which answers otherwise than {kind.__name__}")
            return converter
    return None


def label_is_highest_score(model: Any) -> bool:
    """Whether ``predict`` is defined as the argmax of ``predict_proba``; read in the sources of scikit-learn 1.9, LightGBM and XGBoost."""
    from sklearn import calibration, ensemble, pipeline, semi_supervised, tree

    if type(model) is pipeline.Pipeline:
        return label_is_highest_score(model.steps[-1][1])
    if isinstance(getattr(model, "_model", model), BoostedModel):
        return True
    if library := library_of(model):
        own = next(kind for kind in type(model).__mro__ if kind.__module__.partition(".")[0] == library)
        return unchanged(model, own)
    known = (
        *(tree.DecisionTreeClassifier, tree.ExtraTreeClassifier, ensemble.RandomForestClassifier, ensemble.ExtraTreesClassifier),
        *(ensemble.BaggingClassifier, ensemble.VotingClassifier, calibration.CalibratedClassifierCV),
        *(semi_supervised.LabelPropagation, semi_supervised.LabelSpreading),
    )
    if getattr(model, "voting", "soft") != "soft":
        return False
    return any(isinstance(model, kind) and unchanged(model, kind) for kind in known)
