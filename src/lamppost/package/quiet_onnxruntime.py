"""Imports the ONNX runtime without its telemetry: builds of it report how they are used to their maker unless a variable says not to."""

from __future__ import annotations

import importlib
import os
from types import ModuleType

os.environ.setdefault("ORT_DISABLE_TELEMETRY", "1")


def import_onnxruntime(module: str = "onnxruntime") -> ModuleType:
    """The runtime, or a module of it. What the operator has set in the environment stands."""
    return importlib.import_module(module)
