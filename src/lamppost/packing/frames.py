"""Brings what a packer has as a training frame to a pandas frame with a column for each field, or says what is wrong with it."""

from __future__ import annotations

from collections import Counter
from typing import TYPE_CHECKING, Any

import numpy as np

from lamppost.core.errors import BadRequest
from lamppost.core.quantities import few_names

if TYPE_CHECKING:
    import pandas as pd


def training_frame(given: Any, model: Any = None) -> tuple[pd.DataFrame, list[str]]:
    """The frame, and what was changed for it. Raise BadRequest where something cannot be sent in a request, with column and remedy.

    given : a pandas frame, a numpy array of shape (n_rows, n_columns), an Arrow table, or a frame of another library that gives its columns
    as Arrow. model : the fitted object, whose names of columns an array gets where it has some.
    """
    frame, notes = _as_pandas(given, model)
    names = [str(name) for name in frame.columns]
    if twice := [name for name, count in Counter(names).items() if count > 1]:
        raise BadRequest(f"the training frame has several columns {twice[0]!r}; a field has one name, so rename them before training")
    if names != list(frame.columns):
        frame = frame.set_axis(names, axis=1)
    sparse = [name for name in names if type(frame[name].dtype).__name__ == "SparseDtype"]
    if sparse:
        frame = frame.assign(**{name: np.asarray(frame[name]) for name in sparse})
        notes.append(f"columns that were sparse are read as usual ones: {few_names(sparse)}")
    for name in names:
        if remedy := _no_field(frame[name]):
            raise BadRequest(f"column {name!r} {remedy}")
    return frame, notes


def _as_pandas(given: Any, model: Any) -> tuple[pd.DataFrame, list[str]]:
    import pandas as pd

    if isinstance(given, pd.DataFrame):
        return given, []
    if isinstance(given, pd.Series):
        return given.to_frame(name="value" if given.name is None else given.name), []
    if isinstance(given, np.ndarray):
        if given.ndim != 2:
            raise BadRequest(f"the training rows are an array of shape {given.shape}; give one of rows and columns, or a data frame")
        names = getattr(model, "feature_names_in_", None)
        if names is not None and len(names) == given.shape[1]:
            return pd.DataFrame(given, columns=[str(name) for name in names]), []
        made = [f"x{at}" for at in range(given.shape[1])]
        return pd.DataFrame(given, columns=made), [f"the columns of the array are called {few_names(made)}; give a data frame to name them"]
    if hasattr(given, "__arrow_c_stream__"):
        import pyarrow as pa

        return pa.table(given).to_pandas(), []
    raise BadRequest(
        f"the training frame is a {type(given).__name__}; give a pandas or polars frame, an Arrow table, or an array of rows and columns"
    )


def _no_field(series: pd.Series) -> str | None:
    """What is wrong with a column that no field can hold, and what to do, None where nothing is."""
    import pandas as pd

    if pd.api.types.is_timedelta64_dtype(series.dtype):
        return "holds durations, which a request cannot carry; make it a number before training (series.dt.total_seconds())"
    if pd.api.types.is_complex_dtype(series.dtype):
        return "holds complex numbers, which a request cannot carry; make it two columns before training"
    if pd.api.types.is_float_dtype(series.dtype) and np.isinf(series.to_numpy(dtype=float, na_value=np.nan)).any():
        return "holds infinite numbers, which a request cannot carry; make them missing, or a number, before training"
    if series.dtype == object:
        return _no_objects(series)
    return None


def _no_objects(series: pd.Series) -> str | None:
    present = series.dropna()
    kinds = sorted({type(value).__name__ for value in present.head(1_000)})
    if kinds == ["Decimal"]:
        return "holds decimals; make it numbers before training (series.astype(float))"
    if kinds == ["date"]:
        return "holds dates without a time; make it times before training (pandas.to_datetime(series))"
    if len(kinds) > 1 and "str" in kinds:
        return f"holds values of several kinds ({', '.join(kinds)}); make it text, or numbers, before training"
    return None
