"""Fetches packages from the hub in chunks: only those that are not on this disk, each checked, and a transfer that broke off goes on."""

from __future__ import annotations

import asyncio
import hashlib
import logging
import shutil
from pathlib import Path

from lamppost.core.artifact.chunks import chunk_bounds
from lamppost.core.errors import HubAway, LampPostError, PackageRefused
from lamppost.package.read import member_starts, read_lamp
from lamppost.service.outpost.hub_link import HubLink
from lamppost.service.outpost.sealed_packages import SealedPackages
from lamppost.service.packages.package_cache import PackageCache

log = logging.getLogger("lamppost.outpost")

_PARTS = "arriving"


class PackageFetching:
    """For one outpost. folder : of its packages; of memory where they are sealed, and then ``sealed`` keeps them on the disk.
    fetched_bytes : that came from the hub since the start.
    """

    def __init__(self, link: HubLink, package_cache: PackageCache, folder: Path, sealed: SealedPackages | None = None) -> None:
        self.fetched_bytes = 0
        self._link = link
        self._package_cache = package_cache
        self._folder = folder
        self._sealed = sealed

    async def fetch(self, digest: str) -> None:
        """Put a package on this disk, unless it is there. Raise HubAway, PackageRefused, or OSError for a disk that is full."""
        if await asyncio.to_thread((self._folder / f"{digest}.lamp").exists) or await self._unseal(digest):
            return
        parts = self._folder / _PARTS / digest
        await asyncio.to_thread(parts.mkdir, parents=True, exist_ok=True)
        chunks = await self._link.list_chunks(digest)
        wanted = {sha256 for sha256, _ in chunks} - {path.name for path in await asyncio.to_thread(lambda: list(parts.iterdir()))}
        if wanted:
            wanted -= await asyncio.to_thread(_take_from_packages, self._folder, wanted, parts)
        for sha256, size in chunks:
            if sha256 in wanted:
                data = await self._link.fetch_chunk(digest, sha256)
                if len(data) != size or hashlib.sha256(data).hexdigest() != sha256:
                    raise HubAway(f"a chunk of the package {digest[:12]}… came damaged; it is fetched again")
                await asyncio.to_thread(_keep, parts / sha256, data)
                self.fetched_bytes += size
                wanted.discard(sha256)
        whole = self._folder / _PARTS / f"{digest}.lamp"
        await asyncio.to_thread(_join, [parts / sha256 for sha256, _ in chunks], whole)
        try:
            lamp = await asyncio.to_thread(read_lamp, whole)
            if lamp.digest != digest:
                raise PackageRefused(f"the hub sent the package {lamp.digest[:12]}… in place of {digest[:12]}…")
        except LampPostError:
            await asyncio.to_thread(shutil.rmtree, parts, ignore_errors=True)
            await asyncio.to_thread(whole.unlink, missing_ok=True)
            raise
        if self._sealed is not None:
            await asyncio.to_thread(self._sealed.seal, digest, whole)
        await self._package_cache.take_over(digest, whole)
        await asyncio.to_thread(shutil.rmtree, parts, ignore_errors=True)

    async def _unseal(self, digest: str) -> bool:
        """Put a package that is kept sealed where it can be opened; whether there is one. One that was changed is fetched again."""
        if self._sealed is None:
            return False
        await asyncio.to_thread(self._folder.mkdir, parents=True, exist_ok=True)
        try:
            return await asyncio.to_thread(self._sealed.open, digest, self._folder / f"{digest}.lamp")
        except PackageRefused as error:
            log.error("%s", error.detail)
            return False

    async def forget_others(self, digests: set[str]) -> None:
        """Delete the packages that are served no more, and parts of those that are wanted no more."""
        if self._sealed is not None:
            await asyncio.to_thread(self._sealed.forget_others, digests)
        await asyncio.to_thread(_forget_others, self._folder, digests)


def _keep(path: Path, data: bytes) -> None:
    part = path.with_suffix(".part")
    part.write_bytes(data)
    part.replace(path)


def _join(parts: list[Path], whole: Path) -> None:
    with whole.open("wb") as file:
        for part in parts:
            file.write(part.read_bytes())


def _take_from_packages(folder: Path, wanted: set[str], parts: Path) -> set[str]:
    """Copy the wanted chunks that packages on this disk hold: versions of one model share most of theirs. Returns those found."""
    found: set[str] = set()
    for path in folder.glob("*.lamp"):
        try:
            bounds = chunk_bounds(path.stat().st_size, member_starts(path))
        except (LampPostError, OSError):
            continue
        with path.open("rb") as file:
            for start, end in bounds:
                file.seek(start)
                data = file.read(end - start)
                sha256 = hashlib.sha256(data).hexdigest()
                if sha256 in wanted - found:
                    _keep(parts / sha256, data)
                    found.add(sha256)
    return found


def _forget_others(folder: Path, digests: set[str]) -> None:
    for path in folder.glob("*.lamp"):
        if path.stem not in digests:
            path.unlink(missing_ok=True)
            shutil.rmtree(folder / path.stem, ignore_errors=True)
    for path in (folder / _PARTS).glob("*"):
        if path.is_dir() and path.name not in digests:
            shutil.rmtree(path, ignore_errors=True)
