"""Writes estimators that are made of estimators: votes, stacks, calibration, thresholds, one classifier a class.

Each asks for the answers of its parts, whatever these read: columns of a request or features.
"""

from __future__ import annotations

from collections.abc import Callable
from itertools import combinations
from typing import Any

import numpy as np
import numpy.typing as npt
from onnx import TensorProto

from lamppost.packing.compiling.graph import Answer, Graph, NotCompiled, Tensor, as_shares, sigmoid, softmax, two_classes, winner

Ask = Callable[[Any], Answer]
"""The answer of an estimator to what the whole reads."""
AskOf = Callable[[Any, Tensor], Answer]
"""The answer of an estimator to features."""
Composed = Callable[[Graph, Any, Ask, AskOf], Answer]

_MOST_STEPS = 5_000


def _scores(answer: Answer, who: str) -> Tensor:
    if answer.scores is None:
        raise NotCompiled(f"{who} over estimators without scores")
    return answer.scores


def _label_place(graph: Graph, answer: Answer, who: str) -> str:
    """The place of the label among the classes, int64 of shape (n_rows,)."""
    decision = answer.decision or answer.scores
    if decision is None:
        raise NotCompiled(f"{who} over estimators without labels")
    return graph.add("ArgMax", decision.name, axis=1, keepdims=0, select_last_index=0)


def _one_hot(graph: Graph, place: str, width: int) -> Tensor:
    """1 at the place, 0 elsewhere, float64 of shape (n_rows, width)."""
    return Tensor(graph.add("Gather", graph.constant(np.eye(width)), place, axis=0), width)


def _weighted_mean(graph: Graph, parts: list[Tensor], weights: npt.NDArray[np.float64] | None) -> Tensor:
    if weights is None:
        total = graph.add("Sum", *(part.name for part in parts))
        return Tensor(graph.add("Div", total, graph.constant(np.float64(len(parts)))), parts[0].width)
    total = graph.add("Sum", *(graph.add("Mul", part.name, graph.constant(np.float64(w))) for part, w in zip(parts, weights, strict=True)))
    return Tensor(graph.add("Div", total, graph.constant(np.float64(weights.sum()))), parts[0].width)


def _voting(graph: Graph, fitted: Any, ask: Ask, _: AskOf) -> Answer:
    weights = None if fitted.weights is None else np.asarray(fitted._weights_not_none, dtype=np.float64)
    answers = [ask(estimator) for estimator in fitted.estimators_]
    if not hasattr(fitted, "classes_"):
        values = [answer.value for answer in answers if answer.value is not None]
        if len(values) < len(answers):
            raise NotCompiled("voting over estimators that give no number")
        return Answer(value=_weighted_mean(graph, values, weights))
    if fitted.voting == "soft":
        return Answer(scores=_weighted_mean(graph, [_scores(answer, "voting") for answer in answers], weights))
    width = len(fitted.classes_)
    votes = [_one_hot(graph, _label_place(graph, answer, "voting"), width) for answer in answers]
    if weights is not None:
        votes = [graph.affine(vote, scale=[weight]) for vote, weight in zip(votes, weights, strict=True)]
    return Answer(decision=Tensor(graph.add("Sum", *(vote.name for vote in votes)), width))


def _stacking(graph: Graph, fitted: Any, ask: Ask, ask_of: AskOf) -> Answer:
    if fitted.passthrough:
        raise NotCompiled("stacking that passes the inputs on")
    features = []
    estimators = [estimator for estimator in fitted.estimators_ if not isinstance(estimator, str)]
    for estimator, method in zip(estimators, fitted.stack_method_, strict=True):
        answer = ask(estimator)
        if method == "predict_proba":
            scores = _scores(answer, "stacking")
            features.append(graph.pick(scores, [1]) if scores.width == 2 else scores)
        elif method == "decision_function" and answer.margin is not None:
            features.append(answer.margin)
        elif method == "predict" and answer.value is not None:
            features.append(answer.value)
        else:
            raise NotCompiled(f"stacking by {method} of {type(estimator).__name__}")
    return ask_of(fitted.final_estimator_, graph.join(features))


def _calibrated(graph: Graph, fitted: Any, ask: Ask, _: AskOf) -> Answer:
    width = len(fitted.classes_)
    parts = [_calibrated_part(graph, part, ask(part.estimator), width) for part in fitted.calibrated_classifiers_]
    return Answer(scores=_weighted_mean(graph, parts, None))


def _calibrated_part(graph: Graph, part: Any, answer: Answer, width: int) -> Tensor:
    if part.method not in ("sigmoid", "isotonic") or len(part.estimator.classes_) != width:
        raise NotCompiled(f"calibration by {part.method}, or of fewer classes")
    if hasattr(part.estimator, "decision_function"):
        response = answer.margin
    else:
        response = answer.scores if width > 2 or answer.scores is None else graph.pick(answer.scores, [1])
    if response is None:
        raise NotCompiled(f"calibration of {type(part.estimator).__name__}")
    columns = [_calibrator(graph, each, graph.pick(response, [at])) for at, each in enumerate(part.calibrators)]
    if width == 2:
        return two_classes(graph, columns[0])
    return as_shares(graph, graph.join(columns))


def _calibrator(graph: Graph, calibrator: Any, response: Tensor) -> Tensor:
    if type(calibrator).__name__ == "_SigmoidCalibration":
        return sigmoid(graph, graph.affine(response, scale=[-calibrator.a_], shift=[-calibrator.b_]))
    if type(calibrator).__name__ != "IsotonicRegression" or calibrator.out_of_bounds != "clip":
        raise NotCompiled(f"calibration with {type(calibrator).__name__}")
    places, heights = np.asarray(calibrator.X_thresholds_, dtype=np.float64), np.asarray(calibrator.y_thresholds_, dtype=np.float64)
    return interpolated(graph, response, places, heights)


def interpolated(
    graph: Graph, tensor: Tensor, places: npt.NDArray[np.float64], heights: npt.NDArray[np.float64], compare: str = "Less"
) -> Tensor:
    """Straight lines between given heights, level outside, of one column.

    places : rising; where one is there several times, the curve jumps from its first height to its last. compare : ``Less`` for the first
    height at a jump, ``LessOrEqual`` for the last.
    """
    if len(places) > _MOST_STEPS:
        raise NotCompiled(f"a curve of {len(places):,} points")
    distinct, first = np.unique(places, return_index=True)
    last = np.append(first[1:], len(places)) - 1
    if len(distinct) == 1:
        return graph.affine(tensor, scale=[0.0], shift=heights[:1])
    inside = graph.add("Clip", tensor.name, graph.constant(distinct[0]), graph.constant(distinct[-1]))
    below = graph.add("Cast", graph.add(compare, graph.constant(distinct[None, 1:-1]), inside), to=TensorProto.INT64)
    piece = graph.add("ReduceSum", below, graph.constant(np.array([1])), keepdims=1)
    starts, ends = heights[last[:-1]], heights[first[1:]]
    slopes = (ends - starts) / np.diff(distinct)
    start, slope, height = (graph.add("Gather", graph.constant(table), piece) for table in (distinct[:-1], slopes, starts))
    return Tensor(graph.add("Add", graph.add("Mul", graph.add("Sub", inside, start), slope), height), 1)


def _ada_boost(graph: Graph, fitted: Any, ask: Ask, _: AskOf) -> Answer:
    """SAMME: each estimator's label gets its weight, every other class its share of it taken away."""
    width = len(fitted.classes_)
    weights = fitted.estimator_weights_[: len(fitted.estimators_)]
    parts = []
    for estimator, weight in zip(fitted.estimators_, weights, strict=True):
        hot = _one_hot(graph, _label_place(graph, ask(estimator), "AdaBoost"), len(estimator.classes_))
        if len(estimator.classes_) != width:
            raise NotCompiled("AdaBoost over estimators that do not know every class")
        parts.append(graph.affine(hot, scale=[weight * (1 + 1 / (width - 1))], shift=[-weight / (width - 1)]).name)
    decision = Tensor(graph.add("Div", graph.add("Sum", *parts), graph.constant(np.float64(fitted.estimator_weights_.sum()))), width)
    if width > 2:
        return Answer(softmax(graph, graph.affine(decision, scale=[1 / (width - 1)])), decision, margin=decision)
    margin = Tensor(graph.add("Sub", graph.pick(decision, [1]).name, graph.pick(decision, [0]).name), 1)
    halves = graph.join([graph.affine(margin, scale=[-0.5]), graph.affine(margin, scale=[0.5])])
    return Answer(softmax(graph, halves), winner(graph, "Greater", margin), margin=margin)


def _one_against_rest(graph: Graph, fitted: Any, ask: Ask, _: AskOf) -> Answer:
    if fitted.multilabel_:
        raise NotCompiled("a classifier of several labels at once")
    answers = [ask(estimator) for estimator in fitted.estimators_]
    by_margin = hasattr(fitted.estimators_[0], "decision_function")
    if len(answers) == 1:
        response = answers[0].margin if by_margin else graph.pick(_scores(answers[0], "one against the rest"), [1])
        decision = None if response is None else winner(graph, "Greater", graph.affine(response, shift=[0.0 if by_margin else -0.5]))
        return Answer(answers[0].scores, _there(decision), margin=response if by_margin else None)
    margins = [answer.margin if by_margin else graph.pick(_scores(answer, "one against the rest"), [1]) for answer in answers]
    decision = graph.join([_there(margin) for margin in margins])
    if not hasattr(fitted, "predict_proba"):
        return Answer(decision=decision, margin=decision)
    scores = graph.join([graph.pick(_scores(answer, "one against the rest"), [1]) for answer in answers])
    return Answer(as_shares(graph, scores, of_nothing=0.0), decision, margin=decision if by_margin else None)


def _one_against_one(graph: Graph, fitted: Any, ask: Ask, _: AskOf) -> Answer:
    """Votes of each pair of classes; how sure they are decides between equal ones."""
    width = len(fitted.classes_)
    if fitted.pairwise_indices_ is not None or width == 2:
        raise NotCompiled("one against one of two classes, or over kernels")
    signs = np.zeros((width * (width - 1) // 2, width))
    margins = []
    for at, ((first, second), estimator) in enumerate(zip(combinations(range(width), 2), fitted.estimators_, strict=True)):
        margins.append(_there(ask(estimator).margin))
        signs[at, [first, second]] = -1, 1
    votes = sure_votes(graph, graph.join(margins), signs)
    return Answer(decision=votes, margin=votes)


def votes_of_pairs(graph: Graph, margins: Tensor, signs: npt.NDArray[np.float64]) -> Tensor:
    """Votes for each class out of what each pair of classes says.

    signs : (n_pairs, n_classes); for each pair -1 at the class that wins at a margin of zero or below, 1 at the other.
    """
    above = Tensor(graph.add("Cast", graph.add("Greater", margins.name, graph.constant(np.float64(0))), to=TensorProto.DOUBLE), len(signs))
    wins_above, wins_below = np.where(signs > 0, 1.0, 0.0), np.where(signs < 0, 1.0, 0.0)
    return graph.matmul(above, wins_above - wins_below, wins_below.sum(axis=0))


def sure_votes(graph: Graph, margins: Tensor, signs: npt.NDArray[np.float64]) -> Tensor:
    """The votes, and a third of how sure the pairs are at most, as in scikit-learn. signs : as in `votes_of_pairs`."""
    votes, sure = votes_of_pairs(graph, margins, signs), graph.matmul(margins, signs)
    size = graph.add("Mul", graph.add("Add", graph.add("Abs", sure.name), graph.constant(np.float64(1))), graph.constant(np.float64(3)))
    return Tensor(graph.add("Add", votes.name, graph.add("Div", sure.name, size)), votes.width)


def _threshold(graph: Graph, fitted: Any, ask: Ask, _: AskOf) -> Answer:
    """A classifier of two classes with its own threshold."""
    estimator = fitted.estimator_
    answer = ask(estimator)
    method = fitted._get_response_method()
    methods = [method] if isinstance(method, str) else list(method)
    by_scores = next((name for name in methods if hasattr(estimator, name)), "") == "predict_proba"
    cut = getattr(fitted, "best_threshold_", getattr(fitted, "threshold", 0.5))
    scorer = getattr(fitted, "_curve_scorer", None)
    positive = fitted.pos_label if scorer is None else scorer._get_pos_label()
    cut = (0.5 if by_scores else 0.0) if cut == "auto" else float(cut)
    place = 1 if positive is None else int(np.flatnonzero(np.asarray(estimator.classes_) == positive)[0])
    response = graph.pick(_scores(answer, "a threshold"), [place]) if by_scores else _there(answer.margin)
    if not by_scores and place == 0:
        response = graph.affine(response, scale=[-1.0])
    decision = winner(graph, "GreaterOrEqual", response, cut)
    return Answer(answer.scores, decision if place == 1 else graph.pick(decision, [1, 0]), margin=answer.margin)


def _best(_: Graph, fitted: Any, ask: Ask, __: AskOf) -> Answer:
    return ask(fitted.best_estimator_)


def _inner(_: Graph, fitted: Any, ask: Ask, __: AskOf) -> Answer:
    return ask(fitted.estimator_)


def _there(tensor: Tensor | None) -> Tensor:
    if tensor is None:
        raise NotCompiled("an estimator whose decision has no counterpart")
    return tensor


COMPOSED: dict[str, Composed] = {
    **dict.fromkeys(("VotingClassifier", "VotingRegressor"), _voting),
    **dict.fromkeys(("StackingClassifier", "StackingRegressor"), _stacking),
    "CalibratedClassifierCV": _calibrated,
    "AdaBoostClassifier": _ada_boost,
    "OneVsRestClassifier": _one_against_rest,
    "OneVsOneClassifier": _one_against_one,
    **dict.fromkeys(("FixedThresholdClassifier", "TunedThresholdClassifierCV"), _threshold),
    "BaseSearchCV": _best,
    **dict.fromkeys(("SelfTrainingClassifier", "RANSACRegressor"), _inner),
}
