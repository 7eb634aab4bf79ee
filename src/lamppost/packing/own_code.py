"""Carries what a packer defined: functions and classes of a notebook, of a script, or of modules beside it, as source.

A model refers to them; they are found by what its pickle refers to. Modules travel whole, with those of the packer's own that they
import. What was defined in a notebook or a script travels as one module, made of the definitions, the imports and the constants that they
need. What has no source, such as a lambda, travels inside the pickle (cloudpickle).
"""

from __future__ import annotations

import ast
import contextlib
import importlib.util
import io
import linecache
import site
import symtable
import sys
import sysconfig
import textwrap
import types
from collections.abc import Collection, Iterator, Mapping
from dataclasses import dataclass, field
from functools import cache
from pathlib import Path
from typing import Any

import cloudpickle

from lamppost.core.errors import BadRequest
from lamppost.core.quantities import few_names
from lamppost.package.own_code import defined_in

MAIN_MODULE = "packed_code"
"""The module that is made of what a notebook or a script defines."""
_CONSTANTS = (int, float, complex, str, bytes, bool, type(None))
_MOST_CONSTANT = 20_000
_NAMED = 4


@dataclass(frozen=True, slots=True)
class ModelWithCode:
    """data : the model's pickle. modules : path to source. named : what was defined, as people call it. inside : what has no source."""

    data: bytes
    modules: dict[str, bytes]
    named: list[str] = field(default_factory=list)
    inside: list[str] = field(default_factory=list)

    @property
    def summary(self) -> str:
        """What travels, in one sentence."""
        parts = []
        if self.modules:
            lines = sum(source.count(b"\n") for source in self.modules.values())
            named = f" ({few_names(self.named, _NAMED)})" if self.named else ""
            parts.append(f"your own code travels with the model: {few_names(sorted(self.modules), _NAMED)}, {lines} lines{named}")
        if self.inside:
            parts.append(
                f"{few_names(self.inside, _NAMED)} {'has' if len(self.inside) == 1 else 'have'} no source and travel inside the pickle"
            )
        return "; ".join(parts)


def dump_with_code(model: Any, installed: Collection[str] = ()) -> ModelWithCode | None:
    """The model's pickle and the code that it needs; None where it needs none of the packer's own.

    installed : modules of the packer's own that are there where the model is opened, and do not travel. Raise BadRequest where something
    cannot be pickled.
    """
    found = _referred_to(model, installed)
    if not found:
        return None
    here = _MainSource()
    beside: dict[str, bytes] = {}
    for thing in found:
        if _is_nested(thing):
            continue
        if thing.__module__ == "__main__":
            here.add(thing)
        else:
            _add_module(thing.__module__, beside, installed)
    inside = [thing for thing in found if _is_nested(thing) or (thing.__module__ == "__main__" and not here.holds(thing))]
    buffer = io.BytesIO()
    try:
        _Pickler(buffer, here, beside).dump(model)
    except Exception as error:  # objects' own pickling raises what it likes
        raise BadRequest(f"the model holds something that cannot be stored: {error}; take it out of the model before packing") from error
    modules = beside | ({f"{MAIN_MODULE}.py": here.source()} if here.names else {})
    named = [thing.__qualname__ for thing in found if thing not in inside]
    return ModelWithCode(buffer.getvalue(), modules, named, list(dict.fromkeys(map(_called, inside))))


def _called(thing: Any) -> str:
    return "a lambda" if thing.__name__ == "<lambda>" else str(thing.__qualname__)


# -- what is the packer's own ---------------------------------------------------------------------------------------------


@cache
def _library_folders() -> tuple[str, ...]:
    paths = sysconfig.get_paths()
    folders: list[str] = [paths[name] for name in ("stdlib", "platstdlib", "purelib", "platlib")]
    folders += [*site.getsitepackages(), site.getusersitepackages(), str(Path(__file__).parents[1])]
    return tuple(str(Path(folder).resolve()) + "/" for folder in folders)


def _is_own(module: str, installed: Collection[str]) -> bool:
    if module == "__main__":
        return module not in installed
    file = getattr(sys.modules.get(module), "__file__", None)
    return isinstance(file, str) and _travels(module, Path(file), installed)


def _travels(module: str, file: Path, installed: Collection[str]) -> bool:
    """Whether a module lies beside libraries, and is not said to be installed."""
    if any(module == name or module.startswith(f"{name}.") for name in installed):
        return False
    return not str(file.resolve()).startswith(_library_folders())


def _is_nested(thing: Any) -> bool:
    """Whether no module has it under its name: a lambda, or what was defined inside a function."""
    try:
        return defined_in(thing.__module__, thing.__qualname__) is not thing
    except (AttributeError, ImportError):
        return True


def _referred_to(model: Any, installed: Collection[str]) -> list[Any]:
    """Functions and classes of the packer's own that an object refers to, each once."""
    found: dict[int, Any] = {}

    class Looking(cloudpickle.CloudPickler):  # type: ignore[misc]
        def reducer_override(self, thing: Any) -> Any:
            if isinstance(thing, (type, types.FunctionType)) and _is_own(str(thing.__module__), installed):
                found.setdefault(id(thing), thing)
            return super().reducer_override(thing)

    class Nowhere:
        def write(self, data: bytes) -> int:
            return len(data)

    with contextlib.suppress(Exception):  # it is said when the model is stored
        Looking(Nowhere()).dump(model)
    return list(found.values())


class _Pickler(cloudpickle.CloudPickler):  # type: ignore[misc]
    """Refers to what travels as source by the module that it travels in; the rest is carried as cloudpickle does."""

    def __init__(self, file: io.BytesIO, here: _MainSource, beside: Mapping[str, bytes]) -> None:
        super().__init__(file, protocol=5)
        self._here = here
        self._beside = {_module_name(path) for path in beside}

    def reducer_override(self, thing: Any) -> Any:
        """How an object is stored, where that is not as usual."""
        if isinstance(thing, (type, types.FunctionType)):
            if self._here.holds(thing):
                return defined_in, (MAIN_MODULE, thing.__qualname__)
            if thing.__module__ in self._beside and not _is_nested(thing):
                return defined_in, (thing.__module__, thing.__qualname__)
        return super().reducer_override(thing)


# -- modules beside -------------------------------------------------------------------------------------------------------


def _add_module(module: str, modules: dict[str, bytes], installed: Collection[str]) -> None:
    """Add a module's source, the packages that it lies in, and the modules of the packer's own that it imports."""
    parts = module.split(".")
    for end in range(1, len(parts) + 1):
        name = ".".join(parts[:end])
        file = _file_of(name)
        if file is None:
            if end < len(parts):
                continue  # a folder without a file of its own
            raise BadRequest(f"the module {name} has no source to travel with the model; put it into a file, or install it for the service")
        path = name.replace(".", "/") + ("/__init__.py" if file.name == "__init__.py" else ".py")
        if path in modules:
            continue
        modules[path] = file.read_bytes()
        for imported in _imports(modules[path], name, file.name == "__init__.py"):
            source = _file_of(imported)
            if source is not None and _travels(imported, source, installed):
                _add_module(imported, modules, installed)


def _module_name(path: str) -> str:
    return path.removesuffix(".py").removesuffix("/__init__").replace("/", ".")


def _file_of(module: str) -> Path | None:
    file = getattr(sys.modules.get(module), "__file__", None)
    if file is None:
        try:
            spec = importlib.util.find_spec(module)
        except (ImportError, ValueError):
            return None
        file = None if spec is None else spec.origin
    return Path(file) if file and str(file).endswith(".py") else None


def _imports(source: bytes, module: str, is_package: bool) -> Iterator[str]:
    """Modules that a source may import, by their whole names."""
    package = module.split(".") if is_package else module.split(".")[:-1]
    for node in ast.walk(ast.parse(source)):
        if isinstance(node, ast.Import):
            yield from (alias.name for alias in node.names)
        elif isinstance(node, ast.ImportFrom):
            base = (
                [*package[: len(package) - node.level + 1], *([node.module] if node.module else [])] if node.level else [node.module or ""]
            )
            yield ".".join(base)
            yield from (".".join([*base, alias.name]) for alias in node.names)


# -- what a notebook or a script defines ----------------------------------------------------------------------------------


class _MainSource:
    """Definitions of ``__main__``, with the imports and constants that they need."""

    def __init__(self) -> None:
        self._main = vars(sys.modules["__main__"])
        self._lines: dict[str, str] = {}
        self.names: set[str] = set()

    def add(self, thing: Any) -> bool:
        """Take a definition over, with all that it needs; False, and nothing is taken over, where that has no source."""
        before = dict(self._lines)
        if self._take(thing.__qualname__.split(".")[0]):
            self.names.add(thing.__qualname__.split(".")[0])
            return True
        self._lines = before
        return False

    def holds(self, thing: Any) -> bool:
        """Whether it travels as source."""
        return thing.__module__ == "__main__" and thing.__qualname__.split(".")[0] in self.names and not _is_nested(thing)

    def source(self) -> bytes:
        """The module's source."""
        return ("\n\n".join(self._lines.values()) + "\n").encode()

    def _take(self, name: str) -> bool:
        if name in self._lines:
            return True
        value = self._main.get(name)
        line = _as_import(name, value) or _as_constant(name, value)
        if line is not None:
            self._lines[name] = line
            return True
        source = _definition(value, name) if getattr(value, "__module__", None) == "__main__" else None
        if source is None:
            return False
        self._lines[name] = ""  # those that need each other stand in the order in which they are met
        if not all(self._take(needed) for needed in _free_names(source) if needed != name and needed in self._main):
            return False
        del self._lines[name]
        self._lines[name] = source  # behind what it needs
        return True


def _as_import(name: str, value: Any) -> str | None:
    """The import that gives a name of ``__main__`` its value, where that is a module or something of an installed one."""
    if isinstance(value, types.ModuleType):
        return f"import {value.__name__} as {name}" if value.__name__ != name else f"import {name}"
    module, qualname = getattr(value, "__module__", None), getattr(value, "__qualname__", getattr(value, "__name__", None))
    if not isinstance(module, str) or module in ("__main__", "builtins") or not isinstance(qualname, str) or "." in qualname:
        return None
    if getattr(sys.modules.get(module), qualname, None) is not value:
        return None
    return f"from {module} import {qualname}" + (f" as {name}" if qualname != name else "")


def _as_constant(name: str, value: Any) -> str | None:
    text = repr(value) if _is_constant(value) else None
    return None if text is None or len(text) > _MOST_CONSTANT else f"{name} = {text}"


def _is_constant(value: Any) -> bool:
    if isinstance(value, dict):
        return type(value) is dict and all(_is_constant(part) for pair in value.items() for part in pair)
    if isinstance(value, (list, tuple, set, frozenset)):
        return type(value) in (list, tuple, set, frozenset) and all(map(_is_constant, value))
    return type(value) in _CONSTANTS and value == value and value not in (float("inf"), float("-inf"))


def _definition(thing: Any, name: str) -> str | None:
    """The source of a function or a class of ``__main__``, also of a notebook's cell; None for one without."""
    for code in _codes(thing):
        lines = linecache.getlines(code.co_filename)
        try:
            tree = ast.parse("".join(lines))
        except SyntaxError:
            continue
        for node in tree.body:
            if not isinstance(node, (ast.FunctionDef, ast.AsyncFunctionDef, ast.ClassDef)) or node.name != name:
                continue
            start = min([node.lineno, *(decorator.lineno for decorator in node.decorator_list)])
            if start <= code.co_firstlineno <= (node.end_lineno or start):
                return textwrap.dedent("".join(lines[start - 1 : node.end_lineno])).rstrip()
    return None


def _codes(thing: Any) -> Iterator[types.CodeType]:
    """Code objects that stand in a definition."""
    if isinstance(thing, types.FunctionType):
        yield thing.__code__
    elif isinstance(thing, type):
        for part in vars(thing).values():
            function = getattr(part, "__func__", getattr(part, "fget", part))
            if isinstance(function, types.FunctionType) and function.__module__ == "__main__":
                yield function.__code__


def _free_names(source: str) -> list[str]:
    """Names that a definition reads from the module around it."""
    names: dict[str, None] = {}

    def look(table: symtable.SymbolTable, top: bool) -> None:
        for symbol in table.get_symbols():
            if symbol.is_referenced() and (top or symbol.is_global()):
                names.setdefault(symbol.get_name())
        for inner in table.get_children():
            look(inner, False)

    look(symtable.symtable(source, "definition", "exec"), True)
    return list(names)
