"""Writes LightGBM's and XGBoost's trees as graph nodes, from the libraries' own descriptions of them.

LightGBM compares float64 values, going left at a threshold or below it; XGBoost compares float32 values, going left below it. What
a missing value does is written at every split of both.
"""

from __future__ import annotations

import json
import math
from typing import Any

import numpy as np

from lamppost.package.boosted_model import BoostedModel, dump_trees, library_of
from lamppost.packing.compiling.graph import Answer, Graph, NotCompiled, Tensor, only_of_finite, sigmoid, softmax, two_classes
from lamppost.packing.compiling.trees import Tree, add_ensemble, as_float32

_TINY = 1e-35


def boosted(graph: Graph, fitted: Any, tensor: Tensor) -> Answer:
    """The answer of boosted trees, of an estimator or of a booster that was read back."""
    plain = getattr(fitted, "_model", fitted)
    if isinstance(plain, BoostedModel):
        library, data, rounds = plain.library, plain.data, plain.rounds
    else:
        data, rounds = dump_trees(fitted)
        library = library_of(fitted) or "lightgbm"
    if library == "lightgbm":
        return _lightgbm(graph, data, tensor)
    # XGBoost refuses what float32 cannot hold
    return only_of_finite(graph, as_float32(graph, tensor), _xgboost(graph, data, rounds, tensor), allow_missing=True)


def _lightgbm(graph: Graph, data: bytes, tensor: Tensor) -> Answer:
    import lightgbm

    description = lightgbm.Booster(model_str=data.decode()).dump_model()
    objective, _, settings = description.get("objective", "regression").partition(" ")
    width = int(description["num_tree_per_iteration"])
    if description.get("average_output"):
        raise NotCompiled("LightGBM's random forests")
    grown = [_of_lightgbm(tree["tree_structure"]) for tree in description["tree_info"]]
    raw = add_ensemble(graph, tensor, grown, [at % width for at in range(len(grown))], width)
    if objective in ("binary", "cross_entropy"):
        steep = float(dict(pair.split(":") for pair in settings.split() if ":" in pair).get("sigmoid", 1.0))
        return Answer(scores=two_classes(graph, sigmoid(graph, graph.affine(raw, scale=[steep]))))
    if objective == "multiclass":
        return Answer(scores=softmax(graph, raw))
    if objective in ("poisson", "gamma", "tweedie"):
        return Answer(value=Tensor(graph.add("Exp", raw.name), 1))
    if objective in _PLAIN and "sqrt" not in settings:
        return Answer(value=raw)
    raise NotCompiled(f"LightGBM's objective {objective} {settings}".rstrip())


_PLAIN = frozenset({"regression", "regression_l1", "huber", "fair", "quantile", "mape", "lambdarank", "rank_xendcg"})


def _of_lightgbm(root: dict[str, Any]) -> Tree:
    nodes = [root]
    left, right = [], []
    for node in nodes:  # grows while it is walked: children stand behind their parents
        if "split_index" not in node:
            left.append(-1)
            right.append(-1)
            continue
        left.append(len(nodes))
        right.append(len(nodes) + 1)
        nodes += [node["left_child"], node["right_child"]]
    leaf = np.array(left) == -1
    gone = []
    for node in nodes:
        if "split_index" not in node:
            if "leaf_coeff" in node:
                raise NotCompiled("LightGBM's linear trees")
            gone.append(False)
        elif node["decision_type"] != "<=":
            raise NotCompiled("LightGBM's splits of categories")
        elif node["missing_type"] == "Zero":
            raise NotCompiled("LightGBM trees for which zero is missing")
        else:  # where none was missing in training, a missing value counts as zero
            gone.append(bool(node["default_left"]) if node["missing_type"] == "NaN" else bool(node["threshold"] >= -_TINY))
    return Tree(
        np.array(left),
        np.array(right),
        np.array([node.get("split_feature", 0) for node in nodes]),
        np.array([float(node.get("threshold", 0.0)) for node in nodes]),
        leaf,
        np.array(gone),
        np.array([float(node.get("leaf_value", 0.0)) for node in nodes]),
    )


def _xgboost(graph: Graph, data: bytes, rounds: int | None, tensor: Tensor) -> Answer:
    learner = json.loads(data)["learner"]
    booster = learner["gradient_booster"]
    if booster.get("name") != "gbtree":
        raise NotCompiled(f"XGBoost's {booster.get('name')}")
    model = booster["model"]
    objective = learner["objective"]["name"]
    used = len(model["trees"])
    if rounds is not None and "iteration_indptr" in model:
        used = int(model["iteration_indptr"][rounds])
    width = max(1, int(learner["learner_model_param"]["num_class"]), int(learner["learner_model_param"].get("num_target", 1)))
    grown = [_of_xgboost(tree) for tree in model["trees"][:used]]
    raw = add_ensemble(graph, as_float32(graph, tensor), grown, model["tree_info"][:used], width, less=True)
    base = np.atleast_1d(np.array(json.loads(_bare(learner["learner_model_param"]["base_score"])), dtype=np.float64))
    if objective in ("binary:logistic", "reg:logistic"):
        raw = graph.affine(raw, shift=np.array([math.log(p / (1 - p)) for p in base]))
        scores = sigmoid(graph, raw)
        return Answer(scores=two_classes(graph, scores)) if objective == "binary:logistic" else Answer(value=scores)
    if objective == "multi:softprob":
        return Answer(scores=softmax(graph, graph.affine(raw, shift=base)))
    if objective in ("count:poisson", "reg:gamma", "reg:tweedie"):
        return Answer(value=Tensor(graph.add("Exp", graph.affine(raw, shift=np.log(base)).name), 1))
    if objective in ("reg:squarederror", "reg:absoluteerror", "reg:pseudohubererror", "reg:quantileerror") or objective.startswith("rank:"):
        return Answer(value=graph.affine(raw, shift=base))
    raise NotCompiled(f"XGBoost's objective {objective}")


def _bare(text: str) -> str:
    """A number, or a list of them, that JSON can read: XGBoost writes ``5E-1`` and ``[5E-1]``."""
    return text if text.startswith("[") else f"[{text}]"


def _of_xgboost(tree: dict[str, Any]) -> Tree:
    if any(tree.get("split_type", [])):
        raise NotCompiled("XGBoost's splits of categories")
    if int(tree["tree_param"].get("size_leaf_vector", 1)) > 1:
        raise NotCompiled("XGBoost's leaves of several targets")
    left = np.array(tree["left_children"])
    condition = np.array(tree["split_conditions"], dtype=np.float32).astype(np.float64)
    return Tree(
        left,
        np.array(tree["right_children"]),
        np.array(tree["split_indices"]),
        condition,
        left == -1,
        np.array(tree["default_left"], dtype=bool),
        condition,  # of a leaf this is its value
    )
