"""Filters the system calls of a process with the kernel's seccomp: sockets, other processes, the machine's administration.

https://docs.kernel.org/userspace-api/seccomp_filter.html. The filter is a program of the classic BPF machine; it reads ``struct
seccomp_data`` (number at byte 0, architecture at 4, low words of the arguments from 16, eight bytes apart). What is refused fails with
EPERM. Calls that are newer than this list fail with ENOSYS, as on the kernel before, so that libraries take the older way.
"""

from __future__ import annotations

import ctypes
import errno
import os
import socket
import struct
from typing import Final

from lamppost.runtime.confinement.system_calls import AUDIT_ARCH, PR_SET_PDEATHSIG, machine_numbers, system_call

_LOAD, _JUMP_EQUAL, _JUMP_AT_LEAST, _AND, _RETURN = 0x20, 0x15, 0x35, 0x54, 0x06
_NUMBER, _ARCHITECTURE = 0, 4
_ALLOW, _KILL, _ERROR = 0x7FFF0000, 0x80000000, 0x00050000
_SET_FILTER, _ALL_THREADS = 1, 1
_FIRST_UNKNOWN = 463
_CLONE_THREAD = 0x10000
_TIOCSTI, _FIOSETOWN, _SIOCSPGRP = 0x5412, 0x8901, 0x8902
_F_SETOWN, _F_SETSIG, _F_SETOWN_EX = 8, 10, 15
_SOCKET_TYPE = 0xF

_ABSENT: Final = ("clone3",)
"""Its arguments lie in memory, where a filter cannot look; libraries use ``clone`` where it is missing."""
_OF_ITSELF_ONLY: Final = ("kill", "tgkill", "rt_sigqueueinfo", "rt_tgsigqueueinfo")
_OF_ITSELF_OR_ZERO: Final = ("prlimit64", "sched_setaffinity")

_FOR_INSTALLING: Final = ("socket", "bind", "connect", "chmod", "fchmod", "fchmodat", "fchmodat2", "utime", "utimes", "utimensat")

_Instruction = tuple[int, int, int, int]


def _argument(index: int) -> int:
    """Offset of the low word of an argument."""
    return 16 + 8 * index


def _refuse(code: int = errno.EPERM) -> _Instruction:
    return (_RETURN, 0, 0, _ERROR | code)


_PASS: Final[_Instruction] = (_RETURN, 0, 0, _ALLOW)


def _all_but(argument: int, *values: int) -> list[_Instruction]:
    """Refuse where an argument is one of some values."""
    tests = [(_JUMP_EQUAL, len(values) - at, 0, value) for at, value in enumerate(values)]
    return [(_LOAD, 0, 0, _argument(argument)), *tests, _PASS, _refuse()]


def _body(name: str, pid: int) -> list[_Instruction]:
    """What happens with a call of that name: instructions that end with a return."""
    if name in _ABSENT:
        return [_refuse(errno.ENOSYS)]
    if name in _OF_ITSELF_ONLY:
        return [(_LOAD, 0, 0, _argument(0)), (_JUMP_EQUAL, 0, 1, pid), _PASS, _refuse()]
    if name in _OF_ITSELF_OR_ZERO:
        return [(_LOAD, 0, 0, _argument(0)), (_JUMP_EQUAL, 1, 0, pid), (_JUMP_EQUAL, 0, 1, 0), _PASS, _refuse()]
    if name == "clone":  # a thread, no process
        return [(_LOAD, 0, 0, _argument(0)), (_AND, 0, 0, _CLONE_THREAD), (_JUMP_EQUAL, 0, 1, _CLONE_THREAD), _PASS, _refuse()]
    if name == "prctl":  # that it ends with the service is not taken back
        return _all_but(0, PR_SET_PDEATHSIG)
    if name == "ioctl":
        return _all_but(1, _TIOCSTI, _FIOSETOWN, _SIOCSPGRP)
    if name == "fcntl":  # a file that reports to another process sends it a signal
        return _all_but(1, _F_SETOWN, _F_SETSIG, _F_SETOWN_EX)
    if name == "socketpair":  # two ends of its own, as event loops use them; a datagram socket could be sent to another address
        return [
            (_LOAD, 0, 0, _argument(0)),
            (_JUMP_EQUAL, 0, 4, socket.AF_UNIX),
            (_LOAD, 0, 0, _argument(1)),
            (_AND, 0, 0, _SOCKET_TYPE),
            (_JUMP_EQUAL, 0, 1, socket.SOCK_STREAM),
            _PASS,
            _refuse(),
        ]
    return [_refuse()]


def filter_program(pid: int, numbers: dict[str, int], architecture: int, installs: bool = False) -> bytes:
    """The program as the kernel takes it, eight bytes an instruction.

    pid : of the process that it is for. numbers : of the calls. architecture : as the kernel names it (`AUDIT_ARCH`).
    installs : whether connections to others and modes of files are left open.
    """
    program: list[_Instruction] = [
        (_LOAD, 0, 0, _ARCHITECTURE),
        (_JUMP_EQUAL, 1, 0, architecture),
        (_RETURN, 0, 0, _KILL),  # calls of another architecture have other numbers
        (_LOAD, 0, 0, _NUMBER),
        (_JUMP_AT_LEAST, 0, 1, _FIRST_UNKNOWN),
        _refuse(errno.ENOSYS),
    ]
    for name, number in numbers.items():
        if installs and name in _FOR_INSTALLING:
            continue
        body = _body(name, pid)
        program += [(_JUMP_EQUAL, 0, len(body), number), *body]
    program.append(_PASS)
    return b"".join(struct.pack("=HBBI", *instruction) for instruction in program)


def filter_system_calls(pid: int, installs: bool = False) -> bool:
    """Put the filter in force for all threads of this process; returns whether the kernel took it. Needs "no new privileges"."""
    numbers, architecture = machine_numbers(), AUDIT_ARCH.get(os.uname().machine)
    if numbers is None or architecture is None:
        return False
    program = filter_program(pid, numbers, architecture, installs)
    instructions = ctypes.create_string_buffer(program, len(program))
    header = ctypes.create_string_buffer(struct.pack("@HP", len(program) // 8, ctypes.addressof(instructions)))
    try:
        return system_call(numbers["seccomp"], _SET_FILTER, _ALL_THREADS, ctypes.addressof(header)) == 0
    except OSError:
        return False
