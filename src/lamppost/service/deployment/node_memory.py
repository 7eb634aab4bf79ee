"""Keeps what a node needs to serve without the database in one file: the endpoints with their latest revisions, where the packages of their
versions are, and who may ask.

The file is written anew, whole, when something of it has changed. It holds no secret: of tokens only their hashes.
"""

from __future__ import annotations

import asyncio
import logging
import os
import time
from collections.abc import Callable, Iterable, Mapping, Sequence
from dataclasses import asdict, dataclass
from datetime import datetime
from pathlib import Path
from typing import Any

import orjson

from lamppost.core.endpoint.setup import read_setup, write_setup
from lamppost.core.errors import LampPostError, Unavailable
from lamppost.core.names import VersionName
from lamppost.core.roles import Principal, principal_from_dict, principal_to_dict
from lamppost.service.packages.package_cache import PackageCache
from lamppost.store import endpoints, packages
from lamppost.store.database import AWAY, Pool
from lamppost.store.endpoints import EndpointRevision
from lamppost.store.packages import OpenableVersion

log = logging.getLogger("lamppost.node")

FILE = "node-memory.json"
_FORMAT = 1
_QUICK_S = 0.25
_REST_TIMES = 20
_KEPT_REVISIONS = 20
"""Latest revisions of an endpoint that are kept, for going back."""

Histories = Mapping[str, Sequence[EndpointRevision]]
"""The latest revisions of each endpoint, the newest first."""


@dataclass(frozen=True, slots=True)
class RememberedState:
    """What was read from the file. principals : by the hash of their token."""

    histories: dict[str, list[EndpointRevision]]
    principals: dict[bytes, Principal]
    versions: dict[str, OpenableVersion]


class NodeMemory:
    """The memory of one node, in its data folder."""

    def __init__(self, pool: Pool, folder: Path, package_cache: PackageCache) -> None:
        self._pool = pool
        self._file = folder / FILE
        self._package_cache = package_cache
        self._versions: dict[str, OpenableVersion] = {}
        self._newest: dict[str, int] = {}
        self._principals: Mapping[bytes, Principal] = {}
        self._failed = False
        self._write_after = 0.0
        self._fetched: set[str] = set()
        self._fetching: asyncio.Task[None] | None = None

    def read(self) -> RememberedState | None:
        """What the node knew when it last wrote; None if it never did, or if the file cannot be read."""
        try:
            state = _read_state(orjson.loads(self._file.read_bytes()))
        except FileNotFoundError:
            return None
        except (OSError, ValueError, KeyError, TypeError, LampPostError) as error:
            log.error("%s cannot be read, and is written anew once the database answers: %s", self._file, error)
            return None
        self._versions = dict(state.versions)
        return state

    def know_versions(self, versions: Mapping[str, OpenableVersion]) -> None:
        """Know where the packages of these versions are, by the names of the versions."""
        self._versions |= versions

    async def find_version(self, name: VersionName) -> OpenableVersion:
        """Where the package of a version is: of the database, or of this memory while that is away. Raise NotFound or Unavailable."""
        try:
            version = await packages.openable_version(self._pool, name)
        except AWAY:
            remembered = self._versions.get(str(name))
            if remembered is None:
                raise Unavailable(f"the database is away, and this node has not known {name} before; try again later") from None
            return remembered
        self._versions[str(name)] = version
        return version

    async def remember(self, histories: Histories, principals: Mapping[bytes, Principal]) -> None:
        """Write the state if it has changed, and fetch the packages that would be needed without the database."""
        newest = {name: history[0].revision for name, history in histories.items() if history}
        if (newest != self._newest or principals != self._principals) and time.monotonic() >= self._write_after:
            begun = time.monotonic()
            kept = {name: tuple(history[:_KEPT_REVISIONS]) for name, history in histories.items() if history}
            needed = await asyncio.to_thread(_needed_versions, kept)
            new = [name for name in needed if str(name) not in self._versions]
            known = self._versions | (await packages.openable_versions(self._pool, new) if new else {})
            self._versions = {str(name): known[str(name)] for name in needed if str(name) in known}
            try:
                await asyncio.to_thread(self._write, kept, principals)
            except OSError as error:  # a full disk must not keep the node from following changes
                if not self._failed:
                    log.error("%s cannot be written, so a start without the database would serve what was before: %s", self._file, error)
                self._failed = True
            else:
                self._newest, self._principals, self._failed = newest, principals, False
            # the state of a hundred thousand endpoints takes seconds to write; the last of many changes is written with a later look
            if (took_s := time.monotonic() - begun) > _QUICK_S:
                self._write_after = time.monotonic() + _REST_TIMES * took_s
        if self._fetching is None or self._fetching.done():
            self._fetching = asyncio.create_task(self._fetch_packages(), name="packages for times without the database")

    def _write(self, histories: Histories, principals: Mapping[bytes, Principal]) -> None:
        content = orjson.dumps(_write_state(histories, principals, self._versions), option=orjson.OPT_SORT_KEYS)
        part = self._file.with_suffix(".part")
        descriptor = os.open(part, os.O_WRONLY | os.O_CREAT | os.O_TRUNC, 0o600)
        with os.fdopen(descriptor, "wb") as file:
            file.write(content)
            file.flush()
            os.fsync(file.fileno())
        part.replace(self._file)

    async def _fetch_packages(self) -> None:
        self._fetched &= {version.digest for version in self._versions.values()}
        for name, version in list(self._versions.items()):
            if version.digest in self._fetched:
                continue
            try:
                await self._package_cache.fetch_file(version.digest)
                self._fetched.add(version.digest)
            except AWAY:
                return
            except LampPostError as error:
                log.warning("the package of %s cannot be kept for times without the database: %s", name, error.detail)

    async def close(self) -> None:
        """Stop fetching."""
        if self._fetching is not None:
            self._fetching.cancel()
            await asyncio.gather(self._fetching, return_exceptions=True)


def _needed_versions(histories: Histories) -> set[VersionName]:
    """The versions that are served or shadowed, and those that a rollback would serve."""
    needed: set[VersionName] = set()
    for history in histories.values():
        back = endpoints.find_rollback_target(history)
        for revision in (*history[:1], *([back] if back is not None else [])):
            needed |= {*revision.setup.versions, *revision.setup.shadow_versions}
    return needed


def _write_state(histories: Histories, principals: Mapping[bytes, Principal], versions: Mapping[str, OpenableVersion]) -> dict[str, Any]:
    return {
        "format": _FORMAT,
        "endpoints": {name: [_write_revision(revision) for revision in history] for name, history in histories.items()},
        "tokens": {hashed.hex(): principal_to_dict(principal) for hashed, principal in principals.items()},
        "versions": {name: asdict(version) for name, version in versions.items()},
    }


def _write_revision(revision: EndpointRevision) -> dict[str, Any]:
    return {
        "revision": revision.revision,
        "setup": write_setup(revision.setup),
        "since": revision.since,
        "changed_by": revision.changed_by,
        "restores": revision.restores,
        "rollout": revision.rollout,
        "counted": revision.counted,
    }


def _read_state(data: Any) -> RememberedState:
    if data["format"] != _FORMAT:
        raise ValueError(f"format {data['format']}")
    read_time: Callable[[str], datetime] = datetime.fromisoformat
    histories = {
        name: [
            EndpointRevision(name, **(past | {"setup": read_setup(past["setup"]), "since": read_time(past["since"])})) for past in history
        ]
        for name, history in data["endpoints"].items()
    }
    principals = {bytes.fromhex(hashed): principal_from_dict(token) for hashed, token in data["tokens"].items()}
    versions = {
        name: OpenableVersion(**(version | {"signatures": _pairs(version["signatures"])})) for name, version in data["versions"].items()
    }
    return RememberedState(histories, principals, versions)


def _pairs(given: Iterable[Any]) -> tuple[tuple[str, str], ...]:
    return tuple((str(key), str(signature)) for key, signature in given)
