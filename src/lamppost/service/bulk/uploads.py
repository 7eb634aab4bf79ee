"""Takes files that clients bring for bulk runs, piece by piece; a piece that is sent again changes nothing."""

from __future__ import annotations

import os
import re
from pathlib import Path
from uuid import UUID

from lamppost.core.bulk.order import UPLOADS, format_of_path
from lamppost.core.errors import BadRequest, Conflict, OutputFull
from lamppost.core.names import closest_name

MOST_BYTES = 50 * 2**30
_NAME = re.compile(r"[^/\0\x00-\x1f]{1,200}")


def check_file_name(name: str) -> str:
    """The name of a file that is brought, which says its format; raise BadRequest for one that does not."""
    if not _NAME.fullmatch(name) or name.startswith("."):
        raise BadRequest(f"{name[:100]!r} is no name of a file; send it without folders")
    if format_of_path(name)[0] is None:
        like = closest_name("." + name.rpartition(".")[2], (".csv", ".xlsx", ".ndjson", ".parquet", ".arrow"))
        raise BadRequest(
            f"{name} does not say its format; end its name in .csv, .xlsx, .ndjson, .parquet or .arrow"
            + (f" (did you mean {like}?)" if like else "")
        )
    return name


def upload_of(source: str) -> UUID | None:
    """The upload that a source of an order names; None for any other place."""
    name, _, text = source.partition(":")
    try:
        return UUID(text) if name == UPLOADS else None
    except ValueError:
        return None  # it is refused with the order


def begin_upload(folder: Path, name: str) -> None:
    """Make the file, empty."""
    folder.mkdir(parents=True, mode=0o700)
    (folder / name).touch(mode=0o600)


def add_piece(folder: Path, name: str, at: int, piece: bytes) -> int:
    """Write a piece at its place; returns the size of the file. Raise Conflict for a piece that leaves a gap."""
    file = folder / name
    try:
        size = file.stat().st_size
        if at > size:
            raise Conflict(
                f"{size:,} bytes of {name} are there, and this piece begins at {at:,}; send what lies between first", size_bytes=size
            )
        if at + len(piece) > MOST_BYTES:
            raise BadRequest(f"an upload may have {MOST_BYTES / 1e9:.0f} GB; put larger files into a folder that the operator names")
        with file.open("r+b") as opened:
            opened.seek(at)
            opened.write(piece)
            opened.flush()
            os.fsync(opened.fileno())
        return max(size, at + len(piece))
    except FileNotFoundError:
        raise BadRequest(f"the upload of {name} is gone from the disk; begin it again") from None
    except OSError as error:
        raise OutputFull(f"the upload cannot be written: {error.strerror or error}") from error


def upload_text(upload_id: UUID) -> str:
    """How an order names an upload."""
    return f"{UPLOADS}:{upload_id}"
