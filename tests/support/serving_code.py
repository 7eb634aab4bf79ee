"""Code that packages of the tests carry."""

from __future__ import annotations

from pathlib import Path
from typing import Any

import numpy as np


class Clean:
    """Tidies what people type: case and spaces in ``kind``."""

    def open(self, folder: Path) -> None:
        self.there = (folder / "serving_code.py").exists()

    def run(self, columns: dict[str, Any]) -> dict[str, Any]:
        assert self.there
        return {"lamp_type": [None if kind is None else kind.strip().lower() for kind in columns["kind"]]}


class Refit:
    """The classic mistake: the encoder is fitted again, on whatever rows are in the request."""

    def run(self, columns: dict[str, Any]) -> dict[str, Any]:
        return {"code": np.unique(columns["kind"].astype(str), return_inverse=True)[1].astype(float)}


class Advise:
    """Turns scores into what to do."""

    def run(self, columns: dict[str, Any]) -> dict[str, Any]:
        fails = columns["scores"][:, 1]
        return {"advice": np.where(fails > 0.5, "visit", "wait"), "per_mille": np.round(fails * 1000).astype(int)}


class Broken:
    """Gives too few values, nothing, or the wrong kind, as ``x`` asks."""

    def run(self, columns: dict[str, Any]) -> Any:
        first = columns["x"][0]
        return {1: {"y": []}, 2: {}, 3: {"y": ["a"] * len(columns["x"])}}.get(int(first), {"y": columns["x"]})
