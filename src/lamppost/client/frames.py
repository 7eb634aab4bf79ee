"""Data frames to Arrow streams and back, for questions of many rows."""

from __future__ import annotations

import io
from collections.abc import Iterable, Mapping
from typing import TYPE_CHECKING, Any

from lamppost.core.errors import BadRequest

if TYPE_CHECKING:
    import pandas as pd

_PLAIN: dict[str, Any] = {"integer": "Int64", "number": "float64", "yes/no": "boolean"}
"""The dtypes that categories have which are numbers or true/false."""
ARROW = "application/vnd.apache.arrow.stream"


def as_pandas(frame: Any) -> pd.DataFrame:
    """A frame of pandas as it is; one of another library that gives its columns as Arrow (polars and others), or an Arrow table, as a frame
    of pandas.
    """
    if hasattr(frame, "iloc"):
        read: pd.DataFrame = frame
        return read
    if not hasattr(frame, "__arrow_c_stream__"):
        raise BadRequest(f"{type(frame).__name__} is no frame; give one of pandas or polars, or an Arrow table")
    import pandas as pd
    import pyarrow as pa

    # in Arrow's own types, so that whole numbers stay whole where some are missing
    table: pd.DataFrame = pa.table(frame).to_pandas(types_mapper=pd.ArrowDtype)
    return table


def frame_to_arrow(frame: pd.DataFrame, inputs: Iterable[Mapping[str, Any]]) -> bytes:
    """A frame as an Arrow IPC stream, without its index.

    inputs : fields of the endpoint. Whole numbers that the frame holds as 4.0, because others are missing, go as whole numbers. Columns
    that are no fields are left out. Raise BadRequest for an infinite number, with row and column.
    """
    import numpy as np
    import pyarrow as pa

    kinds = {str(field["name"]): str(field["kind"]) for field in inputs}
    columns = {}
    for name in [name for name in frame.columns if str(name) in kinds]:
        column = frame[name]
        if str(column.dtype) == "category" and (plain := _PLAIN.get(kinds[str(name)])):
            column = column.astype(plain)
        if getattr(column.dtype, "kind", "O") == "f":
            values = column.to_numpy(dtype=float, na_value=np.nan)
            if (infinite := np.flatnonzero(np.isinf(values))).size:
                raise BadRequest(f"row {infinite[0]}, {name}: {values[infinite[0]]} is no number that can be sent; make it missing")
            present = values[~np.isnan(values)]
            if kinds[str(name)] == "integer" and (present == np.round(present)).all():
                column = column.astype("Int64")
        columns[str(name)] = column
    try:
        table = pa.table({name: pa.Array.from_pandas(column) for name, column in columns.items()})
    except (pa.ArrowInvalid, pa.ArrowTypeError) as error:
        raise BadRequest(f"the frame cannot be sent: {error}; a column has values of one kind") from error
    buffer = io.BytesIO()
    with pa.ipc.new_stream(buffer, table.schema) as stream:
        stream.write_table(table)
    return buffer.getvalue()


def arrow_to_frame(data: bytes, index: Any = None) -> pd.DataFrame:
    """The frame of an Arrow IPC stream; what has parts, such as scores, has a column for each: ``scores.fails``."""
    import pyarrow as pa

    with pa.ipc.open_stream(data) as stream:
        table = stream.read_all()
    frame: pd.DataFrame = table.flatten().to_pandas()
    if index is not None:
        frame.index = index
    return frame
