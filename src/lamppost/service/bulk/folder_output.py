"""Writes the output of a run as files of a folder, which appears under its name when all of them are whole."""

from __future__ import annotations

import os
import shutil
from collections.abc import Iterator
from pathlib import Path
from typing import TYPE_CHECKING

from lamppost.core.bulk.order import Compression, Format
from lamppost.core.errors import BadRequest, Conflict
from lamppost.service.bulk.output import naming_full_disks, write_tables
from lamppost.service.bulk.places import OpenedPlace

if TYPE_CHECKING:
    import pyarrow as pa

FILE_ROWS = 1_000_000
_SUFFIXES = {"gzip": ".gz", "zstd": ".zst"}


class FolderTarget:
    """A folder that the output goes to, in files of a million rows. path : in the folder that the operator named, with a / at its end.

    Only on a disk: a folder of a store would appear file by file.
    """

    def __init__(self, folder: OpenedPlace, path: str, run: str, replace: bool) -> None:
        if not folder.local:
            raise BadRequest(f"{path} is a folder of the store {folder.name}, where files would appear one by one; name a file")
        self._run = run
        self._replace = replace
        self._where = folder.name
        self.shown = path
        self._path = Path(folder.inside(path.rstrip("/")))

    @property
    def _unfinished(self) -> Path:
        return self._path.with_name(f".{self._path.name}.{self._run}.part")

    def check(self) -> None:
        """Raise Conflict or BadRequest unless the folder may be made there."""
        if self._path.name.startswith("."):
            raise BadRequest(f"{self.shown} begins with a point; give the output another name")
        if not self._path.parent.is_dir():
            raise BadRequest(f"there is no folder above {self.shown} in {self._where}; make it first")
        if self._path.is_file():
            raise Conflict(f"{self.shown} is a file in {self._where}; name a folder")
        if self._path.is_dir() and any(self._path.iterdir()) and not self._replace:
            raise Conflict(f"{self.shown} exists in {self._where} and is not empty; choose another name, or replace it (--replace)")
        if not os.access(self._path.parent, os.W_OK | os.X_OK):
            raise Conflict(f"the service may not write beside {self.shown} of {self._where}")

    def write_table(self, kind: Format, compression: Compression | None, types: pa.Schema, tables: Iterator[pa.Table]) -> int:
        """Write tables as files of the unfinished folder; returns their size together."""
        import pyarrow as pa

        outer = compression if kind != "parquet" else None
        size = 0
        with naming_full_disks(f"{self.shown} of {self._where}"):
            try:
                shutil.rmtree(self._unfinished, ignore_errors=True)
                self._unfinished.mkdir()
                for number, part in enumerate(_in_files(tables)):
                    file = self._unfinished / f"part-{number:05}.{kind}{_SUFFIXES.get(outer or '', '')}"
                    with pa.output_stream(str(file), compression=outer) as sink:
                        write_tables(kind, outer is not None, types, part, sink)
                    with file.open("rb") as written:
                        os.fsync(written.fileno())
                    size += file.stat().st_size
            except BaseException:
                shutil.rmtree(self._unfinished, ignore_errors=True)
                raise
        return size

    def publish(self, size: int) -> None:
        """Give the folder its final name; nothing if that was done. size : of all its files, by which it is known again."""
        if not self._unfinished.is_dir():
            if self._path.is_dir() and sum(file.stat().st_size for file in self._path.iterdir()) == size:
                return
            raise Conflict(f"the finished output of {self._run} is gone from {self._where}; resume the run")
        if self._path.is_dir():
            if any(self._path.iterdir()) and not self._replace:
                raise Conflict(f"{self.shown} was made in {self._where} while the run went on; move it away, then resume the run")
            former = self._path.with_name(f".{self._path.name}.{self._run}.former")
            shutil.rmtree(former, ignore_errors=True)
            self._path.rename(former)
            self._unfinished.rename(self._path)
            shutil.rmtree(former, ignore_errors=True)
        else:
            self._unfinished.rename(self._path)


def _in_files(tables: Iterator[pa.Table]) -> Iterator[Iterator[pa.Table]]:
    """The tables of each file in turn; those of one are read before the next."""
    held = next(tables, None)
    while held is not None:
        first = held

        def part(first: pa.Table = first) -> Iterator[pa.Table]:
            nonlocal held
            rows = first.num_rows
            yield first
            held = None
            for table in tables:
                if rows >= FILE_ROWS:
                    held = table
                    return
                rows += table.num_rows
                yield table

        yield part()
