"""The work of a worker process, which `worker_main` has confined: opens packages and answers batches over a Unix socket.

It knows no database, no token and no network. What a package's code prints goes to stdout and stderr, which the service reads
into its log; frames go over the socket only. It ends by itself when the service is gone.
"""

from __future__ import annotations

import gc
import importlib
import io
import os
import resource
import signal
import socket
import sys
import time
import traceback
from collections.abc import Iterator
from dataclasses import dataclass
from pathlib import Path
from typing import Any, ClassVar, TextIO

from lamppost.core.artifact.manifest import MANIFEST, read_manifest
from lamppost.core.errors import LampPostError, Unavailable
from lamppost.package.quiet_onnxruntime import import_onnxruntime
from lamppost.package.skops_import import import_skops
from lamppost.runtime.codec import FrameCodec
from lamppost.runtime.running_steps import StepChain, open_chain
from lamppost.runtime.wire import HEAD, frame_size, pack_columns, pack_frame, read_header

_FLUSH_S = 0.002
_EXHAUSTED = 0.75
"""The part of its bound from which a worker ends after a failure."""


@dataclass(slots=True)
class _Slot:
    """One open package. private : whether one of its fields is."""

    codec: FrameCodec
    steps: StepChain
    private: bool


class Worker:
    """The open packages of this process, by slot number."""

    def __init__(self) -> None:
        self.slots: dict[int, _Slot] = {}
        self._memory = _OwnMemory()
        self._address_bytes: int | None = None

    def handle(self, header: dict[str, Any], body: bytes) -> Iterator[bytes]:
        """The frames that answer a frame. Nothing a package does may end the loop, so every exception becomes an answer."""
        if header.get("op") == "run":
            yield from self._run(header["parts"], body)
            return
        try:
            match header.get("op"):
                case "open":
                    yield self._open(header)
                case "close":
                    del self.slots[int(header["slot"])]
                    gc.unfreeze()
                    gc.collect()
                    gc.freeze()
                    yield pack_frame({"op": "closed", "memory_bytes": self._memory.own_bytes()})
                case "warm":
                    yield self._warm(header)
                case other:
                    raise RuntimeError(f"a worker does not know how to {other}")
        except MemoryError:
            yield pack_frame(
                _failed(
                    Unavailable("it needs more memory than this node's budget for models; start it with a larger one: lamppost up --memory")
                )
            )
        except Exception as error:
            yield pack_frame(_failed(error))

    def _warm(self, header: dict[str, Any]) -> bytes:
        """Do the slow imports ahead of need."""
        if header.get("needs") == "graphs":
            import_onnxruntime()
        else:
            importlib.import_module("pandas")
            import_skops()
        return pack_frame({"op": "warm", "memory_bytes": self._memory.own_bytes()})

    def _open(self, header: dict[str, Any]) -> bytes:
        self._bound_memory(int(header["memory_bytes"]))
        folder, (_, before) = Path(header["folder"]), self._memory.address_and_resident_bytes()
        manifest = read_manifest((folder / MANIFEST).read_bytes())
        steps = open_chain(folder, manifest, frozenset(header["formats"]), bool(header.get("original")), int(header.get("threads", 1)))
        private = any(field.private for field in (*manifest.columns, *manifest.answers))
        self.slots[int(header["slot"])] = _Slot(FrameCodec(manifest.columns), steps, private)
        gc.freeze()  # a look for cycles through all that is open would hold up a batch for a tenth of a second
        (_, after), own = self._memory.address_and_resident_bytes(), self._memory.own_bytes()
        return pack_frame(
            {
                "op": "opened",
                "pid": os.getpid(),
                "memory_bytes": own,
                "grew_bytes": max(0, after - before),
                "shared_bytes": max(0, after - own),
            }
        )

    def _bound_memory(self, most_bytes: int) -> None:
        """Let this process hold so much and no more, beside the address space that it has and does not use.

        The bound of the first package stands: a process without privileges cannot be given more again.
        """
        if self._address_bytes is None:
            size, _ = self._memory.address_and_resident_bytes()
            self._address_bytes = size - self._memory.own_bytes() + most_bytes
            resource.setrlimit(resource.RLIMIT_AS, (self._address_bytes, self._address_bytes))

    def _end_if_exhausted(self, error: Exception) -> None:
        """End this process after a failure where little is left of its memory: it would go on failing, and another worker begins anew."""
        if self._address_bytes is not None and self._memory.address_and_resident_bytes()[0] > _EXHAUSTED * self._address_bytes:
            sys.stderr.write(f"the worker's memory is used up ({type(error).__name__}); it ends, and another one takes over\n")
            sys.stderr.flush()
            os._exit(1)

    def _run(self, parts: list[dict[str, Any]], body: bytes) -> Iterator[bytes]:
        """Answer the parts in turn, several in one frame as long as nobody waits long for the first of them."""
        done: list[dict[str, Any]] = []
        bodies: list[bytes] = []
        start, at = time.perf_counter(), 0
        for part in parts:
            size = int(part["bytes"])
            entry, answer_body = self._part(part, body[at : at + size])
            at += size
            done.append(entry)
            bodies.append(answer_body)
            if time.perf_counter() - start > _FLUSH_S and len(done) < len(parts):
                yield pack_frame({"op": "answers", "parts": done, "more": True}, b"".join(bodies))
                parts = parts[len(done) :]
                done, bodies, start = [], [], time.perf_counter()
        yield pack_frame({"op": "answers", "parts": done}, b"".join(bodies))

    def _part(self, part: dict[str, Any], body: bytes) -> tuple[dict[str, Any], bytes]:
        start = time.perf_counter()
        _Lines.request = part.get("request")
        private = bool(part.get("private"))
        try:
            slot, rows = self.slots[int(part["slot"])], int(part["rows"])
            private = private or slot.private
            run_single = slot.steps.run_single
            if run_single is not None and rows == 1 and (values := slot.codec.single(body)) is not None:
                answers = run_single(values)
            else:
                answers = slot.steps.run(slot.codec.columns(rows, part["columns"], body))
            entries, packed = pack_columns(answers)
        except Exception as error:
            self._end_if_exhausted(error)
            return {"bytes": 0, **_failed(error, private)}, b""
        finally:
            _Lines.request = None
        took = int((time.perf_counter() - start) * 1e6)
        return {"op": "answers", "rows": rows, "columns": entries, "bytes": len(packed), "us": took}, packed


class _Lines(io.TextIOBase):
    """Standard output or error: each line says which request it was printed for, where the batch is of one. A batch that fails is run
    again request by request, so whatever is said of a failure names its request.
    """

    request: ClassVar[str | None] = None

    def __init__(self, stream: TextIO) -> None:
        self.buffer = stream.buffer
        self._stream = stream
        self._begun = False

    @property
    def encoding(self) -> str:  # type: ignore[override]
        """Of the stream that it stands for."""
        return self._stream.encoding

    def writable(self) -> bool:
        """It is for writing."""
        return True

    def fileno(self) -> int:
        """Of the stream that it stands for."""
        return self._stream.fileno()

    def flush(self) -> None:
        """Flush the stream."""
        self._stream.flush()

    def write(self, text: str) -> int:
        """Write text, and the request's id where a line begins."""
        for line in text.splitlines(keepends=True):
            if not self._begun and self.request is not None:
                self._stream.write(f"[request {self.request}] ")
            self._stream.write(line)
            self._begun = not line.endswith("\n")
        return len(text)


def _failed(error: Exception, private: bool = False) -> dict[str, Any]:
    """The frame of a failure. private : whether the text of an exception, which may hold values, goes neither into it nor into the log."""
    if isinstance(error, LampPostError):
        return {"op": "failed", "code": error.code, "detail": error.detail, "faults": error.extra.get("faults")}
    if private:
        traceback.print_tb(error.__traceback__)
        sys.stderr.write(f"{type(error).__name__}; its text is left out, because fields are private\n")
        return {
            "op": "failed",
            "code": "model-fault",
            "detail": f"{type(error).__name__}; its text may hold private values and is left out",
        }
    traceback.print_exception(error)
    return {"op": "failed", "code": "model-fault", "detail": f"{type(error).__name__}: {error}"[:2_000]}


class _OwnMemory:
    """Reads what the kernel counts for this process. Files are kept open: rules on files know them only for as long as the kernel does."""

    def __init__(self) -> None:
        self._pages = os.open("/proc/self/statm", os.O_RDONLY | os.O_CLOEXEC)
        self._mappings = os.open("/proc/self/smaps_rollup", os.O_RDONLY | os.O_CLOEXEC)

    def address_and_resident_bytes(self) -> tuple[int, int]:
        """Address space and resident memory now. Not getrusage's maximum: that begins with what the parent had when it forked."""
        size, resident = os.pread(self._pages, 200, 0).split()[:2]
        return int(size) * resource.getpagesize(), int(resident) * resource.getpagesize()

    def own_bytes(self) -> int:
        """Resident memory that is shared with no other process. Takes some milliseconds."""
        lines = os.pread(self._mappings, 4_096, 0).splitlines()
        return sum(int(line.split()[1]) * 1024 for line in lines if line.startswith(b"Private_"))


def _receive(sock: socket.socket, size: int) -> bytes:
    """Exactly ``size`` bytes; raise EOFError when the service has gone."""
    data = bytearray(size)
    view, got = memoryview(data), 0
    while got < size:
        count = sock.recv_into(view[got:])
        if not count:
            raise EOFError
        got += count
    return bytes(data)


def serve(sock: socket.socket) -> None:
    """Answer frames until the service hangs up."""
    worker = Worker()
    try:
        while True:
            header_bytes, body_bytes = frame_size(_receive(sock, HEAD.size))
            header = read_header(_receive(sock, header_bytes))
            for frame in worker.handle(header, _receive(sock, body_bytes)):
                sock.sendall(frame)
    except (EOFError, ConnectionError):
        return


def serve_until_hangup(sock: socket.socket) -> None:
    """Serve as a worker process does: what is printed names the request, and Ctrl-C in a terminal is for the service."""
    signal.signal(signal.SIGINT, signal.SIG_IGN)
    sys.stdout, sys.stderr = _Lines(sys.stdout), _Lines(sys.stderr)
    serve(sock)
