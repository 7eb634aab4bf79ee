"""Outposts in processes of their own, for tests."""

import os
import shutil
import subprocess
import sys
import tempfile
import unittest
from pathlib import Path
from typing import Any

import lamppost
from tests.support import http
from tests.support.lamps import run_folder
from tests.support.service import Service, free_port, take_interrupts, until
from tests.support.versions import times_lamp


class Outpost:
    """A process of ``lamppost outpost join``; `start` again serves the same data."""

    def __init__(self, hub: Service, name: str, secret: str) -> None:
        self.folder = Path(tempfile.mkdtemp(prefix="outpost-", dir=run_folder()))
        self.folder.chmod(0o755)
        self.name = name
        self.hub = hub
        self.port = free_port()
        self.address = f"http://127.0.0.1:{self.port}"
        self.log = self.folder / "log"
        (self.folder / "token").write_text(secret)
        self.options: tuple[str, ...] = ()
        self.process: subprocess.Popen[bytes] | None = None

    def run(self) -> None:
        words = ["outpost", "join", self.hub.address, "--name", self.name, "--token-file", str(self.folder / "token")]
        command = [sys.executable, "-m", "lamppost", *words, "--data", str(self.folder / "data"), "--port", str(self.port), *self.options]
        with self.log.open("ab") as log:
            self.process = subprocess.Popen(command, stdout=log, stderr=log, preexec_fn=take_interrupts, env={**os.environ})

    def start(self) -> "Outpost":
        self.run()
        until(self.ready, what="the outpost")
        return self

    def ready(self) -> bool:
        assert self.process is not None
        if self.process.poll() is not None:
            raise AssertionError(self.log.read_text())
        try:
            return http.get(f"{self.address}/health/ready").status_code == 200
        except Exception:
            return False

    def end(self) -> int:
        if self.process is None or self.process.poll() is not None:
            return 0
        self.process.terminate()
        return self.process.wait(90)

    def kill(self) -> None:
        assert self.process is not None
        self.process.kill()
        self.process.wait()

    def ask(self, x: float, endpoint: str = "times") -> tuple[float, str]:
        """The answer to x, and the version that gave it."""
        with lamppost.Client(self.address, self.hub.token, repeats=0) as client:
            answer = client.predict(endpoint, {"x": x})
        return round(answer.answers[0]["y"], 6), answer.version


class WithHub(unittest.TestCase):
    """Tests over a hub that has ``times`` in three versions."""

    hub: Service

    @classmethod
    def setUpClass(cls) -> None:
        cls.hub = Service("--allow-pickle").start()
        cls.addClassCleanup(cls.hub.remove)
        with cls.hub.client() as client:
            for factor in (2, 3, 4):
                client.push(times_lamp(factor))
            client.set_up("times", {"version": "times@1"})

    def outpost(self, name: str, **more: Any) -> Outpost:
        with self.hub.client() as client:
            added = client.fetch("POST", "/api/outposts", {"name": name, **more})
        outpost = Outpost(self.hub, name, added["secret"])
        self.addCleanup(shutil.rmtree, outpost.folder, True)
        self.addCleanup(outpost.end)
        return outpost

    def point(self, version: str | None, at: str, endpoint: str = "times") -> dict[str, Any]:
        with self.hub.client() as client:
            return dict(client.fetch("PUT", f"/api/endpoints/{endpoint}/outposts", {"at": at, "version": version}))

    def about(self, name: str) -> dict[str, Any]:
        with self.hub.client() as client:
            return dict(client.fetch("GET", f"/api/outposts/{name}"))

    def recorded(self, **params: Any) -> list[dict[str, Any]]:
        with self.hub.client() as client:
            return list(client.fetch("GET", "/api/calls", **{"endpoint": "times", "limit": 1_000, **params}))
