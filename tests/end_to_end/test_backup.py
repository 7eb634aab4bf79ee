"""A backup of a running service, and what is put back from it; new secrets of tokens."""

import json
import stat
import threading
import unittest
import zipfile
from pathlib import Path

import psycopg

from lamppost.core.errors import LampPostError, NotAllowed, NotSignedIn
from lamppost.store.postgres import PrivateServer
from tests.support.service import Service, until
from tests.support.versions import times_lamp

KEPT = Path(__file__).resolve().parents[1] / "kept"


def calls_of(service: Service) -> int:
    with service.client() as client:
        return len(client.calls("times", limit=500))


class Backups(unittest.TestCase):
    @classmethod
    def setUpClass(cls) -> None:
        cls.service = Service("--drain", "0.1").start()
        cls.addClassCleanup(cls.service.remove)
        with cls.service.client() as client:
            for factor in (1, 2):
                client.point("times", client.push(times_lamp(factor)))
            cls.caller = str(client.make_token("meter-app", "caller", ["times"])["secret"])
            cls.ended = str(client.make_token("ended-app", "caller")["secret"])
            client.revoke_token("ended-app")
            for x in range(20):
                client.predict("times", {"x": float(x)})
        until(lambda: calls_of(cls.service) == 20, what="the records")

    def back_up(self, name: str, *options: str) -> Path:
        file = self.service.folder / name
        done = self.service.run("backup", "--to", str(file), *options)
        self.assertEqual(done.returncode, 0, done.stderr)
        return file

    def restored(self, file: Path) -> Service:
        """A service in a new folder with what the backup holds."""
        other = Service()
        self.addCleanup(other.remove)
        done = other.run("restore", str(file), "--data", str(other.data))
        self.assertEqual(done.returncode, 0, done.stderr)
        other.environment["LAMPPOST_TOKEN"] = self.service.token
        return other.start()

    def test_a_backup_under_load_is_put_back_whole(self) -> None:
        ended = threading.Event()
        failed: list[str] = []

        def ask() -> None:
            with self.service.client(self.caller) as client:
                while not ended.is_set():
                    try:
                        client.predict("times", {"x": 3.0})
                    except LampPostError as error:
                        failed.append(str(error))

        asking = threading.Thread(target=ask)
        asking.start()
        try:
            file = self.back_up("whole.backup")
        finally:
            ended.set()
            asking.join()
        self.assertEqual(failed, [])
        self.assertEqual(stat.S_IMODE(file.stat().st_mode), 0o600)
        with zipfile.ZipFile(file) as archive:
            self.assertEqual(archive.namelist(), ["backup.json", "settings.toml", "database.dump"])
            self.assertIn("drain = 0.1", archive.read("settings.toml").decode())
            self.assertNotIn("data =", archive.read("settings.toml").decode())
        other = self.restored(file)
        token = self.service.token
        with other.client(token) as client:
            self.assertEqual(client.predict("times", {"x": 4.0}).answer["y"], 8.0)
            self.assertEqual({version["name"] for version in client.versions()}, {"times@1", "times@2"})
            self.assertGreaterEqual(len(client.calls("times", limit=500)), 20)
            self.assertIn("made a backup", [entry["action"] for entry in client.fetch("GET", "/api/trail", limit=20)])
            self.assertIn("restored a backup", [entry["action"] for entry in client.fetch("GET", "/api/trail", limit=20)])
            client.rollback("times")
            self.assertEqual(client.predict("times", {"x": 4.0}).answer["y"], 4.0)
        with other.client(self.caller) as client:
            self.assertEqual(client.predict("times", {"x": 4.0}).answer["y"], 4.0)
        with other.client(self.ended) as client, self.assertRaises(NotSignedIn):
            client.predict("times", {"x": 4.0})

    def test_without_records_and_as_json(self) -> None:
        file = self.service.folder / "plain.backup"
        done = self.service.run("backup", "--to", str(file), "--no-records", "--json")
        self.assertEqual(json.loads(done.stdout)["records"], False)
        other = self.restored(file)
        with other.client(self.service.token) as client:
            self.assertEqual(client.calls("times"), [])
            self.assertEqual(client.predict("times", {"x": 4.0}).answer["y"], 8.0)

    def test_what_is_in_use_is_not_overwritten_and_what_was_revoked_since_stays_revoked(self) -> None:
        other = Service().start()
        self.addCleanup(other.remove)
        with other.client() as client:
            client.point("times", client.push(times_lamp(1)))
            lost = client.make_token("lost-laptop", "operator")["secret"]
            turned = client.make_token("turned", "caller")["secret"]
        file = other.folder / "now.backup"
        self.assertEqual(other.run("backup", "--to", str(file)).returncode, 0)
        with other.client() as client:
            client.revoke_token("lost-laptop")
            renewed = client.rotate_token("turned", 0)["secret"]
            client.point("times", client.push(times_lamp(2)))
        running = other.run("restore", str(file), "--data", str(other.data), "--replace")
        self.assertIn("runs in", running.stderr)
        other.stop()
        in_use = other.run("restore", str(file), "--data", str(other.data))
        self.assertEqual((in_use.returncode, "--replace" in in_use.stderr), (1, True), in_use.stderr)
        done = other.run("restore", str(file), "--data", str(other.data), "--replace", "--json")
        self.assertEqual(json.loads(done.stdout)["revoked_again"], 1)
        other.start()
        with other.client() as client:
            self.assertEqual(client.predict("times", {"x": 4.0}).answer["y"], 4.0)
        for secret in (lost, turned):
            with other.client(secret) as client, self.assertRaises(NotSignedIn):
                client.predict("times", {"x": 4.0})
        with other.client(renewed) as client:
            self.assertEqual(client.predict("times", {"x": 4.0}).answer["y"], 4.0)

    def test_a_damaged_backup_changes_nothing(self) -> None:
        file = self.back_up("damaged.backup")
        with zipfile.ZipFile(file) as archive:
            parts = {name: archive.read(name) for name in archive.namelist()}
        with zipfile.ZipFile(file, "w") as archive:
            for name, data in parts.items():
                archive.writestr(name, data[: len(data) // 2] if name == "database.dump" else data)
        other = Service().start()
        self.addCleanup(other.remove)
        other.serve(times_lamp(1), "times")
        other.stop()
        done = other.run("restore", str(file), "--data", str(other.data), "--replace")
        self.assertEqual((done.returncode, "cannot be put back" in done.stderr), (1, True), done.stderr)
        other.start()
        with other.client() as client:
            self.assertEqual(client.predict("times", {"x": 4.0}).answer["y"], 4.0)
        nothing = self.service.folder / "nothing.backup"
        nothing.write_bytes(b"PK")
        for path, reason in ((nothing, "is damaged"), (nothing.with_name("none"), "there is no file")):
            refused = self.service.run("restore", str(path), "--data", str(nothing.with_name("new")))
            self.assertEqual((refused.returncode, reason in refused.stderr), (1, True), refused.stderr)

    def test_only_admins_and_an_unwritable_place_is_said(self) -> None:
        with self.service.client() as client:
            operator = client.make_token("operator-app", "operator")["secret"]
            with self.assertRaisesRegex(LampPostError, "cannot be written"):
                client.backup(self.service.folder / "none" / "x.backup")
        with self.service.client(operator) as client, self.assertRaises(NotAllowed):
            client.backup(self.service.folder / "x.backup")
        self.assertEqual(list(self.service.folder.glob("*x.backup*")), [])

    def test_the_database_and_nothing_else_is_dumped_by_the_role_of_the_service(self) -> None:
        with psycopg.connect(self.service.database(), autocommit=True) as connection:
            connection.execute("CREATE TABLE IF NOT EXISTS public.somebodys (x int)")
        file = self.back_up("ours.backup")
        with zipfile.ZipFile(file) as archive:
            self.assertNotIn(b"somebodys", archive.read("database.dump"))


class Rotation(unittest.TestCase):
    @classmethod
    def setUpClass(cls) -> None:
        cls.service = Service().start()
        cls.addClassCleanup(cls.service.remove)
        cls.service.serve(times_lamp(1), "times")

    def asks(self, secret: str) -> bool:
        try:
            with self.service.client(secret) as client:
                client.predict("times", {"x": 1.0})
        except NotSignedIn:
            return False
        return True

    def test_both_secrets_are_in_force_and_the_former_one_ends(self) -> None:
        with self.service.client() as client:
            first = client.make_token("app", "caller")["secret"]
            second = client.rotate_token("app")["secret"]
            self.assertTrue(self.asks(first) and self.asks(second))
            third = client.rotate_token("app", 1)["secret"]
            self.assertFalse(self.asks(first))
            self.assertTrue(self.asks(third))
            until(lambda: not self.asks(second), 5, "the end of the former secret")
            client.revoke_token("app")
            self.assertFalse(self.asks(third))
            with self.assertRaisesRegex(LampPostError, "no token 'app' in force"):
                client.rotate_token("app")

    def test_ones_own_token_is_kept_in_the_clients_file(self) -> None:
        before = self.service.token
        done = self.service.run("token", "rotate", "admin", "--keep", "0")
        self.assertEqual(done.returncode, 0, done.stderr)
        self.assertIn("it is your own token: kept in", done.stdout)
        self.assertNotEqual(self.service.token, before)
        self.assertEqual(self.service.run("token", "list").returncode, 0)
        with self.service.client(before) as client, self.assertRaises(NotSignedIn):
            client.tokens()
        refused = self.service.run("token", "rotate", "admin", "--keep", "soon")
        self.assertIn("write 90d, 12h, 30min", refused.stderr)


class EarlierReleases(unittest.TestCase):
    """Files that earlier releases wrote, kept in ``tests/kept``. A file of each release joins them and none is ever made anew."""

    def test_databases_are_restored_and_serve_what_they_served(self) -> None:
        file = KEPT / "lamppost-0.1.0.backup"
        service = Service()
        self.addCleanup(service.remove)
        done = service.run("restore", str(file), "--data", str(service.data))
        self.assertEqual(done.returncode, 0, done.stderr)
        server = PrivateServer(service.data, durable=False)  # before a service starts, which forgets calls that are old
        self.addCleanup(server.stop)
        with psycopg.connect(server.start()) as connection:
            counted = connection.execute("SELECT (SELECT count(*) FROM lamppost.calls), (SELECT count(*) FROM lamppost.outcomes)")
            self.assertEqual(counted.fetchone(), (10, 1))
        server.stop()
        service.options = ("--new-admin-token",)
        service.start()
        with service.client("lamp_2cDFrqUc5ilzfqOOzQhtv3OyeFjdH6pT3JyUXfu1PC8") as client:
            self.assertEqual(client.predict("times", {"x": 3.0}).answer["y"], 6.0)
        with service.client("lamp_u3-M1vu3O4Vga7p6icV0qAwIFn0EmYUvqGguO-Ui2cg") as client, self.assertRaises(NotSignedIn):
            client.predict("times", {"x": 3.0})
        with service.client() as client:
            self.assertEqual(client.describe("times")["setup"]["monitoring"]["window_minutes"], 30)
            client.rollback("times")
            client.rollback("times")
            self.assertEqual(client.predict("times", {"x": 3.0}).answer["y"], 3.0)

    def test_lamp_files_prove_themselves(self) -> None:
        service = Service().start()
        self.addCleanup(service.remove)
        for file in sorted(KEPT.glob("*.lamp")):
            done = service.run("prove", str(file))
            self.assertEqual(done.returncode, 0, done.stderr)
