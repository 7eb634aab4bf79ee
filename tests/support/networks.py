"""Small ONNX graphs and PyTorch programs, made here; nothing is trained."""

from __future__ import annotations

from pathlib import Path
from typing import Any

import numpy as np
import onnx
from onnx import TensorProto, helper, numpy_helper

FLOAT, INT64, STRING, BOOL = TensorProto.FLOAT, TensorProto.INT64, TensorProto.STRING, TensorProto.BOOL
Value = tuple[str, int, list[Any]]


def save(
    path: Path, nodes: list[Any], inputs: list[Value], outputs: list[Value], constants: dict[str, Any] | None = None, beside: bool = False
) -> Path:
    """An ONNX file; with ``beside``, its constants lie in a file of their own."""
    given = [helper.make_tensor_value_info(*one) for one in inputs]
    held = [numpy_helper.from_array(np.asarray(value), name) for name, value in (constants or {}).items()]
    graph = helper.make_graph(nodes, path.stem, given, [helper.make_tensor_value_info(*output) for output in outputs], held)
    model = helper.make_model(graph, opset_imports=[helper.make_opsetid("", 21)])
    model.ir_version = 10
    model.doc_string = "A small graph of Tallowby."
    entry = model.metadata_props.add()
    entry.key, entry.value = "town", "Tallowby"
    if beside:
        onnx.save(model, path, save_as_external_data=True, location=f"{path.stem}.weights", size_threshold=0)
    else:
        onnx.save(model, path)
    return path


def node(operator: str, inputs: str, outputs: str, **attributes: Any) -> Any:
    return helper.make_node(operator, inputs.split(), outputs.split(), **attributes)


WEIGHTS = np.random.default_rng(1).normal(size=(4, 3)).astype(np.float32)


def dense(folder: Path, beside: bool = False) -> Path:
    """Four numbers to three logits."""
    return save(
        folder / "dense.onnx",
        [node("MatMul", "x W", "logits")],
        [("x", FLOAT, ["rows", 4])],
        [("logits", FLOAT, ["rows", 3])],
        {"W": WEIGHTS},
        beside,
    )


def several(folder: Path) -> Path:
    """A tensor of any length, a text and a number to a sum, the same text, and the tensor times the number."""
    nodes = [
        node("ReduceSum", "seq axis", "total", keepdims=0),
        node("Identity", "note", "said"),
        node("Unsqueeze", "k one", "k2"),
        node("Mul", "seq k2", "scaled"),
    ]
    inputs: list[Value] = [("seq", FLOAT, ["rows", "length"]), ("note", STRING, ["rows"]), ("k", FLOAT, ["rows"])]
    outputs: list[Value] = [("total", FLOAT, ["rows"]), ("said", STRING, ["rows"]), ("scaled", FLOAT, ["rows", "length"])]
    return save(folder / "several.onnx", nodes, inputs, outputs, {"axis": np.array([1]), "one": np.array([1])})


def fixed(folder: Path, rows: int) -> Path:
    """The sigmoid of one number, for exactly so many rows at once."""
    return save(folder / "fixed.onnx", [node("Sigmoid", "x", "p")], [("x", FLOAT, [rows, 1])], [("p", FLOAT, [rows, 1])])


def ids(folder: Path) -> Path:
    """Three whole numbers and three more to their sums, one row at a time."""
    return save(folder / "ids.onnx", [node("Add", "a b", "sum")], [("a", INT64, [1, 3]), ("b", INT64, [1, 3])], [("sum", INT64, [1, 3])])


def picture(folder: Path) -> Path:
    """A convolution over pictures of 3 × 12 × 10 to two logits."""
    kernel = np.random.default_rng(2).normal(size=(2, 3, 3, 3)).astype(np.float32)
    nodes = [node("Conv", "x K", "c", kernel_shape=[3, 3]), node("GlobalAveragePool", "c", "g"), node("Flatten", "g", "logits")]
    return save(folder / "picture.onnx", nodes, [("x", FLOAT, ["rows", 3, 12, 10])], [("logits", FLOAT, ["rows", 2])], {"K": kernel})


def wide(folder: Path) -> Path:
    """64 numbers through 256 to three logits: large enough to be worth making smaller."""
    rng = np.random.default_rng(3)
    nodes = [node("MatMul", "x A", "h"), node("Relu", "h", "r"), node("MatMul", "r B", "logits")]
    constants = {"A": rng.normal(size=(64, 256)).astype(np.float32) / 8, "B": rng.normal(size=(256, 3)).astype(np.float32) / 16}
    return save(folder / "wide.onnx", nodes, [("x", FLOAT, ["rows", 64])], [("logits", FLOAT, ["rows", 3])], constants)


def softmax(logits: Any) -> Any:
    powers = np.exp(logits - logits.max(axis=1, keepdims=True))
    return powers / powers.sum(axis=1, keepdims=True)
