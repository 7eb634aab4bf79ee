"""The folder of one worker: scratch that it writes to, and the packages that were put there for it to read."""

from __future__ import annotations

import contextlib
import itertools
import os
import secrets
import shutil
import tempfile
from collections.abc import Iterator
from dataclasses import dataclass
from pathlib import Path

from lamppost.runtime.confinement.confine import Confines

_USERS = range(61_184, 65_520)
"""Ids that Linux distributions leave to services that take one for as long as they run."""


def _user_ids() -> Iterator[int]:
    start = secrets.randbelow(len(_USERS))
    return itertools.cycle([*_USERS[start:], *_USERS[:start]])


_users = _user_ids()


@dataclass(frozen=True, slots=True)
class WorkerRules:
    """What holds for all workers of a service.

    folder : where each worker gets its folder; on the disk of the packages, so that nothing is copied. None for the system's folder for
    temporary files. hidden : folder that workers must not read even where it lies beneath libraries. confined : False where the operator
    trusts every package. groups : control groups of all workers, from `worker_groups`.
    """

    folder: Path | None = None
    hidden: Path | None = None
    confined: bool = True
    groups: tuple[str, ...] = ()


USUAL_RULES = WorkerRules()
"""Of workers that no service starts."""


class WorkerHome:
    """Makes the folder of a worker; `delete` it when the worker has ended."""

    def __init__(self, rules: WorkerRules) -> None:
        self._rules = rules
        if rules.folder is not None:
            rules.folder.mkdir(mode=0o711, parents=True, exist_ok=True)
        self._folder = Path(tempfile.mkdtemp(prefix="lamppost-worker-", dir=rules.folder)).resolve()
        self.scratch = self._folder / "scratch"
        self.packages = self._folder / "packages"
        self._user = next(_users) if rules.confined and os.geteuid() == 0 else None
        self.scratch.mkdir(mode=0o700)
        self.packages.mkdir(mode=0o700)
        if self._user is not None:
            self._folder.chmod(0o711)
            os.chown(self.scratch, self._user, self._user)

    @property
    def confines(self) -> Confines:
        """What the worker is confined to."""
        hidden = None if self._rules.hidden is None else str(self._rules.hidden.resolve())
        rules = self._rules
        return Confines(os.getpid(), rules.confined, str(self.packages), str(self.scratch), hidden, self._user, groups=rules.groups)

    def put_package(self, folder: Path, name: str) -> Path:
        """Let the worker read an unpacked package; returns where it finds it. Files are linked, or copied from another disk."""
        return Path(shutil.copytree(folder, self.packages / name, copy_function=_link_or_copy))

    def remove_package(self, name: str) -> None:
        """Take a package away again."""
        shutil.rmtree(self.packages / name, ignore_errors=True)

    def scratch_bytes(self) -> int:
        """Bytes in the scratch folder."""
        total = 0
        for folder, _, names in os.walk(self.scratch):
            for name in names:
                with contextlib.suppress(OSError):
                    total += Path(folder, name).lstat().st_size
        return total

    def delete(self) -> None:
        """Delete the folder with all that is in it."""
        shutil.rmtree(self._folder, ignore_errors=True)


def _link_or_copy(source: str, target: str) -> str:
    try:
        os.link(source, target)
    except OSError:
        shutil.copyfile(source, target)
    return target
