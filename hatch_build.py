"""Builds the console into a wheel, so that an installed service has its pages."""

from __future__ import annotations

import subprocess
from pathlib import Path
from typing import Any

from hatchling.builders.hooks.plugin.interface import BuildHookInterface


class ConsoleBuildHook(BuildHookInterface):  # type: ignore[type-arg]
    """Runs for wheels that are to be installed elsewhere; an editable install serves the folder that ``make console`` fills."""

    def initialize(self, version: str, build_data: dict[str, Any]) -> None:  # noqa: ARG002, D102 - the interface's
        if version == "editable":
            return
        root = Path(self.root)
        if not (root / "console" / "package.json").exists():  # built from a source archive, which holds the built console
            if (root / "src/lamppost/console/dist/index.html").exists():
                return
            raise RuntimeError("the wheel would have no console: neither its source nor the built pages are here; build from a clone")
        built = subprocess.run([root / "scripts/setup.sh", "console"], check=False)
        if built.returncode:
            raise RuntimeError(
                "the wheel would have no console, because the console could not be built; install Node.js 20.19 or newer with npm and "
                "try again (the lines above say what failed)"
            )
