"""Lamp files for tests, made once a run and shared."""

from __future__ import annotations

import atexit
import contextlib
import fcntl
import os
import pickle
import shutil
import tempfile
from collections.abc import Callable, Iterator
from dataclasses import dataclass
from pathlib import Path
from typing import Any

import pandas as pd

from lamppost.packing.build import build_package
from lamppost.packing.recipe import Recipe
from tests.support import models


def run_folder() -> Path:
    """The folder of this run of tests; one of our own when a module runs alone."""
    if "LAMPPOST_TEST_FOLDER" not in os.environ:
        folder = tempfile.mkdtemp(prefix="lamppost-tests-")
        Path(folder).chmod(0o755)
        atexit.register(shutil.rmtree, folder, ignore_errors=True)
        os.environ["LAMPPOST_TEST_FOLDER"] = folder
        os.environ["PYTHONPATH"] = str(Path(__file__).resolve().parents[2])
    return Path(os.environ["LAMPPOST_TEST_FOLDER"])


@contextlib.contextmanager
def _alone(name: str) -> Iterator[None]:
    with (run_folder() / f"{name}.lock").open("w") as file:
        fcntl.flock(file, fcntl.LOCK_EX)
        yield


def made_once(name: str, make: Callable[[Path], object]) -> Path:
    """``name`` in the run's folder, made by the first who asks."""
    path = run_folder() / name
    with _alone(name):
        if not path.exists():
            make(path)
    return path


@dataclass(frozen=True)
class PackedModel:
    """A fitted model, the frame it was packed with, its lamp file and what packing said."""

    model: Any
    frame: pd.DataFrame
    path: Path
    remarks: Any


def packed_once(name: str, make: Callable[[], tuple[Any, pd.DataFrame, Recipe]]) -> PackedModel:
    """A model fitted and packed by the first module that asks in a run, and read from the run's folder by all others."""
    slug = "".join(letter if letter.isalnum() else "-" for letter in name)

    def pack(path: Path) -> None:
        model, frame, recipe = make()
        remarks = build_package(model, frame, recipe, path)
        path.with_suffix(".pickle").write_bytes(pickle.dumps((model, frame, remarks)))

    path = made_once(f"{slug}.lamp", pack)
    model, frame, remarks = pickle.loads(path.with_suffix(".pickle").read_bytes())
    return PackedModel(model, frame, path, remarks)


def outage_lamp() -> Path:
    """``outage-risk`` with a small forest."""

    def make(path: Path) -> None:
        model, frame = models.small_outage_model()
        build_package(model, frame, Recipe(**models.OUTAGE), path)

    return made_once("outage-risk.lamp", make)


def moody_lamp(name: str, model: models.Moody) -> Path:
    """A pickled model of tests.support.models that answers one number."""

    def make(path: Path) -> None:
        frame = models.numbers_frame()
        build_package(model.fit(frame), frame, Recipe(name, proof_rows=3, installed=["tests"]), path)

    return made_once(f"{name}.lamp", make)
