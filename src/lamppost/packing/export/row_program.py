"""Reads a compiled graph as a program over one row, by carrying expressions through it in place of numbers.

Every operator is carried out on arrays of expressions whose first dimension is one row, so that shapes, axes and broadcasting are those of
the standard. An operator without a counterpart here is named.
"""

from __future__ import annotations

from collections.abc import Callable, Sequence
from dataclasses import replace
from typing import Any

import numpy as np
import numpy.typing as npt
import onnx
from onnx import numpy_helper

from lamppost.core.artifact.steps import CompiledForm
from lamppost.core.errors import BadRequest
from lamppost.core.schema.fields import Schema
from lamppost.packing.compiling.graph import CODES, NUMBERS
from lamppost.packing.export.expressions import Expression, Operation, RowProgram, TreeNode, Trees, combine, constant, lookup

MAX_EXPRESSIONS = 400_000
Array = npt.NDArray[Any]
_BRANCH_LEQ, _BRANCH_LT = 0, 1


class NoSuchForm(BadRequest):
    """A package has no counterpart in the form that was asked for."""


def read_graph(graph_bytes: bytes, compiled: CompiledForm, inputs: Schema) -> RowProgram:
    """The program of a compiled graph; raise NoSuchForm for an operator without a counterpart."""
    by_name = {field.name: field for field in inputs}
    counts = [3 if by_name[name].kind == "yes/no" else len(by_name[name].choices) for name in compiled.codes]
    reader = _Reader([count + 2 for count in counts])
    numbers = [Expression("number", "float", (), place) for place in range(len(compiled.numbers))]
    codes = [Expression("code", "int", (), place) for place in range(len(compiled.codes))]
    reader.values[NUMBERS] = np.array([numbers], dtype=object)
    reader.values[CODES] = np.array([codes], dtype=object)
    graph = onnx.load_from_string(graph_bytes).graph
    for initializer in graph.initializer:
        reader.values[initializer.name] = _constants(numpy_helper.to_array(initializer))
    for node in graph.node:
        reader.carry_out(node)
    outputs = {output.name: tuple(reader.values[output.name].reshape(-1)) for output in graph.output}
    return RowProgram(tuple(compiled.numbers), tuple(compiled.codes), outputs)


def _constants(array: Array) -> Array:
    made = np.empty(array.shape, dtype=object)
    flat = array.reshape(-1).tolist()
    made.reshape(-1)[:] = [constant(value) for value in flat] if flat else []
    return made


def _plain(array: Array) -> Array:
    """An array of constants as numbers."""
    flat = [one.value for one in array.reshape(-1)]
    if any(one.operation != "constant" for one in array.reshape(-1)):
        raise NoSuchForm("the graph computes a shape or an index that is not known before")
    return np.array(flat).reshape(array.shape)


def _each(operation: Operation, kind: str | None = None) -> Callable[..., Array]:
    """An operation carried out on each element. kind : of the result; that of the last part by default."""

    def carry_out(*arrays: Array) -> Array:
        broad = np.broadcast_arrays(*arrays)
        made = np.empty(broad[0].shape, dtype=object)
        flat = made.reshape(-1)
        for at, parts in enumerate(zip(*(array.reshape(-1) for array in broad), strict=True)):
            flat[at] = combine(operation, kind or parts[-1].kind, *parts)
        return made

    return carry_out


_ELEMENTWISE: dict[str, Callable[..., Array]] = {
    "Add": _each("add"),
    "Sub": _each("subtract"),
    "Mul": _each("multiply"),
    "Div": _each("divide"),
    "Neg": _each("negate"),
    "Abs": _each("absolute"),
    "Exp": _each("exponential"),
    "Log": _each("logarithm"),
    "Sqrt": _each("root"),
    "Pow": _each("power"),
    "Tanh": _each("tanh"),
    "Sigmoid": _each("sigmoid"),
    "Floor": _each("floor"),
    "Less": _each("less", "bool"),
    "LessOrEqual": _each("less_equal", "bool"),
    "Equal": _each("equal", "bool"),
    "And": _each("and", "bool"),
    "Or": _each("or", "bool"),
    "Not": _each("not", "bool"),
    "IsNaN": _each("missing", "bool"),
    "Where": _each("choose"),
    "Min": _each("least"),
    "Max": _each("greatest"),
}


class _Reader:
    def __init__(self, code_counts: Sequence[int]) -> None:
        self.values: dict[str, Array] = {}
        self._code_counts = code_counts
        self._made = 0

    def carry_out(self, node: onnx.NodeProto) -> None:
        inputs = [self.values[name] for name in node.input if name]
        attributes = {one.name: onnx.helper.get_attribute_value(one) for one in node.attribute}
        made = self._carry_out(node.op_type, inputs, attributes)
        self.values[node.output[0]] = made
        self._made += made.size
        if len(node.output) > 1:
            raise NoSuchForm(f"the graph's operation {node.op_type} has no counterpart in this form")
        if self._made > MAX_EXPRESSIONS:
            raise NoSuchForm(f"the model computes more than {MAX_EXPRESSIONS:,} values a row, which is too much for this form")

    def _carry_out(self, name: str, inputs: list[Array], attributes: dict[str, Any]) -> Array:
        if name in ("Greater", "GreaterOrEqual"):
            return _ELEMENTWISE["Less" if name == "Greater" else "LessOrEqual"](*reversed(inputs))
        if name in ("Sum", "Min", "Max"):
            operation = _ELEMENTWISE["Add" if name == "Sum" else name]
            result = inputs[0]
            for other in inputs[1:]:
                result = operation(result, other)
            return result
        if name in _ELEMENTWISE:
            return _ELEMENTWISE[name](*inputs)
        method = getattr(self, f"_of_{name.lower()}", None)
        if method is None:
            raise NoSuchForm(f"the graph's operation {name} has no counterpart in this form")
        made: Array = method(inputs, attributes)
        return made

    def _of_identity(self, inputs: list[Array], _: dict[str, Any]) -> Array:
        return inputs[0]

    def _of_relu(self, inputs: list[Array], _: dict[str, Any]) -> Array:
        return _ELEMENTWISE["Max"](inputs[0], _constants(np.array(0.0)))

    def _of_cast(self, inputs: list[Array], attributes: dict[str, Any]) -> Array:
        to = attributes["to"]
        if to == onnx.TensorProto.FLOAT:
            return _each("single", "float")(inputs[0])
        if to == onnx.TensorProto.DOUBLE:
            return _map(inputs[0], _as_float)
        if to == onnx.TensorProto.INT64 and all(one.operation == "trees" for one in inputs[0].reshape(-1)):
            return _map(inputs[0], lambda one: Expression("whole", "int", (one,)))
        if to in (onnx.TensorProto.INT64, onnx.TensorProto.INT32) and all(one.kind != "float" for one in inputs[0].reshape(-1)):
            return _map(inputs[0], lambda one: one if one.kind == "int" else combine("choose", "int", one, constant(1), constant(0)))
        raise NoSuchForm("the graph turns numbers into whole ones, which has no counterpart in this form")

    def _of_gather(self, inputs: list[Array], attributes: dict[str, Any]) -> Array:
        values, index = inputs
        axis = attributes.get("axis", 0)
        if all(one.operation == "constant" for one in index.reshape(-1)):
            return np.take(values, _plain(index).astype(np.int64), axis=axis)
        if axis != 0:
            raise NoSuchForm("the graph looks values up by what it has computed, which has no counterpart in this form")
        table = _plain(values)
        rows = table.reshape(len(table), -1)
        made = np.empty((index.size, rows.shape[1]), dtype=object)
        for at, one in enumerate(index.reshape(-1)):
            if one.operation == "whole":
                made[at] = _values_of_leaves(one.parts[0], rows)
                continue
            for column in range(rows.shape[1]):
                made[at, column] = lookup(rows[:, column].tolist(), one, self._code_counts)
        return made.reshape(*index.shape, *table.shape[1:])

    def _of_concat(self, inputs: list[Array], attributes: dict[str, Any]) -> Array:
        return np.concatenate(inputs, axis=attributes["axis"])

    def _of_reshape(self, inputs: list[Array], _: dict[str, Any]) -> Array:
        return inputs[0].reshape([int(length) for length in _plain(inputs[1])])

    def _of_unsqueeze(self, inputs: list[Array], _: dict[str, Any]) -> Array:
        return np.expand_dims(inputs[0], tuple(int(axis) for axis in _plain(inputs[1])))

    def _of_squeeze(self, inputs: list[Array], _: dict[str, Any]) -> Array:
        return np.squeeze(inputs[0], tuple(int(axis) for axis in _plain(inputs[1])))

    def _of_transpose(self, inputs: list[Array], attributes: dict[str, Any]) -> Array:
        return np.transpose(inputs[0], attributes.get("perm"))

    def _of_clip(self, inputs: list[Array], _: dict[str, Any]) -> Array:
        result = _ELEMENTWISE["Max"](inputs[0], inputs[1])
        return _ELEMENTWISE["Min"](result, inputs[2]) if len(inputs) > 2 else result

    def _of_matmul(self, inputs: list[Array], _: dict[str, Any]) -> Array:
        left, right = inputs
        made = np.empty((left.shape[0], right.shape[1]), dtype=object)
        for row in range(left.shape[0]):
            for column in range(right.shape[1]):
                products = [combine("multiply", "float", a, b) for a, b in zip(left[row], right[:, column], strict=True)]
                made[row, column] = _total([one for one in products if not (one.operation == "constant" and one.value == 0)])
        return made

    def _reduced(self, inputs: list[Array], attributes: dict[str, Any], fold: Callable[[Sequence[Expression]], Expression]) -> Array:
        axes = tuple(int(axis) % inputs[0].ndim for axis in _plain(inputs[1])) if len(inputs) > 1 else tuple(range(inputs[0].ndim))
        moved = np.moveaxis(inputs[0], axes, range(-len(axes), 0))
        kept = moved.shape[: moved.ndim - len(axes)]
        made = np.empty(kept, dtype=object)
        flat = moved.reshape(int(np.prod(kept)), -1)
        made.reshape(-1)[:] = [fold(list(row)) for row in flat]
        return np.expand_dims(made, tuple(sorted(axes))) if attributes.get("keepdims", 1) else made

    def _of_reducesum(self, inputs: list[Array], attributes: dict[str, Any]) -> Array:
        return self._reduced(inputs, attributes, _total)

    def _of_reducemean(self, inputs: list[Array], attributes: dict[str, Any]) -> Array:
        return self._reduced(inputs, attributes, lambda row: combine("divide", "float", _total(row), constant(float(len(row)))))

    def _of_reducemax(self, inputs: list[Array], attributes: dict[str, Any]) -> Array:
        return self._reduced(inputs, attributes, _greatest)

    def _of_reducesumsquare(self, inputs: list[Array], attributes: dict[str, Any]) -> Array:
        return self._reduced(inputs, attributes, lambda row: _total([combine("multiply", "float", one, one) for one in row]))

    def _of_reducel2(self, inputs: list[Array], attributes: dict[str, Any]) -> Array:
        return _map(self._of_reducesumsquare(inputs, attributes), lambda one: combine("root", "float", one))

    def _of_argmin(self, inputs: list[Array], attributes: dict[str, Any]) -> Array:
        return self._of_argmax([_ELEMENTWISE["Neg"](inputs[0])], attributes)

    def _of_softmax(self, inputs: list[Array], _: dict[str, Any]) -> Array:
        made = np.empty(inputs[0].shape, dtype=object)
        for at, row in enumerate(inputs[0]):
            most = _greatest(list(row))
            powers = [combine("exponential", "float", combine("subtract", "float", one, most)) for one in row]
            total = _total(powers)
            made[at] = [combine("divide", "float", power, total) for power in powers]
        return made

    def _of_argmax(self, inputs: list[Array], attributes: dict[str, Any]) -> Array:
        if attributes.get("select_last_index"):
            raise NoSuchForm("the graph takes the last of several highest values, which has no counterpart in this form")
        made = np.empty(inputs[0].shape[0], dtype=object)
        for at, row in enumerate(inputs[0]):
            best, place = row[0], constant(0)
            for number, one in enumerate(row[1:], start=1):
                higher = combine("less", "bool", best, one)
                best = combine("choose", "float", higher, one, best)
                place = combine("choose", "int", higher, constant(number), place)
            made[at] = place
        return made[:, None] if attributes.get("keepdims", 1) else made

    def _of_treeensemble(self, inputs: list[Array], attributes: dict[str, Any]) -> Array:
        trees = _read_trees(attributes)
        features = tuple(inputs[0].reshape(-1))
        return np.array([[Expression("trees", "float", features, (trees, target)) for target in range(trees.targets)]], dtype=object)


def _values_of_leaves(reached: Expression, table: Array) -> list[Expression]:
    """Values that a table has for the leaf that a row reaches, as sums of the tree alone. reached : the number of the leaf."""
    trees, target = reached.value
    leaves = {at: node for at, node in enumerate(trees.nodes) if node.feature < 0 and node.weights[0][0] == target}
    roots = tuple(root for root in trees.roots if _first_leaf(trees, root) in leaves)
    nodes: list[TreeNode] = []
    places: dict[int, int] = {}
    waiting = list(roots)
    while waiting:
        at = waiting.pop()
        if at not in places:
            places[at] = len(places)
            node = trees.nodes[at]
            nodes.append(node)
            waiting += [] if node.feature < 0 else [node.yes, node.no]
    moved = [
        replace(node, weights=tuple(enumerate(table[int(node.weights[0][1])].tolist())))
        if node.feature < 0
        else replace(node, yes=places[node.yes], no=places[node.no])
        for node in nodes
    ]
    alone = Trees(tuple(moved), tuple(places[root] for root in roots), table.shape[1])
    return [Expression("trees", "float", reached.parts, (alone, column)) for column in range(table.shape[1])]


def _first_leaf(trees: Trees, root: int) -> int:
    at = root
    while trees.nodes[at].feature >= 0:
        at = trees.nodes[at].yes
    return at


def _map(array: Array, change: Callable[[Expression], Expression]) -> Array:
    made = np.empty(array.shape, dtype=object)
    made.reshape(-1)[:] = [change(one) for one in array.reshape(-1)]
    return made


def _as_float(one: Expression) -> Expression:
    if one.kind == "float":
        return one
    if one.operation == "constant":
        return constant(float(one.value))
    if one.kind == "bool":
        return combine("choose", "float", one, constant(1.0), constant(0.0))
    return Expression("multiply", "float", (one, constant(1.0)))


def _total(row: Sequence[Expression]) -> Expression:
    if not row:
        return constant(0.0)
    result = row[0]
    for one in row[1:]:
        result = combine("add", one.kind, result, one)
    return result


def _greatest(row: Sequence[Expression]) -> Expression:
    result = row[0]
    for one in row[1:]:
        result = combine("greatest", "float", result, one)
    return result


def _read_trees(attributes: dict[str, Any]) -> Trees:
    """The trees of a TreeEnsemble (ai.onnx.ml 5)."""
    modes = numpy_helper.to_array(attributes["nodes_modes"]).tolist()
    splits = numpy_helper.to_array(attributes["nodes_splits"]).tolist()
    weights = numpy_helper.to_array(attributes["leaf_weights"]).tolist()
    targets = list(attributes["leaf_targetids"])
    features, yes, no = (list(attributes[f"nodes_{name}"]) for name in ("featureids", "truenodeids", "falsenodeids"))
    yes_leaf, no_leaf = list(attributes["nodes_trueleafs"]), list(attributes["nodes_falseleafs"])
    missing = list(attributes.get("nodes_missing_value_tracks_true", [])) or [0] * len(features)
    if any(mode not in (_BRANCH_LEQ, _BRANCH_LT) for mode in modes):
        raise NoSuchForm("the trees ask for single values, which has no counterpart in this form")
    inner = len(features)
    nodes = [
        TreeNode(
            features[at],
            splits[at],
            inner + yes[at] if yes_leaf[at] else yes[at],
            inner + no[at] if no_leaf[at] else no[at],
            bool(modes[at] == _BRANCH_LT),
            bool(missing[at]),
        )
        for at in range(inner)
    ]
    leaves = [TreeNode(-1, weights=((targets[at], weights[at]),)) for at in range(len(weights))]
    roots = []
    for root in attributes["tree_roots"]:
        only = yes_leaf[root] and no_leaf[root] and yes[root] == no[root]
        roots.append(inner + yes[root] if only else root)
    return Trees((*nodes, *leaves), tuple(roots), int(attributes["n_targets"]))
