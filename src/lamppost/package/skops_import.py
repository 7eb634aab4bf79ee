"""Imports skops without the array libraries that its search for estimators would pull in.

skops lists the types it trusts with ``sklearn.utils.all_estimators``, which imports every package inside scikit-learn. One of them imports
PyTorch where it is installed, others Dask, CuPy and JAX: seconds, and hundreds of megabytes in each worker, for a module that no fitted
estimator needs. These libraries are refused to the importing thread while the search runs, and scikit-learn passes over what it cannot
import.
"""

from __future__ import annotations

import importlib
import sys
import threading
from importlib.abc import MetaPathFinder
from importlib.machinery import ModuleSpec
from types import ModuleType
from typing import Any

_ARRAY_LIBRARIES = frozenset({"torch", "dask", "cupy", "jax"})
_lock = threading.Lock()


class _RefuseArrayLibraries(MetaPathFinder):
    """Refuses the libraries to one thread; another thread may import them meanwhile."""

    def __init__(self) -> None:
        self._thread = threading.get_ident()

    def find_spec(self, name: str, *_: Any) -> ModuleSpec | None:
        """Raise ModuleNotFoundError for an array library; leave any other module to the finders behind."""
        if name.partition(".")[0] in _ARRAY_LIBRARIES and threading.get_ident() == self._thread:
            raise ModuleNotFoundError(f"{name} is not needed by skops", name=name)
        return None


def import_skops() -> ModuleType:
    """The module ``skops.io``."""
    if "skops.io" not in sys.modules:
        with _lock:
            finder = _RefuseArrayLibraries()
            sys.meta_path.insert(0, finder)
            try:
                importlib.import_module("skops.io")
            finally:
                sys.meta_path.remove(finder)
    return sys.modules["skops.io"]
