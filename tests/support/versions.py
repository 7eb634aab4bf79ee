"""Versions of one small model that can be told apart by their answers."""

from __future__ import annotations

from pathlib import Path
from typing import Any

import numpy as np
import pandas as pd

import lamppost
from tests.support.lamps import made_once


def times_lamp(factor: float, tight: bool = False) -> Path:
    """``times`` answers ``x`` times ``factor``; where ``tight``, it takes no x above 50."""

    def make(path: Path) -> None:
        from sklearn.linear_model import LinearRegression

        frame = pd.DataFrame({"x": np.arange(0.0, 40.0)})
        frame["y"] = frame["x"] * factor
        model = LinearRegression(fit_intercept=False).fit(frame[["x"]], frame["y"])
        fields: dict[str, Any] = {"x": {"high": 50.0}} if tight else {}
        lamppost.pack(model, frame, name="times", target="y", fields=fields, to=path, quiet=True, notes=f"times {factor:g}")

    return made_once(f"times-{factor:g}{'-tight' if tight else ''}.lamp", make)


def label_lamp(share_of_a: float, seed: int = 1) -> Path:
    """``letter`` answers ``a`` below a threshold of ``x``, which is even from 0 to 1, and ``b`` above it."""

    def make(path: Path) -> None:
        from sklearn.tree import DecisionTreeClassifier

        x = np.random.default_rng(seed).random(400)
        frame = pd.DataFrame({"x": x, "letter": np.where(x < share_of_a, "a", "b")})
        lamppost.pack(
            DecisionTreeClassifier().fit(frame[["x"]], frame["letter"]), frame, name="letter", target="letter", to=path, quiet=True
        )

    return made_once(f"letter-{share_of_a:g}.lamp", make)
