"""Everything that can end is ended under load: every request gets its right answer, and only what was killed starts again."""

import os
import signal
import threading
import time
import unittest
from collections import Counter
from pathlib import Path
from typing import Any

from demo.lamps import make_traffic
from lamppost.client import Client
from lamppost.core.errors import DatabaseAway, LampPostError, ServerUnreachable
from tests.support.lamps import moody_lamp, outage_lamp
from tests.support.models import Moody
from tests.support.service import Service, until

ROWS = make_traffic(40, seed=11)
AWAY_S = float(os.environ.get("LAMPPOST_AWAY_S", "20"))


class Load:
    """Callers that ask in turn and hold every answer against what it must be. `lost` : requests that got no answer."""

    def __init__(self, service: Service, wanted: list[Any]) -> None:
        self.right = self.wrong = self.lost = 0
        self.problems: Counter[str] = Counter()
        self._stop = threading.Event()
        self._service = service
        self._wanted = wanted
        self._threads = [threading.Thread(target=self._call, args=(at,)) for at in range(6)]

    def __enter__(self) -> "Load":
        for thread in self._threads:
            thread.start()
        return self

    def __exit__(self, *_: object) -> None:
        self._stop.set()
        for thread in self._threads:
            thread.join()

    def _call(self, at: int) -> None:
        with self._service.client() as client:
            while not self._stop.is_set():
                at += 1
                try:
                    said = client.predict("outage-risk", ROWS[at % len(ROWS)]).answer
                except ServerUnreachable:
                    self.lost += 1
                    time.sleep(0.05)
                except LampPostError as error:
                    self.problems[f"{error.status} {error.detail}"] += 1
                else:
                    same = said["label"] == self._wanted[at % len(ROWS)]["label"]
                    close = abs(said["scores"]["fails"] - self._wanted[at % len(ROWS)]["scores"]["fails"]) < 1e-9
                    self.right, self.wrong = self.right + (same and close), self.wrong + (not (same and close))

    def more(self, count: int = 50) -> None:
        """Wait until so many more right answers have come."""
        goal = self.right + count
        until(lambda: self.right >= goal, 60, f"{count} more answers")


class Faults(unittest.TestCase):
    service: Service

    @classmethod
    def setUpClass(cls) -> None:
        cls.service = Service("--allow-pickle", "--memory", "2GB", "--spool", "1MB").start()
        cls.addClassCleanup(cls.service.remove)
        cls.service.serve(outage_lamp())
        for name in ("moody", "leaky", "garbler"):
            cls.service.serve(moody_lamp(name, Moody()), name)
        with cls.service.client() as client:
            client.set_up("moody", {"version": "moody@1", "lane": {"run_s": 1.0}})
            cls.wanted = client.predict("outage-risk", ROWS).answers

    def pids(self, version: str) -> list[int]:
        with self.service.client() as client:
            lanes = client.fetch("GET", "/api/lanes")["lanes"]
        return [pid for lane in lanes if lane["version"] == version for pid in lane["pids"]]

    def test_nothing_is_lost_and_nothing_is_wrong(self) -> None:
        assert self.service.process is not None
        service = self.service.process.pid
        with Load(self.service, self.wanted) as load:
            load.more()
            for _ in range(3):  # its own worker, again and again
                for pid in until(lambda: self.pids("outage-risk@1"), what="a worker"):
                    os.kill(pid, signal.SIGKILL)
                load.more()
            with self.service.client() as client:  # a neighbour that crashes, and one that hangs
                for mood in (Moody.CRASH, Moody.HANG, Moody.FAIL):
                    with self.assertRaises(LampPostError) as caught:
                        client.predict("moody", {"x": mood})
                    self.assertEqual(caught.exception.status, 502)
                self.assertEqual(client.predict("moody", {"x": 4.0}).answer, {"value": 8.0})
                (leaking,) = self.pids("leaky@1")
                until(lambda: self.leak(client) or self.pids("leaky@1") != [leaking], 60, "the end of the one that leaks")
                self.assertEqual(client.predict("leaky", {"x": 4.0}).answer, {"value": 8.0})
                with self.assertRaises(LampPostError) as caught:  # bytes where a frame is due
                    client.predict("garbler", {"x": Moody.GARBLE})
                self.assertEqual(caught.exception.status, 502)
                self.assertEqual(client.predict("garbler", {"x": 4.0}).answer, {"value": 8.0})
            load.more()
            for pid in until(lambda: self.pids("outage-risk@1"), what="a worker"):  # stopped, not ended: as one that hangs
                os.kill(pid, signal.SIGSTOP)
                time.sleep(0.5)
                os.kill(pid, signal.SIGCONT)
            load.more()
            postgres = int((self.service.data / "postgres" / "postmaster.pid").read_text().split()[0])
            os.kill(postgres, signal.SIGSTOP)  # takes no new connections
            children = [int(pid) for pid in Path(f"/proc/{postgres}/task/{postgres}/children").read_text().split()]
            for pid in children:  # and answers on none of the old ones
                os.kill(pid, signal.SIGSTOP)
            before = load.right
            time.sleep(AWAY_S)
            self.assertGreater(load.right - before, 50, "the database is not on the way of an answer")
            for pid in (*children, postgres):
                os.kill(pid, signal.SIGCONT)
            load.more()
        self.assertEqual((load.wrong, load.lost, dict(load.problems)), (0, 0, {}))
        self.assertEqual(self.service.process.pid, service)
        self.assertIsNone(self.service.process.poll(), "the service was never the one that ended")
        recorded = until(lambda: self.recorded() >= load.right, 30, "every call in the records")
        self.assertTrue(recorded)
        with self.service.client() as client:
            node = client.fetch("GET", "/api/node")
        self.assertGreater(node["payloads_given_up"], 0, "what waited was more than the spool may hold")
        self.assertEqual(node["records_dropped"], 0)

    def leak(self, client: Client) -> None:
        try:
            client.predict("leaky", {"x": Moody.LEAK})
        except LampPostError as error:
            self.assertIn(error.status, (502, 503))

    def recorded(self) -> int:
        with self.service.client() as client:
            try:
                return int(client.fetch("GET", "/api/endpoints/outage-risk")["last_hour"]["calls"]) - 1
            except DatabaseAway:  # it catches up with all that waited for it
                return 0

    def test_after_kill_9_it_serves_what_it_served(self) -> None:
        with Load(self.service, self.wanted) as load:
            load.more()
            self.service.kill()
            time.sleep(0.3)
            self.service.start()
            load.more()
        self.assertEqual(load.wrong, 0)
        told = {problem for problem in load.problems if "this node is starting" not in problem}
        self.assertEqual(told, set(), "while it starts it says so, with a time to come back")
        with Client(self.service.address, self.service.token) as client:
            self.assertEqual(client.predict("moody", {"x": 5.0}).answer, {"value": 10.0})
