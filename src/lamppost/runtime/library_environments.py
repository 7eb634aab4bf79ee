"""Installs other library versions: a folder for each distinct set of pins, laid over what is installed, in workers only.

A folder is made once, by pip and from the index that pip is set up for, kept, and shared by all packages with the same pins. Libraries that
do not differ are not installed again. Workers are separate interpreters, so two versions of a library serve side by side.
"""

from __future__ import annotations

import asyncio
import hashlib
import logging
import shutil
import sys
import tempfile
from importlib import metadata
from pathlib import Path

from lamppost.core.artifact.manifest import Manifest
from lamppost.core.errors import Unavailable

log = logging.getLogger("lamppost.environments")

_BUILD_S = 900.0
_OWN = frozenset({"lamppost"})


def differing_pins(manifest: Manifest) -> dict[str, str]:
    """Pins of a package that are not what is installed here; none for a package that is data only."""
    if manifest.serves_graphs:
        return {}
    return {name: version for name, version in manifest.provenance.libraries.items() if name not in _OWN and _installed(name) != version}


def _installed(name: str) -> str | None:
    try:
        return metadata.version(name)
    except metadata.PackageNotFoundError:
        return None


class LibraryEnvironments:
    """The folders of one node. `of` gives the one for a package, made if it is not there.

    progress : by version, the progress of making its environment.
    """

    def __init__(self, folder: Path) -> None:
        self._folder = folder
        self._making: dict[str, asyncio.Lock] = {}
        self.progress: dict[str, str] = {}

    async def folder_for(self, name: str, manifest: Manifest) -> Path | None:
        """The folder to lay over what is installed, None where nothing differs. Raise Unavailable when it cannot be made."""
        pins = sorted(f"{library}=={version}" for library, version in differing_pins(manifest).items())
        if not pins:
            return None
        python = f"{sys.version_info.major}.{sys.version_info.minor}"
        place = self._folder / hashlib.sha256("\n".join([python, *pins]).encode()).hexdigest()[:16]
        async with self._making.setdefault(place.name, asyncio.Lock()):
            if not await asyncio.to_thread(place.is_dir):
                await self._make(name, pins, place)
        return place

    async def _make(self, name: str, pins: list[str], place: Path) -> None:
        """Make the folder completely or not at all."""
        await asyncio.to_thread(self._folder.mkdir, parents=True, exist_ok=True)
        begun = Path(await asyncio.to_thread(tempfile.mkdtemp, dir=self._folder, prefix=".making-"))
        log.info("%s: making an environment with %s", name, ", ".join(pins))
        command = [sys.executable, "-m", "pip", "install", "--no-deps", "--disable-pip-version-check", "--progress-bar=off"]
        try:
            process = await asyncio.create_subprocess_exec(
                *command, "--target", str(begun), *pins, stdout=asyncio.subprocess.PIPE, stderr=asyncio.subprocess.STDOUT
            )
            assert process.stdout is not None
            last = ""
            try:
                async with asyncio.timeout(_BUILD_S):
                    async for line in process.stdout:
                        last = line.decode("utf-8", "replace").strip() or last
                        log.info("%s: %s", name, last)
                        self.progress[name] = f"its environment with {', '.join(pins)} is being made: {last[:200]}"
                    code = await process.wait()
            except TimeoutError:
                process.kill()
                raise Unavailable(f"the environment for {name} was not made within {_BUILD_S:g} s") from None
            if code:
                raise Unavailable(f"{name} was packed with {', '.join(pins)}, and pip cannot install that here: {last}")
            await asyncio.to_thread(begun.chmod, 0o755)
            await asyncio.to_thread(begun.rename, place)
        finally:
            self.progress.pop(name, None)
            await asyncio.to_thread(shutil.rmtree, begun, ignore_errors=True)
