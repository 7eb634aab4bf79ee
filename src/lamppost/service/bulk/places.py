"""Finds the files that a bulk run reads and writes: in folders and stores that the operator named, among uploads, or in the service's own
folder.

A path never leaves its folder: links are followed first, and what lies outside is refused. A URL is taken if it begins with that of a
store that the operator named.
"""

from __future__ import annotations

import fnmatch
import os
from collections.abc import Mapping
from dataclasses import dataclass, field
from pathlib import Path
from typing import TYPE_CHECKING, Any
from uuid import UUID

from lamppost.core.bulk.order import UPLOADS, Place, format_of_path
from lamppost.core.errors import BadRequest, Conflict
from lamppost.core.names import closest_name, unknown_name

if TYPE_CHECKING:
    from pyarrow.fs import FileSystem

MOST_FILES = 10_000
_PARTITION = "="


@dataclass(frozen=True, slots=True)
class SourceFile:
    """A file to read. path : on its file system. shown : its path below the folder. size, changed_ns : as it was found.

    partition : columns that the names of its folders give, ``day=2026-11-28``.
    """

    path: str
    shown: str
    size: int
    changed_ns: int
    partition: tuple[tuple[str, str], ...] = ()


@dataclass(frozen=True, slots=True)
class OpenedPlace:
    """A folder as a file system. root : path of the folder on it. local : whether links must be followed before a path is trusted."""

    files: FileSystem
    root: str
    local: bool
    name: str

    def inside(self, path: str) -> str:
        """The path of something in the folder; raise BadRequest for what is outside."""
        parts = path.split("/")
        if path.startswith("/") or ".." in parts or "\0" in path or not path.strip():
            raise BadRequest(f"the path {path[:200]!r} leaves the folder {self.name}; write it as seen from that folder, without '..'")
        joined = f"{self.root}/{path.strip('/')}" if self.root else path.strip("/")
        if self.local:
            real = os.path.realpath(joined)
            if real != self.root and not real.startswith(self.root.rstrip("/") + "/"):
                raise BadRequest(f"the path {path[:200]!r} is a link that leaves the folder {self.name}; only what lies in it is used")
            return real
        return joined


@dataclass(frozen=True, slots=True)
class NamedPlaces:
    """What the operator named. folders : a path, or the URL of a store. sources : databases to read, targets : to write, as URLs.

    clusters : addresses of schedulers.
    """

    data: Path
    folders: Mapping[str, str] = field(default_factory=dict)
    sources: Mapping[str, str] = field(default_factory=dict)
    targets: Mapping[str, str] = field(default_factory=dict)
    clusters: Mapping[str, str] = field(default_factory=dict)

    def cluster_address(self, on: str) -> str:
        """The address of the scheduler that an order names; raise BadRequest for one that the operator did not name."""
        if on in self.clusters:
            return self.clusters[on]
        if on in self.clusters.values():
            return on
        raise BadRequest(unknown_name("cluster", on, self.clusters, "--cluster NAME=tcp://HOST:8786"))

    def open_folder(self, place: Place) -> tuple[OpenedPlace, str]:
        """The folder of a place, and the path in it; raise BadRequest for one that nobody named."""
        if place.is_url:
            return self._folder_of_url(place.path)
        if place.name == UPLOADS:
            return OpenedPlace(local_files(), str(self.upload_folder(place.path)), True, "uploads"), ""
        if place.name not in self.folders:
            known = {*self.folders, *self.sources, *self.targets}
            raise BadRequest(unknown_name("folder or source", place.name, known, f"--folder {place.name}=PATH"))
        return self._opened(place.name), place.path

    def _opened(self, name: str) -> OpenedPlace:
        where = self.folders[name]
        if "://" not in where:
            return OpenedPlace(local_files(), os.path.realpath(where), True, name)
        from pyarrow import ArrowException
        from pyarrow.fs import FileSystem

        try:
            files, root = FileSystem.from_uri(where)
        except (ArrowException, OSError, ValueError) as error:
            raise Conflict(f"the folder {name} cannot be opened: {str(error)[:200]}") from error
        return OpenedPlace(files, root.rstrip("/"), False, name)

    def _folder_of_url(self, url: str) -> tuple[OpenedPlace, str]:
        for name, where in self.folders.items():
            bare = where.partition("?")[0].rstrip("/")
            scheme, _, rest = bare.partition("://")
            open_part = f"{scheme}://{rest.rpartition('@')[2]}"
            if rest and url.startswith(open_part + "/"):
                return self._opened(name), url[len(open_part) + 1 :]
        raise BadRequest(
            f"{url.partition('?')[0][:200]} is in no store that the operator named; name one at the start: "
            "lamppost up --folder NAME=s3://BUCKET/PATH"
        )

    def upload_folder(self, text: str) -> Path:
        """The folder of an upload; raise BadRequest for what is no id of one."""
        try:
            return self.data / "uploads" / str(UUID(text))
        except ValueError as error:
            raise BadRequest(f"{text[:100]!r} is no upload") from error

    def run_folder(self, run: str) -> Path:
        """The service's own folder of a run."""
        return self.data / "bulk" / run


def local_files() -> Any:
    """The file system of this machine."""
    from pyarrow.fs import LocalFileSystem

    return LocalFileSystem()


def find_files(folder: OpenedPlace, path: str) -> list[SourceFile]:
    """The files that a path names, in order: one file, all of a folder and the folders in it, or those that fit * and ?.

    Raise BadRequest where there is none.
    """
    from pyarrow.fs import FileSelector, FileType

    wild = any(mark in path for mark in "*?[")
    fixed = path[: min(path.index(mark) for mark in "*?[" if mark in path)].rpartition("/")[0] if wild else path
    base = folder.inside(fixed) if fixed else folder.root
    info = folder.files.get_file_info(base)
    if info.type == FileType.NotFound:
        raise BadRequest(f"there is no {fixed or 'folder'} in the folder {folder.name}" + _nearby(folder, fixed))
    if info.type == FileType.File:
        return [SourceFile(base, path, int(info.size), int(info.mtime_ns or 0))]
    found: list[SourceFile] = []
    for info in folder.files.get_file_info(FileSelector(base, recursive=True)):
        below = info.path[len(base) :].lstrip("/")
        shown = f"{fixed}/{below}" if fixed else below
        hidden = any(part.startswith((".", "_")) for part in below.split("/"))
        fits = fnmatch.fnmatchcase(shown, path) if wild else format_of_path(below)[0] is not None
        if info.type != FileType.File or hidden or not fits:
            continue
        if folder.local:
            folder.inside(shown)
        partition = tuple(
            (name, value) for part in below.split("/")[:-1] for name, mark, value in [part.partition(_PARTITION)] if mark and name
        )
        found.append(SourceFile(info.path, shown, int(info.size), int(info.mtime_ns or 0), partition))
        if len(found) > MOST_FILES:
            raise BadRequest(f"{path} has more than {MOST_FILES:,} files; name fewer")
    if not found:
        raise BadRequest(f"there is no file to read at {path or '.'} in the folder {folder.name}")
    return sorted(found, key=lambda file: file.shown)


def _nearby(folder: OpenedPlace, path: str) -> str:
    from pyarrow.fs import FileSelector

    parent, _, name = path.rpartition("/")
    try:
        listed = folder.files.get_file_info(FileSelector(folder.inside(parent) if parent else folder.root))
    except (OSError, BadRequest):
        return ""
    like = closest_name(name, [info.base_name for info in listed[:1_000] if not info.base_name.startswith(".")])
    return f"; did you mean {parent + '/' if parent else ''}{like}?" if like else ""
