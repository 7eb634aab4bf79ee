"""What a backup file is: a ZIP of ``backup.json``, ``settings.toml`` and ``database.dump``, the last in ``pg_dump``'s custom format."""

from __future__ import annotations

from dataclasses import dataclass
from datetime import datetime
from typing import Any

import orjson
from pydantic import TypeAdapter, ValidationError

from lamppost.core.errors import BadRequest

FORMAT = 1
ABOUT, SETTINGS, DUMP = "backup.json", "settings.toml", "database.dump"
DUMP_START = b"PGDMP"
"""With which every dump in the custom format begins."""


@dataclass(frozen=True, slots=True)
class BackupAbout:
    """format : of the file. lamppost : the version that made it. records : whether calls and what was counted of them are in it."""

    format: int
    lamppost: str
    made_at: datetime
    records: bool


def read_about(data: bytes) -> BackupAbout:
    """What a backup says of itself; raise BadRequest for another file, or a later format."""
    try:
        document: Any = orjson.loads(data)
        about = TypeAdapter(BackupAbout).validate_python(document)
    except (orjson.JSONDecodeError, ValidationError) as error:
        raise BadRequest(f"{ABOUT} in the backup cannot be read; the file is damaged, or is no backup of Lamp Post") from error
    if about.format > FORMAT:
        raise BadRequest(f"the backup has format {about.format}, made by Lamp Post {about.lamppost}; upgrade this one to read it")
    return about


def write_about(about: BackupAbout) -> bytes:
    """The bytes of ``backup.json``."""
    return orjson.dumps(about, option=orjson.OPT_INDENT_2)
