"""Reads the answered rows of a file at a desk page by page, and writes them as a file to take home.

The output of such a run is an Arrow file on the node's disk. It is mapped into memory, so that sorting by one column reads that column
only.
"""

from __future__ import annotations

import sys
from collections.abc import Iterator, Sequence
from dataclasses import dataclass
from pathlib import Path
from typing import TYPE_CHECKING, Any

import orjson

from lamppost.core.bulk.row_selection import RowCondition, RowSelection, select_places
from lamppost.core.bulk.table_rows import answered_names
from lamppost.core.desk.answer_words import words_of_answer
from lamppost.core.desk.settings import DeskSettings, read_settings
from lamppost.core.errors import NotFound
from lamppost.core.schema.fields import Field, Schema
from lamppost.core.schema.value_kinds import shortened_json

if TYPE_CHECKING:
    import pyarrow as pa

_STATE_WORDS = {"fine": "fine", "look": "have a look", "act": "act", None: ""}
_RISKY = ("=", "+", "-", "@", "\t", "\r")
_STEP_ROWS = 20_000
SURE = ":sure"
"""By which rows are sorted by how sure the model is; no column of a file is named so by chance."""


@dataclass(frozen=True, slots=True)
class ResultColumns:
    """The columns of an output. kept : of the source. answer : the field of the main answer. scores : by label, its column."""

    kept: list[str]
    answer: Field
    scores: dict[str, str]


@dataclass(frozen=True, slots=True)
class RowsPage:
    """Some of the rows. matching : all that were chosen. cells : of the kept columns, as text. answers : words and states."""

    matching: int
    places: list[int]
    cells: list[list[str]]
    answers: list[tuple[str, str | None]]
    sure: list[float | None]


def result_columns(names: Sequence[str], answers: Schema, answer: Field) -> ResultColumns:
    """Which columns of an output are what. names : of its columns."""
    said = answered_names(answers)
    scores = {
        label: f"{field.name}.{label}"
        for field in answers
        if field.kind == "vector" and set(field.choices) == set(answer.choices)
        for label in field.choices
        if f"{field.name}.{label}" in names
    }
    return ResultColumns([name for name in names if name not in said], answer, scores)


def read_table(file: Path) -> pa.Table:
    """The rows of an output, mapped into memory. Raise NotFound for a file that is gone."""
    import pyarrow as pa

    try:
        with pa.memory_map(str(file)) as mapped:
            return pa.ipc.open_file(mapped).read_all()
    except FileNotFoundError:
        raise NotFound("the answers are gone from the disk; bring the file again") from None


def read_page(
    table: pa.Table, settings: DeskSettings, columns: ResultColumns, selection: RowSelection, search: str, at: int, limit: int
) -> RowsPage:
    """A page of the chosen rows. search : a text that any of the kept columns holds, in any case. at : rows before it."""
    import pyarrow as pa
    import pyarrow.compute as pc

    if columns.scores:
        table = table.append_column(SURE, _certainty(table, columns))
    places = select_places(table, selection)
    if search:
        hit: Any = None
        for name in columns.kept:
            column = table.column(name)
            if pa.types.is_nested(column.type) or pa.types.is_binary(column.type):
                continue
            mask = pc.fill_null(pc.match_substring(pc.cast(column, pa.string()), search, ignore_case=True), False)
            hit = mask if hit is None else pc.or_(hit, mask)
        if hit is not None:
            places = places.filter(pc.take(hit, places))
    shown = places.slice(at, limit)
    part = table.take(shown)
    cells = [[_cell(value) for value in part.column(name).to_pylist()] for name in columns.kept]
    said = part.column(columns.answer.name).to_pylist()
    return RowsPage(
        len(places),
        shown.to_pylist(),
        [list(row) for row in zip(*cells, strict=True)] if cells else [[] for _ in said],
        [words_of_answer(settings, columns.answer, value) for value in said],
        part.column(SURE).to_pylist() if columns.scores else [None] * len(said),
    )


def _cell(value: Any) -> str:
    if value is None:
        return ""
    if isinstance(value, bool):
        return "yes" if value else "no"
    if isinstance(value, float):
        return f"{value:.15g}"
    return value if isinstance(value, str) else shortened_json(value)


def _certainty(table: pa.Table, columns: ResultColumns) -> Any:
    """How sure the model is of each answer that it gave, 0 to 1; missing where it does not say."""
    import pyarrow as pa
    import pyarrow.compute as pc

    given = table.column(columns.answer.name)
    found: Any = pa.nulls(table.num_rows, pa.float64())
    for label, name in columns.scores.items():
        found = pc.if_else(pc.fill_null(pc.equal(given, label), False), pc.cast(table.column(name), pa.float64()), found)
    return found


def answer_condition(columns: ResultColumns, label: str) -> RowCondition:
    """The condition that the main answer is a label."""
    return RowCondition(columns.answer.name, "=", label)


# -- files to take home -----------------------------------------------------------------------------------------------------


def _free_name(name: str, taken: Sequence[str]) -> str:
    while name in taken:
        name += " (answer)"
    return name


def written_tables(table: pa.Table, settings: DeskSettings, columns: ResultColumns, escaped: bool) -> Iterator[pa.Table]:
    """The rows as they are taken home: the columns of the source, and the answer in words. escaped : texts that begin like formulas get a
    quote before them, so that no spreadsheet carries them out.
    """
    import pyarrow as pa
    import pyarrow.compute as pc

    number = columns.answer.kind in ("number", "integer")
    label = _free_name("answer", columns.kept)
    state, sure = _free_name("what to do", columns.kept), _free_name("how sure, %", columns.kept)
    for start in range(0, max(1, table.num_rows), _STEP_ROWS):
        part = table.slice(start, _STEP_ROWS)
        said = part.column(columns.answer.name).to_pylist()
        words = [words_of_answer(settings, columns.answer, value) for value in said]
        made: dict[str, Any] = {name: part.column(name) for name in columns.kept}
        if number:
            made[_free_name(columns.answer.name, columns.kept)] = part.column(columns.answer.name)
        made[label] = pa.array([text for text, _ in words], pa.string())
        if ({one.state for one in settings.answers.values()} | {one.state for one in settings.ranges}) - {None}:
            made[state] = pa.array([_STATE_WORDS[one] for _, one in words], pa.string())
        if columns.scores:
            made[sure] = pc.round(pc.multiply(_certainty(part, columns), 100.0), 1)
        if escaped:
            made = {name: _without_formulas(column) for name, column in made.items()}
        yield pa.table(made)


def _without_formulas(column: Any) -> Any:
    import pyarrow as pa

    if not pa.types.is_string(column.type) and not pa.types.is_large_string(column.type):
        return column
    texts = column.to_pylist()
    return pa.array(
        ["'" + text if text is not None and text.startswith(_RISKY) and not _is_number(text) else text for text in texts], column.type
    )


def _is_number(text: str) -> bool:
    try:
        float(text)
    except ValueError:
        return False
    return True


def _write_file(order: dict[str, Any]) -> None:
    """Write a file to take home: a process of its own does it, because sheets take long."""
    import pyarrow as pa

    from lamppost.service.bulk.output import write_tables
    from lamppost.service.bulk.spreadsheets import write_sheets

    settings, answer = read_settings(order["settings"]), Field(**order["answer"])
    columns = ResultColumns(order["kept"], answer, order["scores"])
    table, target = read_table(Path(order["file"])), Path(order["to"])
    part = target.with_name(f".{target.name}.{order['id']}.part")
    tables = written_tables(table, settings, columns, escaped=order["form"] == "csv")
    first = next(tables)
    whole = (one for many in ((first,), tables) for one in many)
    with part.open("wb") as sink:
        if order["form"] == "csv":
            sink.write(b"\xef\xbb\xbf")  # by which spreadsheets know UTF-8
            write_tables("csv", False, first.schema, whole, sink)
        else:
            rejects = [orjson.loads(line) for line in Path(order["rejects"]).read_bytes().splitlines()] if order["rejects"] else []
            left = pa.table(
                {
                    "row": [reject["row"] + 1 for reject in rejects],
                    "what is wrong": [f"{reject.get('field') or ''} {reject['fault']}".strip() for reject in rejects],
                }
            )
            sheets = [("answers", first.column_names, whole)]
            write_sheets(iter([*sheets, ("without an answer", left.column_names, iter([left]))] if rejects else sheets), sink)
    part.replace(target)


if __name__ == "__main__":
    _write_file(orjson.loads(sys.stdin.buffer.read()))
