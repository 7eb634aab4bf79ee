"""Schedules over real services: runs that start by themselves, once, and failures that are told."""

import json
import shutil
import tempfile
import unittest
from datetime import UTC, datetime, timedelta
from pathlib import Path
from typing import Any

import psycopg

from lamppost.store.postgres import PrivateServer
from tests.support.bulk import lamps
from tests.support.lamps import outage_lamp, run_folder
from tests.support.service import Service, until

ORDER = (
    "--",
    "bulk",
    "start",
    "outage-risk",
    "--from",
    "files:lamps.parquet",
    "--to",
    "files:scored-{date}-{time}.csv",
    "--keep",
    "lamp_id",
)


class Schedules(unittest.TestCase):
    """Two nodes on one database, and a folder that both can see."""

    @classmethod
    def setUpClass(cls) -> None:
        folder = Path(tempfile.mkdtemp(prefix="schedules-", dir=run_folder()))
        cls.addClassCleanup(shutil.rmtree, folder, ignore_errors=True)
        folder.chmod(0o755)
        cls.server = PrivateServer(folder, durable=False)
        cls.addClassCleanup(cls.server.stop)
        cls.database = cls.server.start()
        cls.files = folder / "files"
        cls.files.mkdir()
        lamps(2_000).to_parquet(cls.files / "lamps.parquet")
        cls.nodes = []
        for _ in range(2):
            node = Service("--database", cls.database, "--folder", f"files={cls.files}")
            if cls.nodes:  # the token was made by the first
                shutil.copy(cls.nodes[0].environment["LAMPPOST_CONFIG"], node.environment["LAMPPOST_CONFIG"])
                config = Path(node.environment["LAMPPOST_CONFIG"])
                config.write_text(config.read_text().replace(cls.nodes[0].address, node.address))
            cls.nodes.append(node.start())
            cls.addClassCleanup(node.remove)
        cls.nodes[0].serve(outage_lamp())

    @property
    def node(self) -> Service:
        return self.nodes[0]

    def run_command(self, *words: str, code: int = 0) -> str:
        done = self.node.run(*words)
        self.assertEqual(done.returncode, code, done.stdout + done.stderr)
        return done.stdout if code == 0 else done.stderr

    def times(self, name: str) -> list[dict[str, Any]]:
        with self.node.client() as client:
            found: list[dict[str, Any]] = client.fetch("GET", f"/api/schedules/{name}/times")
        return found

    def set_back(self, name: str, due: datetime) -> None:
        """As if nobody had been there since."""
        with psycopg.connect(self.database, autocommit=True) as connection:
            connection.execute("UPDATE lamppost.schedules SET next_at = %s WHERE name = %s", (due, name))

    def test_one_of_two_nodes_starts_each_run_and_the_day_stands_in_its_file(self) -> None:
        order = ("--", "bulk", "start", "outage-risk", "--from", "files:lamps.parquet", "--to", "files:each-{date}-{time}.csv")
        said = self.run_command("schedule", "add", "each-minute", "--every", "* * * * *", "--zone", "Europe/Lisbon", *order)
        self.assertEqual(len([line for line in said.splitlines() if line.startswith("  ") and line.endswith(("WET", "WEST"))]), 5)
        until(lambda: [time for time in self.times("each-minute") if time["run_state"] == "finished"], 90, "the first run")
        self.run_command("schedule", "pause", "each-minute")
        started = [time for time in self.times("each-minute") if time["state"] == "started"]
        runs = json.loads(self.run_command("bulk", "list", "--json"))
        self.assertGreater(len(started), 0)
        names = [run["name"] for run in runs if run["name"].startswith("each-minute-")]
        self.assertEqual(sorted(names), sorted(time["run"] for time in started))
        self.assertEqual({run["made_by"] for run in runs if run["name"] in names}, {"schedule each-minute"})
        until(lambda: len(list(self.files.glob("each-20*.csv"))) == len(names), 60, "a file for each run")

    def test_missed_times_are_caught_up_once_or_skipped_and_it_is_said(self) -> None:
        now = datetime.now(UTC)
        for missed, started in (("once", 1), ("skip", 0)):
            with self.subTest(missed):
                name = f"hourly-{missed}"
                self.run_command("schedule", "add", name, "--every", f"{(now.minute + 30) % 60} * * * *", "--missed", missed, *ORDER)
                self.set_back(name, (now - timedelta(hours=5)).replace(minute=(now.minute + 30) % 60, second=0, microsecond=0))
                until(lambda name=name: len(self.times(name)) >= 4, 30, "decisions")  # type: ignore[misc]
                times = self.times(name)
                self.assertEqual(len([time for time in times if time["state"] != "skipped"]), started)
                self.assertTrue(all("missed, because no node was there" in time["note"] for time in times), times)
                self.assertIn("skipped", self.run_command("schedule", "show", name))

    def test_a_run_that_still_goes_on_is_not_started_twice(self) -> None:
        self.run_command("schedule", "add", "slow", "--every", "0 5 1 1 *", *ORDER, "--rows-per-second", "20", "--replace")
        first = json.loads(self.run_command("schedule", "run", "slow", "--json"))["run"]
        self.assertIn(f"the run {first} of slow still goes on", self.run_command("schedule", "run", "slow", code=1))
        # A minute that the first run cannot have been asked for in, however long the commands took.
        self.set_back("slow", datetime.now(UTC).replace(second=0, microsecond=0) - timedelta(minutes=5))
        until(lambda: [time for time in self.times("slow") if time["state"] == "skipped"], 30, "the second is skipped")
        self.assertIn(f"the run {first} still went on", str(self.times("slow")))
        self.run_command("bulk", "stop", first)

    def test_a_run_that_is_refused_raises_an_alert_that_the_next_good_one_ends(self) -> None:
        order = ("--", "bulk", "start", "outage-risk", "--from", "files:tonight.parquet")
        self.run_command("schedule", "add", "tonight", "--every", "0 5 1 1 *", *order)
        self.assertIn("there is no tonight.parquet", self.run_command("schedule", "run", "tonight", code=1))

        def alert() -> dict[str, Any] | None:
            with self.node.client() as client:
                return next((one for one in client.fetch("GET", "/api/alerts") if one["rule"] == "schedule tonight"), None)

        found = until(alert, 30, "the alert")
        self.assertIn("the run of the schedule tonight was refused: there is no tonight.parquet", found["summary"])
        shutil.copy(self.files / "lamps.parquet", self.files / "tonight.parquet")
        until(lambda: self.node.run("schedule", "run", "tonight").returncode == 0, 90, "a minute that was not tried yet")
        until(lambda: (one := alert()) is None or one["state"] == "resolved", 120, "the end of the alert")

    def test_schedules_are_part_of_the_declared_document(self) -> None:
        self.run_command("schedule", "add", "declared", "--every", "0 5 * * *", "--zone", "Europe/Lisbon", *ORDER)
        file = self.node.folder / "declared.toml"
        self.run_command("declare", "--to", str(file))
        text = file.read_text()
        self.assertIn("[schedules.declared]", text)
        self.assertIn("Every endpoint serves this already", self.run_command("declare", str(file)))
        file.write_text(text.replace('every = "0 5 * * *"', 'every = "30 6 * * *"').replace("[schedules.declared", "[schedules.earlier"))
        self.assertIn("schedule earlier is new", self.run_command("declare", str(file)))
        file.write_text(text.replace('every = "0 5 * * *"', 'every = "30 6 * * *"'))
        self.assertIn('every: "0 5 * * *" → "30 6 * * *"', self.run_command("declare", str(file), "--carry-out"))
        listed = json.loads(self.run_command("schedule", "list", "--json"))
        self.assertEqual([one["every"] for one in listed if one["name"] == "declared"], ["30 6 * * *"])
        self.run_command("schedule", "remove", "declared")
        self.assertIn("there is no schedule declared", self.run_command("schedule", "pause", "declared", code=1))

    def test_what_cannot_be_a_schedule_is_refused(self) -> None:
        for expected, words in (
            ("is no cron expression", ("--every", "61 * * * *", *ORDER)),
            ("did you mean Europe/Lisbon", ("--every", "0 5 * * *", "--zone", "Europe/Lisboa", *ORDER)),
            ("a schedule runs bulk start", ("--every", "0 5 * * *", "--", "point", "a", "b")),
            ("is a file of this machine", ("--every", "0 5 * * *", "--", "bulk", "start", "outage-risk", "--from", "lamps.csv")),
            ("nobody", ("--every", "0 5 * * *", "--", "bulk", "start", "nobody", "--from", "files:lamps.parquet")),
        ):
            with self.subTest(expected):
                self.assertIn(expected, self.run_command("schedule", "add", "wrong", *words, code=1))
