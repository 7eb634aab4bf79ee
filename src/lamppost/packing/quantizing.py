"""Makes an ONNX network smaller by 8-bit integers, and measures what that changes.

The ranges of what flows are taken from rows of the frame once, at packing time. Taking them from each batch instead would let a row's
answer depend on its companions, which no proof lets through.
"""

from __future__ import annotations

import logging
import time
from collections.abc import Mapping, Sequence
from dataclasses import replace
from pathlib import Path

import numpy as np

from lamppost.core.errors import BadRequest
from lamppost.core.schema.columns import Array, Column
from lamppost.core.schema.fields import Field, Schema
from lamppost.package.network_model import NetworkModel
from lamppost.package.quiet_onnxruntime import import_onnxruntime
from lamppost.packing.networks import Network, network_step

_RUNS = 9


def quantized(network: Network, known: Mapping[str, Field], columns: Mapping[str, Column], folder: Path) -> tuple[Network, str, float]:
    """The network with small weights, written into ``folder``; one sentence on what that changed; and how many times as fast it is.

    known, columns : the fields there are, and their values for the rows that both are asked for. Raise BadRequest for PyTorch programs,
    and where nothing gets smaller.
    """
    if network.format != "onnx":
        raise BadRequest("only ONNX graphs can be quantized here; export the network to ONNX first")
    path = Path(network.path)
    small = folder / path.name
    first, _ = network_step(network, 0, known, columns)
    original = NetworkModel(first, Schema(tuple(known[name] for name in first.takes)), path)
    _shrink(path, small, original.feeds([columns[name] for name in first.takes]))
    sizes, took, answers = [], [], []
    for file in (path, small):
        step, members = network_step(replace(network, path=file), 0, known, columns)
        sizes.append(sum(len(data) for data in members.values()))
        asked = [columns[name] for name in step.takes]
        running = NetworkModel(step, Schema(tuple(known[name] for name in step.takes)), file)
        took.append(_seconds(running, asked))
        answers.append(running.run(asked))
    if sizes[1] >= sizes[0]:
        raise BadRequest(f"quantizing makes {path.name} no smaller ({sizes[0]:,} bytes, then {sizes[1]:,}); pack it as it is")
    changed = _changed(step.gives, *answers)
    return (replace(network, path=small), f"quantized: {sizes[0]:,} bytes became {sizes[1]:,}; {changed}", took[0] / took[1])


def _shrink(path: Path, small: Path, feeds: Sequence[dict[str, Array]]) -> None:
    quantization = import_onnxruntime("onnxruntime.quantization")

    class Rows(quantization.CalibrationDataReader):  # type: ignore[name-defined,misc]
        def __init__(self) -> None:
            self._left = iter(feeds)

        def get_next(self) -> dict[str, Array] | None:
            return next(self._left, None)

    heard = logging.root.manager.disable
    logging.disable(logging.WARNING)  # it advises on passes that are its own business
    try:
        kinds = quantization.QuantType
        quantization.quantize_static(str(path), str(small), Rows(), weight_type=kinds.QInt8, activation_type=kinds.QUInt8, per_channel=True)
    except Exception as error:  # the tool raises whatever its many passes raise
        raise BadRequest(f"{path.name} cannot be quantized: {str(error)[:200]}") from error
    finally:
        logging.disable(heard)


def _seconds(running: NetworkModel, columns: Sequence[Column]) -> float:
    """The fastest of a few runs over all rows."""
    best = float("inf")
    for _ in range(_RUNS):
        start = time.perf_counter()
        running.run(columns)
        best = min(best, time.perf_counter() - start)
    return best


def _changed(gives: Schema, before: Sequence[Column], after: Sequence[Column]) -> str:
    """How the answers differ: labels by how many are the same, numbers by the largest difference."""
    parts = []
    for field, old, new in zip(gives, before, after, strict=True):
        rows = len(old.values)
        if field.kind in ("number", "vector", "tensor"):
            pairs = zip(old.values, new.values, strict=True)
            far = max((float(np.max(np.abs(np.asarray(a) - np.asarray(b)), initial=0.0)) for a, b in pairs), default=0.0)
            parts.append(f"{field.name} differs by up to {far:.3g}")
        else:
            same = sum(bool(np.all(a == b)) for a, b in zip(old.values, new.values, strict=True))
            parts.append(f"{field.name} is the same on {same:,} of {rows:,} rows")
    return ", ".join(parts)
