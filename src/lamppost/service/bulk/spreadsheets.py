"""Reads and writes sheets of XLSX files (ECMA-376), with openpyxl.

A sheet is read as records of CSV, so that its cells are understood by the rules of CSV cells: by the kind of their field. A spreadsheet is
made by people: so what a machine would misread (several sheets, merged cells, titles over the columns) is refused with the way to mend it.
"""

from __future__ import annotations

import csv
import io
import re
import zipfile
from collections.abc import Iterator, Sequence
from contextlib import contextmanager
from datetime import UTC, date, datetime, time
from typing import TYPE_CHECKING, Any

from lamppost.core.errors import BadBody, Conflict

if TYPE_CHECKING:
    import pyarrow as pa

MOST_ROWS = 1_048_575
"""Rows of a sheet below its first one."""
_MOST_UNPACKED = 2**30
_MERGED = re.compile(rb'<(?:\w+:)?mergeCell\s[^>]*ref="([A-Z0-9:]+)"')
_STEP_BYTES = 2**20
_LONGEST_TEXT = 32_767
_ILLEGAL = re.compile("[\x00-\x08\x0b\x0c\x0e-\x1f]")


@contextmanager
def _workbook(stream: Any) -> Iterator[Any]:
    from openpyxl import load_workbook

    try:
        with zipfile.ZipFile(stream) as packed:
            size = sum(entry.file_size for entry in packed.infolist())
    except (zipfile.BadZipFile, OSError, ValueError):
        raise BadBody("it is no XLSX file; XLS files and encrypted ones are not read, so save it anew as XLSX without a password") from None
    if size > _MOST_UNPACKED:
        raise BadBody(f"it holds {size:,} bytes when unpacked, and {_MOST_UNPACKED:,} are read; split it, or save it as CSV")
    stream.seek(0)
    try:
        book = load_workbook(stream, read_only=True, data_only=True)
    except (KeyError, TypeError, ValueError, zipfile.BadZipFile, SyntaxError) as error:
        raise BadBody(f"it is a damaged XLSX file ({str(error)[:200] or type(error).__name__}); save it anew") from error
    try:
        yield book
    except (KeyError, TypeError, zipfile.BadZipFile, SyntaxError) as error:
        raise BadBody(f"it is a damaged XLSX file ({str(error)[:200] or type(error).__name__}); save it anew") from error
    finally:
        book.close()


@contextmanager
def open_sheet(stream: Any, sheet: str | None) -> Iterator[tuple[list[str], Iterator[tuple[int, list[str]]]]]:
    """The columns of a sheet, and its records: each its row in the sheet, from 1, and its cells as text.

    stream : a file that can be jumped in. sheet : None for the only one that holds anything. Raise BadBody for what cannot be read.
    """
    with _workbook(stream) as book:
        chosen = _chosen_sheet(book, sheet)
        if merged := _merged_cells(stream, chosen):
            raise BadBody(
                f"the cells {merged} of the sheet {chosen.title!r} are merged, so that nobody knows which row they belong to; "
                "separate them and write their value into each"
            )
        rows = _rows(chosen)
        first = next(rows, None)
        if first is None:
            raise BadBody(f"the sheet {chosen.title!r} is empty; its first row names the columns")
        header = list(first[1])
        if "" in header:
            place = header.index("") + 1
            raise BadBody(
                f"column {place} of the sheet {chosen.title!r} has no name in row {first[0]}; the first row that holds anything names the "
                "columns, so remove titles above it"
            )
        yield header, rows


def _chosen_sheet(book: Any, sheet: str | None) -> Any:
    sheets = [one for one in book.worksheets if hasattr(one, "iter_rows")]
    if sheet is not None:
        for one in sheets:
            if one.title == sheet:
                return one
        raise BadBody(f"there is no sheet {sheet!r}; there are: {', '.join(one.title for one in sheets)}", sheets=[s.title for s in sheets])
    filled = [one for one in sheets if one.sheet_state == "visible" and next(_rows(one), None) is not None]
    if len(filled) > 1:
        names = [one.title for one in filled]
        raise BadBody(f"it has {len(names)} sheets ({', '.join(names[:20])}); say which one is meant", sheets=names)
    if not filled:
        raise BadBody("none of its sheets holds anything")
    return filled[0]


def _merged_cells(stream: Any, sheet: Any) -> str:
    """The first range of merged cells of a sheet. (A workbook that is read row by row does not tell them; they follow the rows.)"""
    tail = b""
    with zipfile.ZipFile(stream) as packed, packed.open(sheet._worksheet_path) as part:
        while data := part.read(_STEP_BYTES):
            if (found := _MERGED.search(tail + data)) is not None:
                return found[1].decode()
            tail = (tail + data)[-200:]
    return ""


def _rows(sheet: Any) -> Iterator[tuple[int, list[str]]]:
    """The rows that hold anything; cells behind the last column of the first one are left out where they are empty."""
    width = 0
    for number, row in enumerate(sheet.iter_rows(values_only=True), start=1):
        cells = [cell_text(value) for value in row]
        while cells and not cells[-1] and len(cells) > width:
            cells.pop()
        if not any(cells):
            continue
        if not width:
            width = len(cells)
        yield number, cells + [""] * (width - len(cells))


def cell_text(value: Any) -> str:
    """What a cell holds, as a cell of CSV: numbers without needless zeros, times in UTC (a sheet knows no zones).

    >>> cell_text(12.0), cell_text(True), cell_text(None)
    ('12', 'true', '')
    """
    if value is None:
        return ""
    if isinstance(value, bool):
        return "true" if value else "false"
    if isinstance(value, float):
        return str(int(value)) if value.is_integer() and abs(value) < 2**53 else repr(value)
    if isinstance(value, datetime):
        return (value.replace(tzinfo=UTC) if value.tzinfo is None else value).isoformat().replace("+00:00", "Z")
    if isinstance(value, date | time):
        return value.isoformat()
    return str(value)


def csv_record(cells: Sequence[str], delimiter: str) -> bytes:
    """Cells as one record of CSV."""
    line = io.StringIO()
    csv.writer(line, delimiter=delimiter, lineterminator="\n").writerow(cells)
    return line.getvalue().encode()


def write_sheets(sheets: Iterator[tuple[str, Sequence[str], Iterator[pa.Table]]], sink: Any) -> None:
    """Write sheets, each a title, its columns and their rows. Texts stay texts, also those that begin like formulas."""
    from openpyxl import Workbook
    from openpyxl.cell import WriteOnlyCell
    from openpyxl.styles import Font

    book = Workbook(write_only=True)
    for title, names, tables in sheets:
        sheet = book.create_sheet(title)
        sheet.freeze_panes = "A2"

        def cell(value: Any, bold: bool = False, sheet: Any = sheet) -> Any:
            if not isinstance(value, str) and not bold:
                return value
            made = WriteOnlyCell(sheet, _ILLEGAL.sub("\ufffd", str(value))[:_LONGEST_TEXT])
            made.data_type = "s"
            if bold:
                made.font = Font(bold=True)
            return made

        sheet.append([cell(name, bold=True) for name in names])
        count = 0
        for table in tables:
            count += table.num_rows
            if count > MOST_ROWS:
                raise Conflict(f"a sheet holds {MOST_ROWS:,} rows, and the output has more; write CSV or Parquet instead")
            columns = [[_cell_value(value) for value in table.column(at).to_pylist()] for at in range(table.num_columns)]
            for row in zip(*columns, strict=True):
                sheet.append([cell(value) for value in row])
    book.save(sink)


def _cell_value(value: Any) -> Any:
    """A value that a cell can hold."""
    if value is None or isinstance(value, bool | str | int) or type(value) is date:
        return value if not isinstance(value, int) or abs(value) < 2**53 else str(value)
    if isinstance(value, float):
        return value if value - value == 0 else str(value)
    if isinstance(value, datetime):
        return value.astimezone(UTC).replace(tzinfo=None) if value.tzinfo is not None else value
    return str(value)
