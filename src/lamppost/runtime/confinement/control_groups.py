"""Bounds all workers of a service together by control groups of the kernel: their memory, and how many processes and threads they are.

A service gets groups of its own where they are delegated to it (cgroups(7); for version 2 see "Delegation" in the kernel's
Documentation/admin-guide/cgroup-v2.rst): by systemd (``Delegate=memory pids``), by a container whose groups can be written to, or, in
version 1, because it is root. Elsewhere the other bounds of workers hold alone.

Processes that workers are forked from join by themselves, before they have threads: to move another process waits for the kernel for
up to 30 ms. What is forked then needs nothing more. In version 2 a group with bounded groups below it holds no processes, so the
service moves into a group ``lamppost-service`` below its own; workers lie in ``lamppost-workers-PID`` beside that.
"""

from __future__ import annotations

import contextlib
import os
import signal
from collections.abc import Iterable, Iterator
from pathlib import Path

MOUNTED = Path("/sys/fs/cgroup")
_SERVICE = "lamppost-service"
_WORKERS = "lamppost-workers-"
_CONTROLLERS = ("memory", "pids")
_MEMORY_FILES = ("memory.max", "memory.limit_in_bytes")
"""In version 2 and in version 1."""
_PROCESSES = 8_192
"""Of all workers together, threads included."""


def join_groups(folders: Iterable[str]) -> bool:
    """Put this process into groups; returns whether it could be."""
    try:
        for folder in folders:
            Path(folder, "cgroup.procs").write_text("0")
    except OSError:
        return False
    return True


@contextlib.contextmanager
def worker_groups(memory_bytes: int, mounted: Path = MOUNTED, own_groups: str | None = None) -> Iterator[tuple[str, ...]]:
    """Groups for the workers of this process: folders to join, none where nothing is delegated. What is in them at the end is ended.

    memory_bytes : of all workers together; the kernel ends one of them when they need more. own_groups : as in ``/proc/self/cgroup``.
    Groups of services that were killed are removed.
    """
    folders: set[Path] = set()
    try:
        lines = (Path("/proc/self/cgroup").read_text() if own_groups is None else own_groups).splitlines()
        for base in _delegated(mounted, [line.split(":", 2) for line in lines]):
            _end_left(base)
            folder = base / f"{_WORKERS}{os.getpid()}"
            folder.mkdir(exist_ok=True)
            folders.add(folder)
            _bound(folder, memory_bytes)
    except (OSError, ValueError):
        for folder in folders:
            _end(folder)
        folders = set()
    try:
        yield tuple(sorted(map(str, folders)))
    finally:
        for folder in folders:
            _end(folder)


def _delegated(mounted: Path, groups: list[list[str]]) -> set[Path]:
    """The groups below which groups may be made. Raise OSError or ValueError where there is none.

    groups : number, controllers and path of each group that this process is in.
    """
    own = {controller: path.lstrip("/") for _, controllers, path in groups for controller in controllers.split(",")}
    if "memory" in own or "pids" in own:  # version 1
        bases = {mounted / controller / own[controller] for controller in _CONTROLLERS if controller in own}
        return {base for base in bases if os.access(base / "cgroup.procs", os.W_OK)}
    if (path := own.get("")) is None:
        raise ValueError("this process is in no control group")
    base = mounted / path
    if base.name == _SERVICE:  # of the service that has started this process
        return {base.parent}
    if not _is_delegated(base, path):
        raise ValueError(f"{base} is not delegated")
    _leave(base)
    return {base}


def _is_delegated(base: Path, path: str) -> bool:
    """Whether a group of version 2 was left to this process: to its user, by systemd's mark, or as the root of a container."""
    if os.geteuid() != 0:
        return base.stat().st_uid == os.geteuid() and os.access(base / "cgroup.procs", os.W_OK)
    if not path:
        return (base / "cgroup.type").exists()  # the machine's own root has none
    for mark in ("trusted.delegate", "user.delegate"):
        with contextlib.suppress(OSError):
            if os.getxattr(base, mark) == b"1":
                return True
    return False


def _leave(base: Path) -> None:
    """Move the processes of a group into one below it, and let groups below have bounds. Raise OSError, with all as it was."""
    present = (base / "cgroup.controllers").read_text().split()
    service = base / _SERVICE
    service.mkdir(exist_ok=True)
    moved: list[str] = []
    try:
        for pid in (base / "cgroup.procs").read_text().split():
            (service / "cgroup.procs").write_text(pid)
            moved.append(pid)
        (base / "cgroup.subtree_control").write_text(" ".join(f"+{controller}" for controller in _CONTROLLERS if controller in present))
    except OSError:
        for pid in moved:
            with contextlib.suppress(OSError):
                (base / "cgroup.procs").write_text(pid)
        with contextlib.suppress(OSError):
            service.rmdir()
        raise


def _bound(folder: Path, memory_bytes: int) -> None:
    """Write the bounds that a group takes; one without any is of no use. Raise OSError."""
    bounds = dict.fromkeys(_MEMORY_FILES, memory_bytes) | {"pids.max": _PROCESSES}
    taken = [name for name in bounds if (folder / name).exists()]
    if not taken:
        raise OSError(f"{folder} bounds neither memory nor processes")
    for name in taken:
        (folder / name).write_text(str(bounds[name]))


def _end_left(base: Path) -> None:
    """End the workers of services that have ended, and remove their groups."""
    for folder in base.glob(f"{_WORKERS}*"):
        if not Path("/proc", folder.name.removeprefix(_WORKERS)).exists():
            _end(folder)


def _end(folder: Path) -> None:
    """End all that is in a group, wherever it went, and remove the group; where a process is still ending, the next service does so."""
    with contextlib.suppress(OSError):
        for pid in (folder / "cgroup.procs").read_text().split():
            os.kill(int(pid), signal.SIGKILL)
    with contextlib.suppress(OSError):
        folder.rmdir()
