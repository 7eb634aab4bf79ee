"""Writes trees and ensembles of trees as one TreeEnsemble node in float64, so that no threshold is rounded.

scikit-learn's trees compare float32 inputs with float64 thresholds, its histogram boosting compares float64 with float64; both
are done here as they are done there. A leaf holds one value, so a forest of more than two classes is evaluated to leaf
numbers first, and these are looked up in a table of class shares.
"""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass
from typing import Any

import numpy as np
import numpy.typing as npt
from onnx import TensorProto

from lamppost.packing.compiling.graph import Graph, NotCompiled, Tensor

Floats = npt.NDArray[np.float64]
_LEQ, _LESS = 0, 1
_SUM = 1


@dataclass(frozen=True, slots=True)
class Tree:
    """One tree as arrays over its nodes, the root first.

    left, right : node taken when ``x[feature] <= threshold``, and otherwise. leaf : whether it is one. gone_left : whether a
    missing value goes left. value : of each node; only leaves are read.
    """

    left: npt.NDArray[np.int64]
    right: npt.NDArray[np.int64]
    feature: npt.NDArray[np.int64]
    threshold: Floats
    leaf: npt.NDArray[np.bool_]
    gone_left: npt.NDArray[np.bool_]
    value: Floats


def of_sklearn(tree: Any, value: Floats) -> Tree:
    """A ``sklearn.tree._tree.Tree`` with a value for each of its nodes."""
    leaf = tree.children_left == -1
    gone = np.asarray(getattr(tree, "missing_go_to_left", np.zeros(tree.node_count)), dtype=bool)
    return Tree(
        tree.children_left.astype(np.int64),
        tree.children_right.astype(np.int64),
        tree.feature.astype(np.int64),
        np.asarray(tree.threshold, dtype=np.float64),
        leaf,
        gone,
        np.asarray(value, dtype=np.float64),
    )


def of_histogram(nodes: Any) -> Tree:
    """The node array of a histogram boosting predictor."""
    if nodes["is_categorical"].any():
        raise NotCompiled("histogram boosting with categorical splits")
    return Tree(
        nodes["left"].astype(np.int64),
        nodes["right"].astype(np.int64),
        nodes["feature_idx"].astype(np.int64),
        nodes["num_threshold"].astype(np.float64),
        nodes["is_leaf"].astype(bool),
        nodes["missing_go_to_left"].astype(bool),
        nodes["value"].astype(np.float64),
    )


def as_float32(graph: Graph, tensor: Tensor) -> Tensor:
    """Rounded to float32 and back, as scikit-learn's trees see their inputs."""
    low = graph.add("Cast", tensor.name, to=TensorProto.FLOAT)
    return Tensor(graph.add("Cast", low, to=TensorProto.DOUBLE), tensor.width)


def add_ensemble(graph: Graph, tensor: Tensor, trees: Sequence[Tree], targets: Sequence[int], n_targets: int, less: bool = False) -> Tensor:
    """The sums of the leaf values that each row reaches, per target; ``targets`` has one for each tree.

    less : a value goes left when it is below the threshold, instead of at it or below.
    """
    revisions: dict[str, list[Any]] = {key: [] for key in ("feature", "threshold", "left", "left_leaf", "right", "right_leaf", "gone")}
    weights, leaf_targets, roots = [], [], []
    n_splits = n_leaves = 0
    for tree, target in zip(trees, targets, strict=True):
        if tree.leaf[0]:  # a tree that never splits: a split both of whose sides are the same leaf
            tree = _with_split(tree)
        inner, leaves = np.flatnonzero(~tree.leaf), np.flatnonzero(tree.leaf)
        place = np.where(tree.leaf, n_leaves + np.cumsum(tree.leaf) - 1, n_splits + np.cumsum(~tree.leaf) - 1)
        roots.append(n_splits)
        revisions["feature"].append(tree.feature[inner])
        revisions["threshold"].append(tree.threshold[inner])
        revisions["gone"].append(tree.gone_left[inner])
        for side, child in (("left", tree.left[inner]), ("right", tree.right[inner])):
            revisions[side].append(place[child])
            revisions[f"{side}_leaf"].append(tree.leaf[child])
        weights.append(tree.value[leaves])
        leaf_targets.append(np.full(len(leaves), target))
        n_splits += len(inner)
        n_leaves += len(leaves)
    whole = {key: np.concatenate(parts) for key, parts in revisions.items()}
    attributes: dict[str, Any] = {
        "nodes_featureids": whole["feature"].tolist(),
        "nodes_splits": whole["threshold"].astype(np.float64),
        "nodes_modes": np.full(n_splits, _LESS if less else _LEQ, dtype=np.uint8),
        "nodes_truenodeids": whole["left"].tolist(),
        "nodes_trueleafs": whole["left_leaf"].astype(int).tolist(),
        "nodes_falsenodeids": whole["right"].tolist(),
        "nodes_falseleafs": whole["right_leaf"].astype(int).tolist(),
        "leaf_weights": np.concatenate(weights).astype(np.float64),
        "leaf_targetids": np.concatenate(leaf_targets).tolist(),
        "tree_roots": roots,
        "n_targets": n_targets,
        "aggregate_function": _SUM,
        "post_transform": 0,
    }
    if whole["gone"].any():
        attributes["nodes_missing_value_tracks_true"] = whole["gone"].astype(int).tolist()
    return Tensor(graph.add("TreeEnsemble", tensor.name, domain="ai.onnx.ml", **attributes), n_targets)


def _with_split(tree: Tree) -> Tree:
    one, two = np.array([1, -1, -1]), np.array([2, -1, -1])
    value = np.array([0.0, tree.value[0], tree.value[0]])
    flags = np.array([False, True, True])
    return Tree(one, two, np.zeros(3, dtype=np.int64), np.zeros(3), flags, np.zeros(3, dtype=bool), value)


def add_forest(graph: Graph, tensor: Tensor, trees: Sequence[Any], shares: Sequence[Floats]) -> Tensor:
    """The mean over trees of each leaf's class shares (or means, for regressors).

    trees : sklearn Tree objects. shares : for each, an array (n_nodes, n_outputs).
    """
    tensor = as_float32(graph, tensor)
    width = shares[0].shape[1]
    if width == 1:
        total = add_ensemble(graph, tensor, [of_sklearn(t, s[:, 0]) for t, s in zip(trees, shares, strict=True)], [0] * len(trees), 1)
        return Tensor(graph.add("Div", total.name, graph.constant(np.float64(len(trees)))), 1)
    numbered, table, start = [], [], 0
    for tree, share in zip(trees, shares, strict=True):
        leaf = tree.children_left == -1
        numbered.append(of_sklearn(tree, np.where(leaf, start + np.cumsum(leaf) - 1, 0)))
        table.append(share[leaf])
        start += int(leaf.sum())
    reached = add_ensemble(graph, tensor, numbered, range(len(trees)), len(trees))
    index = graph.add("Cast", reached.name, to=TensorProto.INT64)
    leaf_values = graph.add("Gather", graph.constant(np.concatenate(table).astype(np.float64)), index, axis=0)
    return Tensor(graph.add("ReduceMean", leaf_values, graph.constant(np.array([1])), keepdims=0), width)
