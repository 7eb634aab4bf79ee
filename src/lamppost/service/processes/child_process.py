"""A process beside the service that answers one message after the other over its standard input and output."""

from __future__ import annotations

import asyncio
import contextlib
import struct
import sys
from typing import BinaryIO

from lamppost.service.processes.child_logs import log_lines_of

_LENGTH = struct.Struct("!I")
_END_S = 10.0


class ChildEnded(Exception):
    """The process ended before it had answered; the next message starts another one."""


class ChildProcess:
    """The service's side. It is started with the first message, and again with the next one after it has ended.

    module : that the process runs. first : a message before all others, which is not answered: what no command line should hold.
    """

    def __init__(self, module: str, *arguments: str, first: bytes | None = None) -> None:
        self._command = (sys.executable, "-m", module, *arguments)
        self._first = first
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
            self._process = await asyncio.create_subprocess_exec(*self._command, stdin=pipe, stdout=pipe, stderr=pipe)
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


def read_message(pipe: BinaryIO) -> bytes | None:
    """In the process: the next message; None once the service has ended."""
    start = pipe.read(_LENGTH.size)
    return pipe.read(_LENGTH.unpack(start)[0]) if len(start) == _LENGTH.size else None


def write_message(pipe: BinaryIO, message: bytes) -> None:
    """In the process: answer."""
    pipe.write(_LENGTH.pack(len(message)) + message)
    pipe.flush()
