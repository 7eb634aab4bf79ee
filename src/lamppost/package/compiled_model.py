"""Runs a compiled step: typed columns go straight into an ONNX graph, without a data frame."""

from __future__ import annotations

import math
from collections.abc import Sequence
from typing import Any

import numpy as np

from lamppost.core.artifact.steps import CompiledForm
from lamppost.core.schema.columns import Column
from lamppost.core.schema.fields import Field, Schema
from lamppost.package.quiet_onnxruntime import import_onnxruntime


class CompiledModel:
    """One session, on one thread unless more are asked for: many sessions share a machine better than many threads share one."""

    def __init__(self, graph: bytes, compiled: CompiledForm, inputs: Schema, threads: int = 1) -> None:
        onnxruntime = import_onnxruntime()
        options = onnxruntime.SessionOptions()
        options.intra_op_num_threads, options.inter_op_num_threads = threads, 1
        options.log_severity_level = 3
        self._session = onnxruntime.InferenceSession(graph, options, providers=["CPUExecutionProvider"])
        self._outputs = [output.name for output in self._session.get_outputs()]
        place = {field.name: (index, field) for index, field in enumerate(inputs)}
        self._numbers = [place[name] for name in compiled.numbers]
        self._codes = [place[name] for name in compiled.codes]
        # codes as the graph counts them: the values, then one for what was never seen, then one for missing
        counts = [3 if field.kind == "yes/no" else len(field.choices) for _, field in self._codes]
        self._unseen = np.array(counts, dtype=np.int64)
        self._missing_code = self._unseen + 1
        self._flags = [at for at, (_, field) in enumerate(self._codes) if field.kind == "yes/no"]
        self._width = sum(width_of(field) for _, field in self._numbers)
        self._places = [index for index, _ in self._numbers]
        self._counts = [(index, None if field.kind == "yes/no" else len(field.choices)) for index, field in self._codes]

    def run(self, columns: Sequence[Column]) -> list[Column]:
        """Answer columns of input columns, both in schema order."""
        rows = len(columns[0].values)
        feeds: dict[str, Any] = {}
        if self._numbers:
            numbers = np.empty((rows, self._width))
            at = 0
            for index, field in self._numbers:
                if field.kind in ("tensor", "vector"):
                    width = width_of(field)
                    numbers[:, at : at + width] = np.asarray(columns[index].values).reshape(rows, width)
                    at += width
                    continue
                numbers[:, at] = columns[index].values
                if (missing := columns[index].missing) is not None:
                    numbers[missing, at] = np.nan
                at += 1
            feeds["numbers"] = numbers
        if self._codes:
            codes = np.empty((rows, len(self._codes)), dtype=np.int64)
            for at, (index, _) in enumerate(self._codes):
                codes[:, at] = columns[index].values
            for at in self._flags:
                codes[:, at] += codes[:, at] == 2  # missing
            np.minimum(codes, self._unseen, out=codes)
            feeds["codes"] = np.where(codes < 0, self._missing_code, codes)
        return self._ask(feeds)

    def run_single(self, values: Sequence[Any]) -> list[Column]:
        """The same of one row, given as the values that its columns would hold: numbers, flags and codes. Not for vectors and tensors."""
        feeds: dict[str, Any] = {}
        if self._places:
            feeds["numbers"] = np.array([[values[index] for index in self._places]], dtype=np.float64)
        if self._counts:
            feeds["codes"] = np.array([[_code(values[index], count) for index, count in self._counts]], dtype=np.int64)
        return self._ask(feeds)

    def _ask(self, feeds: dict[str, Any]) -> list[Column]:
        outputs = dict(zip(self._outputs, self._session.run(self._outputs, feeds), strict=True))
        if "values" in outputs:
            return [Column(values) for values in outputs["values"].T]
        if "value" in outputs:
            return [Column(outputs["value"])]
        if "vector" in outputs:
            return [Column(outputs["vector"])]
        label = Column(outputs["label"].astype(np.int32))
        return [label, Column(outputs["scores"])] if "scores" in outputs else [label]


def _code(value: int, count: int | None) -> int:
    """How the graph counts a choice of so many, or a flag."""
    if count is None:
        return 3 if value == 2 else value
    return count + 1 if value < 0 else min(value, count)


def width_of(field: Field) -> int:
    """Columns that a field takes among the numbers of a graph."""
    return math.prod(field.shape) if field.kind == "tensor" else len(field.choices) if field.kind == "vector" else 1
