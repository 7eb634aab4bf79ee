"""Bulk runs that are interrupted by anything: each row is in the output once."""

import os
import signal
from pathlib import Path
from typing import Any

import pandas as pd
import psycopg

from tests.end_to_end.test_life import alive, children_of
from tests.support.bulk import ROWS, WithBulkRuns, lamps
from tests.support.lamps import moody_lamp
from tests.support.models import Moody
from tests.support.service import until


def servers_of(run: int) -> list[int]:
    """The processes that the workers of a run are forked from: its own, and those that the node has forked for it."""
    words = Path(f"/proc/{run}/cmdline").read_bytes().decode().split("\0")
    return [*children_of(run)[1:], *(int(word.rpartition(":")[2]) for word in words if word.startswith(("graphs:", "sklearn:")))]


def workers_of(run: int) -> list[int]:
    """The workers of a run."""
    forked = {pid for server in servers_of(run) if alive(server) for pid in children_of(server)[1:]}
    return sorted(pid for pid in forked if len(children_of(pid)) == 1)


class Interruptions(WithBulkRuns):
    """Whatever a test kills runs again when it ends."""

    def interrupted(self, target: str, rows: int, interrupt: Any) -> dict[str, Any]:
        """A run that is interrupted once it has scored so many rows; what is known of it at its end."""
        name = self.started("--from", "files:lamps.parquet", "--to", target, "--keep", "lamp_id", "--rows-per-second", "9000", "--replace")
        until(lambda: self.facts(name)["rows"] >= rows, 60, "some rows")
        interrupt(name)
        return self.ended(name)

    def run_process(self) -> int:
        """The process that carries out a run: of those that can, the one with workers."""
        assert self.service.process is not None
        busy = [
            pid
            for pid in children_of(self.service.process.pid)
            if b"bulk.run_process" in Path(f"/proc/{pid}/cmdline").read_bytes() and workers_of(pid)
        ]
        self.assertEqual(len(busy), 1)
        return busy[0]

    def test_a_run_that_is_interrupted_by_anything_gives_the_same_bytes(self) -> None:
        self.start("--from", "files:lamps.parquet", "--to", "files:quiet.parquet", "--keep", "lamp_id")
        quiet = (self.files / "quiet.parquet").read_bytes()

        def kill_service(_: str) -> None:
            self.service.kill()
            self.service.start()

        def kill_run(_: str) -> None:
            os.kill(self.run_process(), signal.SIGKILL)

        def kill_worker(_: str) -> None:
            os.kill(workers_of(self.run_process())[0], signal.SIGKILL)

        def kill_database(_: str) -> None:
            os.kill(int((self.service.data / "postgres" / "postmaster.pid").read_text().splitlines()[0]), signal.SIGKILL)
            until(lambda: "the database is back" in self.service.log.read_text(), 30, "the database's return")

        def stop_and_resume(name: str) -> None:
            self.assertEqual(self.service.run("bulk", "stop", name).returncode, 0)
            self.assertEqual(self.ended(name)["state"], "stopped")
            self.assertFalse((self.files / "stop_and_resume.parquet").exists())
            self.assertEqual(self.service.run("bulk", "resume", name, "--no-wait").returncode, 0)

        for interrupt in (kill_run, kill_worker, stop_and_resume, kill_database, kill_service):
            with self.subTest(interrupt.__name__):
                facts = self.interrupted(f"files:{interrupt.__name__}.parquet", ROWS // 3, interrupt)
                self.assertEqual((facts["state"], facts["rows"], facts["reason"]), ("finished", ROWS, None))
                self.assertEqual((self.files / f"{interrupt.__name__}.parquet").read_bytes(), quiet)
                self.assertEqual(sorted(path.name for path in self.files.glob(".*")), [])

    def test_a_table_has_each_row_once_whatever_happens(self) -> None:
        def kill_both(_: str) -> None:
            os.kill(self.run_process(), signal.SIGKILL)
            self.server.stop()
            self.assertEqual(self.server.start(), self.owner)

        with psycopg.connect(self.owner, autocommit=True) as connection:
            connection.execute("DROP TABLE IF EXISTS steadfast")
        facts = self.interrupted("office:steadfast", ROWS // 3, kill_both)
        if facts["state"] == "failed":  # the block that met the database's absence says so; the run goes on where it was
            self.assertIn("the database office", facts["reason"])
            self.assertEqual(self.service.run("bulk", "resume", facts["name"]).returncode, 0)
        with psycopg.connect(self.owner, autocommit=True) as connection:
            self.assertEqual(connection.execute("SELECT count(*), count(DISTINCT lamp_id) FROM steadfast").fetchone(), (ROWS, ROWS))

    def test_a_version_that_is_retired_meanwhile_goes_on_to_answer_the_run(self) -> None:
        with self.service.client() as client:
            version = str(client.push(moody_lamp("moody-retired", Moody()))["version"])
        pd.DataFrame({"x": [float(50 + row % 900) for row in range(60_000)]}).to_parquet(self.files / "many.parquet")
        name = self.started("--from", "files:many.parquet", "--rows-per-second", "20000", of=version)
        until(lambda: self.facts(name)["rows"] > 0, 60, "some rows")
        self.assertEqual(self.service.run("retire", version).returncode, 0)
        self.assertEqual(self.ended(name)["state"], "finished")

    def test_a_source_that_changes_or_goes_away_ends_the_run_with_the_reason(self) -> None:
        for what in ("changed", "gone"):
            with self.subTest(what):
                file = self.files / f"{what}.parquet"
                file.write_bytes((self.files / "lamps.parquet").read_bytes())
                name = self.started("--from", f"files:{what}.parquet", "--rows-per-second", "5000")
                until(lambda name=name: self.facts(name)["rows"] > 0, 60, "some rows")  # type: ignore[misc]
                self.service.run("bulk", "stop", name)
                self.ended(name)
                if what == "gone":
                    file.unlink()
                else:
                    lamps(100, 2).to_parquet(file)
                said = self.service.run("bulk", "resume", name)
                self.assertEqual(said.returncode, 1)
                self.assertIn("was changed since the run began" if what == "changed" else "there is no gone.parquet", said.stderr)

    def test_no_process_of_a_run_is_left_when_the_service_is_killed(self) -> None:
        self.started("--from", "files:lamps.parquet", "--rows-per-second", "3000", "--name", "left-alone")
        until(lambda: self.facts("left-alone")["rows"] > 0, 60, "some rows")
        run = self.run_process()
        processes = [run, *servers_of(run), *workers_of(run)]
        self.service.kill()
        until(lambda: not any(alive(pid) for pid in processes), 20, "the end of the run's processes")
        self.service.start()
        self.service.run("bulk", "stop", "left-alone")
