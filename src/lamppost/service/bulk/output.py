"""Keeps the output of a run block by block, and puts it together as one file under its final name at the end.

A block is an Arrow file in the run's own folder: written under another name, flushed to disk, then renamed. A block that is written again
is the same bytes, so it does not matter when the node was killed.
"""

from __future__ import annotations

import contextlib
import os
import shutil
from collections.abc import Iterable, Iterator, Sequence
from contextlib import contextmanager
from pathlib import Path
from typing import TYPE_CHECKING, Any

import orjson

from lamppost.core.bulk.order import Compression, Format
from lamppost.core.bulk.rejects import Reject
from lamppost.core.bulk.row_selection import select_places
from lamppost.core.bulk.run_report import RunReport
from lamppost.core.errors import BadRequest, Conflict, OutputFull
from lamppost.service.bulk.places import OpenedPlace
from lamppost.service.bulk.spreadsheets import write_sheets

if TYPE_CHECKING:
    import pyarrow as pa

_GROUP_ROWS = 131_072
_SHOWN_REJECTS = 20
_MATCHING = b"matching"


class RunParts:
    """The parts of one run, in a folder of their own below the run's: a file of answers and a file of rejects for each block.

    source : where the rows of a table or query are kept until the run has finished.
    """

    def __init__(self, run_folder: Path) -> None:
        self._folder = run_folder / "parts"
        self.source = self._folder / "source.arrow"

    def prepare(self) -> None:
        """Make the folder, and remove what an interrupted write left."""
        self._folder.mkdir(parents=True, exist_ok=True)
        for left in self._folder.glob(".*.part"):
            left.unlink()

    def write(self, block: int, table: pa.Table | None, rejects: Sequence[Reject]) -> None:
        """Keep the answers and rejects of a block on disk. table : None where the answers went elsewhere."""
        import pyarrow as pa

        if rejects:
            self._put(f"{block:08}.rejects", b"".join(reject.to_line() for reject in rejects))
        if table is not None:
            sink = pa.BufferOutputStream()
            with pa.ipc.new_file(sink, table.schema, options=pa.ipc.IpcWriteOptions(compression="lz4")) as writer:
                writer.write_table(table)
            self._put(f"{block:08}.arrow", sink.getvalue())

    def _put(self, name: str, data: Any) -> None:
        part = self._folder / f".{name}.part"
        with naming_full_disks(str(self._folder)):
            with part.open("wb") as file:
                file.write(data)
                file.flush()
                os.fsync(file.fileno())
            part.replace(self._folder / name)

    def write_chosen(self, block: int, table: pa.Table, report: RunReport) -> None:
        """Keep the rows of a block that a report may list, and note how many there were to choose from."""
        import pyarrow as pa

        places = select_places(table, report.selection)
        chosen = table.take(places.slice(0, report.rows)).replace_schema_metadata({_MATCHING: str(len(places))})
        sink = pa.BufferOutputStream()
        with pa.ipc.new_file(sink, chosen.schema) as writer:
            writer.write_table(chosen)
        self._put(f"{block:08}.chosen", sink.getvalue())

    def chosen(self, blocks: Iterable[int], report: RunReport) -> tuple[pa.Table | None, int]:
        """The rows that a report lists, and how many fit its conditions; None where there are no blocks."""
        import pyarrow as pa

        best: pa.Table | None = None
        matching = 0
        for block in blocks:
            with pa.OSFile(str(self._folder / f"{block:08}.chosen")) as opened, pa.ipc.open_file(opened) as reader:
                found = reader.read_all()
            matching += int(found.schema.metadata[_MATCHING])
            found = found.replace_schema_metadata(None)
            best = found if best is None else pa.concat_tables([best, found], promote_options="permissive")
            if best.num_rows > report.rows:
                best = best.take(select_places(best, report.selection).slice(0, report.rows))
        return best, matching

    def tables(self, blocks: Iterable[int]) -> Iterator[pa.Table]:
        """The answers of blocks, in their order."""
        import pyarrow as pa

        for block in blocks:
            file = self._folder / f"{block:08}.arrow"
            with pa.OSFile(str(file)) as opened, pa.ipc.open_file(opened) as reader:
                yield reader.read_all()

    def types(self, blocks: Sequence[int]) -> pa.Schema:
        """The columns of the output: a type that holds what each block has, or text where there is none."""
        import pyarrow as pa

        known: list[pa.Schema] = []
        for block in blocks:
            with pa.OSFile(str(self._folder / f"{block:08}.arrow")) as opened, pa.ipc.open_file(opened) as reader:
                if not any(reader.schema.equals(schema) for schema in known):
                    known.append(reader.schema)
        fields = []
        for name in known[0].names:
            kinds = [schema.field(name).type for schema in known]
            try:
                kind = pa.unify_schemas([pa.schema([(name, kind)]) for kind in kinds], promote_options="permissive").field(0).type
            except pa.ArrowException:
                kind = pa.string()
            fields.append(pa.field(name, pa.string() if pa.types.is_null(kind) else kind))
        return pa.schema(fields)

    def rejects(self, blocks: Iterable[int]) -> Iterator[bytes]:
        """The lines of all rejects, in pieces."""
        for block in blocks:
            with contextlib.suppress(FileNotFoundError):
                yield (self._folder / f"{block:08}.rejects").read_bytes()

    def first_rejects(self) -> list[dict[str, Any]]:
        """Some of the rejects that are there, in their order."""
        first: list[dict[str, Any]] = []
        for file in sorted(self._folder.glob("*.rejects")):
            first += [orjson.loads(line) for line in file.read_bytes().splitlines()[: _SHOWN_REJECTS - len(first)]]
            if len(first) >= _SHOWN_REJECTS:
                break
        return first

    def remove(self) -> None:
        """Remove the parts of a run that has ended."""
        shutil.rmtree(self._folder, ignore_errors=True)


@contextmanager
def naming_full_disks(where: str) -> Iterator[None]:
    """Errors of a disk or store that takes no more, or may not be written, as our own."""
    try:
        yield
    except OSError as error:
        raise OutputFull(
            f"{where} cannot be written: {error.strerror or str(error)[:200]}; make room there, then resume the run"
        ) from error


class FileTarget:
    """A file that the output goes to under its final name. path : in the folder. run : names the file while it is written."""

    def __init__(self, folder: OpenedPlace, path: str, run: str, replace: bool) -> None:
        self._folder = folder
        self._replace = replace
        self._run = run
        self.shown = path
        self._path = folder.inside(path)

    def check(self) -> None:
        """Raise Conflict or BadRequest unless the file may be written there."""
        from pyarrow.fs import FileType

        parent, _, name = self._path.rpartition("/")
        if name.startswith("."):
            raise BadRequest(f"{self.shown} begins with a point; give the output another name")
        if self._folder.local and self._folder.files.get_file_info(parent).type != FileType.Directory:
            raise BadRequest(f"there is no folder {self.shown.rpartition('/')[0] or '.'} in {self._folder.name}; make it first")
        info = self._folder.files.get_file_info(self._path)
        if info.type == FileType.Directory:
            raise Conflict(f"{self.shown} is a folder; name a file")
        if info.type == FileType.File and not self._replace:
            raise Conflict(f"{self.shown} exists in {self._folder.name}; choose another name, or replace it (--replace)")
        if self._folder.local and not os.access(parent, os.W_OK | os.X_OK):
            raise Conflict(f"the service may not write into {self.shown.rpartition('/')[0] or '.'} of {self._folder.name}")

    def write(self, pieces: Iterable[Any], compression: Compression | None) -> int:
        """Write bytes under the name that the file has until it is whole; returns its size."""
        with self._unfinished_file(compression) as sink:
            for piece in pieces:
                sink.write(piece)
        return int(self._folder.files.get_file_info(self._unfinished).size)

    def write_table(self, kind: Format, compression: Compression | None, types: pa.Schema, tables: Iterator[pa.Table]) -> int:
        """Write tables in a format; returns the size of the file."""
        outer = compression if kind != "parquet" else None
        with self._unfinished_file(outer) as sink:
            write_tables(kind, outer is not None, types, tables, sink)
        return int(self._folder.files.get_file_info(self._unfinished).size)

    @contextmanager
    def _unfinished_file(self, compression: Compression | None) -> Iterator[Any]:
        """The file while it is written; it is removed where that fails."""
        with naming_full_disks(f"{self.shown} of {self._folder.name}"):
            try:
                with self._folder.files.open_output_stream(self._unfinished, compression=compression) as sink:
                    yield sink
                if self._folder.local:
                    with Path(self._unfinished).open("rb") as file:
                        os.fsync(file.fileno())
            except BaseException:
                self.discard()
                raise

    def publish(self, size: int) -> None:
        """Give the file its final name; nothing if that was done. size : of the file, by which it is known again."""
        from pyarrow.fs import FileType

        if self._folder.files.get_file_info(self._unfinished).type == FileType.NotFound:
            there = self._folder.files.get_file_info(self._path)
            if there.type == FileType.File and there.size == size:
                return
            raise Conflict(f"the finished output of {self._run} is gone from {self._folder.name}; resume the run")
        if self._folder.local and not self._replace:
            try:
                os.link(self._unfinished, self._path)  # fails where the name was taken meanwhile, unlike renaming
            except FileExistsError:
                raise Conflict(
                    f"{self.shown} was made in {self._folder.name} while the run went on; move it away, then resume the run"
                ) from None
            Path(self._unfinished).unlink()
        else:
            self._folder.files.move(self._unfinished, self._path)

    def discard(self) -> None:
        """Remove a file that was not finished."""
        with contextlib.suppress(OSError):
            self._folder.files.delete_file(self._unfinished)

    @property
    def _unfinished(self) -> str:
        parent, _, name = self._path.rpartition("/")
        return f"{parent}/.{name}.{self._run}.part"


def write_tables(kind: Format, in_stream: bool, types: pa.Schema, tables: Iterator[pa.Table], sink: Any) -> None:
    """Write tables to an open file. in_stream : whether Arrow is written as a stream, which needs no place to jump to."""
    import pyarrow as pa
    import pyarrow.csv as pc
    import pyarrow.parquet as pq

    grouped = _grouped(table.cast(types) for table in tables)
    if kind == "parquet":
        with pq.ParquetWriter(sink, types) as writer:
            for table in grouped:
                writer.write_table(table)
    elif kind == "arrow":
        with pa.ipc.new_stream(sink, types) if in_stream else pa.ipc.new_file(sink, types) as writer:
            for table in grouped:
                writer.write_table(table)
    elif kind == "csv":
        first = True
        for table in grouped:
            pc.write_csv(plain_table(table), sink, pc.WriteOptions(include_header=first, quoting_style="needed"))
            first = False
        if first:
            pc.write_csv(plain_table(types.empty_table()), sink)
    elif kind == "xlsx":
        write_sheets(iter([("answers", types.names, grouped)]), sink)
    else:
        for table in grouped:
            for batch in table.to_batches(max_chunksize=8_192):
                sink.write(b"".join(orjson.dumps(row, default=str) + b"\n" for row in batch.to_pylist()))


def _grouped(tables: Iterator[pa.Table]) -> Iterator[pa.Table]:
    """Tables of some hundred thousand rows, in the order of rows."""
    import pyarrow as pa

    held: list[pa.Table] = []
    rows = 0
    for table in tables:
        held.append(table)
        rows += table.num_rows
        if rows >= _GROUP_ROWS:
            yield pa.concat_tables(held)
            held, rows = [], 0
    if held:
        yield pa.concat_tables(held)


def plain_table(table: pa.Table) -> pa.Table:
    """A table that CSV can hold: times as RFC 3339, lists as JSON, bytes not at all."""
    import pyarrow as pa
    import pyarrow.compute as pc

    columns = []
    for name in table.column_names:
        column = table.column(name)
        kind = column.type
        if pa.types.is_timestamp(kind):
            column = pc.strftime(column, format="%Y-%m-%dT%H:%M:%S" + ("Z" if kind.tz else ""))
        elif pa.types.is_nested(kind):
            column = pa.array([None if value is None else orjson.dumps(value).decode() for value in column.to_pylist()], pa.string())
        elif pa.types.is_dictionary(kind):
            column = column.cast(kind.value_type)
        elif pa.types.is_binary(kind) or pa.types.is_large_binary(kind) or pa.types.is_null(kind):
            column = pa.nulls(len(column), pa.string())
        columns.append(column)
    return pa.table(columns, names=table.column_names)
