"""Looks into a file before anything is scored: its columns and first rows, and which of its rows would be rejected."""

from __future__ import annotations

import csv
import io
from collections.abc import Sequence
from itertools import islice
from typing import Any

import orjson

from lamppost.core.errors import BadBody
from lamppost.core.schema.value_kinds import shortened_json
from lamppost.service.bulk.block_scoring import QuestionReader, read_block
from lamppost.service.bulk.file_reading import FileSource

DELIMITERS = ",;\t|"
"""What is tried between the cells of a CSV file, where nobody has said it."""
_SHOWN_REJECTS = 50


def try_rows(source: FileSource, readers: Sequence[QuestionReader], delimiter: str, most: int) -> dict[str, Any]:
    """Which rows would be rejected, without asking a model. most : rows that are read at most, in whole blocks.

    whole : whether all rows were read. Raise BadBody for a file that is damaged.
    """
    rows = rejected = 0
    first: list[dict[str, Any]] = []
    whole = True
    for block in source.blocks():
        if rows >= most:
            whole = False
            break
        read = read_block(readers, block, rows, delimiter)
        rows += read.count
        rejected += len(read.rejects)
        first += [orjson.loads(read.rejects[number].to_line()) for number in sorted(read.rejects)[: _SHOWN_REJECTS - len(first)]]
    return {"rows": rows, "rejects": rejected, "first_rejects": first, "whole": whole}


def first_delimiter(columns_by: dict[str, list[str] | BadBody]) -> str:
    """The delimiter that cuts the first line into most columns. columns_by : delimiter, the columns by it, or why there are none."""
    counts = {mark: len(columns) for mark, columns in columns_by.items() if not isinstance(columns, BadBody)}
    if not counts:
        raise next(error for error in columns_by.values() if isinstance(error, BadBody))
    return max(counts, key=lambda mark: (counts[mark], -DELIMITERS.find(mark)))


def first_rows(source: FileSource, delimiter: str, rows: int) -> list[dict[str, Any]]:
    """The first rows, as text for people."""
    shown: list[dict[str, Any]] = []
    for block in islice(source.blocks(), 1):
        if block.table is not None:
            shown = [{name: shortened_json(value) for name, value in row.items()} for row in block.table.slice(0, rows).to_pylist()]
        elif block.text is not None and block.text.format == "csv":
            reader = csv.reader(io.StringIO(block.text.data.decode("utf-8-sig", "replace"), newline=""), delimiter=delimiter)
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
