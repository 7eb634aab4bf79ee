"""Figures that opening a version measured: seconds to open, memory, milliseconds a row."""

from __future__ import annotations

from dataclasses import dataclass

BATCH_ROWS = 64


@dataclass(frozen=True, slots=True)
class OpeningMeasurement:
    """open_s : seconds from nothing to proven. memory_bytes : of the worker with the package open, libraries included.

    row_ms : milliseconds there and back for one row. batch_ms : for 64 rows together. Both the median of several, over the worker's wire.
    """

    open_s: float
    memory_bytes: int
    row_ms: float
    batch_ms: float

    @property
    def rows_s(self) -> float:
        """Rows a second, one at a time."""
        return 1e3 / self.row_ms

    @property
    def batch_rows_s(self) -> float:
        """Rows a second in batches of 64."""
        return BATCH_ROWS * 1e3 / self.batch_ms
