"""The places of one run: opens its source, keeps its parts, and brings its output to where it was ordered."""

from __future__ import annotations

import os
from collections.abc import Sequence
from dataclasses import dataclass, replace
from pathlib import Path
from typing import TYPE_CHECKING, Any

from lamppost.core.bulk.column_match import ROW, ColumnMatch
from lamppost.core.bulk.order import (
    UPLOADS,
    BulkOrder,
    Compression,
    Format,
    Place,
    format_of_path,
    read_place,
    rejects_path,
    require_format,
    source_name,
)
from lamppost.core.bulk.reason_terms import ReasonTerms, reason_columns
from lamppost.core.bulk.rejects import private_columns
from lamppost.core.bulk.row_reasons import answer_figure, asked_rows
from lamppost.core.bulk.row_selection import select_places
from lamppost.core.bulk.run_report import RunReport
from lamppost.core.bulk.table_rows import check_output_names, check_types, flat_answers, flat_names
from lamppost.core.errors import BadBody, BadRequest, Conflict
from lamppost.core.extras import check_extra
from lamppost.core.names import unknown_name
from lamppost.core.schema.fields import Schema
from lamppost.service.bulk.block_scoring import OpenQuestion, QuestionReader, ScoredBlock
from lamppost.service.bulk.database_tables import QuerySource, TableTarget
from lamppost.service.bulk.file_reading import BLOCK_ROWS, FileSource, SourceLook
from lamppost.service.bulk.folder_output import FolderTarget
from lamppost.service.bulk.output import FileTarget, RunParts, plain_table
from lamppost.service.bulk.places import NamedPlaces, OpenedPlace, SourceFile, find_files, local_files
from lamppost.service.bulk.questions import AskedSchema, match_questions
from lamppost.service.bulk.source_trial import DELIMITERS, first_delimiter, first_rows, try_rows
from lamppost.store.bulk.bulk_runs import BulkRun

if TYPE_CHECKING:
    import pyarrow as pa

_HEAVY_ROWS = 64
"""Rows of a block with pictures or tensors."""
_LEAST_ROWS = 100
_SHOWN_COLUMNS = 200


def is_table_source(places: NamedPlaces, place: Place) -> bool:
    """Whether a place is a table or query of a database, and no file."""
    return not place.is_url and place.name in places.sources and place.name not in places.folders


def open_file_source(places: NamedPlaces, order: BulkOrder, inputs: Sequence[Schema]) -> FileSource:
    """The files of an order's source; raise BadRequest where there are none."""
    folder, path = places.open_folder(read_place(order.source))
    constants = tuple(order.constants.items())
    files = [replace(file, partition=(*file.partition, *constants)) for file in find_files(folder, path)]
    return FileSource(folder, files, order, _block_rows(order, inputs))


def _block_rows(order: BulkOrder, inputs: Sequence[Schema]) -> int:
    """Most rows of a block: fewer where rows are large, and where a slow pace would have many of them come at once."""
    heavy = any(field.kind in ("image", "tensor") for schema in inputs for field in schema)
    most = _HEAVY_ROWS if heavy else BLOCK_ROWS
    return most if order.rows_per_second is None else min(most, max(_LEAST_ROWS, int(order.rows_per_second)))


@dataclass(frozen=True, slots=True)
class OrderedTarget:
    """Where the output goes: to a file or a folder, or to a table. kind, compression : of a file."""

    file: FileTarget | FolderTarget | None
    table: TableTarget | None
    kind: Format
    compression: Compression | None


def ordered_target(places: NamedPlaces, order: BulkOrder, run: str) -> OrderedTarget:
    """The target of an order; raise BadRequest for one that is no place to write to."""
    if order.key and (order.target is None or "://" in order.target):
        raise BadRequest("a key replaces rows of a table; name the table: --to TARGET:TABLE")
    if order.target is None:
        kind = order.target_format or format_of_path(order.source)[0] or "parquet"
        folder = OpenedPlace(local_files(), os.path.realpath(places.run_folder(run)), True, "the service's own folder")
        return OrderedTarget(FileTarget(folder, f"{run}.{kind}", run, replace=True), None, kind, None)
    place = read_place(order.target)
    if place.name == UPLOADS:
        raise BadRequest("an upload is read, and not written; leave the target out, and fetch the output when the run has ended")
    if not place.is_url and place.name in places.targets:
        return OrderedTarget(None, TableTarget(places.targets, place, run, order.replace, order.key), "arrow", None)
    if not place.is_url and place.name in places.sources and place.name not in places.folders:
        raise BadRequest(
            f"{place.name} was named for reading only; the operator names a database for writing at the start: "
            f"lamppost up --target {place.name}=URL"
        )
    if not place.is_url and place.name not in places.folders:
        known = {*places.folders, *places.targets}
        raise BadRequest(unknown_name("folder or target", place.name, known, f"--folder {place.name}=PATH"))
    if order.key:
        raise BadRequest("a key replaces rows of a table; the target is a file, which is written as a whole")
    folder, path = places.open_folder(place)
    if path.endswith("/"):
        return OrderedTarget(FolderTarget(folder, path, run, order.replace), None, order.target_format or "parquet", None)
    kind, compression = require_format(path, order.target_format, "--to-format")
    return OrderedTarget(FileTarget(folder, path, run, order.replace), None, kind, compression)


class RunPlaces:
    """The places of a run. Its own folder is on the node's disk, and on no other's."""

    def __init__(self, places: NamedPlaces, run: BulkRun) -> None:
        self._places = places
        self._run = run
        self._order = run.order
        self._folder = places.run_folder(run.name)
        self._parts = RunParts(self._folder)
        self._target = ordered_target(places, run.order, run.name)
        self._private: frozenset[str] = frozenset()

    def open_source(self, inputs: Sequence[Schema] = ()) -> FileSource:
        """The source as files. Rows of a table or query are written to a file first; raise Conflict for files that were changed."""
        self._parts.prepare()
        place = read_place(self._order.source)
        if is_table_source(self._places, place):
            file = self._parts.source
            if not file.exists():
                QuerySource(self._places.sources, place).write_file(file)
            about = file.stat()
            folder = OpenedPlace(local_files(), str(file.parent), True, place.name)
            found = SourceFile(str(file), file.name, about.st_size, about.st_mtime_ns)
            return FileSource(folder, [found], _as_arrow(self._order), _block_rows(self._order, inputs))
        source = open_file_source(self._places, self._order, inputs)
        if self._run.source is not None and source.describe() != self._run.source:
            raise Conflict(
                f"{self._order.source} was changed since the run began, so that its rows would not be the same; start another run"
            )
        return source

    def begin_output(self, questions: Sequence[OpenQuestion], look: SourceLook) -> None:
        """Check the columns of the output, and make the staging table of a target in a database."""
        kept = list(questions[0].match.keep) or [ROW]
        self._private = frozenset().union(*(private_columns(one.inputs, one.match.columns) for one in questions))
        reasons = _reason_names(self._order, [one.prefix for one in questions])
        check_output_names(kept, [*(name for one in questions for name in flat_names(one.predictor.answers, one.prefix)), *reasons])
        if self._target.table is not None:
            self._target.table.begin(_output_types(questions, kept, look, reasons))

    def write_block(self, scored: ScoredBlock) -> None:
        """Keep the output of a block, on disk or in the staging table."""
        if self._target.table is not None:
            self._target.table.add_block(scored.number, scored.table)
        self._parts.write(scored.number, None if self._target.table is not None else scored.table, scored.rejects)
        if self._order.report is not None:
            shown = scored.table.drop_columns([name for name in scored.table.column_names if name in self._private])
            self._parts.write_chosen(scored.number, shown, self._order.report)

    def assemble(self, blocks: Sequence[int]) -> dict[str, Any]:
        """Make one file of all blocks, under a name that is not final; returns what there is to know about it."""
        result: dict[str, Any] = {}
        target = self._target
        if target.file is not None:
            if not blocks:
                raise Conflict(f"{self._order.source} has no rows")
            types = self._parts.types(blocks)
            size = target.file.write_table(target.kind, target.compression, types, self._parts.tables(blocks))
            result |= {"path": target.file.shown, "format": target.kind, "size_bytes": size}
        else:
            result |= {"table": read_place(self._order.target or "").path}
        if self._order.report is not None:
            rows, matching = self._parts.chosen(blocks, self._order.report)
            shown = [] if rows is None else [list(row.values()) for row in plain_table(rows).to_pylist()]
            result["chosen"] = {"columns": [] if rows is None else rows.column_names, "rows": shown, "matching": matching}
        if any(True for _ in self._parts.rejects(blocks)):
            rejects = self._rejects_target()
            result |= {"rejects": rejects.shown, "rejects_bytes": rejects.write(self._parts.rejects(blocks), None)}
            result["first_rejects"] = self._parts.first_rejects()
        return result

    def _rejects_target(self) -> FileTarget:
        if self._order.target is not None and self._target.file is not None:
            folder, path = self._places.open_folder(read_place(self._order.target))
            return FileTarget(folder, rejects_path(path.rstrip("/")), self._run.name, replace=True)
        folder = OpenedPlace(local_files(), os.path.realpath(self._folder), True, "the service's own folder")
        return FileTarget(folder, f"{self._run.name}.rejects.ndjson", self._run.name, replace=True)

    def publish(self, result: dict[str, Any]) -> None:
        """Give the output its final name, or bring it into its table; nothing for what was done."""
        if "rejects" in result:
            self._rejects_target().publish(int(result["rejects_bytes"]))
        if self._target.table is not None:
            self._target.table.finish()
        elif self._target.file is not None:
            self._target.file.publish(int(result["size_bytes"]))

    def clean(self) -> None:
        """Remove the parts, which are in the output now."""
        self._parts.remove()

    def rejects_file(self, result: dict[str, Any] | None) -> Path | None:
        """The file of rejects on this node's disk; None where there is none."""
        if result is None or "rejects" not in result:
            return None
        return self._folder / str(result["rejects"]) if self._order.target is None or self._target.table is not None else None


def _as_arrow(order: BulkOrder) -> BulkOrder:
    return replace(order, source_format="arrow")


def _reason_names(order: BulkOrder, prefixes: Sequence[str]) -> list[str]:
    return [] if order.reasons is None else [name for prefix in prefixes for name in reason_columns(order.reasons, prefix)]


def _output_types(questions: Sequence[OpenQuestion], kept: Sequence[str], look: SourceLook, reasons: Sequence[str]) -> pa.Schema:
    import pyarrow as pa

    types: list[tuple[str, pa.DataType]] = []
    for name in kept:
        known = pa.int64() if name == ROW and not questions[0].match.keep else look.types.field(name).type if look.types else pa.string()
        types.append((name, known))
    for one in questions:
        types += [(name, array.type) for name, array in flat_answers(one.predictor.answers, [], one.prefix).items()]
    types += [(name, pa.float64() if name.endswith("_amount") else pa.string()) for name in reasons]
    return pa.schema(types)


def look_at_source(places: NamedPlaces, order: BulkOrder, rows: int) -> dict[str, Any]:
    """The columns and first rows of the files of an order, whatever its questions need. Raise BadRequest for files that cannot be read.

    The delimiter of a CSV file is found by its first line; that of the order is not used.
    """
    columns: dict[str, list[str] | BadBody] = {}
    for mark in DELIMITERS:
        source = open_file_source(places, replace(order, delimiter=mark), ())
        try:
            columns[mark] = source.look().columns
        except BadBody as error:
            columns[mark] = error
        if not source.is_csv:
            break
    delimiter = first_delimiter(columns)
    source = open_file_source(places, replace(order, delimiter=delimiter), ())
    found = columns[delimiter]
    assert not isinstance(found, BadBody)
    return {"columns": found[:_SHOWN_COLUMNS], "delimiter": delimiter, "first": first_rows(source, delimiter, rows)}


def check_order(places: NamedPlaces, order: BulkOrder, asked: Sequence[AskedSchema], rows: int, tried: int = 0) -> dict[str, Any]:
    """What a run of this order would do. Raise whatever it would be refused for, before anything is scored.

    rows : how many of the source's first rows are shown. tried : how many rows of files are read, to tell which would be rejected.
    """
    place = read_place(order.source)
    inputs = [one.schema.inputs for one in asked]
    first: list[dict[str, Any]] = []
    described: dict[str, Any] | None = None
    source: FileSource | None = None
    if is_table_source(places, place):
        types = QuerySource(places.sources, place).look()
        look = SourceLook(types.names, types, None)
    else:
        source = open_file_source(places, order, inputs)
        look, described = source.look(), source.describe()
        first = first_rows(source, order.delimiter, rows) if rows else []
    what = source_name(order, described)
    matches = match_questions(asked, order, look.columns, what)
    if look.types is not None:
        for one, match in zip(asked, matches, strict=True):
            check_types(one.schema.inputs, match, look.types, what)
    answered = [name for one in asked for name in flat_names(one.schema.answers, one.question.prefix)]
    if order.reasons is not None:
        answered += _check_reasons(order, order.reasons, asked)
    kept = list(matches[0].keep) or [ROW]
    check_output_names(kept, answered)
    if order.report is not None:
        _check_report(order.report, asked, kept, look, _reason_names(order, [one.question.prefix for one in asked]))
    if order.on is not None:
        check_extra("dask")
        places.cluster_address(order.on)
    target = ordered_target(places, order, "check")
    if target.file is not None and order.target is not None:
        target.file.check()
    if target.table is not None:
        target.table.check([*kept, *answered])
    return {
        "columns": look.columns[:_SHOWN_COLUMNS],
        "rows": look.rows,
        "source": described,
        "matches": [{"columns": match.columns, "defaults": match.defaults} for match in matches],
        "unused": list(set.intersection(*(set(match.unused) for match in matches)))[:_SHOWN_COLUMNS],
        "output": [*kept, *answered],
        "first": first,
        "reason_rows": None if order.reasons is None else max(asked_rows(_joining(one), order.reasons) for one in asked),
        "trial": _trial(source, asked, matches, order, tried) if tried and source is not None else None,
    }


def _trial(source: FileSource, asked: Sequence[AskedSchema], matches: Sequence[ColumnMatch], order: BulkOrder, most: int) -> dict[str, Any]:
    readers = [QuestionReader(one.plan, match, one.lenient) for one, match in zip(asked, matches, strict=True)]
    return try_rows(source, readers, order.delimiter, most)


def _joining(asked: AskedSchema) -> int:
    """Fields whose contributions are looked for; private ones are in no reference."""
    return sum(not field.private for field in asked.schema.inputs)


def _check_reasons(order: BulkOrder, terms: ReasonTerms, asked: Sequence[AskedSchema]) -> list[str]:
    """The columns of reasons; raise BadRequest for a budget that does not pay for them, or answers that have none."""
    for one in asked:
        answer_figure(one.schema.answers)
        asked_rows(_joining(one), terms)
    return _reason_names(order, [one.question.prefix for one in asked])


def _check_report(report: RunReport, asked: Sequence[AskedSchema], kept: Sequence[str], look: SourceLook, reasons: Sequence[str]) -> None:
    """Raise BadRequest for a report whose rows cannot be chosen or whose text is no template."""
    import pyarrow as pa

    check_extra("reports")
    from jinja2 import TemplateSyntaxError
    from jinja2.sandbox import ImmutableSandboxedEnvironment

    empty = {name: pa.array([], look.types.field(name).type if look.types and name in look.types.names else pa.string()) for name in kept}
    for one in asked:
        empty |= flat_answers(one.schema.answers, [], one.question.prefix)
    for name in reasons:
        empty[name] = pa.array([], pa.float64() if name.endswith("_amount") else pa.string())
    select_places(pa.table(empty), report.selection)
    try:
        ImmutableSandboxedEnvironment().parse(report.text or "")
    except TemplateSyntaxError as error:
        raise BadRequest(f"line {error.lineno} of the report's text is no template: {error.message}") from error
