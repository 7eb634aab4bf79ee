"""Reads rows to ask with from a file of NDJSON or CSV."""

from __future__ import annotations

import csv
from contextlib import suppress
from pathlib import Path
from typing import Any

import orjson

from lamppost.core.errors import BadRequest

MOST_ROWS = 2_000


def read_row_file(file: Path) -> list[str]:
    """The first rows of a file, each as JSON. Raise BadRequest for what cannot be read."""
    if not file.is_file():
        raise BadRequest(f"--rows {file} is neither records, nor reference, nor a file")
    bodies: list[str] = []
    try:
        with file.open(encoding="utf-8-sig", newline="") as lines:
            if file.suffix == ".csv":
                bodies = [orjson.dumps({name: _cell(value) for name, value in row.items()}).decode() for row in csv.DictReader(lines)]
            else:
                bodies = [orjson.dumps(orjson.loads(line)).decode() for line in lines if line.strip()]
    except (OSError, UnicodeDecodeError, ValueError, csv.Error) as error:
        raise BadRequest(
            f"{file} cannot be read: {error}; it has a row on each line, as JSON, or as CSV with a first line of names"
        ) from error
    if not bodies:
        raise BadRequest(f"{file} has no rows")
    return bodies[:MOST_ROWS]


def _cell(text: str | None) -> Any:
    if text is None or text == "":
        return None
    with suppress(ValueError):
        return orjson.loads(text)
    return {"True": True, "False": False}.get(text, text)
