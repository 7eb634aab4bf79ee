"""Finds versions by words in their names, tags, fields, metrics, notes and people."""

from __future__ import annotations

from collections.abc import Mapping
from dataclasses import dataclass

from lamppost.core.artifact.manifest import Manifest


@dataclass(frozen=True, slots=True)
class VersionSummary:
    """The tags and metrics that lists show of a package, and its search words in lower case."""

    tags: Mapping[str, str]
    metrics: Mapping[str, float]
    words: tuple[str, ...]


def summarize_manifest(manifest: Manifest) -> VersionSummary:
    """The summary of a manifest. Its words are the name, tags (``season:winter``), fields, metrics, notes, and who packed it."""
    provenance = manifest.provenance
    words = [manifest.name, provenance.by or "", provenance.notes, *provenance.metrics]
    words += [field.name for field in (*manifest.inputs, *(manifest.options or ()), *manifest.answers)]
    words += [f"{key}:{value}" for key, value in provenance.tags.items()]
    return VersionSummary(provenance.tags, provenance.metrics, tuple(word.lower() for word in words if word))


def matches_search(search: str, name: str, summary: VersionSummary, pushed_by: str) -> bool:
    """Whether every word of a search is in the version's name, in its summary, or in the name of who pushed it. Case does not count; a
    search without words matches every version.
    """
    there = (name.lower(), pushed_by.lower(), *summary.words)
    return all(any(word in text for text in there) for word in search.lower().split())
