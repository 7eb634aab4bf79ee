"""Writes a backup of a running service to a file, whole or not at all."""

from __future__ import annotations

import zipfile
from collections.abc import Mapping
from datetime import UTC, datetime
from pathlib import Path
from typing import Any

import httpx
import tomli_w

from lamppost.client.calls import Progress, checked_json
from lamppost.client.replies import reply_of
from lamppost.core.backup import ABOUT, DUMP, DUMP_START, FORMAT, SETTINGS, BackupAbout, write_about
from lamppost.core.errors import LampPostError

_READ_S = 600.0
"""The service may take so long until the first bytes of a large database are there."""


def write_backup(options: Mapping[str, Any], to: Path, records: bool, progress: Progress | None) -> Path:
    """Write a backup and return its path. Raise LampPostError; then there is no file, or the one that was there before.

    options : of the HTTP client. progress : called with the bytes that came so far, and None.
    """
    part = to.with_name(f".{to.name}.part")
    try:
        part.touch(mode=0o600)  # it holds what callers sent
        with httpx.Client(**{**options, "timeout": httpx.Timeout(_READ_S, connect=5.0)}) as http:
            about = checked_json(reply_of(http.get("/api/backup/about")))
            with zipfile.ZipFile(part, "w") as archive:
                made = BackupAbout(FORMAT, about["lamppost"], datetime.now(UTC), records)
                archive.writestr(ABOUT, write_about(made))
                archive.writestr(SETTINGS, tomli_w.dumps(about["settings"]))
                _write_dump(http, archive, records, progress)
        return part.replace(to)
    except OSError as error:
        raise LampPostError(f"the backup cannot be written to {to}: {error.strerror or error}") from error
    except httpx.HTTPError as error:
        raise LampPostError(f"the backup broke off ({error}), and nothing of it was kept; the log of the service says why") from error
    finally:
        part.unlink(missing_ok=True)


def _write_dump(http: httpx.Client, archive: zipfile.ZipFile, records: bool, progress: Progress | None) -> None:
    """Copy the dump from the service into the archive."""
    size = 0
    with (
        http.stream("GET", "/api/backup/database", params={"records": records}) as response,
        archive.open(DUMP, "w", force_zip64=True) as member,
    ):
        if response.status_code != 200:
            response.read()
            checked_json(reply_of(response))
        start = b""
        for piece in response.iter_raw():
            start = start or piece[: len(DUMP_START)]
            size += len(piece)
            member.write(piece)
            if progress is not None:
                progress(size, None)
    if start != DUMP_START:
        raise LampPostError("what the service sent is no dump of a database; nothing was kept")
