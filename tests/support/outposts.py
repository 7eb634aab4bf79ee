"""Outposts in processes of their own, for tests."""

import os
import subprocess
import sys
import tempfile
from pathlib import Path

import lamppost
from tests.support import http
from tests.support.lamps import run_folder
from tests.support.service import Service, free_port, take_interrupts, until


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
