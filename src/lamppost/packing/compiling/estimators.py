"""Writes estimators as graph nodes: a feature tensor in, label codes, scores or a value out."""

from __future__ import annotations

from collections.abc import Callable
from typing import Any

import numpy as np
from onnx import TensorProto

from lamppost.package.boosted_model import BoostedModel, library_of
from lamppost.packing.compiling import trees
from lamppost.packing.compiling.boosted import boosted
from lamppost.packing.compiling.graph import Answer, Graph, NotCompiled, Tensor, only_of_finite, sigmoid, softmax, two_classes
from lamppost.packing.compiling.known_types import converter_for
from lamppost.packing.compiling.transformers import function


def estimate(graph: Graph, fitted: Any, tensor: Tensor) -> Answer:
    """The answers of ``predict`` and ``predict_proba`` of a fitted estimator; raise NotCompiled for an unsupported one."""
    if library_of(fitted) or isinstance(getattr(fitted, "_model", fitted), BoostedModel):
        return boosted(graph, fitted, tensor)
    if converter := converter_for(fitted, _KNOWN):
        return _finite(graph, fitted, tensor, converter(graph, fitted, tensor))
    raise NotCompiled(type(fitted).__name__)


def _finite(graph: Graph, fitted: Any, tensor: Tensor, answer: Answer) -> Answer:
    """The answer, and no number where scikit-learn raises because a value is infinite, or too large for the float32 of its trees."""
    from sklearn.utils import get_tags

    reads_float32 = any(kind.__name__ in _READS_FLOAT32 for kind in type(fitted).__mro__)
    if type(fitted).__name__ in _READS_INFINITY or not (graph.may_overflow or reads_float32):
        return answer
    seen = trees.as_float32(graph, tensor) if reads_float32 else tensor
    return only_of_finite(graph, seen, answer, get_tags(fitted).input_tags.allow_nan)


def argmax(graph: Graph, tensor: Tensor) -> str:
    """The first highest column of each row, int64 of shape (n_rows,)."""
    return graph.add("ArgMax", tensor.name, axis=1, keepdims=0, select_last_index=0)


# -- pieces -----------------------------------------------------------------------------------------------------------


def _linear(graph: Graph, fitted: Any, tensor: Tensor) -> Tensor:
    weights = np.atleast_2d(np.asarray(fitted.coef_, dtype=np.float64)).T
    return graph.matmul(tensor, weights, np.asarray(fitted.intercept_, dtype=np.float64).reshape(-1))


def _both_sides(graph: Graph, decision: Tensor) -> Tensor:
    """A single column of decisions as one for each class, of which the winner's is 1: at zero and below the first class wins."""
    return decision if decision.width > 1 else _winner(graph, "Greater", decision)


def _winner(graph: Graph, compare: str, decision: Tensor) -> Tensor:
    """Comparing, and not computing, because a decision may be infinite."""
    second = graph.add("Cast", graph.add(compare, decision.name, graph.constant(np.float64(0))), to=TensorProto.DOUBLE)
    return two_classes(graph, Tensor(second, 1))


# -- linear -----------------------------------------------------------------------------------------------------------


def _logistic(graph: Graph, fitted: Any, tensor: Tensor) -> Answer:
    decision = _linear(graph, fitted, tensor)
    if decision.width == 1:
        return Answer(two_classes(graph, sigmoid(graph, decision)), _both_sides(graph, decision))
    if getattr(fitted, "solver", None) == "liblinear":
        return Answer(_share(graph, sigmoid(graph, decision)), decision)
    return Answer(softmax(graph, decision), decision)


def _share(graph: Graph, tensor: Tensor) -> Tensor:
    total = graph.add("ReduceSum", tensor.name, graph.constant(np.array([1])), keepdims=1)
    return Tensor(graph.add("Div", tensor.name, total), tensor.width)


def _sgd(graph: Graph, fitted: Any, tensor: Tensor) -> Answer:
    if not hasattr(fitted, "predict_proba"):
        return _by_decision(graph, fitted, tensor)
    if fitted.loss != "log_loss":
        raise NotCompiled(f"SGDClassifier with {fitted.loss}")
    decision = _linear(graph, fitted, tensor)
    scores = sigmoid(graph, decision)
    return Answer(two_classes(graph, scores) if scores.width == 1 else _share(graph, scores), _both_sides(graph, decision))


def _by_decision(graph: Graph, fitted: Any, tensor: Tensor) -> Answer:
    return Answer(decision=_both_sides(graph, _linear(graph, fitted, tensor)))


def _regression(graph: Graph, fitted: Any, tensor: Tensor) -> Answer:
    return Answer(value=_linear(graph, fitted, tensor))


def _exp_regression(graph: Graph, fitted: Any, tensor: Tensor) -> Answer:
    if type(fitted).__name__ == "TweedieRegressor" and not (fitted.link == "log" or (fitted.link == "auto" and fitted.power > 0)):
        return _regression(graph, fitted, tensor)
    value = _linear(graph, fitted, tensor)
    return Answer(value=Tensor(graph.add("Exp", value.name), 1))


# -- trees ------------------------------------------------------------------------------------------------------------


def _shares(tree: Any, fitted: Any) -> Any:
    if not hasattr(fitted, "classes_"):
        return tree.value[:, :, 0]
    values = tree.value[:, 0, :]
    return values / values.sum(axis=1, keepdims=True)


def _one_tree(graph: Graph, fitted: Any, tensor: Tensor) -> Answer:
    return _forest_of(graph, fitted, [fitted], tensor)


def _forest(graph: Graph, fitted: Any, tensor: Tensor) -> Answer:
    return _forest_of(graph, fitted, fitted.estimators_, tensor)


def _forest_of(graph: Graph, fitted: Any, grown: Any, tensor: Tensor) -> Answer:
    if fitted.n_outputs_ != 1 and hasattr(fitted, "classes_"):
        raise NotCompiled(f"{type(fitted).__name__} of several targets")
    shares = [_shares(tree.tree_, fitted) for tree in grown]
    structures = [tree.tree_ for tree in grown]
    if not hasattr(fitted, "classes_"):
        return Answer(value=trees.add_forest(graph, tensor, structures, shares))
    if len(fitted.classes_) == 2:
        return Answer(scores=two_classes(graph, trees.add_forest(graph, tensor, structures, [share[:, 1:] for share in shares])))
    return Answer(scores=trees.add_forest(graph, tensor, structures, shares))


def _boosting(graph: Graph, fitted: Any, tensor: Tensor) -> Answer:
    """Gradient boosting: start + learning rate * leaf values, through the inverse link of the loss."""
    if fitted.init is not None and fitted.init != "zero":
        raise NotCompiled("gradient boosting that starts from an estimator of its own")
    start = np.asarray(fitted._raw_predict_init(np.zeros((1, fitted.n_features_in_), dtype=np.float32)), dtype=np.float64)
    width = fitted.estimators_.shape[1]
    grown, targets = [], []
    for stage in fitted.estimators_:
        for target, tree in enumerate(stage):
            grown.append(trees.of_sklearn(tree.tree_, tree.tree_.value[:, 0, 0] * fitted.learning_rate))
            targets.append(target)
    raw = graph.affine(trees.add_ensemble(graph, trees.as_float32(graph, tensor), grown, targets, width), shift=start.reshape(-1))
    if not hasattr(fitted, "classes_"):
        return Answer(value=raw)
    if width > 1:
        return Answer(softmax(graph, raw), raw)
    decision = _winner(graph, "GreaterOrEqual", raw)
    if fitted.loss == "exponential":
        raw = graph.affine(raw, scale=[2.0])
    return Answer(two_classes(graph, sigmoid(graph, raw)), decision)


def _histogram_boosting(graph: Graph, fitted: Any, tensor: Tensor) -> Answer:
    if getattr(fitted, "is_categorical_", None) is not None:
        raise NotCompiled("histogram boosting of categorical columns")
    width = len(fitted._predictors[0])
    grown, targets = [], []
    for stage in fitted._predictors:
        for target, tree in enumerate(stage):
            grown.append(trees.of_histogram(tree.nodes))
            targets.append(target)
    start = np.asarray(fitted._baseline_prediction, dtype=np.float64).reshape(-1)
    raw = graph.affine(trees.add_ensemble(graph, tensor, grown, targets, width), shift=start)
    if hasattr(fitted, "classes_"):
        return Answer(softmax(graph, raw) if width > 1 else two_classes(graph, sigmoid(graph, raw)), _both_sides(graph, raw))
    if fitted.loss in ("poisson", "gamma"):
        raw = Tensor(graph.add("Exp", raw.name), 1)
    return Answer(value=raw)


# -- others -----------------------------------------------------------------------------------------------------------


def _network(graph: Graph, fitted: Any, tensor: Tensor) -> Answer:
    """A multi-layer perceptron."""
    operator = {"relu": "Relu", "tanh": "Tanh", "logistic": "Sigmoid", "identity": "Identity"}[fitted.activation]
    for weights, shift in zip(fitted.coefs_[:-1], fitted.intercepts_[:-1], strict=True):
        layer = graph.matmul(tensor, weights, shift)
        tensor = Tensor(graph.add(operator, layer.name), layer.width)
    raw = graph.matmul(tensor, fitted.coefs_[-1], fitted.intercepts_[-1])
    if not hasattr(fitted, "classes_"):
        if fitted.out_activation_ != "identity":
            raise NotCompiled(f"MLPRegressor with {fitted.out_activation_} at its end")
        return Answer(value=raw)
    if fitted.out_activation_ == "softmax":
        return Answer(scores=softmax(graph, raw))
    if raw.width != 1:
        raise NotCompiled("MLPClassifier of several labels")
    return Answer(scores=two_classes(graph, sigmoid(graph, raw)))


def _gaussian_bayes(graph: Graph, fitted: Any, tensor: Tensor) -> Answer:
    """Log P(c) - sum (log(2 pi var) + (x - mean)^2 / var) / 2 per class, then a softmax."""
    centred = graph.add("Sub", graph.add("Unsqueeze", tensor.name, graph.constant(np.array([1]))), graph.constant(fitted.theta_[None]))
    squares = graph.add("Div", graph.add("Mul", centred, centred), graph.constant(fitted.var_[None]))
    total = graph.add("ReduceSum", squares, graph.constant(np.array([2])), keepdims=0)
    constant = np.log(fitted.class_prior_) - 0.5 * np.sum(np.log(2.0 * np.pi * fitted.var_), axis=1)
    width = len(fitted.classes_)
    likelihood = graph.affine(Tensor(total, width), scale=np.full(width, -0.5), shift=constant)
    return Answer(softmax(graph, likelihood), likelihood)


def _clusters(graph: Graph, fitted: Any, tensor: Tensor) -> Answer:
    """The nearest centre's number: argmin |c|^2 - 2 x c."""
    centres = np.asarray(fitted.cluster_centers_, dtype=np.float64)
    far = graph.matmul(tensor, -2.0 * centres.T, (centres**2).sum(axis=1))
    nearest = graph.add("ArgMin", far.name, axis=1, keepdims=1)
    return Answer(value=Tensor(graph.add("Cast", nearest, to=TensorProto.DOUBLE), 1))


def _several(graph: Graph, fitted: Any, tensor: Tensor) -> Answer:
    """A regressor for each target, side by side."""
    estimates = [estimate(graph, estimator, tensor).value for estimator in fitted.estimators_]
    return Answer(value=graph.join([value for value in estimates if value is not None]))


def _transformed_target(graph: Graph, fitted: Any, tensor: Tensor) -> Answer:
    return undo_target(graph, fitted.transformer_, estimate(graph, fitted.regressor_, tensor))


def undo_target(graph: Graph, undo: Any, estimated: Answer) -> Answer:
    """A regressor's value back in the target's own unit."""
    if estimated.value is None:
        raise NotCompiled("TransformedTargetRegressor of no regressor")
    if type(undo).__name__ == "FunctionTransformer":
        return estimated if undo.inverse_func is None else Answer(value=function(graph, undo.inverse_func, estimated.value))
    if type(undo).__name__ == "StandardScaler":
        return Answer(value=graph.affine(estimated.value, undo.scale_ if undo.with_std else None, undo.mean_ if undo.with_mean else None))
    raise NotCompiled(f"TransformedTargetRegressor with {type(undo).__name__}")


def _voting(graph: Graph, fitted: Any, tensor: Tensor) -> Answer:
    if fitted.weights is not None or getattr(fitted, "voting", "soft") != "soft":
        raise NotCompiled("voting by weights or by labels")
    estimates = [estimate(graph, estimator, tensor) for estimator in fitted.estimators_]
    parts = [answer.scores or answer.value for answer in estimates]
    total = graph.add("Sum", *(part.name for part in parts if part is not None))
    mean = graph.add("Div", total, graph.constant(np.float64(len(parts))))
    if any(part is None for part in parts):
        raise NotCompiled("voting over estimators without scores")
    width = parts[0].width if parts[0] is not None else 1
    return Answer(scores=Tensor(mean, width)) if hasattr(fitted, "classes_") else Answer(value=Tensor(mean, 1))


_READS_INFINITY = frozenset({"HistGradientBoostingClassifier", "HistGradientBoostingRegressor"})
_READS_FLOAT32 = frozenset({"BaseDecisionTree", "BaseForest", "BaseGradientBoosting"})
_KNOWN: dict[str, Callable[[Graph, Any, Tensor], Answer]] = {
    "LogisticRegression": _logistic,
    "SGDClassifier": _sgd,
    "RidgeClassifier": _by_decision,
    "RidgeClassifierCV": _by_decision,
    "LinearSVC": _by_decision,
    "Perceptron": _by_decision,
    "PassiveAggressiveClassifier": _by_decision,
    **dict.fromkeys(
        [
            "LinearRegression",
            "Ridge",
            "RidgeCV",
            "Lasso",
            "LassoCV",
            "ElasticNet",
            "ElasticNetCV",
            "Lars",
            "LassoLars",
            "BayesianRidge",
            "ARDRegression",
            "HuberRegressor",
            "SGDRegressor",
            "LinearSVR",
            "QuantileRegressor",
            "TheilSenRegressor",
        ],
        _regression,
    ),
    **dict.fromkeys(("PoissonRegressor", "GammaRegressor", "TweedieRegressor"), _exp_regression),
    **dict.fromkeys(("DecisionTreeClassifier", "DecisionTreeRegressor"), _one_tree),
    **dict.fromkeys(("RandomForestClassifier", "RandomForestRegressor", "ExtraTreesClassifier", "ExtraTreesRegressor"), _forest),
    **dict.fromkeys(("GradientBoostingClassifier", "GradientBoostingRegressor"), _boosting),
    **dict.fromkeys(("HistGradientBoostingClassifier", "HistGradientBoostingRegressor"), _histogram_boosting),
    **dict.fromkeys(("MLPClassifier", "MLPRegressor"), _network),
    "GaussianNB": _gaussian_bayes,
    **dict.fromkeys(("KMeans", "MiniBatchKMeans"), _clusters),
    "MultiOutputRegressor": _several,
    "TransformedTargetRegressor": _transformed_target,
    **dict.fromkeys(("VotingClassifier", "VotingRegressor"), _voting),
}
