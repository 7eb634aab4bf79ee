"""Lamp files that were changed by somebody who knows the format."""

from __future__ import annotations

import hashlib
import zipfile
from collections.abc import Callable, Mapping
from pathlib import Path
from typing import Any

import orjson


def changed_lamp(
    source: Path, target: Path, change: Callable[[dict[str, Any]], object], members: Mapping[str, bytes] | None = None
) -> Path:
    """Write a copy of a lamp file with a changed manifest and other members, all digests right; returns its path."""
    with zipfile.ZipFile(source) as archive:
        contents = {name: archive.read(name) for name in archive.namelist()} | dict(members or {})
    manifest = orjson.loads(contents.pop("manifest.json"))
    manifest["members"] = {name: {"sha256": hashlib.sha256(data).hexdigest(), "size_bytes": len(data)} for name, data in contents.items()}
    change(manifest)
    with zipfile.ZipFile(target, "w", zipfile.ZIP_DEFLATED) as archive:
        archive.writestr("manifest.json", orjson.dumps(manifest))
        for name, data in contents.items():
            archive.writestr(name, data)
    return target
