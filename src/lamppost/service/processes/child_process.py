"""A process beside the service that answers one message after the other over its standard input and output."""

from __future__ import annotations

import asyncio
import contextlib
import gc
import logging
import os
import signal
import socket
import struct
import sys
import time
from collections.abc import Callable
from typing import BinaryIO

from lamppost.runtime.confinement.system_calls import keep_memory_private
from lamppost.runtime.fork_server import ForkedServer
from lamppost.service.processes.child_logs import log_lines_of, send_log_lines

_LENGTH = struct.Struct("!I")
_END_S = 10.0
_LOOK_S = 0.5
NICE = 10
"""Behind every answer, and still with a tenth of a busy core: at the lowest priority a saturated machine starts no process for a minute."""


ForkWarmServers = Callable[[int], list[ForkedServer]]
"""`lamppost.runtime.worker_supply.WorkerSupply.fork_warm_servers` of the service."""


class ChildEnded(Exception):
    """The process ended before it had answered; the next message starts another one."""


class ChildProcess:
    """The service's side. It is started with the first message, and again with the next one after it has ended.

    module : that the process runs. first : a message before all others, which is not answered: what no command line should hold.
    fork_servers : forks servers for the process that its workers are forked from.
    """

    def __init__(self, module: str, *arguments: str, first: bytes | None = None, fork_servers: ForkWarmServers | None = None) -> None:
        self._command = (sys.executable, "-m", module, *arguments)
        self._first = first
        self._fork_servers = fork_servers
        self._process: asyncio.subprocess.Process | None = None
        self._logging: asyncio.Task[None] | None = None

    async def ask(self, message: bytes) -> bytes:
        """The answer to a message; raise ChildEnded. One caller at a time. A cancelled question ends the process."""
        process = await self._running()
        assert process.stdin is not None
        assert process.stdout is not None
        try:
            process.stdin.write(_LENGTH.pack(len(message)) + message)
            await process.stdin.drain()
            (length,) = _LENGTH.unpack(await process.stdout.readexactly(_LENGTH.size))
            return await process.stdout.readexactly(length)
        except (OSError, RuntimeError, asyncio.IncompleteReadError) as error:
            # RuntimeError: uvloop refuses to write to a pipe whose other end is gone, before it tells that the process has ended
            await self.kill()
            raise ChildEnded from error
        except BaseException:
            await self.kill()  # cancelled half-way: what it would answer next belongs to nobody
            raise

    async def _running(self) -> asyncio.subprocess.Process:
        if self._process is None or self._process.returncode is not None:
            pipe = asyncio.subprocess.PIPE
            forked = [] if self._fork_servers is None else await asyncio.to_thread(self._fork_servers, NICE)
            try:
                named = [f"{one.needs}:{one.socket.fileno()}:{one.pid}" for one in forked]
                files = [one.socket.fileno() for one in forked]
                self._process = await asyncio.create_subprocess_exec(
                    *self._command, *named, stdin=pipe, stdout=pipe, stderr=pipe, pass_fds=files
                )
            finally:
                for one in forked:
                    one.socket.close()
            assert self._process.stderr is not None
            self._logging = asyncio.create_task(log_lines_of(self._process.stderr), name=f"log of {self._command[2]}")
            if self._first is not None:
                assert self._process.stdin is not None
                self._process.stdin.write(_LENGTH.pack(len(self._first)) + self._first)
        return self._process

    async def kill(self) -> None:
        """End it at once."""
        process, self._process = self._process, None
        if process is not None:
            with contextlib.suppress(ProcessLookupError):
                process.kill()
            await process.wait()

    async def close(self) -> None:
        """Let it end, within ten seconds."""
        process, self._process = self._process, None
        if process is None or process.stdin is None:
            return
        process.stdin.close()
        try:
            await asyncio.wait_for(process.wait(), _END_S)
        except TimeoutError:
            process.kill()
            await process.wait()


def run_beside_service() -> None:
    """In the process, before anything else: its memory is its own, it ends with the service and not by a signal to both, it comes after
    every answer, and what it logs goes to the service's log.
    """
    keep_memory_private()
    for number in (signal.SIGINT, signal.SIGTERM):
        signal.signal(number, signal.SIG_IGN)
    with contextlib.suppress(OSError):
        os.nice(NICE)
    send_log_lines(logging.WARNING)
    gc.freeze()


def forked_servers() -> list[ForkedServer]:
    """In the process: the servers that were forked for it, by the last of its arguments."""
    servers = []
    for word in sys.argv[1:]:
        needs, fileno, pid = word.split(":")
        servers.append(ForkedServer("sklearn" if needs == "sklearn" else "graphs", socket.socket(fileno=int(fileno)), int(pid)))
    return servers


def leave_with_service() -> None:
    """In a thread of the process: end it at once when the service has ended, also in the middle of its work."""
    parent = os.getppid()
    while os.getppid() == parent:
        time.sleep(_LOOK_S)
    os._exit(0)


def read_message(pipe: BinaryIO) -> bytes | None:
    """In the process: the next message; None once the service has ended."""
    start = pipe.read(_LENGTH.size)
    return pipe.read(_LENGTH.unpack(start)[0]) if len(start) == _LENGTH.size else None


def write_message(pipe: BinaryIO, message: bytes) -> None:
    """In the process: answer."""
    pipe.write(_LENGTH.pack(len(message)) + message)
    pipe.flush()
