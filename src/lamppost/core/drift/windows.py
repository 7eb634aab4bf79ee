"""Writes the sketches of a window as bytes small enough to keep for years, reads them, and adds them up.

A head (format, layout, rows) and then, figure by figure in the reference's order, little-endian counts of 32 bits: the bins, missing, odd
and, of a number, those far outside the range; 0xFFFFFFFF as missing stands for a feature that was not counted. Sums and products of
location scores follow as 32-bit floats, the upper triangle only. So a number takes 96 bytes, a choice at most 264. The layout is a checksum
over names and numbers of bins: counts by another layout are never added to these. In format 1, nothing was counted as far outside.
"""

from __future__ import annotations

import struct
from collections.abc import Sequence
from zlib import crc32

import numpy as np

from lamppost.core.drift.baseline import DriftBaseline, FieldSketch, JointMoments, ReferenceField, WindowSketch, pool_sketches
from lamppost.core.drift.bins import FAR

FORMAT = 2
_HEAD = struct.Struct("<BIII")
_ABSENT = 0xFFFFFFFF


class WindowLayout:
    """How windows against a reference are counted and kept. checksum : over names and numbers of bins."""

    def __init__(self, against: DriftBaseline) -> None:
        self.against = against
        message = [f"{feature.name}\0{len(feature.bins.counts)}\0{feature.bins.edges}\0{feature.bins.choices}" for feature in against.known]
        self.checksum = crc32("\1".join([*message, *against.paired]).encode())
        self.size = len(against.paired)
        self.upper = np.triu_indices(self.size)

    def counts_of(self, known: ReferenceField, window_format: int) -> int:
        """How many counts of a field follow its bins."""
        return 2 + (len(FAR) if known.numbers and window_format > 1 else 0)


def write_window(layout: WindowLayout, window: WindowSketch, rows: int) -> bytes:
    """The bytes of a window. rows : how many it counts."""
    parts = []
    for known in layout.against.known:
        sketch = window.fields.get(known.name)
        if sketch is None:
            counts = [*known.bins.counts, _ABSENT, *[0] * (layout.counts_of(known, FORMAT) - 1)]
        else:
            far = (sketch.far or (0,) * len(FAR)) if known.numbers else ()
            counts = [*sketch.bins.tolist(), sketch.missing, sketch.odd, *far]
        parts.append(np.asarray(counts, dtype="<u4").tobytes())
    moments = window.moments
    if moments is not None:
        parts.append(np.concatenate([moments.sums, moments.products[layout.upper]]).astype("<f4").tobytes())
    return _HEAD.pack(FORMAT, layout.checksum, rows, moments.rows if moments is not None else 0) + b"".join(parts)


def read_window(layout: WindowLayout, data: bytes) -> tuple[WindowSketch, int] | None:
    """A window and its rows; None if it was counted by another layout."""
    if len(data) < _HEAD.size or not 1 <= data[0] <= FORMAT:
        return None
    written, layout_crc, rows, paired = _HEAD.unpack_from(data)
    size, counts = layout.size, sum(len(known.bins.counts) + layout.counts_of(known, written) for known in layout.against.known)
    floats = size + size * (size + 1) // 2 if paired else 0
    if layout_crc != layout.checksum or len(data) != _HEAD.size + 4 * (counts + floats):
        return None
    given = np.frombuffer(data, dtype="<u4", count=counts, offset=_HEAD.size).astype(np.int64)
    fields, at = {}, 0
    for known in layout.against.known:
        many = len(known.bins.counts)
        if given[at + many] != _ABSENT:
            far = tuple(given[at + many + 2 : at + many + layout.counts_of(known, written)].tolist()) or (0,) * len(FAR)
            fields[known.name] = FieldSketch(
                given[at : at + many], int(given[at + many]), int(given[at + many + 1]), far if known.numbers else ()
            )
        at += many + layout.counts_of(known, written)
    moments = None
    if paired:
        numbers = np.frombuffer(data, dtype="<f4", offset=_HEAD.size + 4 * counts).astype(np.float64)
        products = np.zeros((size, size))
        products[layout.upper] = numbers[size:]
        products.T[layout.upper] = numbers[size:]
        moments = JointMoments(paired, numbers[:size], products)
    return WindowSketch(fields, moments), rows


def pool_windows(windows: Sequence[tuple[WindowSketch, int]]) -> tuple[WindowSketch, int]:
    """The sum of several windows, and of their rows."""
    return pool_sketches([window for window, _ in windows]), sum(rows for _, rows in windows)
