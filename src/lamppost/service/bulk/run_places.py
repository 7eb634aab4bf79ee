"""The places of one run: opens its source, keeps its parts, and brings its output to where it was ordered."""

from __future__ import annotations

import os
from collections.abc import Sequence
from dataclasses import dataclass, replace
from itertools import islice
from pathlib import Path
from typing import TYPE_CHECKING, Any

from lamppost.core.bulk.column_match import ROW
from lamppost.core.bulk.order import BulkOrder, Compression, Format, Place, format_of_path, read_place, require_format, source_name
from lamppost.core.bulk.table_rows import check_output_names, check_types, flat_answers, flat_names
from lamppost.core.errors import BadRequest, Conflict
from lamppost.core.names import closest_name
from lamppost.core.schema.fields import Schema
from lamppost.core.schema.value_kinds import shortened_json
from lamppost.service.bulk.block_scoring import OpenQuestion, ScoredBlock
from lamppost.service.bulk.database_tables import QuerySource, TableTarget
from lamppost.service.bulk.file_reading import BLOCK_ROWS, FileSource, SourceLook
from lamppost.service.bulk.output import FileTarget, RunParts, rejects_path
from lamppost.service.bulk.places import NamedPlaces, OpenedPlace, SourceFile, find_files, local_files
from lamppost.service.bulk.questions import AskedSchema, match_questions
from lamppost.store.bulk.bulk_runs import BulkRun

if TYPE_CHECKING:
    import pyarrow as pa

_SUFFIX: dict[Format, str] = {"csv": "csv", "ndjson": "ndjson", "parquet": "parquet", "arrow": "arrow"}
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
    return FileSource(folder, find_files(folder, path), order, _block_rows(order, inputs))


def _block_rows(order: BulkOrder, inputs: Sequence[Schema]) -> int:
    """Most rows of a block: fewer where rows are large, and where a slow pace would have many of them come at once."""
    heavy = any(field.kind in ("image", "tensor") for schema in inputs for field in schema)
    most = _HEAVY_ROWS if heavy else BLOCK_ROWS
    return most if order.rows_per_second is None else min(most, max(_LEAST_ROWS, int(order.rows_per_second)))


@dataclass(frozen=True, slots=True)
class OrderedTarget:
    """Where the output goes: to a file, or to a table. kind, compression : of a file."""

    file: FileTarget | None
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
        return OrderedTarget(FileTarget(folder, f"{run}.{_SUFFIX[kind]}", run, replace=True), None, kind, None)
    place = read_place(order.target)
    if place.name == "upload":
        raise BadRequest("an upload is read, and not written; leave the target out, and fetch the output when the run has ended")
    if not place.is_url and place.name in places.targets:
        return OrderedTarget(None, TableTarget(places.targets, place, run, order.replace, order.key), "arrow", None)
    if not place.is_url and place.name in places.sources and place.name not in places.folders:
        raise BadRequest(
            f"{place.name} was named for reading only; the operator names a database for writing at the start: "
            f"lamppost up --target {place.name}=URL"
        )
    if not place.is_url and place.name not in places.folders:
        known = sorted({*places.folders, *places.targets})
        like = closest_name(place.name, known)
        raise BadRequest(
            f"this node has no folder or target {place.name!r}; "
            + (f"did you mean {like}?" if like else f"there are: {', '.join(known) or 'none'}")
        )
    if order.key:
        raise BadRequest("a key replaces rows of a table; the target is a file, which is written as a whole")
    folder, path = places.open_folder(place)
    if path.endswith("/"):
        raise BadRequest(f"{path} is a folder; name the file that the output goes to")
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

    def open_source(self, inputs: Sequence[Schema] = ()) -> FileSource:
        """The source as files. Rows of a table or query are written to a file first; raise Conflict for files that were changed."""
        self._parts.prepare()
        place = read_place(self._order.source)
        if is_table_source(self._places, place):
            file = self._folder / "source.arrow"
            if not file.exists():
                QuerySource(self._places.sources, place).write_file(file)
            about = file.stat()
            folder = OpenedPlace(local_files(), str(self._folder), True, place.name)
            found = SourceFile(str(file), "source.arrow", about.st_size, about.st_mtime_ns)
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
        check_output_names(kept, [name for one in questions for name in flat_names(one.predictor.answers, one.prefix)])
        if self._target.table is not None:
            self._target.table.begin(_output_types(questions, kept, look))

    def write_block(self, scored: ScoredBlock) -> None:
        """Keep the output of a block, on disk or in the staging table."""
        if self._target.table is not None:
            self._target.table.add_block(scored.number, scored.table)
        self._parts.write(scored.number, None if self._target.table is not None else scored.table, scored.rejects)

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
        if any(True for _ in self._parts.rejects(blocks)):
            rejects = self._rejects_target()
            result |= {"rejects": rejects.shown, "rejects_bytes": rejects.write(self._parts.rejects(blocks), None)}
            result["first_rejects"] = self._parts.first_rejects()
        return result

    def _rejects_target(self) -> FileTarget:
        if self._order.target is not None and self._target.file is not None:
            folder, path = self._places.open_folder(read_place(self._order.target))
            return FileTarget(folder, rejects_path(path), self._run.name, replace=True)
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
        (self._folder / "source.arrow").unlink(missing_ok=True)

    def rejects_file(self, result: dict[str, Any] | None) -> Path | None:
        """The file of rejects on this node's disk; None where there is none."""
        if result is None or "rejects" not in result:
            return None
        return self._folder / str(result["rejects"]) if self._order.target is None or self._target.table is not None else None


def _as_arrow(order: BulkOrder) -> BulkOrder:
    return replace(order, source_format="arrow")


def _output_types(questions: Sequence[OpenQuestion], kept: Sequence[str], look: SourceLook) -> pa.Schema:
    import pyarrow as pa

    types: list[tuple[str, pa.DataType]] = []
    for name in kept:
        known = pa.int64() if name == ROW and not questions[0].match.keep else look.types.field(name).type if look.types else pa.string()
        types.append((name, known))
    for one in questions:
        types += [(name, array.type) for name, array in flat_answers(one.predictor.answers, [], one.prefix).items()]
    return pa.schema(types)


def check_order(places: NamedPlaces, order: BulkOrder, asked: Sequence[AskedSchema], rows: int) -> dict[str, Any]:
    """What a run of this order would do. Raise whatever it would be refused for, before anything is scored.

    rows : how many of the source's first rows are shown.
    """
    place = read_place(order.source)
    inputs = [one.schema.inputs for one in asked]
    first: list[dict[str, Any]] = []
    described: dict[str, Any] | None = None
    if is_table_source(places, place):
        types = QuerySource(places.sources, place).look()
        look = SourceLook(types.names, types, None)
    else:
        source = open_file_source(places, order, inputs)
        look, described = source.look(), source.describe()
        first = _first_rows(source, rows) if rows else []
    what = source_name(order, described)
    matches = match_questions(asked, order, look.columns, what)
    if look.types is not None:
        for one, match in zip(asked, matches, strict=True):
            check_types(one.schema.inputs, match, look.types, what)
    answered = [name for one in asked for name in flat_names(one.schema.answers, one.question.prefix)]
    kept = list(matches[0].keep) or [ROW]
    check_output_names(kept, answered)
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
    }


def _first_rows(source: FileSource, rows: int) -> list[dict[str, Any]]:
    """The first rows, as text for people."""
    import csv
    import io

    import orjson

    shown: list[dict[str, Any]] = []
    for block in islice(source.blocks(), 1):
        if block.table is not None:
            shown = [{name: shortened_json(value) for name, value in row.items()} for row in block.table.slice(0, rows).to_pylist()]
        elif block.text is not None and block.text.format == "csv":
            reader = csv.reader(io.StringIO(block.text.data.decode("utf-8", "replace"), newline=""))
            shown = [dict(zip(block.text.header, cells, strict=False)) for cells in islice(reader, rows)]
        elif block.text is not None:
            for line in block.text.data.split(b"\n")[: 4 * rows]:
                try:
                    document = orjson.loads(line)
                except ValueError:
                    continue
                if isinstance(document, dict) and len(shown) < rows:
                    shown.append({name: shortened_json(value) for name, value in document.items()})
    return shown
