"""Deleting endpoints, versions and models, giving endpoints back, and retiring a version that serves: by command, client and HTTP."""

import json
import threading
import unittest
from collections import Counter
from typing import Any

import lamppost
from lamppost.core.errors import Conflict, LampPostError, NotAllowed, NotFound
from tests.support.service import Service, until
from tests.support.versions import times_lamp


class WithService(unittest.TestCase):
    service: Service

    @classmethod
    def setUpClass(cls) -> None:
        cls.service = Service().start()
        cls.addClassCleanup(cls.service.remove)
        with cls.service.client() as client:
            for factor in (1, 2, 3):
                client.push(times_lamp(factor))
            cls.app = str(client.make_token("meter-app", "caller")["secret"])
            cls.operator = str(client.make_token("operator", "operator")["secret"])

    def setUp(self) -> None:
        self.client = self.service.client()
        self.addCleanup(self.client.close)

    def command(self, *words: str) -> Any:
        done = self.service.run(*words, "--json")
        self.assertEqual(done.returncode, 0, done.stderr)
        return json.loads(done.stdout)

    def call_as_app(self, endpoint: str, times: int = 3) -> None:
        with self.service.client(self.app) as app:
            for _ in range(times):
                app.predict(endpoint, {"x": 1.0})
        until(lambda: sum(caller["calls"] for caller in self.client.callers(endpoint)) >= times, what="the records of the calls")


class Endpoints(WithService):
    def test_a_mistyped_point_is_undone_wholly_with_the_command_it_prints(self) -> None:
        pointed = self.command("point", "tmies", "times@1")
        self.assertEqual(pointed["summary"], "tmies is serving times@1; it is a new endpoint.")
        done = self.service.run(*pointed["undo"].split()[1:])
        self.assertEqual(done.returncode, 0, done.stderr)
        self.assertIn("tmies is deleted; it served times@1. Its records stay. It can be given back until 20", done.stdout)
        self.assertNotIn("tmies", [endpoint["name"] for endpoint in self.client.endpoints()])

    def test_who_called_it_is_said_before_and_it_comes_back_as_it_was(self) -> None:
        for number in (1, 2):
            self.client.point("meters", f"times@{number}")
        self.client.predict("meters", {"x": 1.0})
        self.call_as_app("meters")
        refused = self.service.run("delete", "endpoint", "meters")
        self.assertEqual(refused.returncode, 1)
        self.assertRegex(refused.stderr, r"meters was called 3 times within the last week, last at .* UTC, by meter-app \(3\)")
        self.assertIn("lamppost delete endpoint meters --anyway", refused.stderr)
        self.assertEqual(self.client.predict("meters", {"x": 1.0}).answer["y"], 2.0, "nothing was changed")
        deleted = self.command("delete", "endpoint", "meters", "--anyway")
        callers = {caller["token"]: caller["calls"] for caller in deleted["callers"]}
        self.assertEqual(callers["meter-app"], 3)
        with (
            self.service.client(self.app) as app,
            self.assertRaisesRegex(NotFound, "'meters' was deleted on .*delete endpoint meters --undo"),
        ):
            app.predict("meters", {"x": 1.0})
        self.assertGreaterEqual(len(self.client.fetch("GET", "/api/trail", subject="meters")), 2)
        self.assertIn("meters", self.service.run("endpoints", "--deleted").stdout)
        done = self.service.run("delete", "endpoint", "meters", "--undo")
        self.assertIn("meters is back, and serves times@2.", done.stdout, done.stderr)
        self.assertEqual(self.client.predict("meters", {"x": 1.0}).answer["y"], 2.0)
        self.assertEqual(self.client.rollback("meters")["version"], "times@1", "its history is its own again")
        self.assertGreaterEqual(len(self.client.calls("meters")), 4)

    def test_calls_on_their_way_are_answered_or_told(self) -> None:
        self.client.point("busy", "times@1")
        stop, statuses = threading.Event(), Counter[int]()

        def ask() -> None:
            with self.service.client(self.app) as app:
                while not stop.is_set():
                    try:
                        app.predict("busy", {"x": 1.0})
                        statuses[200] += 1
                    except LampPostError as error:
                        statuses[error.status] += 1

        threads = [threading.Thread(target=ask) for _ in range(4)]
        for thread in threads:
            thread.start()
        try:
            until(lambda: statuses[200] > 50, what="calls")
            self.client.delete_endpoint("busy", break_callers=True)
            until(lambda: statuses[404] > 50, what="calls that are told")
            self.client.restore_endpoint("busy")
            before = statuses[200]
            until(lambda: statuses[200] > before + 50, what="calls after it was given back")
        finally:
            stop.set()
            for thread in threads:
                thread.join(30)
        self.assertEqual(set(statuses), {200, 404}, statuses)

    def test_only_an_admin_deletes_what_demands_approvals_and_callers_delete_nothing(self) -> None:
        self.client.point("reviewed", "times@1")
        self.client.fetch("PUT", "/api/endpoints/reviewed/approvals", {"approvals": 1})
        with self.service.client(self.operator) as operator, self.assertRaisesRegex(NotAllowed, "only an admin may delete it"):
            operator.delete_endpoint("reviewed")
        with self.service.client(self.app) as app, self.assertRaises(NotAllowed):
            app.delete_endpoint("reviewed")
        self.client.delete_endpoint("reviewed", for_good=True)
        with self.assertRaisesRegex(Conflict, "or for good; make it anew: lamppost point reviewed"):
            self.client.restore_endpoint("reviewed")

    def test_it_stays_deleted_after_a_restart_and_its_alerts_are_closed(self) -> None:
        self.client.point("short-lived", "times@1")
        self.client.delete_endpoint("short-lived")
        self.service.kill()
        self.service.start()
        with self.assertRaisesRegex(NotFound, "was deleted"):
            self.client.predict("short-lived", {"x": 1.0})
        self.assertEqual([alert for alert in self.client.alerts() if alert["endpoint"] == "short-lived"], [])

    def test_an_endpoint_that_never_was_names_those_that_are(self) -> None:
        self.client.point("meadow", "times@1")
        self.assertIn("did you mean meadow?", self.service.run("delete", "endpoint", "meadwo").stderr)


class Versions(WithService):
    def test_a_served_version_is_replaced_and_retired_or_nothing_happens(self) -> None:
        self.client.set_up("pair", {"shares": {"of": {"times@1": 50, "times@2": 50}}})
        self.client.set_up("single", {"version": "times@3", "shadows": [{"version": "times@1"}]})
        with self.assertRaisesRegex(Conflict, "times@1 cannot be retired while pair, single serves it.*--replace-with"):
            self.client.retire("times@1")
        with self.assertRaises(NotFound):
            self.client.retire("times@1", replace_with="times@9")
        self.assertEqual(self.client.describe("pair")["summary"], "times@1 50 %, times@2 50 %")
        answer = self.command("retire", "times@1", "--replace-with", "times@2")
        self.assertEqual(answer["replaced_in"], ["pair", "single"])
        self.assertEqual(self.client.describe("pair")["summary"], "times@2 100 %")
        self.assertEqual([shadow["version"] for shadow in self.client.describe("single")["setup"]["shadows"]], ["times@2"])
        for command in answer["undo"]:
            self.assertEqual(self.service.run(*command.split()[1:]).returncode, 0, command)
        self.assertEqual(self.client.describe("pair")["summary"], "times@1 50 %, times@2 50 %")

    def test_deleting_frees_space_and_leaves_records_and_numbers(self) -> None:
        lamp = times_lamp(7)
        with lamppost.Client(self.service.address, self.service.token) as client:
            first = client.push(lamp, model="spare")["version"]
            client.point("spare", first)
            client.predict("spare", {"x": 1.0})
            until(lambda: client.calls("spare"), what="the record of the call")
            packages = self.service.data / "packages"
            digest = client.describe_version(first)["digest"]
            with self.assertRaisesRegex(Conflict, "nothing was deleted: spare serves spare@1"):
                client.delete_model("spare")
            client.delete_endpoint("spare", for_good=True)
            deleted = self.command("delete", "model", "spare")
            self.assertEqual(deleted["versions"], ["spare@1"])
            self.assertGreater(deleted["freed_bytes"], 1_000)
            self.assertNotIn("spare", [model["name"] for model in client.models()])
            with self.assertRaisesRegex(NotFound, "spare@1 was deleted by admin on"):
                client.describe_version(first)
            until(lambda: not list(packages.glob(f"{digest}*")), what="the package's end on disk")
            self.assertEqual([call["version"] for call in client.calls() if call["endpoint"] == "spare"], ["spare@1"])
            self.assertEqual(client.push(lamp, model="spare")["version"], "spare@2", "a number is not used again")
