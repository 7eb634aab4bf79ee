"""Builds an ONNX graph: nodes, constants, names. All feature tensors are float64 of shape (n_rows, width).

Operators are those of the ONNX standard, opset 21, and of ``ai.onnx.ml``, opset 5, whose TreeEnsemble computes in float64.
"""

from __future__ import annotations

from dataclasses import dataclass
from typing import Any

import numpy as np
import onnx
from onnx import TensorProto, helper, numpy_helper

OPSET, OPSET_ML, IR_VERSION = 21, 5, 10
NUMBERS, CODES = "numbers", "codes"
"""Names of the two inputs: float64 (n_rows, n_number_fields) and int64 (n_rows, n_choice_fields)."""


class NotCompiled(Exception):
    """A part of the chain has no exact counterpart in a graph; the text names it."""


@dataclass(frozen=True, slots=True)
class Tensor:
    """The name of a float64 value of shape (n_rows, width) in the graph."""

    name: str
    width: int


class Graph:
    """Add nodes, then `finish`. Names count up, so that the same chain always gives the same bytes."""

    def __init__(self) -> None:
        self._nodes: list[onnx.NodeProto] = []
        self._constants: list[onnx.TensorProto] = []
        self.may_overflow = False
        """Whether finite inputs may have become infinite: a transformer computed with them."""
        self._count = 0

    def constant(self, values: Any) -> str:
        """A constant, in the dtype it has as an array."""
        name = self._name("c")
        self._constants.append(numpy_helper.from_array(np.asarray(values, order="C"), name))
        return name

    def add(self, operator: str, *inputs: str, domain: str = "", **attributes: Any) -> str:
        """A node with one output; its name is returned. An array as attribute becomes a tensor attribute."""
        output = self._name("v")
        node = helper.make_node(operator, list(inputs), [output], domain=domain)
        for key, value in attributes.items():
            if isinstance(value, np.ndarray):
                node.attribute.append(helper.make_attribute(key, numpy_helper.from_array(value, key)))
            else:
                node.attribute.append(helper.make_attribute(key, value))
        self._nodes.append(node)
        return output

    def add_two(self, operator: str, *inputs: str, **attributes: Any) -> tuple[str, str]:
        """A node with two outputs; their names."""
        outputs = self._name("v"), self._name("v")
        self._nodes.append(helper.make_node(operator, list(inputs), list(outputs), **attributes))
        return outputs

    def affine(self, tensor: Tensor, scale: Any = None, shift: Any = None) -> Tensor:
        """``tensor * scale + shift`` with a value per column."""
        name = tensor.name
        if scale is not None:
            name = self.add("Mul", name, self.constant(np.asarray(scale, dtype=np.float64)))
        if shift is not None:
            name = self.add("Add", name, self.constant(np.asarray(shift, dtype=np.float64)))
        return Tensor(name, tensor.width)

    def pick(self, tensor: Tensor, columns: Any) -> Tensor:
        """Some columns, in the order given."""
        index = np.asarray(columns, dtype=np.int64)
        if tensor.width == len(index) and (index == np.arange(len(index))).all():
            return tensor
        return Tensor(self.add("Gather", tensor.name, self.constant(index), axis=1), len(index))

    def join(self, tensors: list[Tensor]) -> Tensor:
        """Columns side by side."""
        if not tensors:
            raise NotCompiled("a chain that keeps no column")
        if len(tensors) == 1:
            return tensors[0]
        return Tensor(self.add("Concat", *(t.name for t in tensors), axis=1), sum(t.width for t in tensors))

    def matmul(self, tensor: Tensor, weights: Any, shift: Any = None) -> Tensor:
        """``tensor @ weights + shift``; weights of shape (width, new width)."""
        weights = np.asarray(weights, dtype=np.float64)
        product = Tensor(self.add("MatMul", tensor.name, self.constant(weights)), weights.shape[1])
        return product if shift is None else self.affine(product, shift=shift)

    def finish(self, numbers: int, codes: int, outputs: dict[str, tuple[str, list[int | None], int]]) -> bytes:
        """The model's bytes. outputs : name to (value, shape, ONNX element type)."""
        given = []
        if numbers:
            given.append(helper.make_tensor_value_info(NUMBERS, TensorProto.DOUBLE, [None, numbers]))
        if codes:
            given.append(helper.make_tensor_value_info(CODES, TensorProto.INT64, [None, codes]))
        results = []
        for name, (value, shape, kind) in outputs.items():
            self._nodes.append(helper.make_node("Identity", [value], [name]))
            results.append(helper.make_tensor_value_info(name, kind, shape))
        graph = helper.make_graph(self._nodes, "lamppost", given, results, self._constants)
        opsets = [helper.make_opsetid("", OPSET), helper.make_opsetid("ai.onnx.ml", OPSET_ML)]
        model = helper.make_model(graph, opset_imports=opsets, producer_name="lamppost")
        model.ir_version = IR_VERSION
        onnx.checker.check_model(model)
        return bytes(model.SerializeToString(deterministic=True))

    def _name(self, start: str) -> str:
        self._count += 1
        return f"{start}{self._count}"


@dataclass(frozen=True, slots=True)
class Answer:
    """The answer of an estimator. scores : (n_rows, n_labels). decision : (n_rows, n_labels), where the label is the highest of these and
    not of the scores. value : (n_rows, n_targets) of a regressor. margin : what ``decision_function`` gives, (n_rows, 1) for two classes,
    where an estimator around this one may read it.
    """

    scores: Tensor | None = None
    decision: Tensor | None = None
    value: Tensor | None = None
    margin: Tensor | None = None


def winner(graph: Graph, compare: str, margin: Tensor, cut: float = 0.0) -> Tensor:
    """1 at the class that wins and 0 at the other; the second one where the margin compares so with ``cut``.

    It compares and does not compute, because a margin may be infinite.
    """
    second = graph.add("Cast", graph.add(compare, margin.name, graph.constant(np.float64(cut))), to=TensorProto.DOUBLE)
    return two_classes(graph, Tensor(second, 1))


def as_shares(graph: Graph, tensor: Tensor, of_nothing: float | None = None) -> Tensor:
    """The columns of each row as shares of their sum. of_nothing : each share where the sum is 0, None for all the same."""
    total = graph.add("ReduceSum", tensor.name, graph.constant(np.array([1])), keepdims=1)
    none = graph.add("Equal", total, graph.constant(np.float64(0)))
    parts = graph.add("Div", tensor.name, graph.add("Where", none, graph.constant(np.float64(1)), total))
    even = 1.0 / tensor.width if of_nothing is None else of_nothing
    return Tensor(graph.add("Where", none, graph.constant(np.full((1, tensor.width), even)), parts), tensor.width)


def two_classes(graph: Graph, positive: Tensor) -> Tensor:
    """Scores of both classes from that of the second."""
    return graph.join([Tensor(graph.add("Sub", graph.constant(np.float64(1)), positive.name), 1), positive])


def sigmoid(graph: Graph, tensor: Tensor) -> Tensor:
    """1 / (1 + exp(-x))."""
    return Tensor(graph.add("Sigmoid", tensor.name), tensor.width)


def softmax(graph: Graph, tensor: Tensor) -> Tensor:
    """Over the columns of each row."""
    return Tensor(graph.add("Softmax", tensor.name, axis=1), tensor.width)


def only_of_finite(graph: Graph, tensor: Tensor, answer: Answer, allow_missing: bool) -> Answer:
    """The answer where a row of the tensor is finite, NaN elsewhere: infinity times zero is NaN, and so is what is added to it."""
    zero = graph.constant(np.float64(0))
    flags = graph.add("Mul", tensor.name, zero)
    if allow_missing:
        flags = graph.add("Where", graph.add("IsNaN", tensor.name), zero, flags)
    flag = graph.add("ReduceSum", flags, graph.constant(np.array([1])), keepdims=1)

    def checked(part: Tensor | None) -> Tensor | None:
        return None if part is None else Tensor(graph.add("Add", part.name, flag), part.width)

    # a label that comes with scores is refused with them
    decision = answer.decision if answer.scores else checked(answer.decision)
    return Answer(checked(answer.scores), decision, checked(answer.value), checked(answer.margin))
