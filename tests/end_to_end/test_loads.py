"""Loads over a real service: what they measure, that they are marked and counted as no traffic, and what is refused."""

import json
import os
import signal
import subprocess
import unittest
from typing import Any, ClassVar

from demo.lamps import make_traffic
from lamppost.core.errors import Conflict, LampPostError, NotAllowed
from tests.support.lamps import moody_lamp, outage_lamp
from tests.support.models import Moody
from tests.support.service import Service, take_interrupts, until


class Loads(unittest.TestCase):
    service: ClassVar[Service]

    @classmethod
    def setUpClass(cls) -> None:
        cls.service = Service("--allow-pickle").start()
        cls.addClassCleanup(cls.service.remove)
        cls.service.serve(outage_lamp())
        cls.service.serve(moody_lamp("moody-load", Moody()), "moody")

    def load(self, *words: str, code: int = 0) -> dict[str, Any]:
        done = self.service.run("load", *words, "--json")
        self.assertEqual(done.returncode, code, done.stderr)
        found: dict[str, Any] = json.loads(done.stdout) if code == 0 else {"said": done.stderr}
        return found

    def test_a_load_measures_real_calls_and_is_kept_and_compared(self) -> None:
        first = self.load("outage-risk", "--clients", "1,4", "--for", "3s", "--name", "first")
        self.assertEqual(first["plan"]["rows"], "the reference")
        self.assertEqual([step["clients"] for step in first["steps"]], [1, 4])
        for step in first["steps"]:
            self.assertGreater(step["calls"], 20)
            self.assertEqual(step["errors"], 0)
            self.assertEqual(step["versions"], {"outage-risk": {"outage-risk@1": step["calls"]}})
            self.assertLessEqual(step["p50_ms"], step["p99_ms"])
            self.assertLessEqual(step["p99_ms"], 1.05 * step["most_ms"])
            self.assertLessEqual({"queue", "worker", "total"}, step["phases_p50_ms"].keys())
        self.load("outage-risk", "--clients", "4", "--for", "3s", "--name", "second")
        compared = json.loads(self.service.run("loads", "second", "--against", "first", "--json").stdout)
        self.assertEqual([(one["clients"], one["figure"]) for one in compared], [(4, "requests/s"), (4, "p50 ms"), (4, "p99 ms")])
        self.assertIn("interval", self.service.run("loads", "second", "--against", "first").stdout)
        self.assertIn("first", self.service.run("loads").stdout)
        self.assertEqual(self.service.run("loads", "second", "--forget").returncode, 0)
        self.assertEqual(self.service.run("loads", "second").returncode, 1)

    def test_its_calls_are_recorded_marked_and_counted_as_no_traffic(self) -> None:
        with self.service.client() as client:
            row = make_traffic(1, seed=4)[0]
            for _ in range(30):
                client.predict("outage-risk", row)
            until(lambda: len(client.fetch("GET", "/api/calls", endpoint="outage-risk", limit=50)) >= 30, 30, "their records")
            before = client.fetch("GET", "/api/endpoints/outage-risk/traffic")
            loaded = self.load("outage-risk", "--clients", "2", "--for", "2s", "--rows", "records", "--name", "marked")
            self.assertEqual(loaded["plan"]["rows"], "recorded calls")
            calls = until(lambda: client.fetch("GET", "/api/calls", endpoint="outage-risk", token="load:marked", limit=5), 30, "its calls")
            self.assertEqual({call["token"] for call in calls}, {"load:marked"})
            self.assertNotIn("load:marked", {call["token"] for call in client.fetch("GET", "/api/calls", endpoint="outage-risk", limit=50)})
            after = client.fetch("GET", "/api/endpoints/outage-risk/traffic")
            counted = sum(step["calls"] for step in after["moments"]) - sum(step["calls"] for step in before["moments"])
            self.assertLessEqual(counted, 30, "no more than the calls before")
            self.assertNotIn("load:marked", {token["name"] for token in client.fetch("GET", "/api/tokens")})
            metrics = client.fetch_bytes("/metrics").decode()
            total = sum(float(line.rpartition(" ")[2]) for line in metrics.splitlines() if line.startswith("lamppost_calls_total"))
            self.assertLess(total, 200)

    def test_an_open_loop_counts_from_when_a_call_was_due(self) -> None:
        found = self.load("moody", "--clients", "1", "--for", "3s", "--rate", "40", "--rows", str(self.rows(Moody.SLOW)))
        (step,) = found["steps"]
        self.assertGreater(step["late"], 0)
        self.assertGreater(step["p99_ms"], 1_000, "the wait for a free client counts")
        self.assertIn("not sent in time", step["errors_by_kind"])

    def rows(self, *values: float) -> Any:
        file = self.service.folder / "rows.ndjson"
        file.write_text("".join(json.dumps({"x": value}) + "\n" for value in values))
        return file

    def test_errors_are_told_by_kind_and_endpoint(self) -> None:
        found = self.load("moody", "outage-risk", "--clients", "2", "--for", "2s", "--rows", str(self.rows(1.0, 2.0)))
        (step,) = found["steps"]
        self.assertEqual(list(step["errors_by_kind"]), ["422"])
        self.assertEqual(list(step["versions"]), ["moody"])

    def test_what_is_refused_says_why(self) -> None:
        for words, part in (
            (("nowhere",), "nowhere"),
            (("outage-risk", "--clients", "many"), "write 1,8,64"),
            (("outage-risk", "--for", "long"), "write 20s"),
            (("outage-risk", "--rows", "no-such-file"), "neither records, nor reference, nor a file"),
            (("outage-risk", "--order", "backwards"), "order"),
        ):
            with self.subTest(words):
                self.assertIn(part, self.load(*words, code=1)["said"])
        with self.service.client() as admin:
            secret = admin.fetch("POST", "/api/tokens", {"name": "looks-at-loads", "role": "viewer"})["secret"]
        with self.service.client(secret) as viewer, self.assertRaises(NotAllowed):
            viewer.fetch("POST", "/api/loads", {"plan": {"endpoints": ["outage-risk"]}})

    def test_a_service_on_another_machine_needs_a_word(self) -> None:
        done = self.service.run("load", "outage-risk", "--address", "http://192.0.2.1:8420")
        self.assertEqual((done.returncode, "--elsewhere" in done.stderr), (1, True))

    def test_two_at_once_are_refused_and_one_that_is_broken_off_keeps_what_it_has(self) -> None:
        words = ("load", "outage-risk", "--clients", "1,2,3,4,5,6", "--for", "2s", "--name", "broken-off")
        environment = {**os.environ, **self.service.environment, "PYTHONUNBUFFERED": "1"}
        going = subprocess.Popen(
            self.service.command(*words),
            stdout=subprocess.PIPE,
            text=True,
            env=environment,
            cwd=self.service.folder,
            preexec_fn=take_interrupts,
        )
        self.addCleanup(going.wait)
        self.addCleanup(going.kill)
        with self.service.client() as client:
            until(lambda: [one for one in client.fetch("GET", "/api/loads") if one["name"] == "broken-off"], 20, "the load")
            page = client.fetch("GET", "/api/endpoints/outage-risk")
            self.assertEqual(page["load"]["name"], "broken-off")
            with self.assertRaises(Conflict) as caught:
                client.fetch("POST", "/api/loads", {"plan": {"endpoints": ["outage-risk"]}})
            self.assertIn("broken-off", str(caught.exception))
            assert going.stdout is not None
            for line in going.stdout:
                if line.strip().startswith("1 "):  # the first step is done
                    break
            going.send_signal(signal.SIGINT)
            said = going.communicate(timeout=30)[0]
            self.assertIn("broken off", said)
            kept = client.fetch("GET", "/api/loads/broken-off")
            done = [step["clients"] for step in kept["steps"]]
            self.assertEqual(done, [1, 2, 3, 4, 5][: len(done)])
            self.assertGreater(len(done), 0)
            self.assertIsNone(client.fetch("GET", "/api/endpoints/outage-risk")["load"])
            with self.assertRaises(LampPostError):
                client.fetch("PUT", "/api/loads/broken-off/result", {"steps": [{"clients": "many"}]})
