"""Explanations as callers get them: over HTTP, from Python and from the command line, and in every kind of trouble."""

import csv
import json
import os
import signal
import subprocess
import unittest
from concurrent.futures import ThreadPoolExecutor
from pathlib import Path
from typing import Any
from uuid import uuid4

from demo.lamps import make_traffic
from demo.poles import make_photos
from lamppost.core.errors import BadRequest, Conflict, InvalidRows, NotAllowed, NotFound, Unavailable
from tests.support.gossip import MARK, gossip_lamp
from tests.support.lamps import moody_lamp
from tests.support.models import Moody
from tests.support.other_lamps import photo_lamp, several_lamp
from tests.support.service import Service, WithService, until
from tests.support.versions import times_lamp

ROWS = make_traffic(30, seed=41)


def explaining_processes(service: Service) -> list[int]:
    assert service.process is not None
    listed = subprocess.run(["ps", "-o", "pid=,args=", "--ppid", str(service.process.pid)], capture_output=True, text=True, check=False)
    return [int(line.split()[0]) for line in listed.stdout.splitlines() if "explaining_process" in line]


class Explanations(WithService):
    def explain(self, row: Any = None, endpoint: str = "outage-risk", **terms: Any) -> dict[str, Any]:
        with self.service.client() as client:
            return client.explain(endpoint, row, **terms)

    def test_a_row_is_explained_and_what_is_said_holds(self) -> None:
        turned = 0
        with self.service.client() as client:
            for row in ROWS[:24]:
                found = client.explain("outage-risk", row, cases=50)
                answered = client.predict("outage-risk", row).answer
                self.assertEqual(found["answer"], answered)
                self.assertEqual(found["figure"], f"scores.{answered['label']}")
                amounts = [one["amount"] for one in found["contributions"]]
                self.assertAlmostEqual(sum(amounts), found["value"] - found["typical"], places=9)
                self.assertEqual(amounts, sorted(amounts, key=lambda amount: -abs(amount)))
                self.assertLessEqual(found["asked"], 2_000)
                for change in found["changes"]["changes"]:
                    changed = {**row, **{one["field"]: one["after"] for one in change["fields"]}}
                    self.assertNotEqual(client.predict("outage-risk", changed).answer["label"], answered["label"])
                    turned += 1
                self.assertIn(found["rule"]["summary"].split()[0], ("Where", "It", "No"))
                self.assertEqual([case["differs"] for case in found["cases"]], sorted(case["differs"] for case in found["cases"]))
                self.assertEqual((len(found["cases"]), found["cases"][0]["row"]), (50, row))
        self.assertGreater(turned, 3)

    def test_a_recorded_call_is_explained_by_the_version_that_answered_it(self) -> None:
        with self.service.client() as client:
            request_id = client.predict("outage-risk", {"rows": ROWS[:3]}["rows"]).request_id
            until(lambda: any(call["request_id"] == request_id for call in client.calls("outage-risk")), what="the record")
            found = client.explain("outage-risk", call=request_id, at_row=2, wanted=["contributions"], rows=300)
            self.assertEqual((found["row"], found["version"], found["changes"], found["rule"]), (ROWS[2], "outage-risk@1", None, None))
            with self.assertRaisesRegex(NotFound, "row 3 of call .* is not recorded; 3 of its rows are"):
                client.explain("outage-risk", call=request_id, at_row=3)
            with self.assertRaisesRegex(NotFound, "there is no call"):
                client.explain("outage-risk", call=str(uuid4()))
            made = client.fetch("GET", "/api/endpoints/outage-risk/explanations", limit=5)
            self.assertEqual((made[0]["request_id"], made[0]["call"], made[0]["token"]), (found["request_id"], request_id, "admin"))
            before = len(client.calls("outage-risk", 1_000))
            client.explain("outage-risk", ROWS[0])
            self.assertEqual(len(client.calls("outage-risk", 1_000)), before, "it is no call")

    def test_one_field_through_its_range(self) -> None:
        with self.service.client() as client:
            curve = client.explain_curve("outage-risk", "age_years", ROWS[0])
            self.assertEqual(curve["values"][curve["own"]], ROWS[0]["age_years"])
            for at in (0, curve["own"], len(curve["values"]) - 1):
                answer = client.predict("outage-risk", {**ROWS[0], "age_years": curve["values"][at]}).answer
                self.assertEqual(curve["figures"]["scores.fails"][at], answer["scores"]["fails"])
            choices = client.explain_curve("outage-risk", "maker", ROWS[0])
            self.assertEqual((choices["values"][-1], len(choices["values"])), (None, 6), "every maker, and none")
            with self.assertRaisesRegex(BadRequest, "'colour' is no field of outage-risk that can go through a range; it has district"):
                client.explain_curve("outage-risk", "colour", ROWS[0])

    def test_the_command_says_it_in_words_and_writes_the_cases(self) -> None:
        file = Path(self.service.folder) / "cases.csv"
        done = self.service.run("explain", "outage-risk", "--row", json.dumps(ROWS[0]), "--cases", str(file))
        self.assertEqual(done.returncode, 0, done.stderr)
        self.assertRegex(done.stdout, r"^It says (holds|fails) \(\d+%, typical \d+%\), most of all because of \w+ .* \([+-][\d.]+ points\)")
        self.assertIn("rows asked", done.stdout)
        with file.open() as lines:
            cases = list(csv.DictReader(lines))
        self.assertEqual((cases[0]["differs"], float(cases[0]["age_years"])), ("0", ROWS[0]["age_years"]))
        self.assertGreater(len(cases), 500)
        curve = self.service.run("explain", "outage-risk", "--row", json.dumps(ROWS[0]), "--curve", "lamp_type")
        self.assertRegex(curve.stdout, rf"(?m)^{ROWS[0]['lamp_type']} ◂ this row")
        several = self.service.run("explain", "outage-risk", "--row", json.dumps({"rows": ROWS[:2]}))
        self.assertEqual((several.returncode, "one row is explained at a time, and 2 were given" in several.stderr), (1, True))

    def test_what_cannot_be_explained_is_refused_with_the_reason(self) -> None:
        for terms, error, said in (
            ({"row": {**ROWS[0], "lamp_type": "gas"}}, InvalidRows, "row 0, lamp_type: given \"gas\", expected one of led"),
            ({"row": ROWS[0], "limit": 3.0}, BadRequest, "a limit is for a number"),
            ({"row": ROWS[0], "label": "holds"}, BadRequest, "the answer is holds already; name another label"),
            ({"row": ROWS[0], "version": "outage-risk@77"}, NotFound, "outage-risk@77"),
            ({"row": ROWS[0], "endpoint": "nobody"}, NotFound, "nobody"),
        ):  # fmt: skip
            with self.subTest(said), self.assertRaisesRegex(error, said):
                self.explain(**terms)
        for body in ({}, {"row": ROWS[0], "call": str(uuid4())}, {"row": ROWS[0], "rows": 0}, {"row": ROWS[0], "seconds": 900}):
            self.assertIn(self.service.post("/api/endpoints/outage-risk/explain", json.dumps(body)).status_code, (400, 422))

    def test_small_budgets(self) -> None:
        found = self.explain(ROWS[0], rows=1)
        self.assertEqual((found["asked"], found["stopped"], found["changes"]["searched"]), (1, "budget", "budget"))
        self.assertEqual({one["amount"] for one in found["contributions"]}, {None})
        found = self.explain(ROWS[0], rows=100_00, seconds=0.001)
        self.assertLess(found["asked"], 2_000)

    def test_who_may(self) -> None:
        with self.service.client() as admin:
            caller, other, viewer = (
                admin.fetch("POST", "/api/tokens", {"name": uuid4().hex, **more})["secret"]
                for more in ({"role": "caller"}, {"role": "caller", "endpoints": ["another"]}, {"role": "viewer"})
            )
        with self.service.client(caller) as client:
            self.assertTrue(client.explain("outage-risk", ROWS[0], rows=200)["contributions"])
            for refused in ({"cases": 5}, {"version": "outage-risk@1"}):
                with self.assertRaisesRegex(NotAllowed, "may not view"):
                    client.explain("outage-risk", ROWS[0], **refused)
            with self.assertRaisesRegex(NotAllowed, "may not view"):
                client.explain("outage-risk", call=str(uuid4()))
        for secret in (other, viewer):
            with self.service.client(secret) as client, self.assertRaises(NotAllowed):
                client.explain("outage-risk", ROWS[0])

    def test_a_process_that_is_killed_costs_one_explanation_and_several_at_once_are_made(self) -> None:
        self.explain(ROWS[0], rows=100)
        (first, *_) = explaining_processes(self.service)
        with ThreadPoolExecutor(8) as threads:
            waiting = [threads.submit(self.explain, row, rows=20_000) for row in ROWS[:8]]
            os.kill(first, signal.SIGKILL)
            ended = [one.exception() for one in waiting]
        refused = [error for error in ended if error is not None]
        self.assertLessEqual({type(error) for error in refused}, {Unavailable}, refused)
        self.assertLessEqual(sum("the process that explains ended" in str(error) for error in refused), 1, refused)
        self.assertTrue(self.explain(ROWS[0], rows=100)["contributions"])

    def test_a_retired_and_an_unserved_version(self) -> None:
        with self.service.client() as client:
            version = client.push(times_lamp(2), model="once")["version"]
            client.point("numbers", version)
            version = client.push(times_lamp(3), model="once")["version"]
            found = client.explain("numbers", {"x": 3.0}, version=version, limit=20.0)
            self.assertAlmostEqual(found["answer"]["y"], 9.0)
            self.assertEqual(found["version"], version)
            (change, *_) = found["changes"]["changes"]
            self.assertEqual(change["fields"], [{"field": "x", "before": 3.0, "after": 7.0}])
            self.assertAlmostEqual(change["answer"]["y"], 21.0)
            self.assertEqual(found["contributions"][0]["error"], 0.0)
            client.retire(version)
            retired = client.explain("numbers", {"x": 3.0}, version=version, wanted=["contributions"])
            self.assertAlmostEqual(retired["value"], 9.0, msg="it answers nobody any more, and can still be asked why it did")


class OtherKinds(unittest.TestCase):
    """Texts, pictures, tensors, private fields, models that fail, packages without a reference."""

    @classmethod
    def setUpClass(cls) -> None:
        cls.service = Service("--allow-pickle").start()
        cls.addClassCleanup(cls.service.remove)
        cls.service.serve(photo_lamp(), "photo")
        cls.service.serve(several_lamp(), "several")
        cls.service.serve(gossip_lamp("hushed", True), "hushed")
        cls.service.serve(gossip_lamp("open", False), "open")
        cls.service.serve(moody_lamp("moody", Moody()), "moody")

    def test_the_regions_of_a_picture(self) -> None:
        picture = make_photos(3, seed=5).iloc[1, 0]
        with self.service.client() as client:
            (name,) = [field["name"] for field in client.describe("photo")["inputs"]]
            found = client.explain("photo", {name: picture})
            (within,) = found["within"]
            self.assertEqual((within["field"], len(within["pieces"])), (name, 25))
            amounts = [piece["amount"] for piece in within["pieces"]]
            self.assertAlmostEqual(sum(amounts), found["value"] - within["typical"], places=6)
            self.assertGreater(max(map(abs, amounts)), 0)
            self.assertEqual(client.ask_version("pole-photo@1", {name: picture})["answers"], [found["answer"]])

    def test_a_tensor_beside_a_private_text_and_an_option(self) -> None:
        with self.service.client() as client:
            found = client.explain("several", {"seq": [1.0, 2.0, 9.0], "note": MARK}, options={"k": 3})
        self.assertEqual([one["field"] for one in found["within"]], ["seq"])
        self.assertEqual(([one["fields"] for one in found["contributions"]], list(found["row"])), ([["seq"]], ["seq"]))

    def test_a_text_and_rows_that_the_model_fails_on(self) -> None:
        with self.service.client() as client:
            found = client.explain("open", {"note": "one two three", "age": 3.0})
            self.assertEqual([piece["name"] for piece in found["within"][0]["pieces"]], ["one", "two", "three"])
            worth = [piece["amount"] for piece in found["within"][0]["pieces"]]
            self.assertAlmostEqual(sum(worth), 13.0 - found["within"][0]["typical"])
            with self.assertRaisesRegex(BadRequest, "the model fails on this row, so there is no answer to explain"):
                client.explain("open", {"note": "one", "age": 950.0})

    def test_private_fields_are_neither_varied_nor_told(self) -> None:
        with self.service.client() as client:
            found = client.explain("hushed", {"note": f"{MARK} in it", "age": 12.0}, cases=20)
            self.assertEqual((found["contributions"], found["within"], found["row"]), ([], [], {}))
            self.assertNotIn(MARK, json.dumps(found))
            with self.assertRaises(InvalidRows) as refused:
                client.explain("hushed", {"note": MARK, "age": MARK})
            self.assertNotIn(MARK, str(refused.exception) + json.dumps(refused.exception.to_problem(), default=str))
            request_id = client.predict("hushed", {"note": MARK, "age": 12.0}).request_id
            until(lambda: any(call["request_id"] == request_id for call in client.calls("hushed")), what="the record")
            with self.assertRaisesRegex(Conflict, "private fields are not recorded, so send the row itself"):
                client.explain("hushed", call=request_id)
            with self.assertRaisesRegex(BadRequest, "'note' is no field of hushed"):
                client.explain_curve("hushed", "note", {"note": MARK, "age": 12.0})
        self.assertNotIn(MARK, self.service.log.read_text())

    def test_answers_that_are_lists(self) -> None:
        """A text is the main answer of this graph; its tensor and its number are figures beside."""
        with self.service.client() as client:
            found = client.explain("several", {"seq": [1.0, 2.0, 9.0], "note": "x"}, wanted=["contributions"])
        self.assertEqual(list(found["contributions"][0]["amounts"]), ["total", "scaled.0", "scaled.1", "scaled.2", "said is x"])

    def test_a_call_whose_input_is_not_kept(self) -> None:
        with self.service.client() as client:
            client.set_up("moody", {"version": "moody@1", "monitoring": {"sample": 0}})
            request_id = client.predict("moody", {"x": 110.0}).request_id
            until(lambda: any(call["request_id"] == request_id for call in client.calls("moody")), what="the record")
            with self.assertRaisesRegex(Conflict, "is not kept"):
                client.explain("moody", call=request_id)

    def test_from_a_client_that_is_none_of_ours(self) -> None:
        """curl, with nothing but JSON."""
        body = json.dumps({"row": {"note": "a b", "age": 1}, "rows": 50})
        asked = ["curl", "-sS", "-H", f"Authorization: Bearer {self.service.token}", "-H", "Content-Type: application/json", "-d", body]
        done = subprocess.run([*asked, f"{self.service.address}/api/endpoints/open/explain"], capture_output=True, text=True, check=True)
        self.assertEqual(json.loads(done.stdout)["answer"], {"value": 3.0})
