"""Packing in a folder of the test's own, and asking what was packed."""

import tempfile
import unittest
import warnings
from pathlib import Path
from typing import Any

import pandas as pd

import lamppost
from lamppost.core.artifact.schema_inference import columns_from_frame
from lamppost.core.schema.columns import Column
from lamppost.package.read import Lamp
from lamppost.runtime.running_steps import open_chain


class WithFolder(unittest.TestCase):
    def setUp(self) -> None:
        folder = tempfile.TemporaryDirectory()
        self.addCleanup(folder.cleanup)
        self.folder = Path(folder.name)

    def pack(self, model: Any, frame: pd.DataFrame, **more: Any) -> Lamp:
        """Packed, and proven in a fresh process unless that is left out."""
        with warnings.catch_warnings():
            warnings.simplefilter("ignore")  # of the frames, which are small and made up
            return lamppost.pack(model, frame, name="packed", to=self.folder / "packed.lamp", **{"quiet": True, **more})

    def columns(self, lamp: Lamp, frame: pd.DataFrame, original: bool = False) -> list[Column]:
        """What the package's steps give for the rows of a frame, options among its columns."""
        formats = frozenset({"skops", "python", "torch"})
        chain = open_chain(lamp.unpack(self.folder), lamp.manifest, formats, original)
        return chain.run(columns_from_frame(lamp.manifest.columns, frame))
