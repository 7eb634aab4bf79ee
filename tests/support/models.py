"""Small models: one that behaves, and some that do not. Workers import this module when they open their pickles."""

from __future__ import annotations

import os
import sys
import time
from pathlib import Path
from typing import Any

import numpy as np
import pandas as pd
from sklearn.base import BaseEstimator, ClassifierMixin, RegressorMixin

from demo.lamps import FIELDS, make_lamps
from demo.train import CHOICES, FLAGS, NUMBERS, TARGET, outage_pipeline


class Moody(RegressorMixin, BaseEstimator):
    """Doubles ``x``, unless ``x`` is one of the moods below."""

    CRASH, HANG, FAIL, NAN, NOISE, SLOW, LEAK, GARBLE = 13.0, 17.0, 19.0, 23.0, 29.0, 31.0, 37.0, 41.0

    def fit(self, frame: pd.DataFrame, _: Any = None) -> Moody:
        self.feature_names_in_ = np.array(list(frame.columns), dtype=object)
        self.n_features_in_ = frame.shape[1]
        return self

    def predict(self, frame: pd.DataFrame) -> Any:
        values = frame["x"].to_numpy()
        if self.CRASH in values:
            os._exit(3)
        if self.HANG in values:
            time.sleep(60)
        if self.SLOW in values:
            time.sleep(0.15)
        if self.FAIL in values:
            raise ValueError("nineteen is too much")
        if self.LEAK in values:
            _leaked.append(np.ones(60_000_000))
        if self.GARBLE in values:
            os.write(int(sys.argv[1]), b"\xff" * 64)  # into the worker's own socket, where frames are due
        if self.NOISE in values:
            os.write(1, b"\x00\xff garbage on stdout\n" * 100)
            sys.stderr.write("a word on stderr\n")
        return np.where(values == self.NAN, np.nan, values * 2)


_leaked: list[Any] = []
"""Memory that nobody will ever give back."""


class CrashesOnce(Moody):
    """Crashes on 13 while the file named by ``mark`` is not there, and makes it."""

    def __init__(self, mark: str = "") -> None:
        self.mark = mark

    def predict(self, frame: pd.DataFrame) -> Any:
        values = frame["x"].to_numpy()
        if self.CRASH in values and not Path(self.mark).exists():
            Path(self.mark).touch()
            os._exit(3)
        return values * 2


class Fussy(Moody):
    """Fails on small numbers, which its proof has none of."""

    def predict(self, frame: pd.DataFrame) -> Any:
        if (frame["x"].to_numpy() < 50).any():
            raise ValueError("that is too small for me")
        return super().predict(frame)


class Sleepy(Moody):
    """Takes its time over small numbers, which its proof has none of."""

    def predict(self, frame: pd.DataFrame) -> Any:
        if (frame["x"].to_numpy() < 50).any():
            time.sleep(0.08)
        return super().predict(frame)


class Companion(Moody):
    """Its answer depends on the batch: it subtracts the mean."""

    def predict(self, frame: pd.DataFrame) -> Any:
        values = frame["x"].to_numpy()
        return values - values.mean()


class Coin(ClassifierMixin, BaseEstimator):
    """A classifier without scores: heads when ``x`` is positive."""

    def fit(self, frame: pd.DataFrame, target: Any) -> Coin:
        self.classes_ = np.unique(target)
        self.feature_names_in_ = np.array(list(frame.columns), dtype=object)
        return self

    def predict(self, frame: pd.DataFrame) -> Any:
        return np.where(frame["x"].to_numpy() > 0, "heads", "tails")


def numbers_frame() -> pd.DataFrame:
    return pd.DataFrame({"x": np.arange(100.0, 140.0)})


def small_outage_model(trees: int = 8) -> tuple[Any, pd.DataFrame]:
    """The demo's pipeline with few trees on few lamps: quick to train, open and ask."""
    lamps = make_lamps(2_000, seed=7)
    pipeline = outage_pipeline(trees=trees, depth=5).set_params(forest__n_jobs=1)
    return pipeline.fit(lamps[CHOICES + NUMBERS + FLAGS], lamps[TARGET]), lamps


OUTAGE = {"name": "outage-risk", "target": TARGET, "labels": {0: "holds", 1: "fails"}, "fields": FIELDS}
