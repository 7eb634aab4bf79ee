"""Chooses where to cut a lamp file into chunks, so that content which two versions share is sent and stored once."""

from __future__ import annotations

from collections.abc import Iterable
from itertools import pairwise

CHUNK_BYTES = 2**20
"""Most bytes of a chunk."""

LEAST_BYTES = 2**14
"""A file in the package that is smaller than this begins no chunk of its own."""


def chunk_bounds(size: int, starts: Iterable[int] = (), most: int = CHUNK_BYTES, least: int = LEAST_BYTES) -> list[tuple[int, int]]:
    """Start and end of each chunk of ``size`` bytes: a new one at the ``starts`` of the files inside, and after ``most`` bytes.

    >>> chunk_bounds(10, starts=[0, 3], most=4, least=1)
    [(0, 3), (3, 7), (7, 10)]
    """
    bounds = [*sorted({0, *(start for start in starts if 0 < start < size)}), size]
    edges = [0]
    for start, end in pairwise(bounds):
        large = end - start >= least or start == 0
        while large and start - edges[-1] > most:
            edges.append(edges[-1] + most)
        if large and start > edges[-1]:
            edges.append(start)
    while size - edges[-1] > most:
        edges.append(edges[-1] + most)
    if size > edges[-1]:
        edges.append(size)
    return list(pairwise(edges))
