"""Writes transformers of numbers as graph nodes: tensor in, tensor out, in float64 like the originals."""

from __future__ import annotations

from collections.abc import Callable
from typing import Any

import numpy as np

from lamppost.packing.compiling.graph import Graph, NotCompiled, Tensor
from lamppost.packing.compiling.known_types import converter_for

Convert = Callable[[Graph, Any, Tensor], Tensor]


def transform(graph: Graph, fitted: Any, tensor: Tensor) -> Tensor:
    """The output of ``fitted.transform``; raise NotCompiled for an unsupported transformer."""
    if isinstance(fitted, str):
        if fitted == "passthrough":
            return tensor
        raise NotCompiled(f"the step {fitted!r}")
    if converter := converter_for(fitted, _KNOWN):
        graph.may_overflow = graph.may_overflow or type(fitted).__name__ != "SimpleImputer"
        return converter(graph, fitted, tensor)
    if hasattr(fitted, "get_support"):
        return graph.pick(tensor, fitted.get_support(indices=True))
    raise NotCompiled(type(fitted).__name__)


def _pipeline(graph: Graph, fitted: Any, tensor: Tensor) -> Tensor:
    for _, step in fitted.steps:
        if step is not None:
            tensor = transform(graph, step, tensor)
    return tensor


def _union(graph: Graph, fitted: Any, tensor: Tensor) -> Tensor:
    if fitted.transformer_weights:
        raise NotCompiled("FeatureUnion with weights")
    return graph.join([transform(graph, step, tensor) for _, step in fitted.transformer_list if step not in ("drop", None)])


def _columns(graph: Graph, fitted: Any, tensor: Tensor) -> Tensor:
    if fitted.transformer_weights:
        raise NotCompiled("ColumnTransformer with weights")
    parts = []
    for name, step, _ in fitted.transformers_:
        index = fitted._transformer_to_input_indices[name]
        if len(index) and not (isinstance(step, str) and step == "drop"):
            parts.append(transform(graph, step, graph.pick(tensor, index)))
    return graph.join(parts)


def _impute(graph: Graph, fitted: Any, tensor: Tensor) -> Tensor:
    fills = np.asarray(fitted.statistics_)
    marker = fitted.missing_values
    if fitted.add_indicator or not isinstance(marker, float) or not np.isnan(marker):
        raise NotCompiled("SimpleImputer with an indicator or another mark than NaN")
    if fills.dtype.kind not in "fiu" or np.isnan(fills.astype(np.float64)).any():
        raise NotCompiled("SimpleImputer of text, or of a column that was always missing")
    gone = graph.add("IsNaN", tensor.name)
    return Tensor(graph.add("Where", gone, graph.constant(fills.astype(np.float64)[None, :]), tensor.name), tensor.width)


def _moved(graph: Graph, tensor: Tensor, away: Any, by: Any) -> Tensor:
    """``(tensor - away) / by``, either of them None for not at all."""
    for operator, values in (("Sub", away), ("Div", by)):
        if values is not None:
            tensor = Tensor(graph.add(operator, tensor.name, graph.constant(np.asarray(values, dtype=np.float64))), tensor.width)
    return tensor


def _standard(graph: Graph, fitted: Any, tensor: Tensor) -> Tensor:
    return _moved(graph, tensor, fitted.mean_ if fitted.with_mean else None, fitted.scale_ if fitted.with_std else None)


def _min_max(graph: Graph, fitted: Any, tensor: Tensor) -> Tensor:
    tensor = graph.affine(tensor, fitted.scale_, fitted.min_)
    if fitted.clip:
        low, high = (graph.constant(np.float64(limit)) for limit in fitted.feature_range)
        tensor = Tensor(graph.add("Clip", tensor.name, low, high), tensor.width)
    return tensor


def _max_abs(graph: Graph, fitted: Any, tensor: Tensor) -> Tensor:
    return _moved(graph, tensor, None, fitted.scale_)


def _robust(graph: Graph, fitted: Any, tensor: Tensor) -> Tensor:
    return _moved(graph, tensor, fitted.center_ if fitted.with_centering else None, fitted.scale_ if fitted.with_scaling else None)


def _pca(graph: Graph, fitted: Any, tensor: Tensor) -> Tensor:
    weights = np.asarray(fitted.components_, dtype=np.float64).T
    shift = None if fitted.mean_ is None else -np.asarray(fitted.mean_, dtype=np.float64).reshape(1, -1) @ weights
    projected = graph.matmul(tensor, weights, shift)
    if fitted.whiten:
        scale = np.sqrt(fitted.explained_variance_)
        scale = np.maximum(scale, np.finfo(scale.dtype).eps)
        projected = Tensor(graph.add("Div", projected.name, graph.constant(scale.astype(np.float64))), projected.width)
    return projected


def _svd(graph: Graph, fitted: Any, tensor: Tensor) -> Tensor:
    return graph.matmul(tensor, np.asarray(fitted.components_).T)


def _polynomial(graph: Graph, fitted: Any, tensor: Tensor) -> Tensor:
    columns = []
    for powers in fitted.powers_:
        factors = [column for column, power in enumerate(powers) for _ in range(power)]
        if not factors:
            ones = graph.affine(graph.pick(tensor, [0]), scale=[0.0], shift=[1.0])
            columns.append(ones)
            continue
        product = graph.pick(tensor, factors[:1])
        for column in factors[1:]:
            product = Tensor(graph.add("Mul", product.name, graph.pick(tensor, [column]).name), 1)
        columns.append(product)
    return graph.join(columns)


def _normalize(graph: Graph, fitted: Any, tensor: Tensor) -> Tensor:
    axis = graph.constant(np.array([1]))
    if fitted.norm == "max":
        length = graph.add("ReduceMax", graph.add("Abs", tensor.name), axis, keepdims=1)
    else:
        length = graph.add("ReduceL1" if fitted.norm == "l1" else "ReduceL2", tensor.name, axis, keepdims=1)
    zero = graph.add("Equal", length, graph.constant(np.float64(0)))
    safe = graph.add("Where", zero, graph.constant(np.float64(1)), length)
    return Tensor(graph.add("Div", tensor.name, safe), tensor.width)


def _binarize(graph: Graph, fitted: Any, tensor: Tensor) -> Tensor:
    above = graph.add("Greater", tensor.name, graph.constant(np.float64(fitted.threshold)))
    return Tensor(graph.add("Cast", above, to=11), tensor.width)


_FUNCTIONS: dict[Any, Callable[[Graph, str], str]] = {
    np.log1p: lambda graph, x: graph.add("Log", graph.add("Add", x, graph.constant(np.float64(1)))),
    np.log: lambda graph, x: graph.add("Log", x),
    np.exp: lambda graph, x: graph.add("Exp", x),
    np.expm1: lambda graph, x: graph.add("Sub", graph.add("Exp", x), graph.constant(np.float64(1))),
    np.sqrt: lambda graph, x: graph.add("Sqrt", x),
    np.square: lambda graph, x: graph.add("Mul", x, x),
    np.abs: lambda graph, x: graph.add("Abs", x),
}


def function(graph: Graph, called: Any, tensor: Tensor) -> Tensor:
    """A plain numpy function of each value."""
    compiler = _FUNCTIONS.get(called)
    if compiler is None:
        raise NotCompiled(f"the function {getattr(called, '__name__', called)!r}")
    return Tensor(compiler(graph, tensor.name), tensor.width)


def _function(graph: Graph, fitted: Any, tensor: Tensor) -> Tensor:
    if fitted.kw_args:
        raise NotCompiled("FunctionTransformer with arguments")
    return tensor if fitted.func is None else function(graph, fitted.func, tensor)


_KNOWN: dict[str, Convert] = {
    "Pipeline": _pipeline,
    "FeatureUnion": _union,
    "ColumnTransformer": _columns,
    "SimpleImputer": _impute,
    "StandardScaler": _standard,
    "MinMaxScaler": _min_max,
    "MaxAbsScaler": _max_abs,
    "RobustScaler": _robust,
    "PCA": _pca,
    "TruncatedSVD": _svd,
    "PolynomialFeatures": _polynomial,
    "Normalizer": _normalize,
    "Binarizer": _binarize,
    "FunctionTransformer": _function,
}
