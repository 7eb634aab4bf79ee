"""A process that has the slow imports of workers done, and forks itself for each worker that it is asked for.

A forked worker is there in some ten milliseconds instead of seconds, and shares the memory of the libraries with all others of its
kind. The server imports installed libraries only: it opens no package and reads nothing that came in, because it is not confined. A
worker confines itself right after the fork, when it still has a single thread.

`ForkServer` starts it: ``python -P -m lamppost.runtime.fork_server FD NEEDS [GROUP …]``. Messages are JSON objects, one in a packet; a
request to fork carries three open files: the worker's socket, its standard output and its standard error. The server forks itself as a
server for another process of the service, too, which then need not import everything anew; that request carries the new server's socket.
"""

from __future__ import annotations

import contextlib
import gc
import importlib
import json
import os
import random
import resource
import select
import signal
import socket
import subprocess
import sys
import tempfile
import threading
import traceback
from collections.abc import Callable, Sequence
from dataclasses import dataclass, replace
from functools import partial
from pathlib import Path
from typing import Any, Literal

from lamppost.runtime.confinement.confine import Confines, confine
from lamppost.runtime.confinement.control_groups import join_groups
from lamppost.runtime.confinement.system_calls import keep_memory_private

Needs = Literal["graphs", "sklearn"]
"""What a worker must have imported: compiled graphs need a tenth of the time and a third of the memory."""

_REQUEST_S = 120.0
_MESSAGE_BYTES = 2**16
_FILES = 3


class ForkServerGone(OSError):
    """The server ended, or cannot fork. Another one may be started."""


@dataclass(frozen=True, slots=True)
class ForkedServer:
    """A server that was forked for another process. socket : by which it is asked; it ends when the last copy of that is closed."""

    needs: Needs
    socket: socket.socket
    pid: int


class ForkServer:
    """Starts the process at once; `fork`, `reap` and `close` may be called from any thread, and wait until it has answered.

    forked : a server that there is already, in place of a new process. groups : control groups that a new process joins.
    """

    def __init__(self, needs: Needs, environment: dict[str, str], forked: ForkedServer | None = None, groups: Sequence[str] = ()) -> None:
        self.needs: Needs = needs
        self._ready = forked is not None
        self._lock = threading.Lock()
        self._process: subprocess.Popen[bytes] | None = None
        if forked is not None:
            self._socket, self.pid, self._there = forked.socket, forked.pid, True
            self._socket.settimeout(_REQUEST_S)
            return
        self._socket, theirs = socket.socketpair(socket.AF_UNIX, socket.SOCK_SEQPACKET)
        self._socket.settimeout(_REQUEST_S)
        with theirs:
            self._process = subprocess.Popen(
                [sys.executable, "-P", "-m", "lamppost.runtime.fork_server", str(theirs.fileno()), needs, *groups],
                pass_fds=[theirs.fileno()],
                stdin=subprocess.DEVNULL,
                # of a package compiled against Arrow: its allocator would start a thread, and threads do not survive a fork
                env=environment | {"JE_ARROW_MALLOC_CONF": "background_thread:false"},
                cwd=os.sep,
                start_new_session=True,
            )
        self.pid, self._there = self._process.pid, True

    @property
    def running(self) -> bool:
        """Whether the process is there; of one that was forked by another one, whether it answered the last time."""
        return self._there and (self._process is None or self._process.poll() is None)

    @property
    def warm(self) -> bool:
        """Whether it has its imports done, so that it answers at once."""
        if not self._ready and self._lock.acquire(blocking=False):
            try:
                if not self._ready and select.select([self._socket], [], [], 0.0)[0]:
                    self._ready = bool(self._socket.recv(_MESSAGE_BYTES))
            except (OSError, ValueError):  # it has ended
                return False
            finally:
                self._lock.release()
        return self._ready

    @property
    def memory_bytes(self) -> int:
        """Its resident memory, which its workers share; 0 when it has ended."""
        try:
            return int(Path(f"/proc/{self.pid}/statm").read_text().split()[1]) * resource.getpagesize()
        except (OSError, IndexError):
            return 0

    def fork(self, confines: Confines, files: tuple[int, int, int]) -> int:
        """Fork a worker; returns its process id, which stays taken until `reap`. Raise ForkServerGone.

        files : descriptors of the worker's socket, its standard output and its standard error.
        """
        return int(self._ask({"fork": replace(confines, parent=self.pid).to_json()}, files)["pid"])

    def fork_server(self, nice: int) -> ForkedServer:
        """Fork the server itself, for another process. nice : is added to its niceness, and so to that of its workers.

        Raise ForkServerGone. The caller closes the socket once the other process has it.
        """
        ours, theirs = socket.socketpair(socket.AF_UNIX, socket.SOCK_SEQPACKET)
        with theirs:
            try:
                pid = int(self._ask({"fork_server": nice}, (theirs.fileno(),))["pid"])
            except BaseException:
                ours.close()
                raise
        return ForkedServer(self.needs, ours, pid)

    def reap(self, pid: int) -> None:
        """Wait for a worker that was killed, and give its process id back."""
        with contextlib.suppress(ForkServerGone):  # its workers ended with it
            self._ask({"reap": pid})

    def _ask(self, message: dict[str, Any], files: tuple[int, ...] = ()) -> dict[str, Any]:
        with self._lock:
            try:
                socket.send_fds(self._socket, [json.dumps(message).encode()], files)
                if not self._ready:
                    self._ready = bool(self._socket.recv(_MESSAGE_BYTES))
                reply = self._socket.recv(_MESSAGE_BYTES)
            except OSError as error:
                self._end()  # what it answers later would be taken for the answer to something else
                raise ForkServerGone(f"the process that workers are forked from ended ({error})") from error
            if not reply:
                self._end()
                raise ForkServerGone("the process that workers are forked from ended")
        answer: dict[str, Any] = json.loads(reply)
        if "failed" in answer:
            raise ForkServerGone(f"no worker could be forked: {answer['failed']}")
        return answer

    def close(self) -> None:
        """End the process, and all workers that are left with it."""
        self._end()
        self._socket.close()

    def _end(self) -> None:
        self._there = False
        if self._process is None:
            self._socket.close()  # by which it ends
            return
        self._process.kill()
        self._process.wait()


# -- the other side -----------------------------------------------------------------------------------------------------


def _import_libraries(needs: Needs) -> None:
    importlib.import_module("lamppost.runtime.worker")
    importlib.import_module("lamppost.package.quiet_onnxruntime").import_onnxruntime()
    if needs == "sklearn":
        importlib.import_module("pandas")
        importlib.import_module("lamppost.package.skops_import").import_skops()
    gc.collect()
    gc.freeze()  # a worker that looks for cycles must not touch, and so copy, what all share


def _answer_requests(service: socket.socket) -> None:
    """Fork and reap until the service hangs up."""
    servers: list[int] = []
    while True:
        data, files, _, _ = socket.recv_fds(service, _MESSAGE_BYTES, _FILES)
        if not data:
            return
        servers = [pid for pid in servers if os.waitpid(pid, os.WNOHANG) == (0, 0)]
        request = json.loads(data)
        if "fork" in request:
            reply = _fork(service, files, partial(_become_worker, Confines.from_json(request["fork"])))
        elif "fork_server" in request:
            reply = _fork(service, files, partial(_become_server, int(request["fork_server"])))
            servers += [reply["pid"]] if "pid" in reply else []
        else:
            with contextlib.suppress(ChildProcessError):
                os.waitpid(int(request["reap"]), 0)
            reply = {}
        for file in files:
            os.close(file)
        service.send(json.dumps(reply).encode())


def _fork(service: socket.socket, files: list[int], become: Callable[..., None]) -> dict[str, Any]:
    """Fork, and do in the new process what it is for, with the files. service : by which this process is asked, and the new one is not."""
    try:
        pid = os.fork()
    except OSError as error:
        return {"failed": str(error)}
    if pid:
        with contextlib.suppress(OSError):  # it has done so itself, or is gone
            os.setpgid(pid, pid)  # before the service may want to end the group
        return {"pid": pid}
    status = 1
    try:
        service.close()
        become(*files)
        status = 0
    except BaseException:
        traceback.print_exc()
    finally:
        os._exit(status)  # never back into the server's loop


def _become_server(nice: int, connection: int) -> None:
    """What is left is to answer whoever has the other end."""
    os.nice(nice)
    _answer_requests(socket.socket(fileno=connection))


def _become_worker(confines: Confines, connection: int, output: int, errors: int) -> None:
    """What an interpreter that was started for this worker would have, and then the work."""
    os.setpgid(0, 0)
    os.dup2(output, 1)
    os.dup2(errors, 2)
    os.close(output)
    os.close(errors)
    os.chdir(confines.scratch)
    os.environ.update({"HOME": confines.scratch, "TMPDIR": confines.scratch})
    tempfile.tempdir = None
    random.seed()
    sys.modules["numpy"].random.seed()  # workers must not draw the same numbers
    if confine(confines):
        from lamppost.runtime.worker import serve_until_hangup

        serve_until_hangup(socket.socket(fileno=connection))
        sys.stdout.flush()


def main() -> None:
    """Import what workers need, then fork them."""
    signal.signal(signal.SIGINT, signal.SIG_IGN)
    join_groups(sys.argv[3:])
    keep_memory_private()
    _import_libraries("sklearn" if sys.argv[2] == "sklearn" else "graphs")
    service = socket.socket(fileno=int(sys.argv[1]))
    service.send(b"{}")  # its imports are done
    _answer_requests(service)


if __name__ == "__main__":
    main()
