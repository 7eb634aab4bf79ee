"""Real rows for the requests of a sweep: of recorded calls, or of the version's reference. They wait in a file on the measuring node."""

from __future__ import annotations

from collections.abc import Sequence
from datetime import UTC, datetime, timedelta
from pathlib import Path
from typing import Any

import orjson

from lamppost.core.errors import BadRequest
from lamppost.core.names import VersionName
from lamppost.core.payload.recorded_bodies import request_options, request_rows
from lamppost.service.packages.package_cache import PackageCache
from lamppost.store import call_samples, packages
from lamppost.store.database import Pool

_BACK = timedelta(days=30)
LEAST_RECORDS = 20
"""Fewer recorded calls than this say little about calls, and the reference is taken."""


def rows_file(data: Path, sweep: str) -> Path:
    """Where the rows of a sweep wait; other users of the machine cannot read it."""
    return data / "sweeps" / f"{sweep}.json"


def write_rows(data: Path, sweep: str, rows: dict[str, list[dict[str, Any]]]) -> None:
    """Write the rows of a sweep, by version."""
    file = rows_file(data, sweep)
    file.parent.mkdir(mode=0o700, exist_ok=True)
    file.touch(mode=0o600)
    file.write_bytes(orjson.dumps(rows, default=str))


async def recorded_rows(pool: Pool, endpoint: str, version: str, limit: int) -> list[dict[str, Any]]:
    """Bodies of one row each, of recorded calls to an endpoint that a version answered; options stand beside the fields."""
    now = datetime.now(UTC)
    bodies: list[dict[str, Any]] = []
    for found in await call_samples.sample_inputs(pool, endpoint, version, now - _BACK, now, limit):
        options = request_options(found.input)
        bodies += [{**row, **({"options": options} if options else {})} for row in request_rows(found.input)[:1]]
    return bodies


async def rows_of_version(
    pool: Pool, cache: PackageCache, endpoints: Sequence[str], version: VersionName, limit: int
) -> tuple[list[dict[str, Any]], str]:
    """Rows that a version can be asked, and where they are from. endpoints : that serve it, whose fields are its own.

    Raise BadRequest where there are none.
    """
    digest = (await packages.openable_version(pool, version)).digest
    lamp = await cache.lamp_of(digest)
    names = lamp.manifest.inputs.names
    if not any(field.private for field in lamp.manifest.inputs):
        for endpoint in endpoints:
            rows = [row for row in await recorded_rows(pool, endpoint, str(version), limit) if set(names) >= row.keys() - {"options"}]
            if len(rows) >= LEAST_RECORDS:
                return rows[:limit], "recorded calls"
    sample = [] if lamp.reference is None else lamp.reference.sample
    rows = [{name: row[name] for name in names} for row in sample if set(names) <= row.keys()]
    if not rows:
        raise BadRequest(
            f"{version} has no rows to ask it with: none of its calls are recorded, and its reference has none that are whole "
            "(private fields are in neither); send rows of your own: --rows FILE"
        )
    return rows[:limit], "the reference"
