"""Serving while PostgreSQL is away: at the start too; and a private PostgreSQL that is killed."""

import os
import shutil
import signal
import tempfile
import time
import unittest
from pathlib import Path

import psycopg

from lamppost.core.errors import DatabaseAway
from lamppost.service.deployment.node_memory import FILE
from lamppost.store.postgres import PrivateServer
from tests.support import http
from tests.support.lamps import run_folder
from tests.support.service import Service, until
from tests.support.versions import times_lamp


def x_times(service: Service, x: float = 1.0) -> float:
    with service.client() as client:
        return float(client.predict("times", {"x": x}).answer["y"])


class TheirDatabase(unittest.TestCase):
    """A PostgreSQL that the service does not run."""

    @classmethod
    def setUpClass(cls) -> None:
        cls.folder = Path(tempfile.mkdtemp(prefix="theirs-", dir=run_folder()))
        cls.addClassCleanup(shutil.rmtree, cls.folder, ignore_errors=True)
        cls.folder.chmod(0o755)
        cls.server = PrivateServer(cls.folder, durable=False)
        cls.addClassCleanup(cls.server.stop)
        cls.url = cls.server.start()
        cls.service = Service("--database", cls.url).start()
        cls.addClassCleanup(cls.service.remove)
        with cls.service.client() as client:
            for factor in (1, 2):
                client.point("times", client.push(times_lamp(factor)))
            cls.caller = str(client.make_token("meter-app", "caller", ["times"])["secret"])

    def tearDown(self) -> None:
        self.server.stop()
        self.server.start()
        until(lambda: self.health()["database"] == "there", what="the database's return")

    def health(self) -> dict[str, str]:
        answer: dict[str, str] = http.get(f"{self.service.address}/health/ready").json()
        return answer

    def lose_database(self) -> None:
        self.server.stop()
        until(lambda: self.health()["database"] == "away", what="the loss of the database")

    def test_calls_go_on_and_everything_else_says_at_once_that_the_database_is_away(self) -> None:
        logged = len(self.service.log.read_text())
        self.lose_database()
        self.assertEqual(x_times(self.service), 2.0)
        with self.service.client() as client:
            for path in ("/api/calls", "/api/models", "/api/trail", "/api/alerts", "/api/endpoints/times"):
                start = time.perf_counter()
                with self.assertRaises(DatabaseAway, msg=path) as caught:
                    client.fetch("GET", path)
                self.assertLess(time.perf_counter() - start, 2.0)
                self.assertEqual(caught.exception.status, 503)
            metrics = client.fetch_bytes("/metrics").decode()
        self.assertIn("lamppost_database_away 1.0", metrics)
        self.assertEqual(self.service.log.read_text()[logged:].count("the database is away: "), 1, "and not a second later again")

    def test_a_node_that_starts_without_it_serves_what_it_knew_and_goes_back(self) -> None:
        until(lambda: "meter-app" in (self.service.data / FILE).read_text(), what="the node's memory")
        self.assertEqual((self.service.data / FILE).stat().st_mode & 0o777, 0o600)
        self.assertNotIn(self.caller, (self.service.data / FILE).read_text())
        self.service.stop()
        self.server.stop()
        start = time.perf_counter()
        self.service.start()
        self.assertEqual(x_times(self.service), 2.0)
        self.assertLess(time.perf_counter() - start, 20.0)  # 5 s on a machine that nobody else uses; see docs/performance.md
        with self.service.client(self.caller) as app:
            self.assertEqual(app.predict("times", {"x": 3.0}).answer["y"], 6.0, "tokens are known")
        with self.service.client("lamp_wrong") as stranger, self.assertRaisesRegex(Exception, "not known here"):
            stranger.predict("times", {"x": 3.0})
        with self.service.client() as client:
            back = client.rollback("times")
            self.assertEqual((back["version"], back["stored"]), ("times@1", False))
            self.assertEqual(x_times(self.service), 1.0)
            self.server.start()
            until(lambda: self.health()["database"] == "there", what="the database's return")
            stored = until(lambda: self._served_in_database() == "times@1", what="the rollback in the database")
            self.assertTrue(stored)
            self.assertEqual(client.describe("times")["version"], "times@1")
            client.point("times", "times@2")
            until(lambda: len(client.calls("times")) >= 3, what="the records of the calls meanwhile")

    def _served_in_database(self) -> str:
        with psycopg.connect(self.url) as connection:
            row = connection.execute(
                "SELECT setup->>'version' FROM lamppost.endpoint_revisions WHERE endpoint = 'times' ORDER BY revision DESC LIMIT 1"
            ).fetchone()
        return "" if row is None else str(row[0])


class OwnDatabase(unittest.TestCase):
    def test_a_private_server_that_is_killed_is_started_again(self) -> None:
        service = Service()
        service.environment["LAMPPOST_DURABLE"] = "1"  # what was stored just before is to be there after
        service.start()
        self.addCleanup(service.remove)
        service.serve(times_lamp(2), "times")
        pid = int((service.data / "postgres" / "postmaster.pid").read_text().split()[0])
        os.kill(pid, signal.SIGKILL)
        start = time.perf_counter()
        self.assertEqual(x_times(service), 2.0)
        with service.client() as client:
            until(lambda: self._answers(client), what="the database's return")
            self.assertLess(time.perf_counter() - start, 30.0)
            client.point("again", "times@1")
        self.assertIn("PostgreSQL ended by itself; it is started again", service.log.read_text())

    def _answers(self, client: object) -> bool:
        try:
            return bool(client.models())  # type: ignore[attr-defined]
        except DatabaseAway:
            return False


class Signals(unittest.TestCase):
    def test_it_is_not_ready_before_it_ends_and_a_hangup_does_not_end_it(self) -> None:
        service = Service("--drain", "3").start()
        self.addCleanup(service.remove)
        service.serve(times_lamp(2), "times")
        assert service.process is not None
        service.process.send_signal(signal.SIGHUP)
        until(lambda: "SIGHUP: tokens, endpoints and certificates are read anew" in service.log.read_text(), what="the hangup")
        self.assertEqual(x_times(service), 2.0)
        service.process.send_signal(signal.SIGTERM)
        ready = until(lambda: self._unready(service), what="the end's announcement")
        self.assertIn("about to end", ready)
        self.assertEqual(x_times(service), 2.0, "calls go on meanwhile")
        self.assertEqual(service.process.wait(60), 0)

    def _unready(self, service: Service) -> str:
        response = http.get(f"{service.address}/health/ready")
        return str(response.json()["detail"]) if response.status_code == 503 else ""

    def test_without_a_home_the_first_token_is_shown_all_the_same(self) -> None:
        service = Service()
        service.environment["LAMPPOST_CONFIG"] = "/proc/none/client.toml"
        self.addCleanup(service.remove)
        service.start()
        shown = service.log.read_text()
        self.assertRegex(shown, r"admin token \(shown this once, it could not be kept: .*\): lamp_")
        secret = shown.partition("): lamp_")[2].split()[0]
        with service.client(f"lamp_{secret}") as client:
            self.assertEqual(client.endpoints(), [])


class Starts(unittest.TestCase):
    def test_what_cannot_start_says_so_in_one_sentence(self) -> None:
        service = Service()
        self.addCleanup(shutil.rmtree, service.folder, ignore_errors=True)
        file = service.folder / "file"
        file.touch()
        for options, told in (
            (("--database", "notaurl"), "--database is no URL of a PostgreSQL database"),
            (("--database", "postgresql://nobody@127.0.0.1:1/none"), "the database cannot be reached"),
            (("--data", str(file)), f"{file} cannot be the data folder"),
            (("--host", "192.0.2.1"), "cannot listen on 192.0.2.1, which is none of this machine's addresses"),
            (("--ready-needs", "much"), "--ready-needs much is neither node nor all"),
        ):
            done = service.run("up", "--data", str(service.data), "--port", "0", *options)
            self.assertEqual(done.returncode, 1, done.stderr)
            self.assertIn(told, done.stderr)
            self.assertNotIn("Traceback", done.stderr)
