"""Sweeps over a real service: what they measure and pick, what fails, and what becomes of those that are interrupted."""

import json
import os
import signal
import subprocess
import unittest
from pathlib import Path
from typing import Any, ClassVar

from sklearn.linear_model import LogisticRegression

from demo.train import train_outage_risk
from lamppost.client import Client
from lamppost.core.errors import BadRequest, Conflict, NotAllowed, NotFound
from lamppost.packing.build import build_package
from lamppost.packing.recipe import Recipe
from tests.support.lamps import moody_lamp, outage_lamp, run_folder
from tests.support.models import Moody
from tests.support.service import Service, take_interrupts, until

VERSION = "outage-risk@1"
SHORT = ("--each", "1s", "--clients", "8", "--max-rows", "16,256", "--linger-ms", "0", "--threads", "1")


def ended(client: Client, name: str, patience_s: float = 120.0) -> dict[str, Any]:
    def look() -> dict[str, Any] | None:
        found: dict[str, Any] = client.fetch("GET", f"/api/sweeps/{name}")
        return found if found["ended_at"] is not None else None

    return until(look, patience_s, f"the end of {name}")


class Sweeps(unittest.TestCase):
    service: ClassVar[Service]

    @classmethod
    def setUpClass(cls) -> None:
        cls.service = Service("--allow-pickle").start()
        cls.addClassCleanup(cls.service.remove)
        cls.service.serve(outage_lamp())

    def command(self, *words: str, code: int = 0) -> str:
        done = self.service.run("sweep", *words)
        self.assertEqual(done.returncode, code, done.stdout + done.stderr)
        return done.stdout if code == 0 else done.stdout + done.stderr

    def test_settings_are_measured_picked_again_and_used(self) -> None:
        said = self.command(VERSION, *SHORT, "--copies", "1,2", "--limit", "p99=1s", "--for", "90s", "--name", "first")
        self.assertIn("the most throughput with p99 at most 1,000 ms", said)
        with self.service.client() as client:
            found = client.fetch("GET", "/api/sweeps/first")
            self.assertEqual((found["state"], found["combinations"], found["plan"]["rows"]), ("finished", 8, "the reference"))
            self.assertEqual({setting["form"] for setting in found["settings"]}, {"compiled", "original"})
            for setting in found["settings"]:
                self.assertIsNone(setting["failed"])
                self.assertEqual(setting["errors"], 0)
                figures = setting["figures"]
                self.assertGreater(figures["throughput"]["median"], 10)
                self.assertLessEqual(figures["p50"]["median"], figures["p99"]["median"])
                self.assertGreater(figures["memory"]["median"], 1e6)
                self.assertEqual(set(setting["phases_p50_ms"]), {"read and write", "queue", "worker"})
            copies = {
                setting["copies"]: setting["figures"]["memory"]["median"] for setting in found["settings"] if setting["form"] == "original"
            }
            if len(copies) == 2:
                self.assertGreater(copies[2], 1.5 * copies[1])
            pick = found["settings"][found["picked"]["pick"]]
            self.assertEqual(pick["form"], "compiled")

            again = client.fetch("GET", "/api/sweeps/first/pick", limit="p99=0.001ms")
            self.assertIsNone(again["pick"])
            self.assertIn("no setting has p99 at most 0.001 ms; nearest is", again["sentences"][0])
            self.assertIn("no setting has p99", self.command("pick", "first", "--limit", "p99=1us", code=1))
            least = client.fetch("GET", "/api/sweeps/first/pick", goal="memory")
            self.assertEqual(found["settings"][least["pick"]]["copies"], 1)

            self.assertIn("lane.max_rows", self.command("pick", "first", "--use", "outage-risk", "--check"))
            self.assertNotIn("max_rows", {key for key, value in self.lane(client).items() if value is not None})
            used = self.command("pick", "first", "--use", "outage-risk")
            self.assertIn("undo", used)
            self.assertEqual((self.lane(client)["max_rows"], self.lane(client)["form"]), (pick["max_rows"], "compiled"))
            self.assertIn("nothing changes", self.command("pick", "first", "--use", "outage-risk"))
            undo = used.rpartition("undo: lamppost ")[2].split()
            self.assertEqual(self.service.run(*undo).returncode, 0)
            self.assertNotIn("max_rows", {key for key, value in self.lane(client).items() if value is not None})

            for form, begins in (("html", b"<!doctype html>"), ("pdf", b"%PDF-")):
                page = client.fetch_bytes("/api/sweeps/first/report", form=form)
                self.assertTrue(page.startswith(begins), page[:80])
            file = self.service.folder / "first.pdf"
            self.command("report", "first", "--to", str(file))
            self.assertGreater(file.stat().st_size, 5_000)
            self.assertIn("first", self.command("list"))
            self.assertIn("pick", self.command("show", "first", "--all"))

            self.command("forget", "first")
            with self.assertRaisesRegex(NotFound, "there is no sweep first"):
                client.fetch("GET", "/api/sweeps/first")

    def lane(self, client: Client) -> dict[str, Any]:
        setup = client.fetch("GET", "/api/endpoints/outage-risk")["setup"]
        lane: dict[str, Any] = setup.get("lane") or {}
        return lane

    def test_ctrl_c_keeps_what_was_measured_and_resume_goes_on(self) -> None:
        command = self.service.command("sweep", "start", VERSION, *SHORT, "--copies", "1", "--name", "broken-off")
        begun = subprocess.Popen(
            command, env=self.service.environment, stdout=subprocess.PIPE, stderr=subprocess.PIPE, text=True, preexec_fn=take_interrupts
        )
        with begun, self.service.client() as client:
            until(lambda: self.measured(client, "broken-off"), 150, "a measurement")
            os.kill(begun.pid, signal.SIGINT)
            said, _ = begun.communicate(timeout=60)
            self.assertIn("what was measured is kept", said)
            stopped = ended(client, "broken-off")
            self.assertEqual(stopped["state"], "stopped")
            self.command("resume", "broken-off", "--for", "10s", "--no-wait")
            resumed = ended(client, "broken-off")
            self.assertEqual(resumed["state"], "finished")
            self.assertGreater(resumed["repeats"], stopped["repeats"])
            kept = {setting["sentence"] for setting in stopped["settings"]}
            self.assertLessEqual(kept, {setting["sentence"] for setting in resumed["settings"]})

    def test_two_versions_are_measured_over_each_other(self) -> None:
        light = run_folder() / "outage-light.lamp"
        _, frame, _, _ = train_outage_risk()
        numbers = ["age_years", "height_m", "nights_since_visit"]
        build_package(
            LogisticRegression().fit(frame[numbers], frame["failed"]), frame[[*numbers, "failed"]], Recipe("light", "failed"), light
        )
        with self.service.client() as client:
            forest, linear = VERSION, str(client.push(light)["version"])
            settings = ("--clients", "8", "--each", "1s", "--max-rows", "64", "--linger-ms", "0", "--threads", "1", "--copies", "1")
            said = self.command("start", forest, linear, *settings, "--form", "original", "--for", "60s", "--name", "both")
            found = client.fetch("GET", "/api/sweeps/both")
            self.assertEqual((found["state"], found["combinations"]), ("finished", 2))
            self.assertEqual({setting["version"] for setting in found["settings"]}, {forest, linear})
            paces = {setting["version"]: setting["figures"]["throughput"]["median"] for setting in found["settings"]}
            self.assertGreater(paces[linear], paces[forest])
            self.assertEqual(found["settings"][found["picked"]["pick"]]["version"], linear)
            self.assertIn(f"{linear}, original", said)
            self.assertIn(forest, self.command("show", "both", "--all"))

    def measured(self, client: Client, name: str) -> bool:
        found = {one["name"]: one["repeats"] for one in client.fetch("GET", "/api/sweeps")}
        return found.get(name, 0) > 0

    def test_a_killed_process_goes_on_where_it_was_and_a_second_sweep_waits(self) -> None:
        self.command("start", VERSION, *SHORT, "--copies", "1", "--for", "20s", "--name", "killed", "--no-wait")
        second = json.loads(
            self.command(
                "start", VERSION, *SHORT, "--copies", "1", "--form", "compiled", "--for", "4s", "--name", "second", "--no-wait", "--json"
            )
        )
        self.assertEqual(second["waits_for"], "killed")
        with self.service.client() as client:
            until(lambda: self.measured(client, "killed"), 60, "a measurement")
            before = client.fetch("GET", "/api/sweeps/killed")["repeats"]
            for pid in self.processes():
                os.kill(pid, signal.SIGKILL)
            found = ended(client, "killed")
            self.assertEqual(found["state"], "finished")
            self.assertGreater(found["repeats"], before)
            self.assertEqual(ended(client, "second")["state"], "finished")

    def processes(self) -> list[int]:
        """The processes of sweeps whose parent is this service."""
        assert self.service.process is not None
        found = []
        for entry in Path("/proc").iterdir():
            if entry.name.isdigit():
                try:
                    words = (entry / "cmdline").read_bytes().split(b"\0")
                    parent = int((entry / "stat").read_text().rsplit(")", 1)[1].split()[1])
                except OSError:
                    continue
                if b"lamppost.service.measuring.sweep_process" in words and parent == self.service.process.pid:
                    found.append(int(entry.name))
        self.assertTrue(found)
        return found

    def test_a_version_that_is_retired_meanwhile_ends_its_sweep(self) -> None:
        with self.service.client() as client:
            version = str(client.push(moody_lamp("moody-retired", Moody()))["version"])
            self.command("start", version, *SHORT, "--copies", "1", "--name", "retired", "--no-wait")
            until(lambda: self.measured(client, "retired"), 60, "a measurement")
            self.assertEqual(self.service.run("retire", version).returncode, 0)
            found = ended(client, "retired")
            self.assertEqual(found["state"], "failed")
            self.assertIn(f"{version} was retired meanwhile; what was measured before is kept", found["reason"])
            self.assertGreater(found["measured"], 0)
            with self.assertRaisesRegex(Conflict, f"{version} is retired; take it out of retirement first"):
                client.fetch("POST", "/api/sweeps", {"plan": {"versions": [version]}})

    def test_rows_that_the_version_refuses_are_named(self) -> None:
        file = self.service.folder / "rows.ndjson"
        file.write_text('{"nothing": 1}\n')
        said = self.command("start", VERSION, *SHORT, "--rows", str(file), "--name", "refused", code=1)
        self.assertIn(f"{VERSION} takes none of the rows; row 0:", said)

    def test_what_cannot_be_measured_is_refused_before_it_begins(self) -> None:
        for plan, error, said in (
            ({"versions": ["outage-risk@77"]}, NotFound, "outage-risk@77"),
            ({"versions": [VERSION], "limits": ["p98=1ms"]}, BadRequest, "p99=50ms"),
            ({"versions": [VERSION], "copies": [100]}, BadRequest, "copies of a sweep go from 1 to 64"),
        ):
            with self.subTest(said), self.service.client() as client, self.assertRaisesRegex(error, said):
                client.fetch("POST", "/api/sweeps", {"plan": plan})
        with self.service.client() as admin:
            secret = admin.fetch("POST", "/api/tokens", {"name": "looks-at-sweeps", "role": "viewer"})["secret"]
        with self.service.client(secret) as viewer:
            self.assertIsInstance(viewer.fetch("GET", "/api/sweeps"), list)
            with self.assertRaises(NotAllowed):
                viewer.fetch("POST", "/api/sweeps", {"plan": {"versions": [VERSION]}})


class LittleMemory(unittest.TestCase):
    def test_copies_that_do_not_fit_and_versions_that_do_not_open_are_results(self) -> None:
        service = Service("--allow-pickle", "--memory", "40MB").start()
        self.addCleanup(service.remove)
        service.serve(moody_lamp("moody-sweep", Moody()), "moody")
        with service.client() as client:
            version = client.versions()[0]["name"]
            done = service.run(
                "sweep",
                version,
                "--each",
                "1s",
                "--clients",
                "4",
                "--max-rows",
                "16",
                "--linger-ms",
                "0",
                "--copies",
                "1,3",
                "--for",
                "15s",
                "--name",
                "little",
            )
            self.assertEqual(done.returncode, 0, done.stdout + done.stderr)
            found = client.fetch("GET", "/api/sweeps/little")
            failed = {setting["copies"]: setting["failed"] for setting in found["settings"]}
            self.assertIsNone(failed[1])
            self.assertIn("3 copies do not fit into memory", failed[3])
            self.assertEqual(found["settings"][found["picked"]["pick"]]["copies"], 1)
