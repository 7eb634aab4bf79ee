"""Finds the libraries that a package needs, by what its steps import, not by what is installed."""

from __future__ import annotations

import ast
import pickletools
import sys
from collections.abc import Iterable, Mapping
from importlib import metadata
from typing import Any

import cloudpickle


def find_pins(model: Any, code: Mapping[str, bytes], also: Iterable[str] = ()) -> dict[str, str]:
    """Distribution name to exact version, of everything that the model's objects and the code's imports come from.

    code : members that may be Python modules. also : import names that are needed in any case.
    """
    roots = {name.split(".")[0] for name in [*modules_of(model), *imports_of(code), *also]}
    packages = _distributions_of(roots - set(sys.stdlib_module_names))
    return {name: packages[name] for name in sorted(packages, key=str.lower)}


def _distributions_of(modules: set[str]) -> dict[str, str]:
    """Distributions that hold one of the top-level modules, by name, with their versions.

    The lists of files are searched as text: ``metadata.packages_distributions`` makes a path of each file that is installed, which
    takes a second.
    """
    found: dict[str, str] = {}
    for distribution in metadata.distributions():
        declared = (distribution.read_text("top_level.txt") or "").split()
        files = "" if declared else "\n" + (distribution.read_text("RECORD") or "")
        if any(name in declared or f"\n{name}/" in files or f"\n{name}." in files for name in modules):
            found.setdefault(distribution.metadata["Name"], distribution.version)
    return found


def modules_of(model: Any) -> set[str]:
    """Modules of all classes and functions in an object, as its pickle names them; empty for what cannot be pickled."""
    try:
        data = cloudpickle.dumps(model, protocol=4)  # functions without a name have no other pickle
    except Exception:  # any error an object's own pickling may raise
        return {type(model).__module__}
    modules: set[str] = set()
    recent: list[str] = []
    for opcode, argument, _ in pickletools.genops(data):
        if isinstance(argument, str) and "UNICODE" in opcode.name:
            recent = [*recent[-1:], argument]
        elif opcode.name == "STACK_GLOBAL" and len(recent) == 2:
            modules.add(recent[0])
        elif opcode.name == "GLOBAL":
            modules.add(str(argument).split(" ")[0])
        elif opcode.name.startswith(("BINGET", "LONG_BINGET")):
            recent = [*recent[-1:], ""]  # a memoised name: its module was met before
    return {name for name in modules if name}


def imports_of(code: Mapping[str, bytes]) -> set[str]:
    """Modules that Python files import."""
    modules: set[str] = set()
    for path, data in code.items():
        if not path.endswith(".py"):
            continue
        for node in ast.walk(ast.parse(data)):
            if isinstance(node, ast.Import):
                modules |= {alias.name for alias in node.names}
            elif isinstance(node, ast.ImportFrom) and node.module and not node.level:
                modules.add(node.module)
    return modules
