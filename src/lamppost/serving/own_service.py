"""Starts a service for this interpreter where none runs, in a folder of its own, and ends it with the interpreter."""

from __future__ import annotations

import atexit
import os
import shutil
import signal
import socket
import subprocess
import sys
import tempfile
import time
import tomllib
from dataclasses import dataclass
from pathlib import Path

import httpx

from lamppost.client.config import DEFAULT_ADDRESS, Connection, find_connection
from lamppost.core.errors import LampPostError

_START_S = 90.0
_END_S = 30.0
_LAST_LINES = 5


@dataclass
class _OwnService:
    folder: Path
    process: subprocess.Popen[bytes]
    connection: Connection


_own: _OwnService | None = None


def connect_or_start(address: str | None = None, token: str | None = None) -> Connection:
    """The service that was named or is configured; else one of this interpreter's own, started if need be.

    What an earlier `lamppost up` kept of a service on this machine counts only while that service answers. Raise LampPostError where
    none can be started.
    """
    found = find_connection(address, token)
    named = address is not None or "LAMPPOST_ADDRESS" in os.environ or not found.address.startswith("http://127.0.0.1:")
    if named or (found != Connection(DEFAULT_ADDRESS, None) and _answers(found.address)):
        return found
    if _own is not None and _own.process.poll() is None:
        return _own.connection
    return _start()


def _answers(address: str, health: str = "live") -> bool:
    try:
        return httpx.get(f"{address}/health/{health}", timeout=2.0, trust_env=False).status_code == 200
    except httpx.HTTPError:
        return False


def _start() -> Connection:
    global _own
    folder = Path(tempfile.mkdtemp(prefix="lamppost-serve-"))
    folder.chmod(0o711)  # the private PostgreSQL is another user where this one is root
    with socket.create_server(("127.0.0.1", 0)) as free:
        port = free.getsockname()[1]
    address, kept = f"http://127.0.0.1:{port}", folder / "client.toml"
    sys.stdout.write(f"no service is configured; one is started for this interpreter at {address}, and ends with it\n")
    sys.stdout.flush()
    options = ["--data", str(folder / "data"), "--port", str(port), "--allow-code", "--allow-pickle"]
    with (folder / "log").open("wb") as log:
        process = subprocess.Popen(
            [sys.executable, "-m", "lamppost", "up", *options],
            stdin=subprocess.DEVNULL,
            stdout=log,
            stderr=log,
            env={**os.environ, "LAMPPOST_CONFIG": str(kept)},
            start_new_session=True,  # an interrupt in a notebook is for a cell, not for the service
        )
    _own = _OwnService(folder, process, Connection(address, None))
    atexit.register(end_own_service)
    deadline = time.monotonic() + _START_S
    while not _answers(address, "ready"):
        if process.poll() is not None or time.monotonic() > deadline:
            said = " ".join((folder / "log").read_text(errors="replace").splitlines()[-_LAST_LINES:])
            end_own_service()
            raise LampPostError(f"no service could be started for this interpreter; it said: {said}")
        time.sleep(0.05)
    _own.connection = Connection(address, tomllib.loads(kept.read_text())["tokens"][address])
    return _own.connection


def end_own_service() -> None:
    """End the service that was started for this interpreter, if there is one, and delete its folder."""
    global _own
    if _own is None:
        return
    own, _own = _own, None
    own.process.send_signal(signal.SIGINT)
    try:
        own.process.wait(_END_S)
    except subprocess.TimeoutExpired:
        own.process.kill()
        own.process.wait()
    shutil.rmtree(own.folder, ignore_errors=True)
