"""Several front processes on one port: what is one for a node stays one, and whatever is unusual reaches the node and comes back."""

import json
import os
import re
import shutil
import signal
import socket
import subprocess
import time
import unittest
from collections import Counter
from concurrent.futures import ThreadPoolExecutor
from pathlib import Path
from typing import Any

import httpx

from tests.end_to_end import test_parity  # not its class by itself, which would be run once more here
from tests.end_to_end.test_parity import ROW, post_lamp
from tests.support import http
from tests.support.service import Service, until

FRONTS = 2


class ParityWithFronts(test_parity.Parity):
    """The same matrix, with a front as the fast way."""

    options = ("--fronts", str(FRONTS))


class Fronts(unittest.TestCase):
    service: Service

    @classmethod
    def setUpClass(cls) -> None:
        cls.service = Service("--fronts", str(FRONTS)).start()
        cls.addClassCleanup(cls.service.remove)
        with cls.service.client() as client:
            for private in (False, True):
                client.push(post_lamp("post", private))
            client.set_up("posts", {"version": "post@1"})

    def setUp(self) -> None:
        until(lambda: self.ask(self.connections(1)[0]).status_code == 200, what="the endpoint")
        until(lambda: len(self.fronts()) == FRONTS, what="all fronts")

    def fronts(self) -> list[dict[str, Any]]:
        with self.service.client() as client:
            return list(client.fetch("GET", "/api/node")["fronts"])

    def asked_by_fronts(self) -> int:
        return sum(front["calls"] for front in self.fronts())

    def connections(self, count: int, token: str | None = None) -> list[httpx.Client]:
        """Clients with a connection each, which the kernel gives to one front or another."""
        headers = {"authorization": f"Bearer {token or self.service.token}"}
        made = [http.client(base_url=self.service.address, headers=headers, timeout=30) for _ in range(count)]
        for client in made:
            self.addCleanup(client.close)
        return made

    def ask(self, client: httpx.Client, endpoint: str = "posts") -> httpx.Response:
        return client.post(f"/predict/{endpoint}", json=ROW)

    # -- one for the node -----------------------------------------------------------------------------------------------------

    def test_every_call_is_answered_recorded_and_counted_once(self) -> None:
        with self.service.client() as client:
            client.set_up("counted", {"version": "post@1"})
        clients = self.connections(8)
        before = self.asked_by_fronts()
        with ThreadPoolExecutor(8) as pool:
            ids = [
                answer.json()["request_id"]
                for answers in pool.map(lambda one: [self.ask(one, "counted") for _ in range(40)], clients)
                for answer in answers
            ]
        self.assertEqual(len(set(ids)), 320)
        self.assertEqual(self.asked_by_fronts() - before, 320)
        self.assertTrue(all(front["calls"] for front in self.fronts()), "each front had some")
        until(lambda: self.counted() == 320, what="the count of /metrics")
        with self.service.client() as client:
            until(lambda: client.fetch("GET", "/api/node")["records_waiting"] == 0, what="all records")
            for one in ids:
                self.assertEqual(client.fetch("GET", f"/api/calls/{one}")["status"], 200)

    def counted(self) -> int:
        text = http.get(f"{self.service.address}/metrics", headers={"authorization": f"Bearer {self.service.token}"}).text
        found = [line for line in text.splitlines() if line.startswith('lamppost_calls_total{endpoint="counted",status="200"')]
        return sum(int(float(line.rpartition("} ")[2].split()[0])) for line in found)

    def test_a_rate_holds_over_all_fronts(self) -> None:
        with self.service.client() as client:
            secret = client.fetch("POST", "/api/tokens", {"name": "rated", "role": "caller", "rate_per_s": 20})["secret"]
        clients = self.connections(6, secret)
        begun = time.monotonic()
        with ThreadPoolExecutor(6) as pool:
            statuses = Counter(
                status for found in pool.map(lambda one: [self.ask(one).status_code for _ in range(15)], clients) for status in found
            )
        most = 20 + 20 * (time.monotonic() - begun)
        self.assertEqual(set(statuses), {200, 429})
        self.assertGreaterEqual(statuses[200], 20)
        self.assertLessEqual(statuses[200], most + 1)

    def test_shares_are_exact_to_within_the_number_of_fronts(self) -> None:
        with self.service.client() as client:
            client.set_up("halves", {"shares": {"of": {"post@1": 25, "post@2": 75}}})
        clients = self.connections(6)
        before = self.asked_by_fronts()
        until(lambda: self.ask(clients[0], "halves").status_code == 200, what="the shares")
        versions = Counter(self.ask(clients[at % 6], "halves").json()["version"] for at in range(240))
        self.assertGreaterEqual(self.asked_by_fronts() - before, 240 - 6, "fronts chose the versions")
        self.assertLessEqual(abs(versions["post@1"] - 60), 2 * FRONTS, versions)

    def test_a_change_holds_for_the_next_call_of_every_connection(self) -> None:
        clients = self.connections(6)
        for version in ("post@2", "post@1", "post@2"):
            with self.service.client() as client:
                client.set_up("moving", {"version": version})
            self.assertEqual({self.ask(one, "moving").json()["version"] for one in clients}, {version})
        with self.service.client() as client:
            secret = client.fetch("POST", "/api/tokens", {"name": "leaving", "role": "caller"})["secret"]
            clients = self.connections(6, secret)
            self.assertEqual({self.ask(one).status_code for one in clients}, {200})
            client.fetch("DELETE", "/api/tokens/leaving")
        self.assertEqual({self.ask(one).status_code for one in clients}, {401})

    # -- what is not usual ----------------------------------------------------------------------------------------------------

    def test_a_connection_goes_to_the_node_and_comes_back(self) -> None:
        (client,) = self.connections(1)
        self.assertEqual(self.ask(client).status_code, 200)
        csv = "district,age,load\nmill,41.5,0.25\n"
        for _ in range(3):
            self.assertEqual(client.post("/predict/posts", content=csv, headers={"content-type": "text/csv"}).status_code, 200)
            self.assertEqual(client.get("/api/node").status_code, 200)
            self.assertEqual(self.ask(client).status_code, 200, "answered by the node, which gives the connection back")
            before = self.asked_by_fronts()
            self.assertEqual([self.ask(client).status_code for _ in range(5)], [200] * 5)
            self.assertEqual(self.asked_by_fronts() - before, 5)

    def test_requests_sent_without_waiting_are_answered_in_their_order(self) -> None:
        usual, odd = self.raw(ROW), self.raw(ROW, "priority: u=3\r\n")
        refused = self.raw(ROW | {"age": 999.0})
        live = b"GET /health/live HTTP/1.1\r\nhost: localhost\r\n\r\n"
        last = self.raw(ROW, "connection: close\r\n")
        for pieces in ((usual, usual, odd, live, usual, refused, usual, last), (refused, live, refused, usual, odd, last)):
            with self.subTest(len(pieces)), socket.create_connection(("127.0.0.1", self.service.port), timeout=30) as sock:
                sock.sendall(b"".join(pieces))
                said = b"".join(iter(lambda: sock.recv(65_536), b""))
            statuses = [int(status) for status in re.findall(rb"HTTP/1\.1 (\d+) ", said)]
            self.assertEqual(statuses, [422 if piece is refused else 200 for piece in pieces], said)

    def raw(self, row: dict[str, Any], more: str = "") -> bytes:
        body = json.dumps(row).encode()
        head = (
            f"POST /predict/posts HTTP/1.1\r\nhost: localhost\r\nauthorization: Bearer {self.service.token}\r\n"
            f"content-type: application/json\r\ncontent-length: {len(body)}\r\n{more}\r\n"
        )
        return head.encode() + body

    def test_requests_that_come_slowly_or_are_large_or_are_none(self) -> None:
        whole = self.raw(ROW, "connection: close\r\n")
        for pieces in ([whole[at : at + 1] for at in range(len(whole))], [whole[:40], whole[40:-5], whole[-5:]]):
            with socket.create_connection(("127.0.0.1", self.service.port), timeout=30) as sock:
                sock.setsockopt(socket.IPPROTO_TCP, socket.TCP_NODELAY, 1)
                for piece in pieces:
                    sock.sendall(piece)
                    time.sleep(0.7 if len(pieces) < 5 else 0.002)
                self.assertTrue(b"".join(iter(lambda: sock.recv(65_536), b"")).startswith(b"HTTP/1.1 200"))
        (client,) = self.connections(1)
        many = client.post("/predict/posts", json={"rows": [ROW] * 9_000})
        self.assertEqual((many.status_code, len(many.json()["answers"])), (200, 9_000))
        with socket.create_connection(("127.0.0.1", self.service.port), timeout=30) as sock:
            sock.sendall(b"\x16\x03\x01 hello?\r\n\r\n")
            self.assertTrue(sock.recv(65_536).startswith(b"HTTP/1.1 400"))
        elsewhere = client.post("/predict/posts", json=ROW, headers={"host": "lamps.example"})
        self.assertEqual(elsewhere.status_code, 421)
        self.assertEqual(self.ask(client, "nowhere").status_code, 404)

    # -- processes that end ----------------------------------------------------------------------------------------------------

    def test_a_front_that_is_killed_costs_its_own_connections_and_another_takes_its_place(self) -> None:
        clients = self.connections(12)
        self.assertEqual({self.ask(one).status_code for one in clients}, {200})
        killed = self.fronts()[0]["pid"]
        os.kill(killed, signal.SIGKILL)
        lost = 0
        for one in clients:
            try:
                self.assertEqual(self.ask(one).status_code, 200)
            except httpx.TransportError:
                lost += 1
        self.assertLess(lost, 12, "those of the other front go on")
        until(lambda: len(self.fronts()) == FRONTS and killed not in {front["pid"] for front in self.fronts()}, what="another front")
        self.assertEqual({self.ask(one).status_code for one in self.connections(12)}, {200})
        self.assertIn("SIGKILL", self.service.log.read_text())

    def test_fronts_end_with_the_node_and_the_port_is_free_again(self) -> None:
        service = Service("--fronts", "2").start()
        self.addCleanup(service.remove)
        for end in (service.kill, service.stop):
            with service.client() as client:
                pids = [front["pid"] for front in client.fetch("GET", "/api/node")["fronts"]]
            self.assertEqual(len(pids), 2)
            end()
            until(lambda: not any(self.runs(pid) for pid in pids), 15, "the end of the fronts")  # noqa: B023 - called at once
            service.start()

    @staticmethod
    def runs(pid: int) -> bool:
        try:
            return b"front_process" in Path(f"/proc/{pid}/cmdline").read_bytes()
        except OSError:
            return False

    def test_what_cannot_be_started_is_said(self) -> None:
        taken = Service("--fronts", "2")
        self.addCleanup(shutil.rmtree, taken.folder, True)
        done = taken.run_apart("up", "--data", str(taken.data), "--port", str(self.service.port), "--fronts", "2")
        self.assertEqual(done.returncode, 1)
        self.assertIn("choose another port", done.stderr + done.stdout)
        folder = taken.folder
        subprocess.run(
            ["openssl", "req", "-x509", "-newkey", "rsa:2048", "-nodes", "-keyout", folder / "key.pem", "-out", folder / "cert.pem",
             "-days", "1", "-subj", "/CN=localhost"],
            check=True,
            capture_output=True,
        )  # fmt: skip
        tls = ("--tls-cert", str(folder / "cert.pem"), "--tls-key", str(folder / "key.pem"))
        done = taken.run_apart("up", "--data", str(taken.data), "--port", str(taken.port), "--fronts", "2", *tls)
        self.assertEqual(done.returncode, 1)
        self.assertIn("--fronts and --tls-cert do not go together", " ".join((done.stderr + done.stdout).split()))
