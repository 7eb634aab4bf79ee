"""Puts a worker process into its confines, before it imports a library or opens a package.

In this order: no new privileges; files (Landlock); a user of its own and no capabilities, where the service runs as root; the end of the
service ends the worker; system calls (seccomp); no other process may look inside. What the kernel does not have is left out and reported.
"""

from __future__ import annotations

import contextlib
import ctypes
import json
import os
import resource
import signal
import struct
import sys
from dataclasses import asdict, dataclass

from lamppost.runtime.confinement.call_filter import filter_system_calls
from lamppost.runtime.confinement.landlock import READ, READ_AND_WRITE, FileRules, landlock_abi
from lamppost.runtime.confinement.system_calls import (
    PR_SET_KEEPCAPS,
    PR_SET_NO_NEW_PRIVS,
    PR_SET_PDEATHSIG,
    keep_memory_private,
    machine_numbers,
    set_process_attribute,
    system_call,
)

_SYSTEM_FILES = (
    *("/lib", "/lib32", "/lib64", "/usr/lib", "/usr/lib32", "/usr/lib64", "/usr/local/lib", "/usr/share/zoneinfo", "/etc/ld.so.cache"),
    *("/etc/localtime", "/dev/null", "/dev/zero", "/dev/random", "/dev/urandom", "/proc/cpuinfo", "/proc/meminfo", "/proc/stat"),
    *("/proc/sys/vm/overcommit_memory", "/proc/self", "/sys/devices", "/sys/bus/pci", "/sys/fs/cgroup"),
)
"""Read by the loader and by numerics when they look at the machine."""
_WRITABLE_DEVICES = ("/dev/null",)
_CAP_DAC_READ_SEARCH = 2
_CAPABILITY_VERSION = 0x20080522
_OPEN_FILES = 1_024
_FILE_BYTES = 2**30
_THREADS = 256
"""Of a worker with a user of its own; for others the kernel counts what its user runs elsewhere, too."""


@dataclass(frozen=True, slots=True)
class Confines:
    """What a worker is confined to.

    parent : id of the service's process. confined : False where the operator wants no confines; the rest is of no use then.
    packages : folder that packages are put into for it, read-only. scratch : folder for its own files.
    hidden : folder that it must not read even if it lies beneath a folder of libraries: the data of the service.
    user : id of the user and group that it becomes, None where the service is not root.
    installs : whether it connects to others and sets modes of files, as pip does. readable : more files and folders that it may read.
    groups : control groups to join, where the process that it is forked from is not in them.
    """

    parent: int
    confined: bool
    packages: str
    scratch: str
    hidden: str | None
    user: int | None
    installs: bool = False
    readable: tuple[str, ...] = ()
    groups: tuple[str, ...] = ()

    @staticmethod
    def from_json(text: str) -> Confines:
        """Read what `to_json` wrote."""
        return Confines(**json.loads(text))

    def to_json(self) -> str:
        """As a JSON object, for the command line of the process that is to be confined."""
        return json.dumps(asdict(self))


def confine(confines: Confines) -> bool:
    """Confine this process for good; returns whether the service that started it is still there."""
    if not confines.confined:
        limit_resources()
        return _end_with_parent(confines.parent)
    set_process_attribute(PR_SET_NO_NEW_PRIVS, 1)
    abi = landlock_abi()
    if abi:
        rules = FileRules(abi, confines.installs)
        rules.allow([*readable_paths(confines.hidden), confines.packages, *confines.readable], READ)
        rules.allow([confines.scratch, *_WRITABLE_DEVICES], READ_AND_WRITE)
        rules.put_in_force()
    user = confines.user if abi else None
    _drop_privileges(user)
    limit_resources()
    if user is not None:
        resource.setrlimit(resource.RLIMIT_NPROC, (_THREADS, _THREADS))
    keep_memory_private()
    alive = _end_with_parent(confines.parent)  # after the change of the user, which takes it back
    filter_system_calls(os.getpid(), confines.installs)
    return alive


def _end_with_parent(parent: int) -> bool:
    """Have the kernel end this process with the thread that started it; returns whether that was still there."""
    set_process_attribute(PR_SET_PDEATHSIG, signal.SIGKILL)
    return os.getppid() == parent


def limit_resources() -> None:
    """Bound the files of this process: how many are open, how large one becomes, and no core dumps."""
    for kind, most in ((resource.RLIMIT_CORE, 0), (resource.RLIMIT_NOFILE, _OPEN_FILES), (resource.RLIMIT_FSIZE, _FILE_BYTES)):
        hard = resource.getrlimit(kind)[1]
        bound = most if hard == resource.RLIM_INFINITY else min(most, hard)
        resource.setrlimit(kind, (bound, bound))


def readable_paths(hidden: str | None) -> list[str]:
    """The interpreter, its libraries and what they read of the machine; never a folder that the hidden one lies in.

    hidden : without links. Paths are texts, because every worker makes them at its start, and objects take a millisecond.
    """
    names = {sys.prefix, sys.exec_prefix, sys.base_prefix, sys.base_exec_prefix, *sys.path, os.path.dirname(sys.executable)}  # noqa: PTH120
    paths = {os.path.realpath(name) for name in names if name and name != os.sep}
    paths.add(os.path.dirname(os.path.realpath(sys.executable)))  # noqa: PTH120
    if hidden is not None:
        for path in [path for path in paths if _holds(path, hidden)]:
            paths.discard(path)
            paths |= _without(path, hidden)
    return [*paths, *_SYSTEM_FILES]


def _holds(folder: str, path: str) -> bool:
    return path == folder or path.startswith(folder.rstrip(os.sep) + os.sep)


def _without(folder: str, hidden: str) -> set[str]:
    """What a folder holds, without the hidden folder and its parents."""
    found: set[str] = set()
    if folder == hidden:
        return found
    with contextlib.suppress(OSError):
        for entry in os.scandir(folder):
            found |= _without(entry.path, hidden) if _holds(entry.path, hidden) else {entry.path}
    return found


def _drop_privileges(user: int | None) -> None:
    """Become another user, where one is given, and give every capability up but to read: the rules on files bound that.

    Interpreters and packages often lie where only root can go, such as below /root.
    """
    if os.geteuid() != 0:
        return
    kept = 0
    if user is not None:
        set_process_attribute(PR_SET_KEEPCAPS, 1)
        os.setgroups([])
        os.setresgid(user, user, user)
        os.setresuid(user, user, user)
        kept = 1 << _CAP_DAC_READ_SEARCH
    numbers = machine_numbers()
    if numbers is None:
        return
    header = ctypes.create_string_buffer(struct.pack("=Ii", _CAPABILITY_VERSION, 0))
    capabilities = ctypes.create_string_buffer(struct.pack("=6I", kept, kept, 0, 0, 0, 0))
    system_call(numbers["capset"], ctypes.addressof(header), ctypes.addressof(capabilities))
