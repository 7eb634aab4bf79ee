"""Finds what goes into an image beside its base: this installation with all that it needs to serve packages, and a package."""

from __future__ import annotations

import sys
import sysconfig
from importlib import metadata
from pathlib import Path

from packaging.requirements import Requirement
from packaging.utils import canonicalize_name

import lamppost.core as _own
from lamppost.core.artifact.manifest import Manifest
from lamppost.core.errors import SetupError

LIBRARY = "/opt/lamppost/library"
PACKAGES = "/opt/lamppost/packages"
_OWN = "lamppost"
_NEVER = frozenset({"__pycache__", ".pyc", ".pyi", ".a", ".lib", ".h"})


def extras_of(manifest: Manifest) -> tuple[str, ...]:
    """The parts of Lamp Post that serving a package needs."""
    boosted = any(getattr(step, "booster", None) is not None and getattr(step, "compiled", None) is None for step in manifest.steps)
    torch = "torch" in manifest.formats
    return ("service", *(["trees"] if boosted else []), *(["torch"] if torch else []))


def library_files(extras: tuple[str, ...]) -> dict[str, Path]:
    """Every file of this installation that serving needs, by its path in the image. Raise SetupError where a library is missing."""
    own = Path(_own.__file__).parents[1]
    files = {f"{LIBRARY}/{_OWN}/{path.relative_to(own).as_posix()}": path for path in own.rglob("*") if path.is_file() and _goes(path)}
    for name in _distributions(extras):
        distribution = metadata.distribution(name)
        root = Path(str(distribution.locate_file(""))).resolve()
        for member in distribution.files or ():
            path = Path(str(distribution.locate_file(member))).resolve()
            if path.is_relative_to(root) and path.is_file() and _goes(path) and path.suffix != ".pth":
                files.setdefault(f"{LIBRARY}/{path.relative_to(root).as_posix()}", path)
    return files


def _goes(path: Path) -> bool:
    return path.suffix not in _NEVER and not _NEVER & set(path.parts) and "tests" not in path.parts


def _distributions(extras: tuple[str, ...]) -> list[str]:
    """Lamp Post and everything that it needs with some extras, of what is installed."""
    found: dict[str, set[str]] = {}
    waiting = [(_OWN, set(extras))]
    while waiting:
        name, wanted = waiting.pop()
        known = found.get(name)
        if known is not None and wanted <= known:
            continue
        found[name] = (known or set()) | wanted
        try:
            requires = metadata.requires(name) or []
        except metadata.PackageNotFoundError:
            raise SetupError(f"{name} is not installed here, and the image needs it: pip install 'lamppost[{','.join(extras)}]'") from None
        for text in requires:
            requirement = Requirement(text)
            marker = requirement.marker
            if marker is None or any(marker.evaluate({"extra": extra}) for extra in ("", *found[name])):
                waiting.append((canonicalize_name(requirement.name), set(requirement.extras)))
    return sorted(found)


def interpreter_name() -> str:
    """The file name of the interpreter that the libraries here are built for: ``python3.11``."""
    if sysconfig.get_config_var("Py_GIL_DISABLED"):
        raise SetupError("libraries of an interpreter without its lock do not go into an image yet")
    return f"python{sys.version_info.major}.{sys.version_info.minor}"
