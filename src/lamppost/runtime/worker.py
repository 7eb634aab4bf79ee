"""The worker process: ``python -m lamppost.runtime.worker FD`` opens one package and answers batches over a Unix socket.

It knows no database, no token and no network. What a package's code prints goes to stdout and stderr, which the service reads
into its log; frames go over the socket only. It ends by itself when the service is gone.
"""

from __future__ import annotations

import ctypes
import importlib
import os
import resource
import signal
import socket
import sys
import time
import traceback
from pathlib import Path
from typing import Any

from lamppost.core.errors import LampPostError
from lamppost.core.manifest import MANIFEST, Manifest, read_manifest
from lamppost.runtime.steps import Chain, open_chain
from lamppost.runtime.wire import HEAD, frame_size, pack_columns, pack_frame, read_header, unpack_columns

_PR_SET_PDEATHSIG = 1


class Worker:
    """One open package and what is done with it."""

    def __init__(self) -> None:
        self.manifest: Manifest | None = None
        self.steps: Chain | None = None

    def handle(self, header: dict[str, Any], body: bytes) -> bytes:
        """The frame that answers a frame. Nothing a package does may end the loop, so every exception becomes an answer."""
        try:
            match header.get("op"):
                case "run":
                    return self._run(header, body)
                case "open":
                    return self._open(header)
                case "warm":
                    return self._warm(header)
                case other:
                    raise RuntimeError(f"a worker does not know how to {other}")
        except LampPostError as error:
            return pack_frame({"op": "failed", "code": error.code, "detail": error.detail, "faults": error.extra.get("faults")})
        except Exception as error:
            traceback.print_exc()
            return pack_frame({"op": "failed", "code": "model-fault", "detail": f"{type(error).__name__}: {error}"[:2_000]})

    def _warm(self, header: dict[str, Any]) -> bytes:
        """Do the slow imports ahead of need."""
        for name in ("onnxruntime",) if header.get("needs") == "graphs" else ("pandas", "skops.io"):
            importlib.import_module(name)
        return pack_frame({"op": "warm", "memory_bytes": _memory_bytes()})

    def _open(self, header: dict[str, Any]) -> bytes:
        folder = Path(header["folder"])
        manifest = read_manifest((folder / MANIFEST).read_bytes())
        self.steps = open_chain(folder, manifest, frozenset(header["formats"]), bool(header.get("original")))
        self.manifest = manifest
        return pack_frame({"op": "opened", "pid": os.getpid(), "memory_bytes": _memory_bytes()})

    def _run(self, header: dict[str, Any], body: bytes) -> bytes:
        if self.steps is None or self.manifest is None:
            raise RuntimeError("a batch came before a package was opened")
        rows = int(header["rows"])
        start = time.perf_counter()
        answers = self.steps.run(unpack_columns(self.manifest.columns, rows, header["columns"], body))
        entries, out = pack_columns(answers)
        took = time.perf_counter() - start
        return pack_frame({"op": "answers", "rows": rows, "columns": entries, "steps_s": took}, out)


def _memory_bytes() -> int:
    """Resident memory now. Not getrusage's maximum: that begins with what the parent had when it forked."""
    pages = int(Path("/proc/self/statm").read_text().split()[1])
    return pages * resource.getpagesize()


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
            sock.sendall(worker.handle(header, _receive(sock, body_bytes)))
    except (EOFError, ConnectionError):
        return


def main() -> None:
    """Entry of the process; the socket's file descriptor is the only argument."""
    parent = os.getppid()
    ctypes.CDLL(None).prctl(_PR_SET_PDEATHSIG, signal.SIGKILL)
    if os.getppid() != parent:  # the service died before that took effect
        return
    signal.signal(signal.SIGINT, signal.SIG_IGN)  # Ctrl-C in a terminal is for the service
    resource.setrlimit(resource.RLIMIT_CORE, (0, 0))
    serve(socket.socket(fileno=int(sys.argv[1])))


if __name__ == "__main__":
    main()
