"""A model that tries what a package with code must not be able to do: its answer is 1 where an attempt succeeded, 0 where it failed."""

from __future__ import annotations

import ctypes
import os
import signal
import socket
import sys
from collections.abc import Callable
from pathlib import Path
from typing import Any

import numpy as np
import pandas as pd

from lamppost.runtime.confinement.system_calls import machine_numbers, system_call
from tests.support.models import Moody

FIRST = 1_000_000
"""The number of the first attempt; smaller ones are rows of training."""
_kept: list[Any] = []


def _call(name: str, *arguments: int) -> int:
    return system_call((machine_numbers() or {})[name], *arguments)


def _child() -> None:
    if os.fork() == 0:
        os.setsid()
        os._exit(0)


def _send_by_file(pid: int) -> None:
    """A signal to another process, sent by the kernel when a pipe becomes readable."""
    import fcntl

    reading, writing = os.pipe()
    fcntl.fcntl(reading, fcntl.F_SETOWN, pid)
    fcntl.fcntl(reading, fcntl.F_SETFL, os.O_ASYNC)
    os.write(writing, b"x")


def _take_over(pid: int) -> None:
    """A copy of another process's socket, as a debugger takes it."""
    opened = _call("pidfd_open", pid, 0)
    _call("pidfd_getfd", opened, 3, 0)


def _read_memory(pid: int) -> None:
    with Path(f"/proc/{pid}/mem").open("rb") as memory:
        memory.read(1)


def _connect(port: int) -> None:
    with socket.create_connection(("127.0.0.1", port), timeout=2):
        return


def _send_datagram(path: str) -> None:
    one, _ = socket.socketpair(socket.AF_UNIX, socket.SOCK_DGRAM)
    one.sendto(b"x", path)


def _take_memory(size_bytes: int) -> None:
    _kept.append(ctypes.create_string_buffer(size_bytes))


class Intruder(Moody):
    """Attempt number ``x - FIRST``. folder : one of the service, with a file ``secret`` in it. port : one that is listened to."""

    def __init__(self, folder: str = "", port: int = 0, memory_bytes: int = 0) -> None:
        self.folder = folder
        self.port = port
        self.memory_bytes = memory_bytes

    def attempts(self) -> dict[str, Callable[[], Any]]:
        """Every attempt by its name, and first what must succeed."""
        folder, service = Path(self.folder), os.getppid()
        return {
            "write in its scratch": lambda: Path("own").write_text("own"),
            "start a thread": _start_thread,
            "make two ends of an event loop": lambda: [end.close() for end in socket.socketpair()],
            "read a file of the service": (folder / "secret").read_bytes,
            "list a folder of the service": lambda: list(folder.iterdir()),
            "write a file beside it": lambda: (folder / "new").write_text("x"),
            "write to the packages it was given": lambda: Path("../packages/new").write_text("x"),
            "open a file of the service to all": lambda: (folder / "secret").chmod(0o666),
            "change its time": lambda: os.utime(folder / "secret"),
            "read the users of the machine": Path("/etc/passwd").read_bytes,
            "read the environment of the service": Path(f"/proc/{service}/environ").read_bytes,
            "read the memory of the service": lambda: _read_memory(service),
            "signal the service": lambda: os.kill(service, 0),
            "signal its group": lambda: os.killpg(0, 0),
            "signal it by a file": lambda: _send_by_file(service),
            "end it later": lambda: signal.setitimer and _call("rt_sigqueueinfo", service, 0, 0),
            "take a socket of the service": lambda: _take_over(service),
            "attach to the service": lambda: _call("ptrace", 16, service, 0, 0),
            "lower the limits of the service": lambda: _call("prlimit64", service, 7, 0, 0),
            "start a process": _child,
            "become another program": lambda: os.execv(sys.executable, [sys.executable, "-c", ""]),
            "leave its session": os.setsid,
            "outlive the service": lambda: _call("prctl", 1, 0),
            "open a socket": lambda: socket.socket(socket.AF_INET).close(),
            "connect to the database": lambda: _connect(self.port),
            "send a datagram": lambda: _send_datagram("/dev/log"),
            "get a namespace of its own": lambda: _call("unshare", 0x10000000),
            "use a ring of calls": lambda: _call("io_uring_setup", 8, 0),
            "read the kernel's keys": lambda: _call("keyctl", 0, 0),
            "take more memory than there is": lambda: _take_memory(self.memory_bytes),
        }

    def predict(self, frame: pd.DataFrame) -> Any:
        """1 for each attempt that succeeded; 0 for all while it is packed, where no folder is known."""
        return np.array([float(self._succeeds(int(value))) for value in frame["x"].to_numpy()])

    def _succeeds(self, number: int) -> bool:
        attempts = list(self.attempts().values())
        if not FIRST <= number < FIRST + len(attempts):
            return False
        try:
            attempts[number - FIRST]()
        except (OSError, MemoryError, RuntimeError):
            return False
        return True


def _start_thread() -> None:
    import threading

    thread = threading.Thread(target=lambda: None)
    thread.start()
    thread.join()
