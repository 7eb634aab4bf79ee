"""Texts of many rows as codes and a list of the different ones, so that what is done with each text is done once."""

from __future__ import annotations

from collections.abc import Callable, Iterator, Sequence
from typing import overload

import numpy as np
from numpy.typing import NDArray


class CodedTexts(Sequence[str | None]):
    """Reads like a list of texts, None for a missing one. codes : index into ``texts`` for each row, -1 for a missing one.

    >>> list(CodedTexts(np.array([1, -1, 0]), ["a", "b"]))
    ['b', None, 'a']
    """

    def __init__(self, codes: NDArray[np.int64], texts: Sequence[str]) -> None:
        self._codes = codes
        self._texts = texts

    def __len__(self) -> int:
        return len(self._codes)

    @overload
    def __getitem__(self, at: int) -> str | None: ...
    @overload
    def __getitem__(self, at: slice) -> Sequence[str | None]: ...
    def __getitem__(self, at: int | slice) -> str | Sequence[str | None] | None:
        if isinstance(at, slice):
            return CodedTexts(self._codes[at], self._texts)
        code = int(self._codes[at])
        return None if code < 0 else self._texts[code]

    def __iter__(self) -> Iterator[str | None]:
        texts = [*self._texts, None]
        return iter([texts[code] for code in self._codes.tolist()])

    def count_places(self, place_of: Callable[[str], int], places: int) -> NDArray[np.int64]:
        """How many rows have a text of each place; missing ones are left out. place_of : the place of a text, below ``places``."""
        counts = np.bincount(self._codes[self._codes >= 0], minlength=len(self._texts))
        summed = np.zeros(places, dtype=np.int64)
        np.add.at(summed, [place_of(text) for text in self._texts], counts[: len(self._texts)])
        return summed

    def map_numbers(self, number_of: Callable[[str | None], float]) -> NDArray[np.float64]:
        """A number for each row. number_of : the number of a text, or of a missing one."""
        numbers = np.array([*map(number_of, self._texts), number_of(None)])
        return numbers[self._codes]
