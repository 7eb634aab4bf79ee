"""Installs other library versions: a folder for each distinct set of pins, laid over what is installed, in workers only.

A folder is made once, by pip and from the index that pip is set up for, kept, and shared by all packages with the same pins. Libraries that
do not differ are not installed again. Workers are separate interpreters, so two versions of a library serve side by side.

Names and versions come from packages, so pip runs as confined as a worker, but for its network; it installs wheels only, because building
one runs its code.
"""

from __future__ import annotations

import asyncio
import configparser
import hashlib
import logging
import os
import shutil
import sys
from dataclasses import replace
from importlib import metadata
from pathlib import Path

from lamppost.core.artifact.manifest import Manifest
from lamppost.core.errors import Unavailable
from lamppost.runtime.confinement.worker_home import WorkerHome, WorkerRules

log = logging.getLogger("lamppost.environments")

_BUILD_S = 900.0
_OWN = frozenset({"lamppost"})
_KEPT_VARIABLES = ("PATH", "LANG", "LC_ALL", "http_proxy", "https_proxy", "no_proxy", "HTTP_PROXY", "HTTPS_PROXY", "NO_PROXY")
_KEPT_PREFIXES = ("PIP_", "SSL_CERT_")
_CONFIGURATIONS = ("/etc/pip.conf", "/etc/xdg/pip/pip.conf", "~/.config/pip/pip.conf", "~/.pip/pip.conf")
_NETWORK_FILES = (
    *("/etc/resolv.conf", "/etc/hosts", "/etc/nsswitch.conf", "/etc/gai.conf", "/etc/ssl", "/etc/pki", "/usr/share/ca-certificates"),
    *(
        "/usr/local/share/ca-certificates",
        "/etc/os-release",
        "/usr/lib/os-release",
        "/etc/mime.types",
        "/etc/debian_version",
        "/etc/lsb-release",
    ),
)


def differing_pins(manifest: Manifest, graphs: bool = True) -> dict[str, str]:
    """Pins of a package that are not what is installed here. graphs : whether its graphs are what is used, where it has them for every
    step; they need no other libraries.
    """
    if graphs and manifest.serves_graphs:
        return {}
    return {name: version for name, version in manifest.provenance.libraries.items() if name not in _OWN and _installed(name) != version}


def _installed(name: str) -> str | None:
    try:
        return metadata.version(name)
    except metadata.PackageNotFoundError:
        return None


def _environment() -> dict[str, str]:
    """What pip gets of this process's environment: its own settings, proxies and certificates, and no credentials of the service."""
    return {name: value for name, value in os.environ.items() if name in _KEPT_VARIABLES or name.startswith(_KEPT_PREFIXES)}


def _readable(environment: dict[str, str]) -> tuple[str, ...]:
    """Files that pip needs for the network, its configuration, and files and folders that its configuration names."""
    configurations = [str(Path(name).expanduser()) for name in _CONFIGURATIONS] + [environment.get("PIP_CONFIG_FILE", "")]
    settings = list(environment.values())
    for name in filter(None, configurations):
        parser = configparser.RawConfigParser()
        try:
            parser.read(name)
        except (OSError, configparser.Error, UnicodeDecodeError):
            continue
        settings += [value for section in parser.sections() for _, value in parser.items(section)]
    named = [word.removeprefix("file://") for value in settings for word in value.split()]
    return (*_NETWORK_FILES, *filter(None, configurations), *(word for word in named if word.startswith("/") and word != "/"))


class LibraryEnvironments:
    """The folders of one node. `folder_for` gives the one for a package, made if it is not there.

    folder : where they are kept. rules : what pip is confined to; its folder is on the same disk.
    progress : by version, the progress of making its environment.
    """

    def __init__(self, folder: Path, rules: WorkerRules) -> None:
        self._folder = folder
        self._rules = rules
        self._making: dict[str, asyncio.Lock] = {}
        self.progress: dict[str, str] = {}

    async def folder_for(self, name: str, manifest: Manifest, graphs: bool = True) -> Path | None:
        """The folder to lay over what is installed, None where nothing differs. Raise Unavailable when it cannot be made.

        graphs : see `differing_pins`.
        """
        pins = sorted(f"{library}=={version}" for library, version in differing_pins(manifest, graphs).items())
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
        home = await asyncio.to_thread(WorkerHome, self._rules)
        try:
            log.info("%s: making an environment with %s", name, ", ".join(pins))
            last, code = await self._install(name, pins, home)
            if code:
                raise Unavailable(f"{name} was packed with {', '.join(pins)}, and pip cannot install that here: {last}")
            await asyncio.to_thread(_take_over, home.scratch / "libraries", place)
        finally:
            self.progress.pop(name, None)
            await asyncio.to_thread(home.delete)

    async def _install(self, name: str, pins: list[str], home: WorkerHome) -> tuple[str, int]:
        """Let pip install into the folder ``libraries`` of a home; its last line and its exit code."""
        environment = _environment()
        confines = replace(home.confines, installs=True, readable=_readable(environment))
        command = [sys.executable, "-m", "lamppost.runtime.confinement.run_module", confines.to_json(), "pip", "install", "--no-deps"]
        command += ["--only-binary=:all:", "--no-cache-dir", "--disable-pip-version-check", "--progress-bar=off"]
        process = await asyncio.create_subprocess_exec(
            *(*command, "--target", str(home.scratch / "libraries"), *pins),
            stdin=asyncio.subprocess.DEVNULL,
            stdout=asyncio.subprocess.PIPE,
            stderr=asyncio.subprocess.STDOUT,
            cwd=home.scratch,
            env=environment | {"HOME": str(home.scratch), "TMPDIR": str(home.scratch)},
            start_new_session=True,
        )
        assert process.stdout is not None
        last = ""
        try:
            async with asyncio.timeout(_BUILD_S):
                async for line in process.stdout:
                    last = line.decode("utf-8", "replace").strip() or last
                    log.info("%s: %s", name, last)
                    self.progress[name] = f"its environment with {', '.join(pins)} is being made: {last[:200]}"
                return last, await process.wait()
        except TimeoutError:
            raise Unavailable(f"the environment for {name} was not made within {_BUILD_S:g} s") from None
        finally:
            if process.returncode is None:
                process.kill()
                await process.wait()


def _take_over(made: Path, place: Path) -> None:
    """Move what pip made to where it is kept, as files of the service."""
    owner, group = os.getuid(), os.getgid()
    for folder, _, names in os.walk(made):
        for path in (folder, *(os.path.join(folder, name) for name in names)):  # noqa: PTH118 - thousands of names
            os.chown(path, owner, group, follow_symlinks=False)
    place.parent.mkdir(parents=True, exist_ok=True)
    shutil.move(made, place)
    place.chmod(0o755)
