"""Brings manifests and references of earlier lamp file formats to the present names.

Format 4 lists blocks of a reference by what they compare. Format 3 added modules that a fitted object is made with. Format 2 renamed two
keys: the manifest's ``story`` is ``provenance``, and a profile's ``cells`` are ``bins``. Content is not looked at: whatever is not an
object stays as it is, for the reader to refuse.
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
    if not isinstance(raw, dict):
        return raw
    profiles = {part: raw[part] for part in ("inputs", "answers") if isinstance(raw.get(part), list)}
    if package_format < 2:
        profiles = {part: [_renamed(profile, "cells", "bins") for profile in listed] for part, listed in profiles.items()}
    if package_format < 4:
        profiles = {part: [_with_blocks_by_what(profile) for profile in listed] for part, listed in profiles.items()}
    return raw | profiles


def _with_blocks_by_what(profile: Any) -> Any:
    """A profile whose bins list blocks by their length, each with figures for location, spread and shape, or for shape alone."""
    try:
        blocks = profile["bins"]["blocks"]
        names = ("location", "spread", "shape") if len(blocks[0]["phi"]) == 3 else ("shape",)
        by_what = {
            what: {
                "rows": [block["rows"] for block in blocks],
                "count": [block["count"] for block in blocks],
                "phi": [block["phi"][at] for block in blocks],
                "most": [block["most"][at] for block in blocks],
            }
            for at, what in enumerate(names)
        }
        return profile | {"bins": profile["bins"] | {"blocks": by_what}}
    except (KeyError, IndexError, TypeError):
        return _without_blocks(profile)


def _without_blocks(profile: Any) -> Any:
    if not isinstance(profile, dict) or not isinstance(profile.get("bins"), dict) or profile["bins"].get("blocks"):
        return profile
    return profile | {"bins": {key: value for key, value in profile["bins"].items() if key != "blocks"}}


def _renamed(raw: Any, old: str, new: str) -> Any:
    if not isinstance(raw, dict) or old not in raw:
        return raw
    return {new if key == old else key: value for key, value in raw.items()}
