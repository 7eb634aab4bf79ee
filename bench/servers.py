"""The processes that are measured, each on a free loopback port, all ended by id."""

from __future__ import annotations

import os
import signal
import socket
import subprocess
import sys
import time
from collections.abc import Iterator, Mapping
from contextlib import contextmanager
from pathlib import Path

import httpx


def free_port() -> int:
    """A port that is free now."""
    with socket.socket() as probe:
        probe.bind(("127.0.0.1", 0))
        return int(probe.getsockname()[1])


@contextmanager
def running(command: list[str], url: str, log: Path, environment: Mapping[str, str] | None = None, patience_s: float = 60) -> Iterator[int]:
    """A server from its first answer (of any status) at ``url`` until the end of the block; its process id."""
    with log.open("ab") as out:
        process = subprocess.Popen(command, stdout=out, stderr=out, env={**os.environ, **(environment or {})})
    try:
        deadline = time.monotonic() + patience_s
        while True:
            if process.poll() is not None or time.monotonic() > deadline:
                raise RuntimeError(f"{command} did not start: {log.read_text()[-2000:]}")
            try:
                httpx.get(url, trust_env=False)
                break
            except httpx.TransportError:
                time.sleep(0.05)
        yield process.pid
    finally:
        if process.poll() is None:
            process.send_signal(signal.SIGTERM)
            try:
                process.wait(30)
            except subprocess.TimeoutExpired:
                process.kill()
                process.wait()


def uvicorn(app: str, port: int) -> list[str]:
    """How an ASGI app is run: as well as uvicorn can."""
    return [
        sys.executable,
        "-m",
        "uvicorn",
        app,
        "--port",
        str(port),
        "--loop",
        "uvloop",
        "--http",
        "httptools",
        "--no-access-log",
        "--log-level",
        "warning",
    ]
