"""Runs an ONNX or PyTorch network: columns into its input arrays, its outputs into columns.

Rows whose arrays have the same shape go in together; where an axis may have any length, rows of other lengths go in their own
run, so nothing is padded that training did not pad. A network that takes a fixed number of rows gets that number, its last run
filled up with copies of the last row, which are dropped again.
"""

from __future__ import annotations

import warnings
from collections.abc import Callable, Iterator, Sequence
from pathlib import Path
from typing import Any, cast

import numpy as np
import numpy.typing as npt

from lamppost.core.artifact.steps import NetworkInput, NetworkOutput, NetworkStep
from lamppost.core.errors import Fault, InvalidRows, ModelFault, PackageRefused
from lamppost.core.schema.columns import Array, Column, array_for_step, column_from_step
from lamppost.core.schema.fields import Field, Schema, shape_holds
from lamppost.package.quiet_onnxruntime import import_onnxruntime

Ask = Callable[[dict[str, Array]], dict[str, Any]]
"""Arrays by input name, rows first, to whatever the network gives by output name."""


class NetworkModel:
    """An open network."""

    def __init__(self, step: NetworkStep, takes: Schema, file: Path, threads: int = 1) -> None:
        self.step = step
        self._place = {field.name: (at, field) for at, field in enumerate(takes)}
        self._ask = open_onnx(file, threads) if step.format == "onnx" else open_torch(file, step, threads)

    def run(self, columns: Sequence[Column]) -> list[Column]:
        """Columns out of columns, in the orders of the step's ``takes`` and ``gives``."""
        collected: dict[str, list[Any]] = {output.field: [None] * len(columns[0].values) for output in self.step.outputs}
        for part, filled, feeds in self._runs(columns):
            outputs = self._ask(feeds)
            for output in self.step.outputs:
                values = output_array(output, outputs[output.name], filled)
                for row, value in zip(part, values, strict=False):
                    collected[output.field][row] = value
        return [_column(field, collected[field.name]) for field in self.step.gives]

    def feeds(self, columns: Sequence[Column]) -> list[dict[str, Array]]:
        """What the network is fed for these columns, run by run."""
        return [feeds for _, _, feeds in self._runs(columns)]

    def _runs(self, columns: Sequence[Column]) -> Iterator[tuple[list[int], int, dict[str, Array]]]:
        """Rows that go in together, how many that makes with copies to fill up, and the arrays."""
        rows = len(columns[0].values)
        fed = {feed.name: self._fed(feed, columns) for feed in self.step.feeds}
        for group in _groups(fed, rows):
            size = self.step.rows or len(group)
            for start in range(0, len(group), size):
                part = group[start : start + size]
                if len(part) == size == rows and all(isinstance(values, np.ndarray) for values in fed.values()):
                    yield part, rows, cast(dict[str, Array], fed)
                    continue
                filled = part + part[-1:] * (size - len(part) if self.step.rows else 0)
                yield part, len(filled), {name: np.stack([values[row] for row in filled]) for name, values in fed.items()}

    def _fed(self, feed: NetworkInput, columns: Sequence[Column]) -> Array | list[Array]:
        """One array a row for an input of the network."""
        arrays = []
        for name in feed.columns:
            at, field = self._place[name]
            arrays.append(_numbers(feed, field, columns[at]))
        if len(arrays) == 1 and arrays[0].dtype == object:
            return [_fit(feed, self._place[feed.columns[0]][1], row, np.asarray(value)) for row, value in enumerate(arrays[0])]
        whole = arrays[0] if len(arrays) == 1 else np.stack(arrays, axis=1)
        if feed.shape and 0 not in feed.shape:
            whole = whole.reshape(len(whole), *feed.shape)
        return whole if feed.dtype == "string" else _cast(feed, self._place[feed.columns[0]][1], whole)


def _numbers(feed: NetworkInput, field: Field, column: Column) -> Array:
    array = array_for_step(field, column)
    if field.kind == "choice" and feed.dtype != "string":
        return np.asarray(column.values)  # its code
    if field.kind == "yes/no":
        return np.array([np.nan if value is None else float(value) for value in array])
    if field.kind == "time":
        raise PackageRefused(f"a network cannot read the time {field.name!r}; make it a number in a step before")
    return array


def _cast(feed: NetworkInput, field: Field, array: Array) -> Array:
    if feed.dtype not in ("float16", "float32", "float64") and array.dtype.kind == "f":
        gone = ~np.isfinite(array)
        if gone.any():
            row = int(np.argwhere(gone)[0][0])
            fault = Fault(row, field.name, "nothing", field.expected_text(), "this network has no way to say that a value is missing")
            raise InvalidRows(fault.sentence(), faults=[fault.to_dict()])
    if feed.dtype not in ("float16", "float32", "float64", "bool") and array.size:
        low, high = np.iinfo(feed.dtype).min, np.iinfo(feed.dtype).max
        wrong = (array < low) | (array > high)
        if wrong.any():
            row = int(np.argwhere(wrong)[0][0])
            fault = Fault(
                row, field.name, str(array[wrong][0]), f"a whole number from {low} to {high}, because the network reads {feed.dtype}"
            )
            raise InvalidRows(fault.sentence(), faults=[fault.to_dict()])
    return array.astype(feed.dtype, copy=False)


def _fit(feed: NetworkInput, field: Field, row: int, array: Array) -> Array:
    """An array whose shape is known only now, or one text."""
    if feed.dtype == "string":
        if array.dtype == object and None in array:
            fault = Fault(row, field.name, "null", field.expected_text(), "this network has no way to say that a value is missing")
            raise InvalidRows(fault.sentence(), faults=[fault.to_dict()])
        text = array.astype(object)
        return text.reshape([n or -1 for n in feed.shape]) if feed.shape else text
    expected = feed.shape
    if not shape_holds(expected, array.shape):
        raise ModelFault(f"{field.name} has the shape {array.shape} in row {row}, and the network's {feed.name} wants {expected}")
    return _cast(feed, field, array)


def _groups(feeds: dict[str, Array | list[Array]], rows: int) -> list[list[int]]:
    """Rows that can go in together: those whose arrays have the same shapes."""
    if all(isinstance(values, np.ndarray) for values in feeds.values()):
        return [list(range(rows))]
    groups: dict[Any, list[int]] = {}
    for row in range(rows):
        groups.setdefault(tuple(values[row].shape for values in feeds.values()), []).append(row)
    return list(groups.values())


def output_array(output: NetworkOutput, output_value: Any, rows: int) -> Array:
    """One value a row of what a network gave; raise ModelFault when that is not one for each row."""
    if isinstance(output_value, list) and output_value and isinstance(output_value[0], dict):  # a map of class to score for each row
        keys = sorted(output_value[0], key=lambda key: (isinstance(key, str), key))
        output_value = np.array([[scores[key] for key in keys] for scores in output_value])
    array = np.asarray(output_value)
    if array.ndim == 0 or len(array) != rows:
        raise ModelFault(f"the network gave {output.name} of shape {array.shape} for {rows} rows")
    if output.make == "softmax":
        shifted = np.exp(array.astype(np.float64) - array.max(axis=-1, keepdims=True))
        array = shifted / shifted.sum(axis=-1, keepdims=True)
    elif output.make == "sigmoid":
        array = 1.0 / (1.0 + np.exp(-array.astype(np.float64)))
    elif output.make == "highest":
        array = array.argmax(axis=-1)
    elif output.make in ("above half", "above zero"):
        array = (array.reshape(rows) > (0.5 if output.make == "above half" else 0.0)).astype(np.int64)
    return array


def _column(field: Field, values: list[Any]) -> Column:
    if field.kind == "tensor":
        return column_from_step(field, [np.asarray(value, dtype=np.float64).reshape([n or -1 for n in field.shape]) for value in values])
    if field.kind == "vector":
        array = np.array([np.asarray(value, dtype=np.float64).reshape(-1) for value in values])
        if array.shape[1] == 1 and len(field.choices) == 2:  # the score of the second of two labels
            array = np.column_stack([1.0 - array, array])
        return Column(array)
    plain = [np.asarray(value).reshape(-1)[0] if np.ndim(value) else value for value in values]
    if field.kind == "choice" and not isinstance(plain[0], (str, bytes)):
        return Column(np.array(plain, dtype=np.int32))
    if field.kind == "yes/no":
        return Column(np.array(plain, dtype=bool).astype(np.uint8))
    if field.kind == "number":
        return Column(np.array(plain, dtype=np.float64))
    if field.kind == "integer":
        return Column(np.array(plain, dtype=np.int64))
    return column_from_step(field, [value.decode() if isinstance(value, bytes) else value for value in plain])


def open_onnx(file: Path, threads: int = 1) -> Ask:
    """An ONNX graph on so many threads; files beside it are found by the runtime."""
    onnxruntime = import_onnxruntime()
    options = onnxruntime.SessionOptions()
    options.intra_op_num_threads, options.inter_op_num_threads = threads, 1
    options.log_severity_level = 3
    try:
        session = onnxruntime.InferenceSession(str(file), options, providers=["CPUExecutionProvider"])
    except Exception as error:  # the runtime has its own kinds for what it cannot load
        raise PackageRefused(f"the ONNX graph {file.name} cannot be opened: {str(error)[:300]}") from error
    names = [output.name for output in session.get_outputs()]
    return lambda feeds: dict(zip(names, session.run(names, feeds), strict=True))


def open_torch(file: Path, step: NetworkStep, threads: int = 1) -> Ask:
    """A PyTorch program on so many threads, without gradients; its outputs are named by position."""
    try:
        import torch
    except ImportError as error:
        raise PackageRefused("PyTorch is not installed here; install lamppost[torch], or export the network to ONNX") from error
    torch.set_num_threads(threads)
    try:
        with warnings.catch_warnings():
            warnings.simplefilter("ignore", DeprecationWarning)  # PyTorch would rather see no TorchScript any more
            scripts: Any = torch.jit
            module = torch.export.load(file).module() if step.format == "exported" else scripts.load(str(file), map_location="cpu").eval()
    except Exception as error:
        raise PackageRefused(f"PyTorch cannot open {file.name} ({type(error).__name__}: {error})"[:400]) from error

    def ask(feeds: dict[str, npt.NDArray[Any]]) -> dict[str, Any]:
        with torch.inference_mode():
            outputs = module(*(torch.from_numpy(np.array(feeds[feed.name])) for feed in step.feeds))
        several = outputs if isinstance(outputs, (tuple, list)) else [outputs]
        return {str(at): tensor.detach().numpy() for at, tensor in enumerate(several)}

    return ask
