"""Extracts from rows the features that are watched for drift: numbers and choices themselves, and summaries of texts, pictures and
tensors.

A feature is named by its field, or by its field and the property (``note.length``, ``photo.sharpness``, ``scores.fails``).
"""

from __future__ import annotations

import base64
import binascii
import math
import re
from collections import Counter
from collections.abc import Callable, Collection, Iterator, Mapping, Sequence
from dataclasses import dataclass
from functools import partial
from typing import Any
from zlib import crc32

import numpy as np
from numpy.typing import NDArray

from lamppost.core.drift.coded_texts import CodedTexts
from lamppost.core.schema.columns import Column, json_values
from lamppost.core.schema.fields import Field, Schema
from lamppost.core.schema.images import BadImage, decode_image
from lamppost.core.schema.value_kinds import choice_text

Columns = dict[str, list[Any]]
Values = Sequence[Any] | NDArray[np.float64]
Words = Mapping[str, Collection[str]]

ANSWERS = "answers."
"""What the figures of answers are called by, besides their names."""

NEW_WORDS = ".new words"
"""What the feature of a text that counts unknown words is called by, after its field."""

MAX_WORDS = 4_000
PROJECTED = 32
"""A vector of more elements is watched by projections of it."""
_PROJECTIONS = 4
_WORD = re.compile(r"\w+")


@dataclass(frozen=True, slots=True)
class WatchedFeature:
    """A watched feature. numbers : whether it is a number; else it is a choice. of : computes the feature from a value of the field; None
    for the value itself.
    """

    name: str
    field: str
    numbers: bool
    of: Callable[[Any], Any]


def features_of_schema(schema: Schema, words: Words | None = None) -> tuple[WatchedFeature, ...]:
    """Every feature of the fields that are not private. words : known words of each text field; without them no word counts as new."""
    return tuple(figure for field in schema if not field.private for figure in _of_field(field, (words or {}).get(field.name)))


def feature_columns(figures: Sequence[WatchedFeature], defaults: Mapping[str, Any], rows: Sequence[Mapping[str, Any]]) -> Columns:
    """Values of each feature. rows : JSON objects. A field that is left out has its default; None is a missing value."""
    columns: Columns = {}
    for figure in figures:
        name, of, default = figure.field, figure.of, defaults.get(figure.field)
        columns[figure.name] = [None if (value := row.get(name, default)) is None else of(value) for row in rows]
    return columns


def field_defaults(schema: Schema) -> dict[str, Any]:
    """The defaults of fields that have one."""
    return {field.name: field.default for field in schema if field.default is not None}


class FeatureExtractor:
    """Extracts the features of one version's rows and answers; answers get the prefix `ANSWERS`."""

    def __init__(self, inputs: Schema, answers: Schema, words: Words) -> None:
        self._inputs = features_of_schema(inputs, words)
        self._answers = features_of_schema(answers)
        self._defaults = field_defaults(inputs)

    def extract_columns(
        self, asked: Sequence[Mapping[str, Any]], text: Sequence[Mapping[str, Any]], names: frozenset[str] | None = None
    ) -> Columns:
        """The columns of all features. names : only these inputs; None for all. Answers are left out if the first one is empty."""
        columns = feature_columns([feature for feature in self._inputs if names is None or feature.field in names], self._defaults, asked)
        if not text or not text[0]:
            return columns
        return columns | {ANSWERS + name: values for name, values in feature_columns(self._answers, {}, text).items()}

    def extract_from_columns(
        self, inputs: Schema, asked: Sequence[Column], answers: Schema, text: Sequence[Column], names: frozenset[str] | None = None
    ) -> dict[str, Values]:
        """The same of typed columns, which need not become rows for numbers and choices."""
        wanted = [feature for feature in self._inputs if names is None or feature.field in names]
        columns = _of_columns(wanted, inputs, asked)
        return columns | {ANSWERS + name: values for name, values in _of_columns(self._answers, answers, text).items()}


def _of_columns(figures: Sequence[WatchedFeature], schema: Schema, columns: Sequence[Column]) -> dict[str, Values]:
    by_name = {field.name: (field, column) for field, column in zip(schema, columns, strict=True)}
    found: dict[str, Values] = {}
    texts: dict[str, list[Any]] = {}
    for figure in figures:
        if figure.field not in by_name:
            continue
        field, column = by_name[figure.field]
        if field.kind in ("number", "integer"):
            values = np.asarray(column.values, dtype=np.float64)
            found[figure.name] = values if column.missing is None else np.where(column.missing, np.nan, values)
        elif field.kind == "choice":
            found[figure.name] = CodedTexts(np.asarray(column.values, dtype=np.int64), (*field.choices, *column.extras))
        elif field.kind == "yes/no":
            flags = np.asarray(column.values, dtype=np.int64)
            found[figure.name] = CodedTexts(np.where(flags == 2, -1, flags), (choice_text(False), choice_text(True)))
        elif field.kind == "vector" and isinstance(figure.of, partial) and figure.of.func is _element:
            found[figure.name] = np.asarray(column.values)[:, field.choices.index(figure.of.args[0])]
        else:
            if field.name not in texts:
                texts[field.name] = _as_sent(field, column)
            found[figure.name] = [None if value is None else figure.of(value) for value in texts[field.name]]
    return found


def _as_sent(field: Field, column: Column) -> list[Any]:
    """Values of a column as they stand in a request: a picture in base64."""
    if field.kind == "image":
        return [None if value is None else base64.b64encode(value).decode() for value in column.values]
    return json_values(field, column)


def frequent_words(texts: Sequence[str | None]) -> tuple[str, ...]:
    """The most frequent words of every second text; the other texts show how many new words are to be expected."""
    seen = Counter(word for text in texts[::2] if text for word in set(split_words(text)))
    return tuple(sorted(word for word, _ in sorted(seen.items(), key=lambda pair: (-pair[1], pair[0]))[:MAX_WORDS]))


def split_words(text: str) -> list[str]:
    """Runs of letters and digits, without case."""
    return _WORD.findall(text.casefold())


def _of_field(field: Field, words: Collection[str] | None) -> Iterator[WatchedFeature]:
    name = field.name
    if field.kind in ("number", "integer"):
        yield WatchedFeature(name, name, True, _number)
    elif field.kind in ("choice", "yes/no"):
        yield WatchedFeature(name, name, False, choice_text)
    elif field.kind == "time":
        yield WatchedFeature(
            name, name, False, lambda _: "given"
        )  # it moves on by itself: only whether it is there is held against anything
    elif field.kind == "text":
        yield from _of_text(name, words)
    elif field.kind == "vector" and len(field.choices) <= PROJECTED:
        for choice in field.choices:
            yield WatchedFeature(f"{name}.{choice}", name, True, partial(_element, choice))
    elif field.kind == "vector":
        many = len(field.choices)
        for at in range(_PROJECTIONS):
            weights = _weights(name, at, many)
            yield WatchedFeature(f"{name}.projection {at + 1}", name, True, partial(_projected, weights))
        yield WatchedFeature(f"{name}.norm", name, True, _norm)
    elif field.kind == "tensor":
        yield WatchedFeature(f"{name}.mean", name, True, partial(_of_array, np.mean))
        yield WatchedFeature(f"{name}.sd", name, True, partial(_of_array, np.std))
        if all(field.shape):
            for at in range(_PROJECTIONS):
                weights = _weights(name, at, math.prod(field.shape))
                yield WatchedFeature(f"{name}.projection {at + 1}", name, True, partial(_projected, weights))
    else:
        yield from _of_image(field)


def _of_text(name: str, words: Collection[str] | None) -> Iterator[WatchedFeature]:
    yield WatchedFeature(f"{name}.length", name, True, lambda value: len(str(value)))
    yield WatchedFeature(f"{name}.words", name, True, lambda value: len(split_words(str(value))))
    yield WatchedFeature(f"{name}.letters", name, True, _letters)
    if words is not None:
        known = frozenset(words)
        yield WatchedFeature(f"{name}{NEW_WORDS}", name, False, lambda value: _new_words(str(value), known))


def _of_image(field: Field) -> Iterator[WatchedFeature]:
    name = field.name
    seen = _Pictures(field)
    for at, what in enumerate(("brightness", "contrast", "sharpness", "pixels")):
        if what != "pixels" or field.size is None:
            yield WatchedFeature(f"{name}.{what}", name, True, partial(seen.of, at))


class _Pictures:
    """Features of pictures. The last picture's are kept, because all four are asked for one after another."""

    def __init__(self, field: Field) -> None:
        self._field = field
        self._known: dict[str, tuple[float | None, ...]] = {}

    def of(self, at: int, value: Any) -> float | None:
        """One of the figures of a picture."""
        return self._all(value)[at]

    def _all(self, value: Any) -> tuple[float | None, ...]:
        """Mean pixel, its standard deviation, mean step between neighbours (all 0 to 255), and how many pixels there are."""
        if (known := self._known.get(value)) is not None:
            return known
        if len(self._known) > 512:
            self._known.clear()
        try:
            pixels = decode_image(self._field, base64.b64decode(value)).astype(np.float64).mean(axis=2)
        except (BadImage, binascii.Error, TypeError, ValueError):
            values: tuple[float | None, ...] = (None, None, None, None)
        else:
            steps = [np.abs(np.diff(pixels, axis=axis)).mean() for axis in (0, 1) if pixels.shape[axis] > 1]
            sharp = float(np.mean(steps)) if steps else 0.0
            values = (float(pixels.mean()), float(pixels.std()), sharp, float(pixels.size))
        self._known[value] = values
        return values


def _number(value: Any) -> float | None:
    try:
        number = float(value)
    except (TypeError, ValueError, OverflowError):
        return None
    return number if math.isfinite(number) else None


def _letters(value: Any) -> float | None:
    """The share of characters that are letters of any script or spaces."""
    text = str(value)
    return sum(character.isalpha() or character == " " for character in text) / len(text) if text else None


def _new_words(text: str, known: frozenset[str]) -> str:
    new = len(set(split_words(text)) - known)
    return ("none", "one", "several")[min(2, new)]


def _element(choice: str, value: Any) -> float | None:
    return _number(value.get(choice)) if isinstance(value, dict) else None


def _array(value: Any) -> NDArray[np.float64] | None:
    try:
        array = np.asarray(list(value.values()) if isinstance(value, dict) else value, dtype=np.float64).ravel()
    except (TypeError, ValueError):
        return None
    return array if array.size and np.isfinite(array).all() else None


def _of_array(what: Callable[[Any], Any], value: Any) -> float | None:
    array = _array(value)
    return None if array is None else float(what(array))


def _norm(value: Any) -> float | None:
    return _of_array(np.linalg.norm, value)


def _projected(weights: Any, value: Any) -> float | None:
    array = _array(value)
    return None if array is None or array.size != len(weights) else float(array @ weights)


def _weights(name: str, at: int, many: int) -> NDArray[np.float64]:
    """A direction that depends on the field's name only: signs from a generator seeded with the name."""
    signs = np.random.default_rng([crc32(name.encode()), at]).integers(0, 2, many) * 2.0 - 1.0
    return np.asarray(signs / math.sqrt(many), dtype=np.float64)
