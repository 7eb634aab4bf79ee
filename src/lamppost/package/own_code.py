"""Opens what a packer defined: modules that a package carries are importable while its model is loaded."""

from __future__ import annotations

import importlib
import sys
from collections.abc import Collection, Iterator
from contextlib import contextmanager
from functools import reduce
from pathlib import Path
from typing import Any


@contextmanager
def importable(folder: Path, modules: Collection[str]) -> Iterator[None]:
    """Let the modules of a folder be imported inside the block. modules : their paths in the folder."""
    for name in [module for module in sys.modules if _is_one_of(module, modules)]:
        del sys.modules[name]  # of another package that was open in this process
    sys.path.insert(0, str(folder))
    importlib.invalidate_caches()
    try:
        yield
    finally:
        sys.path.remove(str(folder))


def _is_one_of(module: str, paths: Collection[str]) -> bool:
    stem = module.replace(".", "/")
    return f"{stem}.py" in paths or f"{stem}/__init__.py" in paths


def defined_in(module: str, name: str) -> Any:
    """What a module defines under a name, or under a path of names. Objects of models refer to their classes by this call."""
    return reduce(getattr, name.split("."), importlib.import_module(module))
