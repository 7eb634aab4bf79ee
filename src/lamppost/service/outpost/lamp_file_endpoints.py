"""Endpoints of a node without a database, from lamp files on its disk: each file is one endpoint, under the name of its model.

Files and folders are looked at again and again. A file that has changed is checked, opened and proven beside what answers, and takes its
place only then; a file that cannot be served leaves what answers as it is. The versions of an endpoint are counted from 1 at every start.
"""

from __future__ import annotations

import asyncio
import logging
import shutil
from collections.abc import Sequence
from dataclasses import dataclass
from pathlib import Path
from uuid import uuid4

from lamppost.core.endpoint.setup import EndpointSetup
from lamppost.core.errors import Conflict, LampPostError, PackageRefused
from lamppost.core.names import VersionName, check_name
from lamppost.package.read import Lamp, read_lamp
from lamppost.service.outpost.standalone_node import StandaloneNode
from lamppost.store.packages import OpenableVersion

log = logging.getLogger("lamppost.deployment")

_LOOK_S = 1.0


@dataclass(frozen=True, slots=True)
class LampSource:
    """A lamp file, or a folder of them. endpoint : the name for a file's endpoint; None for that of its model."""

    path: Path
    endpoint: str | None = None


@dataclass(frozen=True, slots=True)
class FileState:
    """By which a file is known to have changed: when it was written, its size, its place on the disk."""

    written_ns: int
    size_bytes: int
    inode: int

    @classmethod
    def of(cls, path: Path) -> FileState | None:
        """Of a file; None where there is none."""
        try:
            found = path.stat()
        except OSError:
            return None
        return cls(found.st_mtime_ns, found.st_size, found.st_ino)


class LampFileEndpoints:
    """Serves lamp files on a node. refused : why a file is not served, by its path."""

    def __init__(self, node: StandaloneNode, sources: Sequence[LampSource]) -> None:
        self.refused: dict[Path, str] = {}
        self._node = node
        self._sources = sources
        self._tried: dict[Path, FileState] = {}
        self._seen: dict[Path, FileState | None] = {}
        self._endpoint_of: dict[Path, str] = {}
        self._numbers: dict[str, int] = {}
        self._following: asyncio.Task[None] | None = None

    async def start(self) -> None:
        """Serve what is there now, and follow it from then on. Raise the error of a file that was named and cannot be served."""
        for source in self._sources:
            for path in await asyncio.to_thread(_files_of, source):
                try:
                    await self._take(path, source.endpoint)
                except LampPostError as error:
                    if not source.path.is_dir():
                        raise
                    self._refuse(path, error)
        self._following = asyncio.create_task(self._follow(), name="lamp files")

    async def close(self) -> None:
        """Follow the files no more."""
        if self._following is not None:
            self._following.cancel()
            await asyncio.gather(self._following, return_exceptions=True)

    async def _follow(self) -> None:
        while True:
            await asyncio.sleep(_LOOK_S)
            try:
                await self._look()
            except Exception:
                log.exception("lamp files could not be looked at on a fault of our own, trying again")

    async def _look(self) -> None:
        """Take what has changed and was whole for two looks, and take away the endpoints of files that are gone from a folder."""
        for source in self._sources:
            files = await asyncio.to_thread(_files_of, source)
            for path in files:
                state = FileState.of(path)
                whole = state is not None and self._seen.get(path) == state
                self._seen[path] = state
                if state is None or not whole or self._tried.get(path) == state:
                    continue
                try:
                    await self._take(path, source.endpoint)
                except LampPostError as error:
                    self._refuse(path, error)
            if await asyncio.to_thread(source.path.is_dir):
                for path in [path for path in self._tried if path.parent == source.path and path not in files]:
                    await self._take_away(path)

    def _refuse(self, path: Path, error: LampPostError) -> None:
        self.refused[path] = error.detail
        kept = f"; {self._endpoint_of[path]} goes on with what it serves" if path in self._endpoint_of else ""
        log.error("%s is not served: %s%s", path, error.detail, kept)

    async def _take(self, path: Path, endpoint: str | None) -> None:
        """Serve a file in place of what its endpoint serves. Raise PackageRefused, ProofFailed, Conflict or Unavailable."""
        state = FileState.of(path)
        if state is None:
            raise PackageRefused(f"{path} is not there; name lamp files, or folders that hold some")
        self._tried[path] = state
        lamp, copied = await asyncio.to_thread(self._copy, path)
        try:
            name = endpoint or lamp.manifest.name
            other = next((file for file, served in self._endpoint_of.items() if served == name and file != path), None)
            if other is not None:
                raise Conflict(f"{path} and {other} are both of {name}; take one away, or serve one file under another name: NAME={path}")
            if await self._switch(name, lamp, copied):
                log.info("%s serves %s as %s@%d", name, path, lamp.manifest.name, self._numbers[name])
        finally:
            await asyncio.to_thread(copied.unlink, missing_ok=True)
        self._endpoint_of[path] = name
        self.refused.pop(path, None)

    def _copy(self, path: Path) -> tuple[Lamp, Path]:
        """A checked copy of a file: the file itself may change while it is served."""
        copied = self._node.settings.data / f"{uuid4().hex}.lamp"
        try:
            shutil.copyfile(path, copied)
        except OSError as error:
            raise PackageRefused(f"{path} cannot be read: {error.strerror or error}") from error
        try:
            return read_lamp(copied), copied
        except PackageRefused as error:
            copied.unlink(missing_ok=True)
            raise PackageRefused(error.detail.replace(str(copied), str(path)).replace(copied.name, path.name)) from error

    async def _switch(self, endpoint: str, lamp: Lamp, copied: Path) -> bool:
        """Open and prove a checked package, then serve it; returns whether it is another one than before."""
        deployment = self._node.deployment
        route = deployment.table.by_endpoint.get(endpoint)
        if route is not None and any(lane.digest == lamp.digest for lane in route.lanes):
            return False
        number = self._numbers.get(endpoint, 0) + 1
        version = VersionName(lamp.manifest.name, number)
        signatures = tuple((signature.key, signature.signature) for signature in lamp.signatures)
        await deployment.package_cache.take_over(lamp.digest, copied)
        self._node.memory.know_versions({str(version): OpenableVersion(lamp.digest, "not yet", None, signatures)})
        await self._node.switch(endpoint, EndpointSetup(version=str(version)), "lamp file", number)
        self._numbers[endpoint] = number
        return True

    async def _take_away(self, path: Path) -> None:
        self._tried.pop(path, None)
        self._seen.pop(path, None)
        self.refused.pop(path, None)
        if (endpoint := self._endpoint_of.pop(path, None)) is not None:
            log.warning("%s is gone, and %s is not served any more", path, endpoint)
            await self._node.deployment.take_away(endpoint)


def _files_of(source: LampSource) -> list[Path]:
    """The lamp files of a source, by name."""
    if source.path.is_dir():
        return sorted(path for path in source.path.glob("*.lamp") if path.is_file() and not path.name.startswith("."))
    return [source.path]


def read_source(text: str) -> LampSource:
    """A file, a folder, or ``NAME=FILE``; raise BadRequest for a name that is none."""
    name, equals, path = text.partition("=")
    if equals and not Path(text).exists():
        return LampSource(Path(path).resolve(), check_name(name, "endpoint"))
    return LampSource(Path(text).resolve())
