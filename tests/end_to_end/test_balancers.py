"""Three nodes behind other people's balancers, configured as in ``ops/``: no call fails while a node goes, politely or not."""

import re
import shutil
import signal
import subprocess
import tempfile
import threading
import unittest
from pathlib import Path

import httpx

from lamppost.client import Client
from lamppost.core.errors import LampPostError
from lamppost.store.postgres import PrivateServer
from tests.support import http
from tests.support.lamps import run_folder
from tests.support.service import Service, free_port, until
from tests.support.versions import times_lamp

OPS = Path(__file__).resolve().parents[2] / "ops"
CALLERS = 4


class Callers:
    """Several callers, each of whom asks one address on and on. failed : what was not answered. versions : who answered."""

    def __init__(self, address: str, token: str) -> None:
        self.failed: list[str] = []
        self.versions: list[str] = []
        self._stop = threading.Event()
        self._threads = [threading.Thread(target=self._ask, args=(address, token)) for _ in range(CALLERS)]

    def __enter__(self) -> "Callers":
        for thread in self._threads:
            thread.start()
        self.wait_for(50)
        return self

    def __exit__(self, *_: object) -> None:
        self._stop.set()
        for thread in self._threads:
            thread.join()

    def wait_for(self, calls: int) -> None:
        """Return after so many more answers."""
        there = len(self.versions)
        until(lambda: len(self.versions) >= there + calls or len(self.failed) > 100, what="answers through the balancer")

    def _ask(self, address: str, token: str) -> None:
        with Client(address, token, repeats=1) as client:
            while not self._stop.is_set():
                try:
                    self.versions.append(client.predict("times", {"x": 1.0}).version)
                except LampPostError as error:
                    self.failed.append(error.detail)


class Balanced(unittest.TestCase):
    """Starts three nodes, and a balancer whose program and configuration a subclass names."""

    def setUp(self) -> None:
        folder = tempfile.TemporaryDirectory(dir=run_folder())
        self.addCleanup(folder.cleanup)
        self.folder = Path(folder.name)
        self.folder.chmod(0o755)
        postgres = PrivateServer(self.folder, durable=False)
        self.addCleanup(postgres.stop)
        url = postgres.start()
        self.nodes = []
        for _ in range(3):
            node = Service("--database", url, "--drain", "2", "--trust-proxy", "127.0.0.1")
            self.addCleanup(node.remove)
            self.nodes.append(node.start(ready=False))
        self.token = self.nodes[0].token
        with self.nodes[0].client() as client:
            for factor in (1, 2):
                client.point("times", client.push(times_lamp(factor)))
        for node in self.nodes:
            until(lambda at=node: self.ask(at) == "times@2", what="the endpoint on every node")

    def ask(self, node: Service) -> str | None:
        try:
            with node.client(self.token) as client:
                return client.predict("times", {"x": 1.0}).version
        except LampPostError:
            return None

    def configured(self, name: str) -> tuple[Path, str]:
        """The configuration of ``ops/`` with the ports of this test, and the balancer's address."""
        text = (OPS / name).read_text()
        port = free_port()
        for shipped, actual in zip((8421, 8422, 8423, 8080), (*(node.port for node in self.nodes), port), strict=True):
            text, found = re.subn(rf"127\.0\.0\.1:{shipped}\b", f"127.0.0.1:{actual}", text)
            self.assertEqual(found, 1, shipped)
        text = text.replace("/run/lamppost-nginx.pid", str(self.folder / "nginx.pid"))
        file = self.folder / name
        file.write_text(text)
        return file, f"http://127.0.0.1:{port}"

    def start(self, address: str, *words: str) -> None:
        program = shutil.which(words[0]) or shutil.which(words[0], path="/usr/sbin")
        if program is None:
            self.skipTest(f"{words[0]} is not on this machine")
        with (self.folder / "balancer.log").open("wb") as log:
            process = subprocess.Popen([program, *words[1:]], stdout=log, stderr=log)
        self.addCleanup(process.wait)
        self.addCleanup(process.terminate)

        def answers() -> bool:
            try:
                return http.get(f"{address}/health/ready").status_code == 200
            except httpx.TransportError:
                self.assertIsNone(process.poll(), (self.folder / "balancer.log").read_text())
                return False

        until(answers, what="the balancer")

    def check_that_no_call_fails(self, address: str) -> None:
        first, second, third = self.nodes
        with Callers(address, self.token) as callers:
            with second.client(self.token) as client:
                client.rollback("times")
            until(lambda: callers.versions[-1] == "times@1", what="the earlier version")
            callers.wait_for(100)
            with Client(address, self.token) as client:  # a change through the balancer
                client.point("times", "times@2")
            until(lambda: callers.versions[-1] == "times@2", what="the later version")
            callers.wait_for(100)
            assert third.process is not None
            third.process.send_signal(signal.SIGTERM)
            third.process.wait(60)
            callers.wait_for(100)
            first.kill()
            callers.wait_for(200)
            first.start()
            callers.wait_for(100)
        self.assertEqual(callers.failed, [])
        with second.client(self.token) as client:
            self.assertEqual({entry["address"] for entry in client.fetch("GET", "/api/trail", limit=5)}, {"127.0.0.1"})


class Haproxy(Balanced):
    def test_no_call_fails_through_haproxy(self) -> None:
        file, address = self.configured("haproxy.cfg")
        self.start(address, "haproxy", "-f", str(file))
        self.check_that_no_call_fails(address)


class Nginx(Balanced):
    def test_no_call_fails_through_nginx(self) -> None:
        file, address = self.configured("nginx.conf")
        self.start(address, "nginx", "-c", str(file), "-g", "daemon off; master_process off;")
        self.check_that_no_call_fails(address)


del Balanced  # its subclasses are the tests
