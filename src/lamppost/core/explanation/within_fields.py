"""Parts within one field: words of a text, regions of a picture, elements of a vector, blocks of a tensor.

A word that is left out is missing from the text; a region and a block become the mean of the whole; elements are replaced by those of rows
of the reference.
"""

from __future__ import annotations

import base64
import math
import re
from collections.abc import Callable, Sequence
from dataclasses import dataclass
from itertools import pairwise
from typing import Any

import numpy as np
from numpy.typing import NDArray

from lamppost.core.explanation.asking import Matrix, Row
from lamppost.core.schema.fields import Field
from lamppost.core.schema.images import decode_image, encode_png

_MOST_WORDS = 24
_GRID = 5
_MOST_BLOCKS = 16
_WORD = re.compile(r"\S+\s*")
Place = tuple[int, ...]
"""Where a part lies: first and last character + 1 of a text; left, top, right and bottom in pixels of a picture; first and last index + 1
of a vector's elements or along a tensor's axis.
"""


@dataclass(frozen=True, slots=True)
class WithinField:
    """A game of the parts of one field. places : where each part lies. build : the field's value with the parts that are present, over a
    background. tells : for each part and background, what the part is replaced by.
    """

    row: Row
    field: str
    parts: Sequence[tuple[str, ...]]
    places: Sequence[Place]
    backgrounds: int
    build: Callable[[NDArray[np.bool_], int], Any]
    tells: Callable[[int], Matrix]

    def compose(self, present: NDArray[np.bool_], background: int) -> Row:
        """The row with those parts left out that are not present."""
        return {**self.row, self.field: self.build(present, background)}

    def covariates(self, part: int) -> Matrix:
        """For each background what a part is replaced by."""
        return self.tells(part)


def _nothing(_: int) -> Matrix:
    return np.ones((1, 1))


def parts_within(row: Row, field: Field, reference: Sequence[Row]) -> WithinField | None:
    """The parts of a field's value; None for a field that is one part, and a value that has no two parts."""
    value = row.get(field.name)
    if value is None:
        return None
    made = _MAKERS[field.kind](row, field, reference) if field.kind in _MAKERS else None
    return made if made is not None and len(made.parts) > 1 else None


def _text(row: Row, field: Field, _: Sequence[Row]) -> WithinField:
    """Words, or phrases of some words each where there are many."""
    text = str(row[field.name])
    words = [match.span() for match in _WORD.finditer(text)]
    step = max(1, math.ceil(len(words) / _MOST_WORDS))
    phrases = [(some[0][0], some[-1][1]) for at in range(0, len(words), step) if (some := words[at : at + step])]

    def build(present: NDArray[np.bool_], _: int) -> str:
        return "".join(text[start:end] for (start, end), there in zip(phrases, present, strict=True) if there).strip()

    names = [(text[start:end].strip(),) for start, end in phrases]
    places = [(start, start + len(text[start:end].rstrip())) for start, end in phrases]
    return WithinField(row, field.name, names, places, 1, build, _nothing)


def _picture(row: Row, field: Field, _: Sequence[Row]) -> WithinField:
    """Regions of a grid, as nearly square as its picture."""
    pixels = decode_image(field, base64.b64decode(row[field.name]))
    height, width = pixels.shape[:2]
    ends = [np.unique(np.linspace(0, size, num=min(_GRID, size) + 1).astype(int)).tolist() for size in (width, height)]
    places = [(left, top, right, bottom) for top, bottom in pairwise(ends[1]) for left, right in pairwise(ends[0])]
    mean = pixels.reshape(-1, pixels.shape[2]).mean(axis=0).round().astype(np.uint8)

    def build(present: NDArray[np.bool_], _: int) -> str:
        made = pixels.copy()
        for (left, top, right, bottom), there in zip(places, present, strict=True):
            if not there:
                made[top:bottom, left:right] = mean
        return base64.b64encode(encode_png(made)).decode()

    names = [(f"row {at // (len(ends[0]) - 1) + 1}, column {at % (len(ends[0]) - 1) + 1}",) for at in range(len(places))]
    return WithinField(row, field.name, names, places, 1, build, _nothing)


def _vector(row: Row, field: Field, reference: Sequence[Row]) -> WithinField:
    """Elements, or blocks of neighbours where there are many; in place of them those of a row of the reference."""
    own = row[field.name]
    ends = np.unique(np.linspace(0, len(field.choices), num=min(_MOST_WORDS, len(field.choices)) + 1).astype(int)).tolist()
    places = list(pairwise(ends))
    names = [tuple(field.choices[start:end]) for start, end in places]
    others = [other[field.name] for other in reference if isinstance(other.get(field.name), dict)]

    def build(present: NDArray[np.bool_], background: int) -> dict[str, float]:
        absent = [name for part, there in zip(names, present, strict=True) if not there for name in part]
        return {**own, **{name: others[background][name] for name in absent}}

    def tells(part: int) -> Matrix:
        values = np.array([[other[name] for name in names[part]] for other in others], dtype=np.float64)
        return np.column_stack([np.ones(len(others)), values]) if len(others) else np.ones((0, 1))

    return WithinField(row, field.name, names, places, len(others), build, tells)


def _tensor(row: Row, field: Field, _: Sequence[Row]) -> WithinField:
    """Blocks along the first axis that has more than one index."""
    values = np.asarray(row[field.name], dtype=np.float64)
    axis = next((at for at, length in enumerate(values.shape) if length > 1), 0)
    length = values.shape[axis] if values.ndim else 1
    ends = np.unique(np.linspace(0, length, num=min(_MOST_BLOCKS, length) + 1).astype(int)).tolist()
    places = list(pairwise(ends))
    whole = field.elements == "integer"
    mean = round(float(values.mean())) if whole else float(values.mean())

    def build(present: NDArray[np.bool_], _: int) -> Any:
        made = values.copy()
        for (start, end), there in zip(places, present, strict=True):
            if not there:
                made[(slice(None),) * axis + (slice(start, end),)] = mean
        return made.astype(np.int64).tolist() if whole else made.tolist()

    names = [(f"{start} to {end - 1}" if end - start > 1 else str(start),) for start, end in places]
    return WithinField(row, field.name, names, places, 1, build, _nothing)


_MAKERS: dict[str, Callable[[Row, Field, Sequence[Row]], WithinField]] = {
    "text": _text,
    "image": _picture,
    "vector": _vector,
    "tensor": _tensor,
}
