"""Brings manifests and references of earlier lamp file formats to the present names.

Format 3 added modules that a fitted object is made with. Format 2 renamed two keys: the manifest's ``story`` is ``provenance``, and a
profile's ``cells`` are ``bins``. Content is not looked at: whatever is not an object stays as it is, for the reader to refuse.
"""

from __future__ import annotations

from typing import Any


def upgrade_manifest(raw: dict[str, Any], package_format: int) -> dict[str, Any]:
    """The manifest of a lamp file of ``package_format`` under the present names.

    >>> upgrade_manifest({"name": "outage-risk", "story": {"notes": "nightly"}}, 1)
    {'name': 'outage-risk', 'provenance': {'notes': 'nightly'}}
    """
    return _renamed(raw, "story", "provenance") if package_format < 2 else raw


def upgrade_reference(raw: Any, package_format: int) -> Any:
    """The reference of a lamp file of ``package_format`` under the present names."""
    if package_format >= 2 or not isinstance(raw, dict):
        return raw
    profiles = {part: raw[part] for part in ("inputs", "answers") if isinstance(raw.get(part), list)}
    return raw | {part: [_renamed(profile, "cells", "bins") for profile in listed] for part, listed in profiles.items()}


def _renamed(raw: Any, old: str, new: str) -> Any:
    if not isinstance(raw, dict) or old not in raw:
        return raw
    return {new if key == old else key: value for key, value in raw.items()}
