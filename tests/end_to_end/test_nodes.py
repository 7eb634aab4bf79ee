"""Several nodes on one PostgreSQL: every change reaches all of them, and what was cut off catches up."""

import os
import signal
import tempfile
import threading
import time
import unittest
from contextlib import ExitStack
from pathlib import Path
from typing import ClassVar

from lamppost.client import Client
from lamppost.core.errors import LampPostError
from lamppost.store.postgres import PrivateServer
from tests.support import http
from tests.support.lamps import run_folder
from tests.support.service import Service, until
from tests.support.versions import times_lamp

NODES = 3


class Watcher:
    """Asks one node on and on, and notes who answered when. `last` : when a version answered for the last time."""

    def __init__(self, address: str, token: str) -> None:
        self.last: dict[str, float] = {}
        self.failed: list[str] = []
        self._stop = threading.Event()
        self._thread = threading.Thread(target=self._ask, args=(address, token))

    def __enter__(self) -> "Watcher":
        self._thread.start()
        return self

    def __exit__(self, *_: object) -> None:
        self._stop.set()
        self._thread.join()

    def _ask(self, address: str, token: str) -> None:
        with Client(address, token) as client:
            while not self._stop.is_set():
                began = time.monotonic()
                try:
                    version = client.predict("times", {"x": 1.0}).version
                except LampPostError as error:
                    self.failed.append(error.detail)
                    continue
                self.last[version] = max(began, self.last.get(version, 0.0))


class Nodes(unittest.TestCase):
    nodes: list[Service]
    clients: ClassVar[dict[str, Client]] = {}

    @classmethod
    def setUpClass(cls) -> None:
        folder = tempfile.TemporaryDirectory(dir=run_folder())
        cls.addClassCleanup(folder.cleanup)
        Path(folder.name).chmod(0o755)
        cls.postgres = PrivateServer(Path(folder.name), durable=False)
        cls.addClassCleanup(cls.postgres.stop)
        url = cls.postgres.start()
        cls.nodes = []
        for _ in range(NODES):
            node = Service("--database", url)
            cls.addClassCleanup(node.remove)
            cls.nodes.append(node.start(ready=False))
        cls.token = cls.nodes[0].token
        cls.addClassCleanup(lambda: [client.close() for client in cls.clients.values()])
        with cls.nodes[0].client() as client:
            client.push(times_lamp(1))
            client.push(times_lamp(2))
            client.point("times", "times@1")
        for node in cls.nodes:
            until(lambda at=node: cls.version(at) == "times@1", what="the endpoint on every node")

    @classmethod
    def version(cls, node: Service) -> str | None:
        try:
            return cls.clients.setdefault(node.address, node.client(cls.token)).predict("times", {"x": 1.0}).version
        except LampPostError:
            return None

    def freeze(self, number: int) -> None:
        """Stop (SIGSTOP) or go on (SIGCONT) with PostgreSQL and all that it has started."""
        pid = int((self.postgres.folder / "postmaster.pid").read_text().split()[0])
        children = [int(child) for child in Path(f"/proc/{pid}/task/{pid}/children").read_text().split()]
        for one in (pid, *children) if number == signal.SIGSTOP else (*children, pid):
            os.kill(one, number)

    def test_a_change_reaches_all_nodes_within_a_second_and_no_call_fails(self) -> None:
        first = self.nodes[0]
        with ExitStack() as stack:
            watchers = [stack.enter_context(Watcher(node.address, self.token)) for node in self.nodes]
            client = stack.enter_context(first.client(self.token))
            for _ in range(3):
                client.point("times", "times@2")
                until(lambda: all(self.version(node) == "times@2" for node in self.nodes), what="the new version everywhere")
                asked = time.monotonic()
                client.rollback("times")
                until(lambda: all(self.version(node) == "times@1" for node in self.nodes), what="the old version everywhere")
                time.sleep(0.3)
                late = [max(0.0, watcher.last["times@2"] - asked) for watcher in watchers]
                self.assertLess(max(late), 1.0, "seconds from going back to the last call that the other version answered")
        self.assertEqual([watcher.failed for watcher in watchers], [[]] * NODES)

    def test_going_back_does_not_wait_for_a_database_that_does_not_answer(self) -> None:
        with self.nodes[1].client(self.token) as client:
            client.point("times", "times@2")
            until(lambda: all(self.version(node) == "times@2" for node in self.nodes), what="the new version everywhere")
            time.sleep(0.5)
            self.freeze(signal.SIGSTOP)
            try:
                asked = time.monotonic()
                said = client.rollback("times")
                took = time.monotonic() - asked
                self.assertEqual(self.version(self.nodes[1]), "times@1", "this node has gone back already")
                self.assertEqual(self.version(self.nodes[2]), "times@2", "the others cannot know yet")
            finally:
                self.freeze(signal.SIGCONT)
            self.assertLess(took, 1.0)
            self.assertEqual((said["stored"], "This node serves it already" in said["summary"]), (False, True))
            with ExitStack() as stack:
                watchers = [stack.enter_context(Watcher(node.address, self.token)) for node in self.nodes]
                back = time.monotonic()
                until(lambda: all(self.version(node) == "times@1" for node in self.nodes), what="the old version everywhere")
                late = [watcher.last.get("times@2", back) - back for watcher in watchers]
            self.assertLess(max(late), 2.0, "seconds from the return of the database to the last call that the other version answered")
            page = until(lambda: (one := client.fetch("GET", "/api/endpoints/times"))["summary"] == "times@1" and one)
            self.assertIsNotNone(page["history"][0]["restores"], "the database has it as going back")

    def test_a_rollout_is_run_by_one_node_and_counted_by_all(self) -> None:
        with ExitStack() as stack:
            client = stack.enter_context(self.nodes[0].client(self.token))
            client.point("times", "times@1")
            plan = {"steps": [{"share": 20, "calls": 40}, {"share": 60, "calls": 40}], "guards": {"answers": None, "p99": None}}
            client.roll_out("times", "times@2", plan)
            watchers = [stack.enter_context(Watcher(node.address, self.token)) for node in self.nodes]
            until(lambda: client.fetch("GET", "/api/endpoints/times/rollouts")[0]["ended_at"], 60, "the end of the rollout")
            until(lambda: all(self.version(node) == "times@2" for node in self.nodes), what="the new version everywhere")
        said = client_of(self.nodes[2], self.token, "/api/endpoints/times/rollouts")[0]
        self.assertEqual((said["state"], len(said["calls"])), ("done", 2))
        self.assertEqual([watcher.failed for watcher in watchers], [[]] * NODES)
        actions = [one["action"] for one in client_of(self.nodes[1], self.token, "/api/trail?subject=times&limit=3")]
        self.assertEqual(actions, ["finished rollout", "moved rollout on", "began rollout"], "each step was made once")

    def test_a_database_that_is_away_during_a_rollout_is_caught_up_with(self) -> None:
        with self.nodes[0].client(self.token) as client:
            client.point("times", "times@1")
            plan = {"steps": [{"share": 50, "minutes": 60}], "guards": {"answers": None, "p99": None}}
            client.roll_out("times", "times@2", plan)
            until(lambda: {self.version(self.nodes[2]) for _ in range(6)} == {"times@1", "times@2"}, what="both versions")
            self.freeze(signal.SIGSTOP)
            time.sleep(3.0)
            self.assertIn(self.version(self.nodes[2]), ("times@1", "times@2"), "answers go on")
            self.freeze(signal.SIGCONT)
            client.fetch("POST", "/api/endpoints/times/rollout/back")
            with ExitStack() as stack:
                watchers = [stack.enter_context(Watcher(node.address, self.token)) for node in self.nodes]
                back = time.monotonic()
                until(
                    lambda: all({self.version(node) for _ in range(8)} == {"times@1"} for node in self.nodes), what="the old one everywhere"
                )
                late = [watcher.last.get("times@2", back) - back for watcher in watchers]
            self.assertLess(max(late), 2.0, "seconds from taking it back to the last call that the new version answered")


def client_of(node: Service, token: str, path: str) -> list[dict[str, object]]:
    """What a node says to a plain request."""
    answer = http.get(node.address + path, headers={"authorization": f"Bearer {token}"}, timeout=30)
    found: list[dict[str, object]] = answer.json()
    return found
