"""Writes estimators as graph nodes: a feature tensor in, label codes, scores or a value out."""

from __future__ import annotations

from collections.abc import Callable
from functools import partial
from typing import Any

import numpy as np
from onnx import TensorProto

from lamppost.package.boosted_model import BoostedModel, library_of
from lamppost.packing.compiling import trees
from lamppost.packing.compiling.boosted import boosted
from lamppost.packing.compiling.composed import COMPOSED
from lamppost.packing.compiling.graph import (
    Answer,
    Graph,
    NotCompiled,
    Tensor,
    as_shares,
    only_of_finite,
    sigmoid,
    softmax,
    two_classes,
    winner,
)
from lamppost.packing.compiling.kernels import KERNELS
from lamppost.packing.compiling.known_types import converter_for
from lamppost.packing.compiling.transformers import function, transform


def estimate(graph: Graph, fitted: Any, tensor: Tensor) -> Answer:
    """The answers of ``predict`` and ``predict_proba`` of a fitted estimator; raise NotCompiled for an unsupported one."""
    if library_of(fitted) or isinstance(getattr(fitted, "_model", fitted), BoostedModel):
        return boosted(graph, fitted, tensor)
    if type(fitted).__name__ == "Pipeline":
        for _, step in fitted.steps[:-1]:
            tensor = tensor if step is None else transform(graph, step, tensor)
        return estimate(graph, fitted.steps[-1][1], tensor)
    if composed := converter_for(fitted, COMPOSED):
        return composed(graph, fitted, lambda part: estimate(graph, part, tensor), partial(estimate, graph))
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
    """What decides about the label: of a single column of decisions, at zero and below the first class wins."""
    return decision if decision.width > 1 else winner(graph, "Greater", decision)


def _shares_of_sides(graph: Graph, decision: Tensor) -> Tensor:
    """The logistic of each class's own decision, as shares of their sum; all the same where every one is 0.

    Written out, because the runtime's Sigmoid is level far from 0, where shares still differ.
    """
    one = graph.constant(np.float64(1))
    sides = graph.add("Reciprocal", graph.add("Add", graph.add("Exp", graph.add("Neg", decision.name)), one))
    return as_shares(graph, Tensor(sides, decision.width))


# -- linear -----------------------------------------------------------------------------------------------------------


def _logistic(graph: Graph, fitted: Any, tensor: Tensor) -> Answer:
    decision = _linear(graph, fitted, tensor)
    if decision.width == 1:
        return Answer(two_classes(graph, sigmoid(graph, decision)), _both_sides(graph, decision), margin=decision)
    if getattr(fitted, "solver", None) == "liblinear":
        return Answer(_shares_of_sides(graph, decision), decision, margin=decision)
    return Answer(softmax(graph, decision), decision, margin=decision)


def _sgd(graph: Graph, fitted: Any, tensor: Tensor) -> Answer:
    if not hasattr(fitted, "predict_proba"):
        return _by_decision(graph, fitted, tensor)
    if fitted.loss != "log_loss":
        raise NotCompiled(f"SGDClassifier with {fitted.loss}")
    decision = _linear(graph, fitted, tensor)
    shares = two_classes(graph, sigmoid(graph, decision)) if decision.width == 1 else _shares_of_sides(graph, decision)
    return Answer(shares, _both_sides(graph, decision), margin=decision)


def _by_decision(graph: Graph, fitted: Any, tensor: Tensor) -> Answer:
    margin = _linear(graph, fitted, tensor)
    return Answer(decision=_both_sides(graph, margin), margin=margin)


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
        return Answer(softmax(graph, raw), raw, margin=raw)
    margin = raw
    decision = winner(graph, "GreaterOrEqual", raw)
    if fitted.loss == "exponential":
        raw = graph.affine(raw, scale=[2.0])
    return Answer(two_classes(graph, sigmoid(graph, raw)), decision, margin=margin)


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
        scores = softmax(graph, raw) if width > 1 else two_classes(graph, sigmoid(graph, raw))
        return Answer(scores, _both_sides(graph, raw), margin=raw)
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


def _discriminant(graph: Graph, fitted: Any, tensor: Tensor) -> Answer:
    """Quadratic discriminants: the log likelihood of each class, then a softmax."""
    parts = []
    for mean, turn, spread, prior in zip(fitted.means_, fitted.rotations_, fitted.scalings_, fitted.priors_, strict=True):
        weights = np.asarray(turn) * np.asarray(spread) ** -0.5
        turned = graph.matmul(tensor, weights, -np.asarray(mean) @ weights)
        far = graph.add("ReduceSumSquare", turned.name, graph.constant(np.array([1])), keepdims=1)
        parts.append(graph.affine(Tensor(far, 1), scale=[-0.5], shift=[-0.5 * np.log(spread).sum() + np.log(prior)]))
    likelihood = graph.join(parts)
    margin = likelihood
    if likelihood.width == 2:
        margin = Tensor(graph.add("Sub", parts[1].name, parts[0].name), 1)
    return Answer(softmax(graph, likelihood), likelihood, margin=margin)


def _counted_bayes(graph: Graph, fitted: Any, tensor: Tensor) -> Answer:
    """Naive Bayes of counts; scikit-learn refuses negative ones."""
    zero = graph.constant(np.float64(0))
    negative = graph.add("Where", graph.add("Less", tensor.name, zero), graph.constant(np.float64(np.nan)), zero)
    counts = Tensor(graph.add("Add", tensor.name, negative), tensor.width)
    complement = type(fitted).__name__ == "ComplementNB"
    shift = None if complement and len(fitted.classes_) > 1 else fitted.class_log_prior_
    return _by_likelihood(graph, graph.matmul(counts, np.asarray(fitted.feature_log_prob_).T, shift))


def _flag_bayes(graph: Graph, fitted: Any, tensor: Tensor) -> Answer:
    """Naive Bayes of what is there and what is not."""
    if fitted.binarize is not None:
        above = graph.add("Greater", tensor.name, graph.constant(np.float64(fitted.binarize)))
        tensor = Tensor(graph.add("Cast", above, to=TensorProto.DOUBLE), tensor.width)
    absent = np.log(1 - np.exp(fitted.feature_log_prob_))
    return _by_likelihood(graph, graph.matmul(tensor, (fitted.feature_log_prob_ - absent).T, fitted.class_log_prior_ + absent.sum(axis=1)))


def _by_likelihood(graph: Graph, likelihood: Tensor) -> Answer:
    return Answer(softmax(graph, likelihood), likelihood)


def _bagging(graph: Graph, fitted: Any, tensor: Tensor) -> Answer:
    """The mean of estimators that each read some of the features."""
    pairs = zip(fitted.estimators_, fitted.estimators_features_, strict=True)
    answers = [estimate(graph, part, graph.pick(tensor, features)) for part, features in pairs]
    labels = hasattr(fitted, "classes_")
    parts = [answer.scores if labels else answer.value for answer in answers]
    there = [part for part in parts if part is not None]
    if len(there) < len(parts) or (labels and any(part.width != len(fitted.classes_) for part in there)):
        raise NotCompiled("bagging over estimators without scores, or that do not know every class")
    total = graph.add("Sum", *(part.name for part in there))
    mean = Tensor(graph.add("Div", total, graph.constant(np.float64(len(there)))), there[0].width)
    return Answer(scores=mean) if labels else Answer(value=mean)


def _partial_squares(graph: Graph, fitted: Any, tensor: Tensor) -> Answer:
    away = graph.affine(tensor, shift=-np.asarray(fitted._x_mean, dtype=np.float64))
    return Answer(value=graph.matmul(away, np.asarray(fitted.coef_).T, np.asarray(fitted.intercept_).reshape(-1)))


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
            "LassoLarsIC",
            "LassoLarsCV",
            "LarsCV",
            "OrthogonalMatchingPursuit",
            "OrthogonalMatchingPursuitCV",
            "PassiveAggressiveRegressor",
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
    "BernoulliNB": _flag_bayes,
    **dict.fromkeys(("MultinomialNB", "ComplementNB"), _counted_bayes),
    "LinearDiscriminantAnalysis": _logistic,
    "QuadraticDiscriminantAnalysis": _discriminant,
    **dict.fromkeys(("BaggingClassifier", "BaggingRegressor"), _bagging),
    **dict.fromkeys(("PLSRegression", "PLSCanonical"), _partial_squares),
    **dict.fromkeys(("KMeans", "MiniBatchKMeans"), _clusters),
    "MultiOutputRegressor": _several,
    "TransformedTargetRegressor": _transformed_target,
    **KERNELS,
}
