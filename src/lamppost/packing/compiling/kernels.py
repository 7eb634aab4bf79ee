"""Writes models that compare a row with rows that they keep: support vectors, kernel ridge, nearest neighbours."""

from __future__ import annotations

from collections.abc import Callable
from itertools import combinations
from typing import Any

import numpy as np
import numpy.typing as npt

from lamppost.packing.compiling.composed import sure_votes, votes_of_pairs
from lamppost.packing.compiling.graph import Answer, Graph, NotCompiled, Tensor, winner

_MOST_ROWS = 5_000
"""Rows that are kept at most: with each batch a matrix of so many columns comes into being."""

Floats = npt.NDArray[np.float64]


def kernel(graph: Graph, tensor: Tensor, kept: Floats, name: Any, gamma: float, degree: float, shift: float) -> Tensor:
    """A kernel between rows and the rows kept, of shape (n_rows, n_kept)."""
    if len(kept) > _MOST_ROWS:
        raise NotCompiled(f"a kernel over {len(kept):,} rows")
    if name == "rbf":
        far = squared_distances(graph, tensor, kept)
        return Tensor(graph.add("Exp", graph.affine(far, scale=[-gamma]).name), len(kept))
    product = graph.matmul(tensor, kept.T)
    if name == "linear":
        return product
    if name in ("poly", "polynomial"):
        base = graph.affine(product, scale=[gamma], shift=[shift])
        return Tensor(graph.add("Pow", base.name, graph.constant(np.float64(degree))), len(kept))
    if name == "sigmoid":
        return Tensor(graph.add("Tanh", graph.affine(product, scale=[gamma], shift=[shift]).name), len(kept))
    raise NotCompiled(f"the kernel {name if isinstance(name, str) else 'of your own'}")


def squared_distances(graph: Graph, tensor: Tensor, kept: Floats) -> Tensor:
    """Squared distances between rows and the rows kept, of shape (n_rows, n_kept)."""
    own = graph.add("ReduceSumSquare", tensor.name, graph.constant(np.array([1])), keepdims=1)
    crossed = graph.matmul(tensor, -2.0 * kept.T, (kept**2).sum(axis=1))
    far = graph.add("Add", crossed.name, own)
    return Tensor(graph.add("Max", far, graph.constant(np.float64(0))), len(kept))


def _support(graph: Graph, fitted: Any, tensor: Tensor) -> Tensor:
    kept = np.asarray(fitted.support_vectors_, dtype=np.float64)
    return kernel(graph, tensor, kept, fitted.kernel, fitted._gamma, fitted.degree, fitted.coef0)


def support_vector_classes(graph: Graph, fitted: Any, tensor: Tensor) -> Answer:
    """Each pair of classes votes; of equal votes the first class wins."""
    if fitted.probability is True:
        raise NotCompiled(f"{type(fitted).__name__} with probability=True")
    weights, shifts, width = np.asarray(fitted.dual_coef_), np.asarray(fitted.intercept_, dtype=np.float64), len(fitted.classes_)
    near = _support(graph, fitted, tensor)
    if width == 2:
        single = graph.matmul(near, weights.T, shifts)
        return Answer(decision=winner(graph, "Greater", single), margin=single)
    if fitted.break_ties:
        raise NotCompiled(f"{type(fitted).__name__} with break_ties=True")
    pairs = list(combinations(range(width), 2))
    ends = np.concatenate([[0], np.cumsum(fitted.n_support_)])
    of_pairs, signs = np.zeros((weights.shape[1], len(pairs))), np.zeros((len(pairs), width))
    for at, (first, second) in enumerate(pairs):
        of_pairs[ends[first] : ends[first + 1], at] = weights[second - 1, ends[first] : ends[first + 1]]
        of_pairs[ends[second] : ends[second + 1], at] = weights[first, ends[second] : ends[second + 1]]
        signs[at, [first, second]] = 1, -1
    margins = graph.matmul(near, of_pairs, shifts)
    margin = sure_votes(graph, margins, signs) if fitted.decision_function_shape == "ovr" else None
    return Answer(decision=votes_of_pairs(graph, margins, signs), margin=margin)


def support_vector_value(graph: Graph, fitted: Any, tensor: Tensor) -> Answer:
    """Support vector regression."""
    near = _support(graph, fitted, tensor)
    return Answer(value=graph.matmul(near, np.asarray(fitted.dual_coef_).T, np.asarray(fitted.intercept_, dtype=np.float64)))


def kernel_ridge(graph: Graph, fitted: Any, tensor: Tensor) -> Answer:
    """Ridge regression over a kernel."""
    kept = np.asarray(fitted.X_fit_, dtype=np.float64)
    if fitted.kernel_params:
        raise NotCompiled("kernel ridge with parameters of its own")
    near = kernel(graph, tensor, kept, fitted.kernel, fitted.gamma or 1.0 / kept.shape[1], fitted.degree, fitted.coef0)
    return Answer(value=graph.matmul(near, np.asarray(fitted.dual_coef_, dtype=np.float64).reshape(len(kept), -1)))


def nearest(graph: Graph, fitted: Any, tensor: Tensor) -> Answer:
    """The mean of what the nearest rows kept were, weighted by distance or not."""
    kept = np.asarray(fitted._fit_X, dtype=np.float64)
    metric = fitted.effective_metric_
    if len(kept) > _MOST_ROWS or metric not in ("euclidean", "minkowski") or getattr(fitted, "outputs_2d_", False):
        raise NotCompiled(f"{type(fitted).__name__} over {len(kept):,} rows, by {metric}, or of several targets")
    if fitted.weights not in ("uniform", "distance") or np.ndim(fitted._y) > 1:
        raise NotCompiled(f"{type(fitted).__name__} with weights of its own, or of several targets")
    far = squared_distances(graph, tensor, kept)
    closest = graph.add("Neg", far.name)
    count = graph.constant(np.array([fitted.n_neighbors]))
    near, places = graph.add_two("TopK", closest, count, axis=1, largest=1, sorted=1)
    classes = getattr(fitted, "classes_", None)
    table = np.asarray(fitted._y, dtype=np.float64).reshape(-1, 1) if classes is None else np.eye(len(classes))[np.asarray(fitted._y)]
    were = graph.add("Gather", graph.constant(table), places, axis=0)  # (n_rows, n_neighbours, width)
    if fitted.weights == "distance":
        weights = graph.add("Unsqueeze", _by_distance(graph, near), graph.constant(np.array([2])))
        total = graph.add("ReduceSum", weights, graph.constant(np.array([1])), keepdims=0)
        sums = graph.add("ReduceSum", graph.add("Mul", were, weights), graph.constant(np.array([1])), keepdims=0)
        mean = Tensor(graph.add("Div", sums, total), table.shape[1])
    else:
        mean = Tensor(graph.add("ReduceMean", were, graph.constant(np.array([1])), keepdims=0), table.shape[1])
    return Answer(value=mean) if classes is None else Answer(scores=mean)


def _by_distance(graph: Graph, near: str) -> str:
    """1 over the distance; where a row kept is the row itself, 1 for such and 0 for all others."""
    far = graph.add("Sqrt", graph.add("Neg", near))
    zero = graph.constant(np.float64(0))
    same = graph.add("Equal", far, zero)
    same_number = graph.add("Cast", same, to=11)
    one = graph.constant(np.float64(1))
    weights = graph.add("Div", one, graph.add("Where", same, one, far))
    any_same = graph.add("Greater", graph.add("ReduceSum", same_number, graph.constant(np.array([1])), keepdims=1), zero)
    return graph.add("Where", any_same, same_number, weights)


KERNELS: dict[str, Callable[[Graph, Any, Tensor], Answer]] = {
    **dict.fromkeys(("SVC", "NuSVC"), support_vector_classes),
    **dict.fromkeys(("SVR", "NuSVR"), support_vector_value),
    "KernelRidge": kernel_ridge,
    **dict.fromkeys(("KNeighborsClassifier", "KNeighborsRegressor"), nearest),
}
