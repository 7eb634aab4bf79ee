"""Starts services as forks of one process that has imported them already: importing them takes two seconds of a core each time.

`run_starter` is that process. `ForkedProcess` asks it for a service, and is used as `subprocess.Popen` is.
"""

from __future__ import annotations

import contextlib
import json
import os
import select
import signal
import socket
import subprocess
import sys
import warnings
from pathlib import Path
from typing import Any, NoReturn

STARTER = "LAMPPOST_TEST_STARTER"
"""The environment variable that names the socket of the starter."""


def run_starter(listener: socket.socket) -> NoReturn:
    """Fork a service for each connection; the connection gets the id of its process, and the exit code once that has ended.

    A service whose connection is closed is told to end: whoever asked for it was ended, perhaps because it took too long.
    """
    waiting: dict[int, socket.socket] = {}
    left: set[int] = set()
    while True:
        asked = {pid: connection for pid, connection in waiting.items() if pid not in left}
        readable = select.select([listener, *asked.values()], [], [], 0.05)[0]
        for pid in [pid for pid, connection in asked.items() if connection in readable]:
            left.add(pid)  # nothing more is said on it but that it is closed
            os.kill(pid, signal.SIGTERM)
        if listener in readable:
            connection, _ = listener.accept()
            request = json.loads(connection.makefile("r").readline())
            pid = os.fork()
            if pid == 0:
                for other in (listener, connection, *waiting.values()):
                    other.close()
                _run_command(request)
            waiting[pid] = connection
            connection.sendall(f"{pid}\n".encode())
        while waiting:
            pid, status = os.waitpid(-1, os.WNOHANG)
            if pid == 0:
                break
            left.discard(pid)
            with waiting.pop(pid) as connection, contextlib.suppress(OSError):  # who asked may have ended
                connection.sendall(f"{os.waitstatus_to_exitcode(status)}\n".encode())


def _run_command(request: dict[str, Any]) -> NoReturn:
    """Run a command of ours in this process, as ``python -m lamppost`` does."""
    code = 1
    try:
        log = os.open(request["log"], os.O_WRONLY | os.O_CREAT | os.O_APPEND, 0o644)
        os.dup2(log, 1)
        os.dup2(log, 2)
        os.environ.clear()
        os.environ.update(request["environment"])
        signal.signal(signal.SIGINT, signal.default_int_handler)
        sys.warnoptions.clear()
        warnings.resetwarnings()
        sys.argv = ["lamppost", *request["words"]]
        from lamppost.cli import main

        main()
        code = 0
    except SystemExit as ended:
        code = ended.code if isinstance(ended.code, int) else int(ended.code is not None)
    finally:
        sys.stdout.flush()
        sys.stderr.flush()
        os._exit(code)


class ForkedProcess:
    """A service that the starter has forked."""

    def __init__(self, words: list[str], environment: dict[str, str], log: Path) -> None:
        self.returncode: int | None = None
        self._connection = socket.socket(socket.AF_UNIX)
        self._connection.connect(os.environ[STARTER])
        request = {"words": words, "environment": environment, "log": str(log)}
        self._connection.sendall(json.dumps(request).encode() + b"\n")
        self._lines = self._connection.makefile("r")
        self.pid = int(self._lines.readline())

    def poll(self) -> int | None:
        """The exit code, None while it runs."""
        return self._read_code(0)

    def wait(self, timeout: float | None = None) -> int:
        """The exit code, once it has ended."""
        code = self._read_code(timeout)
        if code is None:
            raise subprocess.TimeoutExpired("lamppost", timeout or 0)
        return code

    def _read_code(self, timeout: float | None) -> int | None:
        if self.returncode is None and select.select([self._connection], [], [], timeout)[0]:
            self.returncode = int(self._lines.readline())
            self._lines.close()
            self._connection.close()
        return self.returncode

    def send_signal(self, number: int) -> None:
        """Send a signal, if it still runs."""
        if self.poll() is None:
            os.kill(self.pid, number)

    def kill(self) -> None:
        """End it as ``kill -9`` does."""
        self.send_signal(signal.SIGKILL)
