"""Keeps lamp files on this node's disk: fetches each from the database once, and checks it whenever it is read."""

from __future__ import annotations

import asyncio
import re
import shutil
from collections.abc import Callable
from pathlib import Path
from typing import TypeVar
from uuid import uuid4

from cachetools import LRUCache

from lamppost.core.artifact.manifest import Manifest
from lamppost.core.artifact.proof import Proof
from lamppost.core.errors import PackageRefused
from lamppost.package.read import Lamp, read_lamp, read_unpacked, unpack_lamp
from lamppost.store import packages
from lamppost.store.database import Pool

T = TypeVar("T")

_REMEMBERED = 32


_DIGEST = re.compile("[0-9a-f]{64}")


def _files_of_packages(folder: Path) -> list[Path]:
    return [path for path in folder.glob("*") if _DIGEST.fullmatch(path.name.removesuffix(".lamp"))]


class PackageCache:
    """The folder of one node."""

    def __init__(self, pool: Pool, folder: Path) -> None:
        self._pool = pool
        self._folder = folder
        self._lamps: LRUCache[str, Lamp] = LRUCache(_REMEMBERED)

    async def take_over(self, digest: str, checked: Path) -> None:
        """Add a lamp file that was just checked and stored, so that it need not be fetched again."""
        await asyncio.to_thread(checked.replace, await self._place(digest))

    async def lamp_of(self, digest: str) -> Lamp:
        """The content of a stored package. The last few are cached, because a digest always stands for the same content."""
        lamp = self._lamps.get(digest)
        if lamp is None:
            lamp = self._lamps[digest] = await self._on_disk(digest, read_lamp)
        return lamp

    async def file_of(self, digest: str) -> Path:
        """The lamp file of a stored package on this node's disk, checked."""
        await self._on_disk(digest, read_lamp)
        return self._folder / f"{digest}.lamp"

    async def fetch_file(self, digest: str) -> None:
        """Put a stored package on this node's disk, if it is not there."""
        file = await self._place(digest)
        if not await asyncio.to_thread(file.exists):
            fetched = file.with_name(f".{digest}.{uuid4().hex}")
            await packages.fetch_package(self._pool, digest, fetched)
            await asyncio.to_thread(fetched.replace, file)

    async def delete_unknown(self) -> None:
        """Delete the files of packages that the database does not hold any more."""
        digests = {path.name.removesuffix(".lamp") for path in await asyncio.to_thread(_files_of_packages, self._folder)}
        for digest in digests - await packages.known_digests(self._pool, digests):
            self._lamps.pop(digest, None)
            await asyncio.to_thread((self._folder / f"{digest}.lamp").unlink, missing_ok=True)
            await asyncio.to_thread(shutil.rmtree, self._folder / digest, ignore_errors=True)

    async def unpacked_package(self, digest: str) -> tuple[Manifest, Proof, Path]:
        """A stored package unpacked on disk: its manifest, its proof, and its folder."""
        folder = self._folder / digest
        try:
            manifest, proof = await asyncio.to_thread(read_unpacked, folder, digest)
        except (PackageRefused, FileNotFoundError) as error:
            if isinstance(error, PackageRefused):
                await asyncio.to_thread(shutil.rmtree, folder, ignore_errors=True)
            await self._on_disk(digest, lambda file: unpack_lamp(file, digest, self._folder))
            manifest, proof = await asyncio.to_thread(read_unpacked, folder, digest)
        return manifest, proof, folder

    async def _on_disk(self, digest: str, read: Callable[[Path], T]) -> T:
        """Read a stored package, fetching it from the database if it is not on disk."""
        await self.fetch_file(digest)
        file = await self._place(digest)
        try:
            return await asyncio.to_thread(read, file)
        except PackageRefused:  # the copy on disk is damaged; the next try fetches it again
            await asyncio.to_thread(file.unlink, missing_ok=True)
            await asyncio.to_thread(shutil.rmtree, file.with_suffix(""), ignore_errors=True)
            raise

    async def _place(self, digest: str) -> Path:
        await asyncio.to_thread(self._folder.mkdir, parents=True, exist_ok=True)
        return self._folder / f"{digest}.lamp"
