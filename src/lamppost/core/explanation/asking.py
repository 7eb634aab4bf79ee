"""Rows that an explanation asks about, each once, within a budget, and what is read from their answers as numbers."""

from __future__ import annotations

import hashlib
import math
from collections.abc import Callable, Generator, Mapping, Sequence
from dataclasses import dataclass, field
from typing import Any, TypeVar

import numpy as np
import orjson
from numpy.typing import NDArray

from lamppost.core.endpoint.agreement import main_answer
from lamppost.core.schema.fields import Schema

Row = Mapping[str, Any]
"""A row, or the answer to one, as a JSON object."""
Matrix = NDArray[np.float64]
T = TypeVar("T")
Asking = Generator[Sequence[Row], Sequence[Row | None], T]
"""Yields rows, is sent their answers in the same order, None for a row that the model failed on, and returns a result."""


_LABELS = ("choice", "yes/no", "text")
_ELEMENTS = 16
"""Elements of a tensor that are figures."""
_SHOWN = 40
_MOST_BYTES = 256 * 2**20
"""Of the rows of one explanation, as JSON: more are as if the budget were used up."""


class Outputs:
    """The figures of an answer: numbers, yes/no as 0 and 1, elements of vectors and the first of tensors, and whether a label is that of
    the explained answer.

    names : of the figures; an element of a vector is ``vector.element``. primary : index of the figure that explanations turn about: the
    score of the explained label where there is one, else the main answer, or the largest of its elements. label : the name of the answer
    whose value is the label, None where the main answer is a number, a vector or a tensor.
    """

    def __init__(self, answers: Schema, explained: Row) -> None:
        main = main_answer(answers)
        self.label = main.name if main.kind in _LABELS else None
        self._own = explained.get(main.name)
        self._readers: list[tuple[str, Callable[[Row], Any]]] = []
        scored, of_main = None, []
        for answer in answers:
            first = len(self._readers)
            if answer.kind in ("number", "integer", "yes/no"):
                self._readers.append((answer.name, _plain(answer.name)))
            elif answer.kind == "vector":
                self._readers += [(f"{answer.name}.{element}", _element(answer.name, element)) for element in answer.choices]
                if self.label is not None and scored is None and str(self._own) in answer.choices:
                    scored = first + answer.choices.index(str(self._own))
            elif answer.kind == "tensor":
                many = min(_ELEMENTS, len(_flat(explained.get(answer.name))))
                self._readers += [(f"{answer.name}.{place}", _place(answer.name, place)) for place in range(many)]
            if answer.name == main.name:
                of_main = list(range(first, len(self._readers)))
        if self.label is not None and scored is None and main.kind != "yes/no":
            scored = len(self._readers)
            self._readers.append((f"{main.name} is {str(self._own)[:_SHOWN]}", self.keeps_label))
        self.names = tuple(name for name, _ in self._readers)
        figures = np.nan_to_num(self.read([explained])[0], nan=-math.inf)
        largest = max(of_main, key=lambda place: float(figures[place]), default=0)
        self.primary = scored if scored is not None else largest

    def keeps_label(self, answer: Row) -> bool:
        """Whether an answer has the label of the explained one."""
        return self.label is not None and answer.get(self.label) == self._own

    @property
    def is_score(self) -> bool:
        """Whether the main figure is about a label: its score, or whether an answer has it; from 0 to 1."""
        return self.label is not None

    def main_figure(self, answer: Row) -> float:
        """The main figure of an answer; NaN where it has none."""
        return _number(self._readers[self.primary][1](answer))

    def label_of(self, answer: Row) -> Any:
        """The label of an answer; None where the main answer is a number."""
        return None if self.label is None else answer.get(self.label)

    def read(self, answers: Sequence[Row | None]) -> Matrix:
        """A row for each answer, a column for each figure; NaN for what is not there."""
        matrix = np.full((len(answers), len(self._readers)), np.nan)
        for at, answer in enumerate(answers):
            if answer is not None:
                matrix[at] = [_number(reader(answer)) for _, reader in self._readers]
        return matrix


def _plain(name: str) -> Callable[[Row], Any]:
    return lambda answer: answer.get(name)


def _element(name: str, element: str) -> Callable[[Row], Any]:
    return lambda answer: (answer.get(name) or {}).get(element)


def _flat(value: Any) -> list[Any]:
    """The numbers of nested lists, in order."""
    return [number for one in value for number in _flat(one)] if isinstance(value, list) else [] if value is None else [value]


def _place(name: str, place: int) -> Callable[[Row], Any]:
    def read(answer: Row) -> Any:
        numbers = _flat(answer.get(name))
        return numbers[place] if place < len(numbers) else None

    return read


def _number(value: Any) -> float:
    return float(value) if isinstance(value, (int, float)) else math.nan


@dataclass(slots=True)
class Budget:
    """What an explanation may cost. rows : that the model is asked about. until : on ``clock``, in seconds."""

    rows: int
    until: float
    clock: Callable[[], float]

    @property
    def out_of_time(self) -> bool:
        """Whether the time is used up."""
        return self.clock() >= self.until


@dataclass(slots=True, eq=False)
class Cases:
    """Rows that were asked, each once, with their answers, in the order in which they were asked. failed : those the model failed on."""

    outputs: Outputs
    budget: Budget
    rows: list[Row] = field(default_factory=list)
    answers: list[Row | None] = field(default_factory=list)
    failed: int = 0
    _places: dict[bytes, int] = field(default_factory=dict)
    _bytes: int = 0

    def remember(self, rows: Sequence[Row], answers: Sequence[Row | None]) -> None:
        """Take in answers that are known already; they cost nothing."""
        for row, answer in zip(rows, answers, strict=True):
            key, _ = _key(row)
            if key not in self._places:
                self._places[key] = self._keep(row, answer)

    def _keep(self, row: Row, answer: Row | None) -> int:
        self.rows.append(row)
        self.answers.append(answer)
        return len(self.rows) - 1

    def count_new(self, rows: Sequence[Row]) -> int:
        """How many of these rows are yet to be asked, each once."""
        return len({key for key, _ in map(_key, rows)} - self._places.keys())

    def ask(self, rows: Sequence[Row]) -> Asking[list[Row | None]]:
        """Their answers. What goes past the budget is not asked, and has no answer."""
        keys = []
        new: dict[bytes, Row] = {}
        for row in rows:
            key, size = _key(row)
            keys.append(key)
            if key not in self._places and key not in new and len(new) < self.budget.rows and self._bytes < _MOST_BYTES:
                new[key] = row
                self._bytes += size
        if self._bytes >= _MOST_BYTES:
            self.budget.rows = len(new)
        if new:
            asked = list(new.values())
            answers = yield asked
            self.budget.rows -= len(asked)
            self.failed += sum(answer is None for answer in answers)
            for key, row, answer in zip(new, asked, answers, strict=True):
                self._places[key] = self._keep(row, answer)
        return [self.answers[self._places[key]] if key in self._places else None for key in keys]

    def measure(self, rows: Sequence[Row]) -> Asking[Matrix]:
        """The figures of their answers, as `Outputs.read` gives them."""
        return self.outputs.read((yield from self.ask(rows)))


def _key(row: Row) -> tuple[bytes, int]:
    """What tells a row from others, and its size in bytes."""
    text = orjson.dumps(row, option=orjson.OPT_SORT_KEYS)
    return hashlib.blake2b(text, digest_size=16).digest(), len(text)


def drive(asking: Asking[T], answer: Callable[[Sequence[Row]], Sequence[Row | None]]) -> T:
    """The result of an explanation whose rows a function answers."""
    try:
        rows = next(asking)
        while True:
            rows = asking.send(answer(rows))
    except StopIteration as end:
        result: T = end.value
        return result
