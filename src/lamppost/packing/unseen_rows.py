"""Makes rows that a model was not fitted on, out of rows that it was: columns redrawn, and rows beside the boundaries between labels."""

from __future__ import annotations

from collections.abc import Callable
from typing import TYPE_CHECKING, Any

import numpy as np
import numpy.typing as npt

if TYPE_CHECKING:
    import pandas as pd

_PIECES, _ROUNDS = 16, 3
"""A boundary is met to the 4,096th part of the way between two rows: near, and far from what rounding decides."""


Ask = Callable[["pd.DataFrame"], npt.NDArray[Any]]
"""The label of each row of a frame."""


def unseen_rows(frame: pd.DataFrame, ask: Ask | None, count: int) -> pd.DataFrame:
    """So many rows: half of them beside boundaries, if there are labels to ask for, the others with their columns redrawn."""
    import pandas as pd

    frame = frame.reset_index(drop=True)
    beside = boundary_rows(frame, ask(frame), ask, count // 4) if ask is not None and count >= 4 else frame.iloc[:0]
    return pd.concat([mixed_rows(frame, count - len(beside)), beside], ignore_index=True)


def mixed_rows(frame: pd.DataFrame, count: int, seed: int = 0) -> pd.DataFrame:
    """Rows with every column drawn by itself from the frame, for combinations never met."""
    import pandas as pd

    rng = np.random.default_rng(seed)
    return pd.DataFrame({name: frame[name].iloc[rng.integers(0, len(frame), count)].reset_index(drop=True) for name in frame.columns})


def partly_redrawn_rows(frame: pd.DataFrame, part: float = 0.3, seed: int = 0) -> pd.DataFrame:
    """The frame's rows, each with about so large a part of its columns from another row. Answers to these differ from those to the frame's
    own rows about as much as answers to fresh rows do, or somewhat more.
    """
    import pandas as pd

    rng = np.random.default_rng(seed)
    columns = {}
    for name in frame.columns:
        own = frame[name].reset_index(drop=True)
        places = np.arange(len(own))
        redrawn = rng.random(len(own)) < part
        places[redrawn] = rng.integers(0, len(own), int(redrawn.sum()))
        columns[name] = own.iloc[places].reset_index(drop=True)
    return pd.DataFrame(columns)


def boundary_rows(frame: pd.DataFrame, labels: npt.NDArray[Any], ask: Ask, pairs: int, seed: int = 0) -> pd.DataFrame:
    """Rows on both sides of boundaries between labels: the way from one row to a row of another label is cut into ever smaller pieces.

    labels : of the frame's rows. ask : the labels of other rows. Returns two rows for each pair, none where there is one label only.
    """
    import pandas as pd

    rng = np.random.default_rng(seed)
    if len(np.unique(labels)) < 2:
        return frame.iloc[:0].reset_index(drop=True)
    starts = rng.integers(0, len(frame), pairs)
    ends = np.array([rng.choice(np.flatnonzero(labels != labels[start])) for start in starts])
    near, far = frame.iloc[starts].reset_index(drop=True), frame.iloc[ends].reset_index(drop=True)
    every = np.repeat(np.arange(pairs), _PIECES - 1)
    nears, fars = near.iloc[every].reset_index(drop=True), far.iloc[every].reset_index(drop=True)
    low, piece = np.zeros(pairs), 1.0 / _PIECES
    for _ in range(_ROUNDS):  # all cuts of all pairs at once: to ask costs much by itself
        cuts = low[:, None] + piece * np.arange(1, _PIECES)
        other = (ask(_between(nears, fars, cuts.ravel())) != labels[starts][every]).reshape(pairs, -1)
        low += piece * np.where(other.any(axis=1), other.argmax(axis=1), _PIECES - 1)
        piece /= _PIECES
    return pd.concat([_between(near, far, low), _between(near, far, low + piece * _PIECES)], ignore_index=True)


def _between(near: pd.DataFrame, far: pd.DataFrame, way: npt.NDArray[np.float64]) -> pd.DataFrame:
    """Rows on the way from one to the other: numbers in proportion, anything else from the nearer row."""
    import pandas as pd

    columns = {}
    for name in near.columns:
        left, right = near[name], far[name]
        nearer = left.where(way < 0.5, right).astype(left.dtype)
        if isinstance(left.dtype, np.dtype) and left.dtype.kind in "iuf":
            a, b = left.to_numpy(np.float64), right.to_numpy(np.float64)
            moved = a + way * (b - a)
            moved = np.round(moved) if left.dtype.kind in "iu" else moved
            columns[name] = nearer.where(np.isnan(moved), pd.Series(moved)).astype(left.dtype)
        else:
            columns[name] = nearer
    return pd.DataFrame(columns)
