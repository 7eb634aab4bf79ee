"""Writes transformers of numbers as graph nodes: tensor in, tensor out, in float64 like the originals."""

from __future__ import annotations

import warnings
from collections.abc import Callable
from typing import Any

import numpy as np
from onnx import TensorProto

from lamppost.packing.compiling.composed import interpolated
from lamppost.packing.compiling.graph import Graph, NotCompiled, Tensor
from lamppost.packing.compiling.kernels import kernel, squared_distances
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
    if not isinstance(marker, float) or not np.isnan(marker):
        raise NotCompiled("SimpleImputer with another mark than NaN")
    if fills.dtype.kind not in "fiu" or np.isnan(fills.astype(np.float64)).any():
        raise NotCompiled("SimpleImputer of text, or of a column that was always missing")
    gone = graph.add("IsNaN", tensor.name)
    filled = Tensor(graph.add("Where", gone, graph.constant(fills.astype(np.float64)[None, :]), tensor.name), tensor.width)
    return graph.join([filled, _indicate(graph, fitted.indicator_, tensor)]) if fitted.add_indicator else filled


def _indicate(graph: Graph, fitted: Any, tensor: Tensor) -> Tensor:
    """Flags of what is missing."""
    if not isinstance(fitted.missing_values, float) or not np.isnan(fitted.missing_values) or fitted.features != "missing-only":
        raise NotCompiled("MissingIndicator with another mark than NaN, or of all columns")
    gone = graph.add("Cast", graph.add("IsNaN", tensor.name), to=TensorProto.DOUBLE)
    return graph.pick(Tensor(gone, tensor.width), fitted.features_)


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


def _one_hot(graph: Graph, fitted: Any, tensor: Tensor) -> Tensor:
    """Numbers that are codes, as flags; what is none of the codes has none, or is refused by NaN as scikit-learn refuses it."""
    if fitted.drop is not None or getattr(fitted, "_infrequent_enabled", False):
        raise NotCompiled("OneHotEncoder of numbers that drops a category, or puts rare ones together")
    parts = []
    for at, categories in enumerate(fitted.categories_):
        if np.asarray(categories).dtype.kind not in "iuf" or np.isnan(np.asarray(categories, dtype=np.float64)).any():
            raise NotCompiled("OneHotEncoder of numbers among which one is missing")
        codes = graph.constant(np.asarray(categories, dtype=np.float64)[None, :])
        equal = graph.add("Cast", graph.add("Equal", graph.pick(tensor, [at]).name, codes), to=TensorProto.DOUBLE)
        flags = Tensor(equal, len(categories))
        parts.append(flags if fitted.handle_unknown == "ignore" else _known_only(graph, flags))
    return graph.join(parts)


def _known_only(graph: Graph, flags: Tensor) -> Tensor:
    found = graph.add("ReduceSum", flags.name, graph.constant(np.array([1])), keepdims=1)
    return Tensor(graph.add("Div", flags.name, found), flags.width)  # 0 by 0 is NaN


def _bins(graph: Graph, fitted: Any, tensor: Tensor) -> Tensor:
    """The bin of each number: how many inner edges it reaches."""
    places = []
    for at, edges in enumerate(fitted.bin_edges_):
        inner = graph.constant(np.asarray(edges, dtype=np.float64)[None, 1:-1])
        reached = graph.add("Cast", graph.add("GreaterOrEqual", graph.pick(tensor, [at]).name, inner), to=TensorProto.DOUBLE)
        places.append(Tensor(graph.add("ReduceSum", reached, graph.constant(np.array([1])), keepdims=1), 1))
    if fitted.encode == "ordinal":
        return graph.join(places)
    hot = []
    for place, count in zip(places, fitted.n_bins_, strict=True):
        flags = graph.add("Equal", place.name, graph.constant(np.arange(count, dtype=np.float64)[None, :]))
        hot.append(Tensor(graph.add("Cast", flags, to=TensorProto.DOUBLE), int(count)))
    return graph.join(hot)


def _quantiles(graph: Graph, fitted: Any, tensor: Tensor) -> Tensor:
    """The place of each number among those of training, from 0 to 1: the mean of two curves, which differ where values are equal."""
    if fitted.output_distribution != "uniform":
        raise NotCompiled(f"QuantileTransformer to a {fitted.output_distribution} distribution")
    columns = []
    for at in range(tensor.width):
        places, heights = np.asarray(fitted.quantiles_[:, at]), np.asarray(fitted.references_)
        column = graph.pick(tensor, [at])
        upper, lower = (interpolated(graph, column, places, heights, compare) for compare in ("LessOrEqual", "Less"))
        mean = graph.affine(Tensor(graph.add("Add", upper.name, lower.name), 1), scale=[0.5])
        for compare, bound, height in (("GreaterOrEqual", places[-1], 1.0), ("LessOrEqual", places[0], 0.0)):
            there = graph.add(compare, column.name, graph.constant(np.float64(bound)))
            mean = Tensor(graph.add("Where", there, graph.constant(np.float64(height)), mean.name), 1)
        columns.append(mean)
    return graph.join(columns)


def _power(graph: Graph, fitted: Any, tensor: Tensor) -> Tensor:
    """Yeo and Johnson's powers, and then standard scaling."""
    if fitted.method != "yeo-johnson":
        raise NotCompiled("PowerTransformer by Box and Cox")
    one, zero = graph.constant(np.float64(1)), graph.constant(np.float64(0))
    size = graph.add("Log", graph.add("Add", graph.add("Abs", tensor.name), one))
    powers = np.asarray(fitted.lambdas_, dtype=np.float64)
    up = _power_side(graph, size, powers)
    down = graph.add("Neg", _power_side(graph, size, 2.0 - powers))
    turned = Tensor(graph.add("Where", graph.add("Less", tensor.name, zero), down, up), tensor.width)
    return _standard(graph, fitted._scaler, turned) if fitted.standardize else turned


def _power_side(graph: Graph, size: str, powers: Any) -> str:
    """``((1 + |x|) ** power - 1) / power`` of the logarithm of ``1 + |x|``, which is that logarithm itself at a power of 0."""
    plain = powers == 0
    safe = np.where(plain, 1.0, powers)
    grown = graph.add("Exp", graph.add("Mul", size, graph.constant(safe)))
    shares = graph.add("Div", graph.add("Sub", grown, graph.constant(np.float64(1))), graph.constant(safe))
    return graph.add("Where", graph.constant(plain), size, shares)


def _splines(graph: Graph, fitted: Any, tensor: Tensor) -> Tensor:
    """B-splines of each number: a polynomial in each piece between knots, by Horner's rule; level outside."""
    from scipy.interpolate import PPoly

    if not fitted.degree:
        raise NotCompiled("SplineTransformer of degree 0")
    if fitted.extrapolation != "constant" or getattr(fitted, "handle_missing", "error") != "error":
        raise NotCompiled(f"SplineTransformer that goes on {fitted.extrapolation} outside, or takes missing values")
    columns = []
    for at, spline in enumerate(fitted.bsplines_):
        degree, knots = spline.k, np.asarray(spline.t, dtype=np.float64)
        pieces = slice(degree, len(knots) - degree - 1)
        splines = [PPoly.from_spline((knots, column, degree)).c[:, pieces] for column in np.asarray(spline.c).T]
        coefficients = np.stack(splines, axis=2)
        if not fitted.include_bias:
            coefficients = coefficients[:, :, :-1]
        starts, end = knots[pieces], knots[len(knots) - degree - 1]
        inside = graph.add("Clip", graph.pick(tensor, [at]).name, graph.constant(starts[0]), graph.constant(end))
        reached = graph.add("Cast", graph.add("GreaterOrEqual", inside, graph.constant(starts[None, 1:])), to=TensorProto.INT64)
        piece = graph.add("ReduceSum", reached, graph.constant(np.array([1])), keepdims=0)
        start = graph.add("Unsqueeze", graph.add("Gather", graph.constant(starts), piece), graph.constant(np.array([1])))
        away = graph.add("Sub", inside, start)
        value, *others = (graph.add("Gather", graph.constant(table), piece, axis=0) for table in coefficients)
        for other in others:
            value = graph.add("Add", graph.add("Mul", value, away), other)
        columns.append(Tensor(value, coefficients.shape[2]))
    return graph.join(columns)


def _affine_map(graph: Graph, fitted: Any, tensor: Tensor) -> Tensor:
    """A transformer that only weighs and adds: what it makes of 0 and of each unit says all."""
    asked = np.vstack([np.zeros((1, tensor.width)), np.eye(tensor.width)])
    with warnings.catch_warnings():
        warnings.simplefilter("ignore")  # of names of columns
        made = fitted.transform(asked)
    made = made.toarray() if hasattr(made, "toarray") else np.asarray(made)
    return graph.matmul(tensor, made[1:] - made[0], made[0])


def _nystroem(graph: Graph, fitted: Any, tensor: Tensor) -> Tensor:
    if fitted.kernel_params:
        raise NotCompiled("Nystroem with parameters of its own")
    kept = np.asarray(fitted.components_, dtype=np.float64)
    gamma = 1.0 / kept.shape[1] if fitted.gamma is None else fitted.gamma
    shift = 1.0 if fitted.coef0 is None else fitted.coef0
    near = kernel(graph, tensor, kept, fitted.kernel, gamma, 3.0 if fitted.degree is None else fitted.degree, shift)
    return graph.matmul(near, np.asarray(fitted.normalization_, dtype=np.float64).T)


def _distances(graph: Graph, fitted: Any, tensor: Tensor) -> Tensor:
    """How far each centre is."""
    centres = np.asarray(fitted.cluster_centers_, dtype=np.float64)
    return Tensor(graph.add("Sqrt", squared_distances(graph, tensor, centres).name), len(centres))


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
    "MissingIndicator": _indicate,
    "OneHotEncoder": _one_hot,
    "KBinsDiscretizer": _bins,
    "QuantileTransformer": _quantiles,
    "SplineTransformer": _splines,
    "PowerTransformer": _power,
    **dict.fromkeys(("FactorAnalysis", "FastICA", "GaussianRandomProjection", "SparseRandomProjection"), _affine_map),
    **dict.fromkeys(("NeighborhoodComponentsAnalysis", "LinearDiscriminantAnalysis", "PLSRegression", "IncrementalPCA"), _affine_map),
    "Nystroem": _nystroem,
    **dict.fromkeys(("KMeans", "MiniBatchKMeans"), _distances),
}
