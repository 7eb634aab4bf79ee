"""Lists stored versions with summaries of their packages. Each manifest is read once, because a digest always means the same content."""

from __future__ import annotations

import asyncio
from collections.abc import Mapping, Sequence

from cachetools import LRUCache

from lamppost.core.artifact.manifest import read_manifest
from lamppost.core.artifact.version_search import VersionSummary, matches_search, summarize_manifest
from lamppost.core.errors import NotFound
from lamppost.core.names import closest_name
from lamppost.store import packages
from lamppost.store.database import Pool
from lamppost.store.packages import ListedVersion

_REMEMBERED = 50_000
_AT_ONCE = 500


class VersionListing:
    """Lists versions for one node."""

    def __init__(self, pool: Pool) -> None:
        self._pool = pool
        self._summaries: LRUCache[str, VersionSummary] = LRUCache(_REMEMBERED)

    async def find_versions(self, model: str | None, search: str) -> list[tuple[ListedVersion, VersionSummary]]:
        """Versions of a model, or of all, that a search finds; newest first within a model. Raise NotFound for an unknown model."""
        listed = await packages.list_versions(self._pool, model)
        if model is not None and not listed:
            like = closest_name(model, {version.model for version in await packages.list_versions(self._pool)})
            raise NotFound(f"there is no model {model!r}" + (f"; did you mean {like}?" if like else ""))
        summaries = await self._all([version.digest for version in listed])
        return [
            (version, summaries[version.digest])
            for version in listed
            if matches_search(search, version.name, summaries[version.digest], version.pushed_by)
        ]

    async def _all(self, digests: Sequence[str]) -> dict[str, VersionSummary]:
        known = {digest: summary for digest in digests if (summary := self._summaries.get(digest)) is not None}
        new = [digest for digest in dict.fromkeys(digests) if digest not in known]
        for at in range(0, len(new), _AT_ONCE):
            read = await packages.read_manifests(self._pool, new[at : at + _AT_ONCE])
            known |= await asyncio.to_thread(_read, read)
        self._summaries.update((digest, known[digest]) for digest in new if digest in known)
        return known


def _read(manifests: Mapping[str, str]) -> dict[str, VersionSummary]:
    return {digest: summarize_manifest(read_manifest(manifest.encode())) for digest, manifest in manifests.items()}
