"""One worker process as the service sees it: start it, send a frame and receive one, end it."""

from __future__ import annotations

import asyncio
import contextlib
import logging
import os
import re
import resource
import signal
import socket
import sys
from collections import deque
from collections.abc import Awaitable, Callable, Sequence
from pathlib import Path
from typing import Any, cast

from lamppost.runtime.confinement.worker_home import USUAL_RULES, WorkerHome, WorkerRules
from lamppost.runtime.fork_server import ForkServer
from lamppost.runtime.stream_lines import lines_of
from lamppost.runtime.wire import HEAD, WireError, frame_size, read_header

log = logging.getLogger("lamppost.worker")

_KEPT_ENVIRONMENT = ("PATH", "LANG", "LC_ALL", "TZ", "PYTHONPATH", "OPENBLAS_CORETYPE", "OPENBLAS_L2_SIZE")
_LINE_LIMIT = 2_000
_STREAM_LIMIT = 64 * 1024
_REQUEST = re.compile(r"\[request ([0-9a-f-]{36})\] ")
_PAGE = resource.getpagesize()
SHORT_REPLY_BYTES = 2**20
"""Most bytes of a reply without answers: that a package is open, say, or why not."""


class WorkerGone(Exception):
    """The worker process ended, closed its socket, or sent something that is not a frame."""


Frame = tuple[dict[str, Any], bytes]
OnReply = Callable[[Frame | WorkerGone], None]


class _Protocol(asyncio.Protocol):
    """Bytes from the worker into frames; every frame answers the oldest open call, which ends with one that does not announce more."""

    def __init__(self) -> None:
        self.transport: asyncio.Transport | None = None
        self.open_calls: deque[tuple[OnReply, int]] = deque()
        self.end_reason: str | None = None
        self.on_end: Callable[[str], None] | None = None
        self._buffer = bytearray()
        self._need: tuple[int, int] | None = None

    def connection_made(self, transport: asyncio.BaseTransport) -> None:
        self.transport = cast(asyncio.Transport, transport)

    def data_received(self, data: bytes) -> None:
        self._buffer += data
        try:
            while (frame := self._next()) is not None:
                if not self.open_calls:
                    raise WireError("a frame came that nobody asked for")
                call = self.open_calls[0][0]
                if not frame[0].get("more"):
                    self.open_calls.popleft()
                call(frame)
        except WireError as error:
            self.end(str(error))

    def _next(self) -> Frame | None:
        if self._need is None and len(self._buffer) >= HEAD.size:
            self._need = frame_size(bytes(self._buffer[: HEAD.size]))
            most = self.open_calls[0][1] if self.open_calls else 0
            if sum(self._need) > most:
                raise WireError(f"a frame announces {sum(self._need):,} bytes, and {most:,} were asked for at most")
        if self._need is None or len(self._buffer) < HEAD.size + sum(self._need):
            return None
        start, end = HEAD.size + self._need[0], HEAD.size + sum(self._need)
        header, body = read_header(bytes(self._buffer[HEAD.size : start])), bytes(self._buffer[start:end])
        del self._buffer[:end]
        self._need = None
        return header, body

    def connection_lost(self, exc: Exception | None) -> None:
        self.end("its socket closed" if exc is None else str(exc))

    def end(self, reason: str) -> None:
        """End the protocol: every open and later call fails."""
        if self.end_reason is not None:
            return
        self.end_reason = reason
        if self.transport is not None:
            self.transport.abort()
        calls, self.open_calls = self.open_calls, deque()
        for call, _ in calls:
            call(WorkerGone(reason))
        if self.on_end is not None:
            self.on_end(reason)


def worker_environment(overlay: Path | None = None) -> dict[str, str]:
    """Environment variables of workers: few of the service's, and one thread for numerics. overlay : libraries before those installed."""
    kept = {key: os.environ[key] for key in _KEPT_ENVIRONMENT if key in os.environ}
    if overlay is not None:
        kept["PYTHONPATH"] = os.pathsep.join([str(overlay), *([kept["PYTHONPATH"]] if "PYTHONPATH" in kept else [])])
    # joblib would try to make a semaphore, which a confined worker may not, and warn of it.
    return kept | {"OMP_NUM_THREADS": "1", "OPENBLAS_NUM_THREADS": "1", "JOBLIB_MULTIPROCESSING": "0", "PYTHONUNBUFFERED": "1"}


class WorkerProcess:
    """A running worker. Make one with `start` or `fork`; `call` or `submit`, answers come in order; always `close`.

    streams : its standard output and error. wait_for_end : returns when the killed process is gone.
    template_bytes : memory of the process that it was forked from.
    """

    def __init__(
        self,
        name: str,
        pid: int,
        protocol: _Protocol,
        home: WorkerHome,
        streams: Sequence[asyncio.StreamReader],
        wait_for_end: Callable[[], Awaitable[object]],
        template_bytes: int = 0,
    ) -> None:
        self.name = name
        self.pid = pid
        self.home = home
        self._protocol = protocol
        self._wait_for_end = wait_for_end
        self._template_bytes = template_bytes
        self._shared_bytes = template_bytes
        self._readers = [asyncio.create_task(self._log(stream)) for stream in streams]

    @classmethod
    async def start(cls, name: str, rules: WorkerRules = USUAL_RULES, overlay: Path | None = None) -> WorkerProcess:
        """Start the interpreter; it answers its first frame as soon as its imports are done. overlay : libraries before those installed."""
        ours, theirs = socket.socketpair(socket.AF_UNIX, socket.SOCK_STREAM)
        home = WorkerHome(rules)
        try:
            with theirs:
                process = await asyncio.create_subprocess_exec(
                    sys.executable,
                    "-m",
                    "lamppost.runtime.worker_main",
                    str(theirs.fileno()),
                    home.confines.to_json(),
                    pass_fds=[theirs.fileno()],
                    stdin=asyncio.subprocess.DEVNULL,
                    stdout=asyncio.subprocess.PIPE,
                    stderr=asyncio.subprocess.PIPE,
                    env=worker_environment(overlay) | {"HOME": str(home.scratch), "TMPDIR": str(home.scratch)},
                    cwd=home.scratch,
                    start_new_session=True,
                    limit=_STREAM_LIMIT,
                )
            _, protocol = await asyncio.get_running_loop().create_unix_connection(_Protocol, sock=ours)
        except BaseException:
            ours.close()
            home.delete()
            raise
        assert process.stdout is not None
        assert process.stderr is not None
        return cls(name, process.pid, protocol, home, (process.stdout, process.stderr), process.wait)

    @classmethod
    async def fork(cls, name: str, rules: WorkerRules, server: ForkServer) -> WorkerProcess:
        """Fork a worker that has its imports done. Raise ForkServerGone."""
        loop = asyncio.get_running_loop()
        with contextlib.ExitStack() as ours, contextlib.ExitStack() as theirs:
            connection, far = socket.socketpair(socket.AF_UNIX, socket.SOCK_STREAM)
            ours.callback(connection.close)
            theirs.callback(far.close)
            output, errors = (_pipe(ours, theirs) for _ in range(2))
            home = WorkerHome(rules)
            ours.callback(home.delete)
            forking = loop.run_in_executor(None, server.fork, home.confines, (far.fileno(), output[1], errors[1]))
            try:
                pid = await asyncio.shield(forking)
            except asyncio.CancelledError:
                with contextlib.suppress(OSError):  # the worker comes all the same
                    os.kill(pid := await forking, signal.SIGKILL)
                    await asyncio.to_thread(server.reap, pid)
                raise
            theirs.close()
            ours.pop_all()
        _, protocol = await loop.create_unix_connection(_Protocol, sock=connection)
        streams = [await _stream(read) for read, _ in (output, errors)]
        return cls(name, pid, protocol, home, streams, lambda: asyncio.to_thread(server.reap, pid), server.memory_bytes)

    @property
    def end_reason(self) -> str | None:
        """Why the process has ended or hung up, None while it runs."""
        return self._protocol.end_reason

    @property
    def on_end(self) -> Callable[[str], None] | None:
        """Called with the reason when the worker has ended, after the open calls have failed."""
        return self._protocol.on_end

    @on_end.setter
    def on_end(self, hears: Callable[[str], None] | None) -> None:
        self._protocol.on_end = hears

    def submit(self, frame: bytes, on_reply: OnReply, most_bytes: int = SHORT_REPLY_BYTES) -> None:
        """Send one frame; ``on_reply`` is called with the answer, or with WorkerGone, in the order in which frames were sent.

        most_bytes : what a frame of the answer may have; a worker that announces more is ended before its bytes are held.
        """
        protocol = self._protocol
        if protocol.end_reason is not None or protocol.transport is None:
            on_reply(WorkerGone(protocol.end_reason or "it never connected"))
            return
        protocol.open_calls.append((on_reply, most_bytes))
        protocol.transport.write(frame)

    async def call(self, frame: bytes, timeout_s: float) -> Frame:
        """Send one frame and wait for its answer; raise WorkerGone when the worker ends, or overruns its time and is stopped."""
        reply: asyncio.Future[Frame] = asyncio.get_running_loop().create_future()

        def came(received: Frame | WorkerGone) -> None:
            if reply.done():
                return
            if isinstance(received, WorkerGone):
                reply.set_exception(received)
            else:
                reply.set_result(received)

        self.submit(frame, came)
        try:
            return await asyncio.wait_for(reply, timeout_s)
        except TimeoutError:
            reason = f"it did not answer within {timeout_s:g} s and was stopped"
            self.stop(reason)
            raise WorkerGone(reason) from None

    def stop(self, reason: str) -> None:
        """End the process now; open calls fail with ``why``."""
        self.kill()
        self._protocol.end(reason)

    @property
    def memory_bytes(self) -> int:
        """Resident memory now that is this worker's own, 0 when it has ended."""
        try:
            pages = int(Path(f"/proc/{self.pid}/statm").read_text().split()[1])
        except (OSError, IndexError):
            return 0
        return max(0, pages * _PAGE - self._shared_bytes)

    def note_shared_bytes(self, shared_bytes: int) -> None:
        """Take the worker's word on how much of its memory it shares; never more than what it was forked from has."""
        self._shared_bytes = min(max(0, shared_bytes), self._template_bytes)

    def kill(self) -> None:
        """End the process now, and whatever it started."""
        with contextlib.suppress(ProcessLookupError, PermissionError):
            os.killpg(self.pid, signal.SIGKILL)

    async def close(self) -> None:
        """End the process and delete its scratch folder."""
        if self._protocol.transport is not None:
            self._protocol.transport.abort()
        self.kill()
        await self._wait_for_end()
        for reader in self._readers:
            reader.cancel()
        await asyncio.gather(*self._readers, return_exceptions=True)
        await asyncio.to_thread(self.home.delete)

    async def _log(self, stream: asyncio.StreamReader) -> None:
        """Copy what the package's code prints into the service's log, line by line; long lines are cut."""
        async for line in lines_of(stream):
            text = line[:_LINE_LIMIT].decode("utf-8", "replace").rstrip()
            named = _REQUEST.match(text)
            request_id, said = (None, text) if named is None else (named[1], text[named.end() :].lstrip())
            log.info("%s", said, extra={"version": self.name, "worker": self.pid, "request_id": request_id})


def _pipe(ours: contextlib.ExitStack, theirs: contextlib.ExitStack) -> tuple[int, int]:
    """A pipe from a worker to this process."""
    read, write = os.pipe()
    ours.callback(os.close, read)
    theirs.callback(os.close, write)
    return read, write


async def _stream(read: int) -> asyncio.StreamReader:
    """What comes out of a pipe, which is closed at its end."""
    reader = asyncio.StreamReader(limit=_STREAM_LIMIT)
    await asyncio.get_running_loop().connect_read_pipe(lambda: asyncio.StreamReaderProtocol(reader), os.fdopen(read, "rb"))
    return reader
