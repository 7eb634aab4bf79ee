"""Two outposts of Tallowby on this machine. The line of one of them is down when the demo is ready, and is mended a little later."""

from __future__ import annotations

import contextlib
import signal
import socket
import subprocess
import sys
import threading
import time
from pathlib import Path

import lamppost
from demo.lamps import make_traffic
from lamppost.client.config import find_connection
from lamppost.core.errors import LampPostError

NAMES = {"harbour-substation": "region=coast", "hill-depot": "region=hill"}
TOWN = "town=tallowby"
FAR = "hill-depot"
MENDED_AFTER_S = 120.0
_JOIN_S = 90.0
_CALLS = 40
_PIECE = 65_536


class Line:
    """A line between a local port and the hub, which can be cut and mended."""

    def __init__(self, hub_port: int) -> None:
        self._hub_port = hub_port
        self._cut = False
        self._open: set[socket.socket] = set()
        self._listening = socket.create_server(("127.0.0.1", 0))
        self.port = int(self._listening.getsockname()[1])
        threading.Thread(target=self._accept, daemon=True).start()

    def cut(self) -> None:
        """Let nothing through, and end what is open."""
        self._cut = True
        for one in list(self._open):
            with contextlib.suppress(OSError):
                one.shutdown(socket.SHUT_RDWR)

    def mend(self) -> None:
        """Let everything through again."""
        self._cut = False

    def _accept(self) -> None:
        while True:
            near, _ = self._listening.accept()
            if self._cut:
                near.close()
                continue
            try:
                far = socket.create_connection(("127.0.0.1", self._hub_port))
            except OSError:
                near.close()
                continue
            self._open |= {near, far}
            for one, other in ((near, far), (far, near)):
                threading.Thread(target=self._carry, args=(one, other), daemon=True).start()

    def _carry(self, one: socket.socket, other: socket.socket) -> None:
        with contextlib.suppress(OSError):
            while piece := one.recv(_PIECE):
                other.sendall(piece)
        for end in (one, other):
            with contextlib.suppress(OSError):
                end.shutdown(socket.SHUT_RDWR)
            end.close()
            self._open.discard(end)


class Outposts:
    """`start`, then `mend_later` when somebody may look, then `stop`."""

    def __init__(self, data: Path, hub_port: int) -> None:
        self._data = data / "outposts"
        self._line = Line(hub_port)
        self._ports = {FAR: self._line.port}
        self._hub_port = hub_port
        self._processes: list[subprocess.Popen[bytes]] = []

    def start(self, client: lamppost.Client, version: str) -> None:
        """Add the outposts the first time, start both, have each asked, and cut the line of one."""
        print(f"starting two outposts without a database: {' and '.join(NAMES)} …", flush=True)
        known = {one["name"] for one in client.fetch("GET", "/api/outposts")}
        addresses = {}
        for name, label in NAMES.items():
            folder = self._data / name
            folder.mkdir(parents=True, exist_ok=True)
            token = folder / "token"
            if name not in known:
                added = client.fetch("POST", "/api/outposts", {"name": name, "labels": [label, TOWN], "payload_bytes_per_day": 2_000_000})
                token.touch(mode=0o600)
                token.write_text(added["secret"])
                client.fetch("PUT", "/api/endpoints/outage-risk/outposts", {"at": TOWN, "version": version})
            addresses[name] = self._run(name, folder, token)
        secret = find_connection(f"http://127.0.0.1:{self._hub_port}").token
        for name, address in addresses.items():
            _wait(address, str(secret))
            if name == FAR:
                self._line.cut()
            with lamppost.Client(address, str(secret)) as there:
                for row in make_traffic(_CALLS, seed=len(name)):
                    there.predict("outage-risk", row)
        print(f"the line to {FAR} is down: it goes on answering, and keeps its records until the line is mended", flush=True)

    def _run(self, name: str, folder: Path, token: Path) -> str:
        """Start one; its address."""
        with socket.socket() as probe:
            probe.bind(("127.0.0.1", 0))
            port = int(probe.getsockname()[1])
        hub = f"http://127.0.0.1:{self._ports.get(name, self._hub_port)}"
        words = ["outpost", "join", hub, "--name", name, "--token-file", str(token), "--data", str(folder / "data"), "--port", str(port)]
        with (folder / "log").open("ab") as log:
            command = [sys.executable, "-m", "lamppost", *words]
            self._processes.append(subprocess.Popen(command, stdout=log, stderr=log, start_new_session=True))
        return f"http://127.0.0.1:{port}"

    def mend_later(self) -> None:
        """Mend the line in two minutes."""
        timer = threading.Timer(MENDED_AFTER_S, self._line.mend)
        timer.daemon = True
        timer.start()

    def stop(self) -> None:
        """End both."""
        for process in self._processes:
            if process.poll() is None:
                process.send_signal(signal.SIGTERM)
        for process in self._processes:
            with contextlib.suppress(subprocess.TimeoutExpired):
                process.wait(30)
            if process.poll() is None:
                process.kill()


def _wait(address: str, secret: str) -> None:
    """Until an outpost answers for the endpoint."""
    deadline = time.monotonic() + _JOIN_S
    with lamppost.Client(address, secret, repeats=0) as client:
        while True:
            try:
                client.predict("outage-risk", make_traffic(1, seed=1)[0])
                return
            except LampPostError:
                if time.monotonic() > deadline:
                    raise
                time.sleep(0.3)
