"""Confines a process to some folders and files, and keeps it from TCP and from other processes, with the kernel's Landlock.

https://docs.kernel.org/userspace-api/landlock.html. A rule is bound to a file or folder itself, not to its name, and holds for all that is
beneath. What cannot be allowed by a rule cannot be opened. The rules hold for the calling thread and for what it starts later, so they
are made before there are other threads. Later kernels confine more: files from ABI 1, moves from 2, truncation from 3, TCP from 4,
device controls from 5, signals and abstract sockets from 6.
"""

from __future__ import annotations

import ctypes
import os
import stat
import struct
from collections.abc import Iterable

from lamppost.runtime.confinement.system_calls import LANDLOCK_ADD_RULE, LANDLOCK_CREATE_RULESET, LANDLOCK_RESTRICT_SELF, system_call

_VERSION_FLAG = 1
_PATH_BENEATH = 1
_WRITE_FILE, _READ_FILE, _READ_DIR = 1 << 1, 1 << 2, 1 << 3
_REMOVE_DIR, _REMOVE_FILE, _MAKE_DIR, _MAKE_FILE = 1 << 4, 1 << 5, 1 << 7, 1 << 8
_REFER, _TRUNCATE, _DEVICE_CONTROL = 1 << 13, 1 << 14, 1 << 15
_FILES_BY_ABI = {1: (1 << 13) - 1, 2: _REFER, 3: _TRUNCATE, 5: _DEVICE_CONTROL}
_TCP, _TCP_ABI = 0b11, 4
_SCOPES, _SCOPES_ABI = 0b11, 6
_FOR_FILES = 1 << 0 | _WRITE_FILE | _READ_FILE | _TRUNCATE | _DEVICE_CONTROL

READ = _READ_FILE | _READ_DIR
READ_AND_WRITE = READ | _WRITE_FILE | _REMOVE_DIR | _REMOVE_FILE | _MAKE_DIR | _MAKE_FILE | _REFER | _TRUNCATE


def landlock_abi() -> int:
    """The version of Landlock that this kernel has, 0 where it has none."""
    try:
        return system_call(LANDLOCK_CREATE_RULESET, 0, 0, _VERSION_FLAG)
    except OSError:
        return 0


class FileRules:
    """Rules that are collected as root and put in force afterwards.

    abi : what `landlock_abi` says, at least 1. network : whether TCP is left open.
    """

    def __init__(self, abi: int, network: bool = False) -> None:
        self._files = sum(rights for since, rights in _FILES_BY_ABI.items() if since <= abi)
        members = [self._files]
        if abi >= _TCP_ABI:
            members.append(0 if network else _TCP)
        if abi >= _SCOPES_ABI:
            members.append(_SCOPES)
        attributes = struct.pack(f"={len(members)}Q", *members)
        buffer = ctypes.create_string_buffer(attributes, len(attributes))
        self._ruleset = system_call(LANDLOCK_CREATE_RULESET, ctypes.addressof(buffer), len(attributes), 0)

    def allow(self, paths: Iterable[str], rights: int) -> None:
        """Allow `READ` or `READ_AND_WRITE` for files and all beneath folders; a path that is not there needs no rule."""
        for path in paths:
            try:
                opened = os.open(path, os.O_PATH | os.O_CLOEXEC)
            except OSError:
                continue
            try:
                allowed = rights & self._files
                if not stat.S_ISDIR(os.fstat(opened).st_mode):
                    allowed &= _FOR_FILES
                rule = struct.pack("=Qi", allowed, opened)
                buffer = ctypes.create_string_buffer(rule, len(rule))
                system_call(LANDLOCK_ADD_RULE, self._ruleset, _PATH_BENEATH, ctypes.addressof(buffer), 0)
            finally:
                os.close(opened)

    def put_in_force(self) -> None:
        """Confine this thread and all that it starts, for good. Needs "no new privileges"."""
        try:
            system_call(LANDLOCK_RESTRICT_SELF, self._ruleset, 0)
        finally:
            os.close(self._ruleset)
