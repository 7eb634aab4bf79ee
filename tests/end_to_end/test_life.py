"""Starting, stopping, and being killed: what was served is served again, and nothing is left running."""

import json
import os
import signal
import socket
import threading
import unittest
from collections.abc import Iterator
from contextlib import contextmanager
from pathlib import Path

import lamppost
from demo.lamps import make_traffic
from lamppost.client import Prediction
from lamppost.core.errors import LampPostError
from tests.support.lamps import moody_lamp, outage_lamp
from tests.support.models import Companion, Moody
from tests.support.service import Service, until

ROW = make_traffic(1, seed=4)[0]


def children_of(pid: int) -> list[int]:
    """The process and all below it, by reading /proc."""
    found, at = [pid], 0
    parents: dict[int, list[int]] = {}
    for folder in Path("/proc").iterdir():
        if folder.name.isdigit():
            try:
                parent = int((folder / "stat").read_text().rpartition(")")[2].split()[1])
            except (FileNotFoundError, ProcessLookupError):
                continue
            parents.setdefault(parent, []).append(int(folder.name))
    while at < len(found):
        found += parents.get(found[at], [])
        at += 1
    return found


def alive(pid: int) -> bool:
    try:
        return "Z" not in Path(f"/proc/{pid}/stat").read_text().rpartition(")")[2].split()[0]
    except (FileNotFoundError, ProcessLookupError):
        return False


class Life(unittest.TestCase):
    """One service through all of it; every test leaves it running."""

    service: Service

    @classmethod
    def setUpClass(cls) -> None:
        cls.service = Service().start()
        cls.addClassCleanup(cls.service.remove)

    def tree(self) -> list[int]:
        assert self.service.process is not None
        return children_of(self.service.process.pid)

    def test_ctrl_c_ends_everything_and_the_next_start_serves_the_same(self) -> None:
        self.service.serve(outage_lamp())
        with self.service.client() as client:
            before = client.predict("outage-risk", ROW)
            processes = self.tree()
            self.assertGreater(len(processes), 3, "the service, PostgreSQL and its parts, a worker")
            self.assertEqual(self.service.stop(), 0)
            self.assertEqual([pid for pid in processes if alive(pid)], [])
            self.service.start()
            after = client.predict("outage-risk", ROW)
            self.assertEqual((after.answers, after.version), (before.answers, before.version))
            until(
                lambda: before.request_id in {call["request_id"] for call in client.fetch("GET", "/api/calls")},
                what="the record of the call before the stop, which the spool keeps where the stop has no time to store it",
            )
        self.assertEqual(self.service.log.read_text().count("admin token"), 1)

    def test_after_kill_9_the_next_start_serves_the_same_and_no_process_is_left(self) -> None:
        self.service.serve(outage_lamp())
        processes = self.tree()
        self.service.kill()
        until(lambda: not any(alive(pid) for pid in processes), what="the end of workers and PostgreSQL")
        self.service.start()
        with self.service.client() as client:
            self.assertEqual(client.predict("outage-risk", ROW).version, "outage-risk@1")

    @contextmanager
    def asking(self) -> Iterator[tuple[list[Prediction], list[str]]]:
        """Six callers ask all the time inside the block; what they were answered, and what went wrong."""
        stop, answered, failures = threading.Event(), [], []

        def ask() -> None:
            with self.service.client() as client:
                while not stop.is_set():
                    try:
                        answered.append(client.predict("outage-risk", ROW))
                    except LampPostError as error:
                        failures.append(error.detail)

        callers = [threading.Thread(target=ask) for _ in range(6)]
        for caller in callers:
            caller.start()
        try:
            yield answered, failures
        finally:
            stop.set()
            for caller in callers:
                caller.join()

    def test_a_killed_worker_under_load_costs_no_answer(self) -> None:
        self.service.serve(outage_lamp())
        with self.asking() as (answered, failures):
            for _ in range(2):
                already = len(answered)
                until(lambda already=already: len(answered) > already + 20)
                servers = [pid for pid in self.tree() if b"lamppost.runtime.fork_server" in Path(f"/proc/{pid}/cmdline").read_bytes()]
                for pid in {worker for server in servers for worker in children_of(server)[1:]}:
                    os.kill(pid, signal.SIGKILL)
                already = len(answered)
                until(lambda already=already: len(answered) > already + 20, what="answers after the kill")
        self.assertEqual((failures, len({said.answer["label"] for said in answered})), ([], 1))

    def test_swapping_versions_under_load_fails_no_request(self) -> None:
        self.service.serve(outage_lamp())
        with self.asking() as (answered, failures), self.service.client() as client:
            client.push(outage_lamp(), "other")
            for version in ("other@1", "outage-risk@1", "other@1"):
                client.point("outage-risk", version)
                self.assertEqual(client.predict("outage-risk", ROW).version, version)
        self.assertEqual((failures, {said.version for said in answered}), ([], {"other@1", "outage-risk@1"}))

    def test_a_body_that_comes_while_its_endpoint_is_swapped_is_answered_by_the_new_version(self) -> None:
        self.service.serve(outage_lamp())
        body = json.dumps(ROW).encode()
        head = (
            f"POST /predict/outage-risk HTTP/1.1\r\nhost: localhost\r\nauthorization: Bearer {self.service.token}\r\n"
            f"content-type: application/json\r\nconnection: close\r\ncontent-length: {len(body)}\r\n\r\n"
        )
        with socket.create_connection(("127.0.0.1", self.service.port), timeout=30) as slow, self.service.client() as client:
            slow.sendall(head.encode() + body[:10])
            for name in ("other", "third"):  # what was served last stays open for going back, what was before that does not
                client.push(outage_lamp(), name)
                client.point("outage-risk", f"{name}@1")
            until(lambda: "outage-risk@1 was closed" in self.service.log.read_text(), what="the end of the old lane")
            slow.sendall(body[10:])
            answer = b"".join(iter(lambda: slow.recv(65_536), b""))
        self.assertIn(b"200 OK", answer)
        self.assertIn(b'"version":"third@1"', answer)

    def test_a_taken_port_and_a_taken_folder_are_said_plainly(self) -> None:
        with socket.socket() as taken:
            taken.bind(("127.0.0.1", 0))
            taken.listen()
            port = str(taken.getsockname()[1])
            done = self.service.run_apart("up", "--data", "elsewhere", "--port", port)
        self.assertEqual(done.returncode, 1)
        self.assertIn(f"cannot listen on 127.0.0.1:{port} (Address already in use); choose another port with --port", done.stderr)
        done = self.service.run_apart("up", "--data", str(self.service.data), "--port", "0")
        self.assertIn(f"runs in {self.service.data} already", done.stderr)
        self.assertEqual(len(done.stderr.splitlines()), 1)


class Misfits(unittest.TestCase):
    """Versions that may not or cannot serve."""

    def setUp(self) -> None:
        self.service = Service("--allow-pickle").start()
        self.addCleanup(self.service.remove)

    def test_a_version_that_fails_its_proof_takes_no_traffic_and_what_served_goes_on(self) -> None:
        self.service.serve(moody_lamp("moody", Moody()), "doubler")
        with self.service.client() as client:
            version = client.push(moody_lamp("companion", Companion()))["version"]
            with self.assertRaises(LampPostError) as caught:
                client.point("doubler", version)
            self.assertEqual((caught.exception.code, caught.exception.status), ("proof-failed", 409))
            self.assertEqual(client.predict("doubler", {"x": 2.0}).version, "moody@1")
            self.assertEqual(client.fetch("GET", "/api/models/companion/versions/1")["proof"], "failed")
            with self.assertRaises(LampPostError) as caught:
                client.predict("doubler", {"x": Moody.CRASH})
            self.assertEqual((caught.exception.code, caught.exception.status), ("model-fault", 502))
            self.assertEqual(client.predict("doubler", {"x": 2.0}).answer, {"value": 4.0})

    def test_an_endpoint_whose_version_cannot_open_says_so_everywhere(self) -> None:
        self.service.serve(moody_lamp("moody", Moody()), "doubler")
        self.service.stop()
        self.service.options = ()  # pickles are not allowed any more
        self.service.start(ready=False)
        with self.service.client() as client:
            found = until(lambda: [e for e in client.fetch("GET", "/api/endpoints") if e["reasons"]], what="the reason")
            self.assertEqual(found[0]["state"], "down")
            for ask in (lambda: client.predict("doubler", {"x": 1.0}), lambda: client.fetch("GET", "/health/ready", endpoint="doubler")):
                with self.assertRaises(LampPostError) as caught:
                    ask()
                self.assertEqual(caught.exception.status, 503)
            self.assertIn("--allow-pickle", found[0]["reasons"][0])
            self.assertEqual(client.fetch("GET", "/health/ready")["down"], ["doubler"], "the node itself is ready")
        self.service.stop()
        self.service.options = ("--ready-needs", "all")
        self.service.start(ready=False)
        with self.service.client() as client:
            told = until(lambda: self._unready(client), what="the endpoint's failure")
            self.assertIn("these endpoints are down: doubler", told)

    def _unready(self, client: lamppost.Client) -> str:
        try:
            client.fetch("GET", "/health/ready")
        except LampPostError as error:
            return error.detail if "doubler" in error.detail else ""
        return ""
