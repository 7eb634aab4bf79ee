"""A model of private fields that repeats what it is given when it fails."""

from __future__ import annotations

import sys
from pathlib import Path
from typing import Any

import numpy as np
import pandas as pd

from lamppost.packing.build import build_package
from lamppost.packing.recipe import Recipe
from tests.support.lamps import made_once
from tests.support.models import Moody

MARK = "glowworm"
"""Stands in every private value of a test, and in no training row."""
NUMBER = 4711.25


class Gossip(Moody):
    """Answers the length of a note; fails, with the note in its message and in its output, where the age is over 900."""

    def fit(self, frame: pd.DataFrame, _: Any = None) -> Gossip:
        self.feature_names_in_ = np.array(list(frame.columns), dtype=object)
        self.n_features_in_ = frame.shape[1]
        return self

    def predict(self, frame: pd.DataFrame) -> Any:
        for note, age in zip(frame["note"], frame["age"], strict=True):
            if age > 900:
                raise ValueError(f"{note!r} of {age} cannot be read")
        if frame["age"].max() > 800:
            sys.exit(3)
        return frame["note"].str.len().to_numpy(dtype=float)


def gossip_lamp(name: str, private: bool) -> Path:
    """Two fields, private or not: a note and an age."""

    def make(path: Path) -> None:
        frame = pd.DataFrame({"note": [f"lamp {number}" for number in range(40)], "age": np.arange(40.0)})
        fields: dict[str, Any] = {"note": {"kind": "text", "private": private, "example": "a"}, "age": {"private": private, "example": 1.0}}
        recipe = Recipe(name, fields=fields, proof_rows=3, installed=["tests"])
        build_package(Gossip().fit(frame), frame, recipe, path)

    return made_once(f"gossip-{name}-{private}.lamp", make)
