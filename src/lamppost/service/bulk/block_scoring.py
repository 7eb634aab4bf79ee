"""Reads one block, has its good rows answered, and makes the output of it."""

from __future__ import annotations

import asyncio
from collections import Counter
from collections.abc import Sequence
from dataclasses import dataclass, field
from typing import TYPE_CHECKING, Any

import numpy as np

from lamppost.core.bulk.column_match import ROW, ColumnMatch
from lamppost.core.bulk.rejects import Reject, fault_text, faults_by_row
from lamppost.core.bulk.table_rows import flat_answers, read_table_rows
from lamppost.core.bulk.text_rows import BlockPlace, read_csv_block, read_ndjson_block
from lamppost.core.errors import InvalidRows, LaneFull, LookupFault, ModelFault
from lamppost.core.payload.validation_plan import Row, ValidationPlan
from lamppost.core.schema.columns import Array, Column, column_from_values, columns_from_rows, join_columns, take_columns
from lamppost.core.schema.fields import Schema
from lamppost.service.bulk.file_reading import SourceBlock
from lamppost.service.prediction.predictors import PredictionInput, Predictor

if TYPE_CHECKING:
    import pyarrow as pa

_FULL_S = 0.05
_MOST_COUNTED = 200
"""Different answers that are counted by themselves in one column."""
_OTHER = "other answers"


@dataclass(frozen=True, slots=True)
class QuestionReader:
    """How the rows of a source are read for one question. match : of the source's columns. lenient : see `BlockPlace`."""

    plan: ValidationPlan
    match: ColumnMatch
    lenient: bool = False


@dataclass(frozen=True, slots=True)
class OpenQuestion:
    """A question whose versions are open. prefix : of its columns. options : with every option. match : of the source's columns."""

    prefix: str
    predictor: Predictor
    options: Row
    match: ColumnMatch
    version: str
    endpoint: str = ""
    lenient: bool = False

    @property
    def inputs(self) -> Schema:
        """The fields of a row."""
        return self.predictor.plan.schema

    @property
    def reader(self) -> QuestionReader:
        """How its rows are read."""
        return QuestionReader(self.predictor.plan, self.match, self.lenient)


@dataclass(slots=True)
class ReadRows:
    """Rows of a block, for one question, that fit its schema."""

    columns: list[Column]
    numbers: Array

    def take(self, places: Array) -> ReadRows:
        """Only the rows at some places."""
        return ReadRows(take_columns(self.columns, places), self.numbers[places])


@dataclass(slots=True)
class ReadBlock:
    """A block after reading. count : rows and rejects together. kept : by the first question's rows.

    questions : the same rows for each question.
    """

    number: int
    count: int
    questions: list[ReadRows]
    kept: pa.Table
    rejects: dict[int, Reject]


@dataclass(slots=True)
class ScoredBlock:
    """A block that was answered. table : its output. rows : of each question, those that were answered, with the answers."""

    number: int
    count: int
    table: pa.Table
    rejects: list[Reject]
    answers: dict[str, dict[str, int]]
    rows: list[tuple[OpenQuestion, list[Column], list[Column], int]] = field(default_factory=list)


def read_block(readers: Sequence[QuestionReader], block: SourceBlock, first_row: int, delimiter: str) -> ReadBlock:
    """The rows that fit every question; a row that one of them refuses is rejected."""
    import pyarrow as pa

    read: list[ReadRows] = []
    rejects: dict[int, Reject] = {}
    kept: pa.Table | None = None
    count = 0
    for reader in readers:
        if block.table is not None:
            found = read_table_rows(reader.plan.schema, reader.match, block.table, first_row)
            count = block.table.num_rows
            rows, kept_here = ReadRows(found.columns, found.numbers), found.kept
        else:
            text = block.text
            assert text is not None
            place = BlockPlace(first_row, text.line, delimiter, text.constants, reader.lenient)
            plan = reader.plan
            found_text = (
                read_csv_block(plan, reader.match, text.header, text.data, place)
                if text.format == "csv"
                else read_ndjson_block(plan, reader.match, text.data, place)
            )
            count = found_text.count
            rows = ReadRows(columns_from_rows(plan.schema, [*found_text.rows]), np.array(found_text.numbers, dtype=np.int64))
            kept_here = _kept_table(found_text.kept, found_text.numbers)
            found = found_text  # type: ignore[assignment]
        read.append(rows)
        for reject in found.rejects:
            rejects.setdefault(reject.row, reject)
        kept = kept_here if kept is None else kept
    assert kept is not None
    if len(read) > 1:
        common = read[0].numbers
        for rows in read[1:]:
            common = np.intersect1d(common, rows.numbers)
        kept = kept.filter(pa.array(np.isin(read[0].numbers, common)))
        read = [rows.take(np.flatnonzero(np.isin(rows.numbers, common))) for rows in read]
    return ReadBlock(block.number, count, read, kept, rejects)


def _kept_table(kept: dict[str, list[Any]], numbers: list[int]) -> pa.Table:
    import orjson
    import pyarrow as pa

    if not kept:
        return pa.table({ROW: pa.array(numbers, pa.int64())})
    arrays = {}
    for name, values in kept.items():
        try:
            arrays[name] = pa.array(values)
        except (pa.ArrowException, TypeError, ValueError, OverflowError):  # values of several kinds
            texts = [value if isinstance(value, str) or value is None else orjson.dumps(value).decode() for value in values]
            arrays[name] = pa.array(texts, pa.string())
    return pa.table(arrays)


async def score_block(questions: Sequence[OpenQuestion], block: ReadBlock) -> ScoredBlock:
    """The answers of all questions; a row on which one of them fails is rejected."""
    results = await asyncio.gather(
        *(answer_rows(question, rows.columns, len(rows.numbers)) for question, rows in zip(questions, block.questions, strict=True))
    )
    return await asyncio.to_thread(_combine, questions, block, results)


@dataclass(slots=True)
class AnsweredRows:
    """places : of the rows that were answered, ascending. faults : of the others, by place."""

    places: Array
    answers: list[Column]
    faults: dict[int, tuple[str, str | None]]


def _combine(questions: Sequence[OpenQuestion], block: ReadBlock, results: Sequence[AnsweredRows]) -> ScoredBlock:
    import pyarrow as pa

    rejects = dict(block.rejects)
    for result in results:
        for place, (fault, name) in result.faults.items():
            number = int(block.questions[0].numbers[place])
            rejects.setdefault(number, Reject(number, fault, name))
    common = results[0].places
    for result in results[1:]:
        common = np.intersect1d(common, result.places)
    whole = len(common) == len(block.questions[0].numbers)
    kept = block.kept if whole else block.kept.take(pa.array(common))
    columns: dict[str, pa.Array] = {name: kept.column(name) for name in kept.column_names}
    counts: dict[str, dict[str, int]] = {}
    rows = []
    for question, asked, result in zip(questions, block.questions, results, strict=True):
        answers = result.answers
        if 0 < len(common) < len(result.places):
            answers = take_columns(answers, np.flatnonzero(np.isin(result.places, common)))
        asked = asked if whole else asked.take(common)
        flat = flat_answers(question.predictor.answers, answers if len(common) else [], question.prefix)
        columns |= flat
        counts |= _counted(question, flat)
        rows.append((question, asked.columns, answers, len(common)))
    return ScoredBlock(block.number, block.count, pa.table(columns), [rejects[number] for number in sorted(rejects)], counts, rows)


def _counted(question: OpenQuestion, flat: dict[str, pa.Array]) -> dict[str, dict[str, int]]:
    """How often each label was given."""
    counted = {}
    for answer in question.predictor.answers:
        if answer.kind not in ("choice", "yes/no"):
            continue
        name = f"{question.prefix}{answer.name}"
        found = flat[name].value_counts()
        tally: Counter[str] = Counter()
        for entry in found.to_pylist():
            value = entry["values"]
            text = "missing" if value is None else ("yes" if value else "no") if isinstance(value, bool) else str(value)
            tally[text if len(tally) < _MOST_COUNTED else _OTHER] += entry["counts"]
        counted[name] = dict(tally)
    return counted


async def answer_rows(question: OpenQuestion, columns: list[Column], rows: int) -> AnsweredRows:
    """Answers to as many rows as have one. What is refused is left out; where nobody says which row failed, halves are tried."""
    answers: dict[int, tuple[Array, list[Column]]] = {}
    faults: dict[int, tuple[str, str | None]] = {}
    waiting = [np.arange(rows)] if rows else []
    while waiting:
        places = waiting.pop()
        part = columns if len(places) == rows else take_columns(columns, places)
        try:
            answered = await _ask(question, part, len(places))
        except (InvalidRows, ModelFault) as error:
            if len(places) == 1:
                faults[int(places[0])] = fault_text(error)
                continue
            wrong, all_named = faults_by_row(error, len(places))
            faults |= {int(places[at]): fault for at, fault in wrong.items()}
            left = np.delete(places, list(wrong)) if wrong else places
            if all_named and not isinstance(error, LookupFault):
                waiting += [left] if len(left) else []
            else:
                waiting += [half for half in np.array_split(left, 2) if len(half)]
            continue
        answers[int(places[0])] = (places, answered)
    if not answers:
        return AnsweredRows(np.arange(0), [], faults)
    ordered = [answers[at] for at in sorted(answers)]
    places = np.concatenate([part for part, _ in ordered])
    joined = ordered[0][1] if len(ordered) == 1 else join_columns(question.predictor.answers, [part for _, part in ordered])
    order = np.argsort(places, kind="stable")
    if not np.array_equal(order, np.arange(len(order))):
        places, joined = places[order], take_columns(joined, order)
    return AnsweredRows(places, joined, faults)


async def _ask(question: OpenQuestion, columns: list[Column], rows: int) -> list[Column]:
    predictor = question.predictor
    given = predictor.columns.fields[len(question.inputs) :]
    asked = columns + [column_from_values(option, [question.options[option.name]] * rows) for option in given]
    while True:
        try:
            output = await predictor.predict(PredictionInput("columns", rows, columns=asked, as_columns=True))
            break
        except LaneFull:  # several questions at once, to the same versions
            await asyncio.sleep(_FULL_S)
    answer = output.answer
    return answer.columns if answer.columns is not None else columns_from_rows(predictor.answers, answer.rows)
