"""Lamp files with fields of other kinds: pictures, tensors, texts, options. Made once a run."""

from pathlib import Path

import pandas as pd

from demo.poles import FIELDS, TARGET, pixels, train_pole_photo
from lamppost.packing.build import build_package
from lamppost.packing.networks import Network
from lamppost.packing.recipe import Recipe
from tests.support import networks
from tests.support.lamps import made_once


def photo_lamp() -> Path:
    """``pole-photo``, as the demo has it."""

    def make(path: Path) -> None:
        model, frame, *_ = train_pole_photo()
        recipe = Recipe("pole-photo", TARGET, fields=FIELDS, before=[pixels()], tags={"kind": "picture"})
        build_package(model, frame, recipe, path)

    return made_once("pole-photo.lamp", make)


def several_lamp() -> Path:
    """A graph that reads a tensor of any length, a private text and an option."""

    def make(path: Path) -> None:
        frame = pd.DataFrame({"seq": [[1.0] * (1 + at % 3) for at in range(30)], "note": [f"note {at}" for at in range(30)]})
        network = Network(networks.several(path.parent), inputs={"seq": "seq", "note": "note", "k": "k"})
        options = {"k": {"kind": "number", "low": 0, "high": 100, "default": 2}}
        fields = {"note": {"private": True, "example": "a note"}}
        build_package(network, frame, Recipe("several", options=options, fields=fields, tags={"kind": "graph"}), path)

    return made_once("several.lamp", make)
