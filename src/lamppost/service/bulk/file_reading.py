"""Reads files in blocks that are the same whenever the same file is read: so a run can go on where it was.

A block of Parquet is some thousand rows of a row group, of Arrow IPC a batch or a part of one, of CSV and NDJSON whole records up to some
megabytes, of a sheet some thousand rows, as CSV.
"""

from __future__ import annotations

import hashlib
from collections.abc import Iterator, Sequence
from contextlib import contextmanager
from dataclasses import dataclass
from typing import TYPE_CHECKING, Any

from lamppost.core.bulk.order import BulkOrder, Compression, Format, require_format
from lamppost.core.bulk.text_rows import check_csv_header, ndjson_columns
from lamppost.core.errors import BadBody, BadRequest
from lamppost.core.payload.line_blocks import LineBlocks
from lamppost.service.bulk.places import OpenedPlace, SourceFile
from lamppost.service.bulk.spreadsheets import csv_record, open_sheet

if TYPE_CHECKING:
    import pyarrow as pa

BLOCK_ROWS = 16_384
_BLOCK_BYTES = 16 * 2**20
_TEXT_LINES = 8_192
_TEXT_BYTES = 4 * 2**20
_READ_BYTES = 2**20
_MOST_SCHEMAS = 1_000


@dataclass(frozen=True, slots=True)
class TextBlock:
    """Records of a file of text. header : columns of a CSV file. line : of the first line, from 1. constants : columns that the names of
    its folders give.
    """

    format: Format
    data: bytes
    header: Sequence[str]
    line: int
    constants: tuple[tuple[str, str], ...] = ()


@dataclass(frozen=True, slots=True)
class SourceBlock:
    """A block of rows. number : from 0, over all files. what : the file, for messages."""

    number: int
    what: str
    table: pa.Table | None = None
    text: TextBlock | None = None


@dataclass(frozen=True, slots=True)
class SourceLook:
    """What is known of a source before its rows are read. columns : of the first file. types : None for text.

    rows : None where only reading tells. first : the first rows as text, for people.
    """

    columns: list[str]
    types: pa.Schema | None
    rows: int | None


class FileSource:
    """Files of one format. Every error names the file."""

    def __init__(self, folder: OpenedPlace, files: Sequence[SourceFile], order: BulkOrder, block_rows: int = BLOCK_ROWS) -> None:
        self.files = files
        self._folder = folder
        self._delimiter = order.delimiter
        self._sheet = order.sheet
        self._block_rows = block_rows
        self._formats = [require_format(file.shown, order.source_format) for file in files]
        if len(kinds := {kind for kind, _ in self._formats}) > 1:
            raise BadRequest(f"the files are of several formats ({', '.join(sorted(kinds))}); name files of one format")

    @property
    def is_csv(self) -> bool:
        """Whether the files are CSV, which is cut at delimiters."""
        return self._formats[0][0] == "csv"

    def describe(self) -> dict[str, Any]:
        """The files as they were found; another description later means that they were changed."""
        return {"files": [{"path": file.shown, "size": file.size, "changed_ns": file.changed_ns} for file in self.files]}

    def digest(self) -> str:
        """SHA-256 over names and contents of the files."""
        whole = hashlib.sha256()
        for file in self.files:
            one = hashlib.sha256()
            with self._folder.files.open_input_stream(file.path, compression=None) as stream:
                while data := stream.read(_READ_BYTES):
                    one.update(data)
            whole.update(f"{file.shown}\0{one.hexdigest()}\n".encode())
        return whole.hexdigest()

    def look(self) -> SourceLook:
        """Columns, types and number of rows. Raise BadBody for a file that cannot be read, or whose columns are not those of the first."""
        looks = []
        for file, (kind, compression) in zip(self.files[:_MOST_SCHEMAS], self._formats, strict=False):
            with _named(file):
                looks.append(self._look_at(file, kind, compression))
        first = looks[0]
        for file, other in zip(self.files, looks, strict=False):
            if set(other.columns) != set(first.columns) and self._formats[0][0] != "ndjson":
                lost = [name for name in first.columns if name not in other.columns]
                new = [name for name in other.columns if name not in first.columns]
                what = f"lacks the column {lost[0]!r}" if lost else f"has another column {new[0]!r}"
                raise BadBody(f"{file.shown} {what}, unlike {self.files[0].shown}; all files of a run have the same columns")
        known = [look.rows for look in looks if look.rows is not None]
        rows = sum(known) if len(known) == len(self.files) else None
        return SourceLook(first.columns, first.types, rows)

    def _look_at(self, file: SourceFile, kind: Format, compression: Compression | None) -> SourceLook:
        import pyarrow as pa
        import pyarrow.parquet as pq

        extra = [name for name, _ in file.partition]
        if kind == "parquet":
            with self._folder.files.open_input_file(file.path) as opened, pq.ParquetFile(opened) as parquet:
                types = _with_partition(parquet.schema_arrow, file)
                return SourceLook(types.names, types, parquet.metadata.num_rows)
        if kind == "arrow":
            with self._arrow(file, compression) as reader:
                types = _with_partition(reader.schema, file)
                rows = reader.count_rows() if isinstance(reader, pa.RecordBatchFileReader) else None
                return SourceLook(types.names, types, rows)
        if kind == "xlsx":
            with self._sheet_of(file) as (header, _):
                return SourceLook([*header, *extra], None, None)
        with self._stream(file, compression) as stream:
            start = bytearray()
            while len(start) < _TEXT_BYTES and (kind == "ndjson" or b"\n" not in start) and (data := stream.read(_READ_BYTES)):
                start += data
        if kind == "csv":
            return SourceLook([*check_csv_header(_first_line(bytes(start)), self._delimiter), *extra], None, None)
        columns = ndjson_columns(bytes(start))
        if not columns:
            raise BadBody("no line of it is a JSON object; each line of NDJSON is one row")
        return SourceLook(columns + extra, None, None)

    def blocks(self) -> Iterator[SourceBlock]:
        """All blocks, in order. Raise BadBody for a file that is damaged, when its damage is reached."""
        number = 0
        for file, (kind, compression) in zip(self.files, self._formats, strict=True):
            with _named(file):
                for block in self._blocks_of(file, kind, compression):
                    if isinstance(block, TextBlock):
                        yield SourceBlock(number, file.shown, text=block)
                    else:
                        yield SourceBlock(number, file.shown, table=block)
                    number += 1

    def _blocks_of(self, file: SourceFile, kind: Format, compression: Compression | None) -> Iterator[TextBlock | pa.Table]:
        if kind == "parquet":
            yield from self._parquet_blocks(file)
        elif kind == "arrow":
            yield from self._arrow_blocks(file, compression)
        elif kind == "xlsx":
            yield from self._sheet_blocks(file)
        else:
            yield from self._text_blocks(file, kind, compression)

    def _parquet_blocks(self, file: SourceFile) -> Iterator[pa.Table]:
        import pyarrow as pa
        import pyarrow.parquet as pq

        with self._folder.files.open_input_file(file.path) as opened, pq.ParquetFile(opened, pre_buffer=False) as parquet:
            for group in range(parquet.num_row_groups):
                about = parquet.metadata.row_group(group)
                row_bytes = max(1, about.total_byte_size // max(1, about.num_rows))
                rows = max(1, min(self._block_rows, _BLOCK_BYTES // row_bytes))
                for batch in parquet.iter_batches(batch_size=rows, row_groups=[group], use_threads=False):
                    if batch.num_rows:
                        yield _add_partition(pa.Table.from_batches([batch]), file)

    def _arrow_blocks(self, file: SourceFile, compression: Compression | None) -> Iterator[pa.Table]:
        import pyarrow as pa

        with self._arrow(file, compression) as reader:
            batches = (
                (reader.get_batch(at) for at in range(reader.num_record_batches))
                if isinstance(reader, pa.RecordBatchFileReader)
                else iter(reader)
            )
            for batch in batches:
                batch.validate(full=True)
                for start in range(0, batch.num_rows, self._block_rows):
                    yield _add_partition(pa.Table.from_batches([batch.slice(start, self._block_rows)]), file)

    def _text_blocks(self, file: SourceFile, kind: Format, compression: Compression | None) -> Iterator[TextBlock]:
        cutter = LineBlocks(quoted=kind == "csv", lines=min(_TEXT_LINES, self._block_rows), size=_TEXT_BYTES)
        header: list[str] | None = None if kind == "csv" else []
        line = 1
        with self._stream(file, compression) as stream:
            held = b""
            ended = False
            while not ended:
                data = stream.read(_READ_BYTES)
                ended = not data
                if header is None:
                    held += data
                    if b"\n" not in held and not ended and len(held) < _TEXT_BYTES:
                        continue
                    first = _first_line(held)
                    header, data, line = check_csv_header(first, self._delimiter), held[len(first) :], 2
                try:
                    cut = [*(cutter.feed(data) if data else []), *(cutter.finish() if ended else [])]
                except BadBody as error:
                    raise BadBody(f"after line {line}: {error.detail}") from error
                for block in cut:
                    if block.strip():
                        yield TextBlock(kind, block, header, line, file.partition)
                    line += block.count(b"\n")

    def _sheet_blocks(self, file: SourceFile) -> Iterator[TextBlock]:
        """Rows of a sheet as records of CSV. A block ends behind an empty row or a cell of several lines, so that its lines are rows."""
        with self._sheet_of(file) as (header, rows):
            held: list[bytes] = []
            first = 0
            for number, cells in rows:
                if held and (len(held) >= min(_TEXT_LINES, self._block_rows) or number != first + len(held) or b"\n" in held[-1][:-1]):
                    yield TextBlock("csv", b"".join(held), header, first, file.partition)
                    held = []
                first = first if held else number
                held.append(csv_record(cells, self._delimiter))
            if held:
                yield TextBlock("csv", b"".join(held), header, first, file.partition)

    @contextmanager
    def _sheet_of(self, file: SourceFile) -> Iterator[tuple[list[str], Iterator[tuple[int, list[str]]]]]:
        with self._folder.files.open_input_file(file.path) as opened, open_sheet(opened, self._sheet) as sheet:
            yield sheet

    @contextmanager
    def _stream(self, file: SourceFile, compression: Compression | None) -> Iterator[Any]:
        with self._folder.files.open_input_stream(file.path, compression=compression) as stream:
            yield stream

    @contextmanager
    def _arrow(self, file: SourceFile, compression: Compression | None) -> Iterator[Any]:
        """A reader of the file format, or of the stream format where the file is in that, or compressed as a whole."""
        import pyarrow as pa

        if compression is None:
            with self._folder.files.open_input_file(file.path) as opened:
                if opened.read(6) == b"ARROW1":
                    opened.seek(0)
                    with pa.ipc.open_file(opened) as reader:
                        yield reader
                    return
        with self._stream(file, compression) as stream, pa.ipc.open_stream(stream) as reader:
            yield reader


def _first_line(data: bytes) -> bytes:
    end = data.find(b"\n")
    return data if end < 0 else data[: end + 1]


def _with_partition(types: pa.Schema, file: SourceFile) -> pa.Schema:
    import pyarrow as pa

    for name, value in file.partition:
        types = types.append(pa.field(name, pa.scalar(_partition_value(value)).type))
    return types


def _add_partition(table: pa.Table, file: SourceFile) -> pa.Table:
    import pyarrow as pa

    for name, value in file.partition:
        table = table.append_column(name, pa.repeat(pa.scalar(_partition_value(value)), table.num_rows))
    return table


def _partition_value(text: str) -> int | str:
    return int(text) if text.isascii() and text.isdigit() and len(text) < 18 and str(int(text)) == text else text


@contextmanager
def _named(file: SourceFile) -> Iterator[None]:
    """Errors of reading as BadBody that names the file."""
    import pyarrow as pa

    try:
        yield
    except BadBody as error:
        raise BadBody(f"{file.shown}: {error.detail}", **error.extra) from error
    except (pa.ArrowException, OSError, EOFError, ValueError, OverflowError, MemoryError) as error:
        reason = str(error).strip().splitlines()[0][:300] if str(error).strip() else type(error).__name__
        raise BadBody(f"{file.shown} cannot be read: {reason}; it is damaged, cut short, or of another format") from error
