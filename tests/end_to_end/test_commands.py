"""The command line and both clients, as a user at a terminal meets them."""

import asyncio
import csv
import json
import shutil
import stat
import unittest
from pathlib import Path

import joblib

import lamppost
from demo.lamps import make_traffic
from demo.train import pack_refit
from lamppost.core.errors import InvalidRows, NotSignedIn
from tests.support import serving_code
from tests.support.lamps import moody_lamp, outage_lamp
from tests.support.models import Moody, small_outage_model
from tests.support.service import Service, until

DESCRIPTION = """
name = "outage-risk"
[model]
file = "model.joblib"
labels = {0 = "holds", 1 = "fails"}
[training]
frame = "lamps.csv"
target = "failed"
[fields.age_years]
unit = "years"
low = 0
[provenance]
notes = "Trained by night."
metrics = {accuracy = 0.84}
"""
CHAIN = """
name = "chain"
[model]
file = "model.joblib"
labels = ["holds", "fails"]
[training]
frame = "numbered.csv"
target = "failed"
[[before]]
table = "known.csv"
key = "lamp_no"
[[after]]
code = "serving_code.py"
call = "serving_code:Advise"
takes = ["scores"]
gives.advice = {kind = "choice", choices = ['visit', 'wait']}
gives.per_mille = {kind = "integer"}
"""


class FromDescriptionToAnswer(unittest.TestCase):
    @classmethod
    def setUpClass(cls) -> None:
        cls.service = Service().start()
        cls.addClassCleanup(cls.service.remove)
        model, frame = small_outage_model()
        joblib.dump(model, cls.service.folder / "model.joblib")
        frame.to_csv(cls.service.folder / "lamps.csv", index=False)
        (cls.service.folder / "lamp.toml").write_text(DESCRIPTION)

    def good(self, *words: str) -> str:
        done = self.service.run(*words)
        self.assertEqual(done.returncode, 0, done.stderr + done.stdout)
        return done.stdout

    def bad(self, *words: str, code: int = 1, **environment: str) -> str:
        done = self.service.run(*words, **environment)
        self.assertEqual(done.returncode, code, done.stderr + done.stdout)
        self.assertNotIn("Traceback", done.stderr)
        return done.stderr

    def test_all_the_way(self) -> None:
        self.assertIn("20 rows proven in a fresh process", self.good("pack", "--allow-code", "lamp.toml"))
        inspected = self.good("inspect", "outage-risk.lamp")
        for words in (
            "tells holds/fails, scores; 9 inputs",
            "a number, 0 or more (years)",
            "Trained by night.",
            "accuracy 0.84",
            "scikit-learn 1.9.1",
        ):
            self.assertIn(words, inspected)
        self.assertEqual(json.loads(self.good("inspect", "outage-risk.lamp", "--json"))["proof_rows"], 20)
        self.assertIn("● outage-risk passes its proof: all 20 rows", self.good("prove", "outage-risk.lamp"))
        self.assertTrue(json.loads(self.good("prove", "outage-risk.lamp", "--json"))["passed"])

        self.assertIn("There is no endpoint yet", self.good("endpoints"))
        self.assertIn("outage-risk@1 is stored", self.good("push", "outage-risk.lamp"))
        self.assertIn("outage-risk is serving outage-risk@1", self.good("point", "outage-risk", "outage-risk@1"))
        asked = self.service.run("ask", "outage-risk")
        self.assertIn("asking with the schema's example", asked.stderr)
        self.assertRegex(asked.stdout, r"(fails|holds)\n  \w+ +\d+\.\d%")

        rows = make_traffic(5, seed=2)
        by_row = json.loads(self.good("ask", "outage-risk", "--json", "--row", json.dumps(rows[0])))
        (self.service.folder / "rows.json").write_text(json.dumps({"rows": rows}))
        by_json = json.loads(self.good("ask", "outage-risk", "--json", "--file", "rows.json"))
        with (self.service.folder / "rows.csv").open("w", newline="") as file:
            writer = csv.DictWriter(file, list(rows[0]))
            writer.writeheader()
            writer.writerows([{k: "" if v is None else v for k, v in row.items()} for row in rows])
        by_csv = json.loads(self.good("ask", "outage-risk", "--json", "--file", "rows.csv"))
        self.assertEqual(by_row["answers"][0], by_json["answers"][0])
        self.assertEqual(by_json["answers"], by_csv["answers"])

        async def by_async() -> list[dict[str, object]]:
            async with lamppost.AsyncClient(self.service.address, self.service.token) as client:
                one, many = await asyncio.gather(client.predict("outage-risk", rows[0]), client.predict("outage-risk", rows))
                self.assertEqual(one.answers, many.answers[:1])
                return many.answers

        self.assertEqual(asyncio.run(by_async()), by_json["answers"])
        with self.service.client() as client:
            said = client.predict("outage-risk", rows)
            self.assertEqual((said.answers, said.version), (by_json["answers"], "outage-risk@1"))
            self.assertGreater(said.timing_ms["total"], 0)

        until(lambda: len(json.loads("[" + ",".join(self.good("tail", "--json").splitlines()) + "]")) >= 7, what="the records")
        tail = self.good("tail", "outage-risk", "-n", "3")
        self.assertEqual(len(tail.splitlines()), 5)
        self.assertRegex(tail, r"^outage-risk, last hour: \d+ calls, \d+ refused, 0 failed; p50 [\d.]+, p95 [\d.]+, p99 [\d.]+ ms")
        self.assertRegex(tail, r"outage-risk@1 +200 +5 .*and 4 more")
        self.assertRegex(self.good("endpoints"), r"outage-risk +● serving +outage-risk@1")
        self.assertIn("last hour", self.good("show", "outage-risk"))
        self.assertIn("proof  passed", self.good("show", "outage-risk@1"))
        self.assertEqual([v["name"] for v in json.loads(self.good("models", "--json"))], ["outage-risk@1"])

        self.assertIn(
            "expected a number, 0 or more (years)", self.bad("ask", "outage-risk", "--row", json.dumps(rows[0] | {"age_years": "x"}))
        )
        self.assertIn("is not JSON", self.bad("ask", "outage-risk", "--row", "{"))
        self.assertIn("another number of cells", self.bad("ask", "outage-risk", "--file", self.write("short.csv", "a,b\n1\n")))
        self.assertIn("did you mean outage-risk?", self.bad("ask", "outage-rik"))

    def test_a_table_and_code_around_the_model_by_description(self) -> None:
        model, frame = small_outage_model()
        joblib.dump(model, self.service.folder / "model.joblib")
        frame = frame.assign(lamp_no=range(70_000, 70_000 + len(frame)))
        frame.to_csv(self.service.folder / "numbered.csv", index=False)
        frame[["lamp_no", "district", "lamp_type", "maker", "height_m"]].to_csv(self.service.folder / "known.csv", index=False)
        shutil.copy(serving_code.__file__, self.service.folder / "serving_code.py")
        self.good("pack", "--allow-code", self.write("chain.toml", CHAIN))
        inspected = self.good("inspect", "chain.lamp")
        for words in (
            "step 0    table: lamp_no becomes district, lamp_type, maker, height_m; an unknown lamp_no is refused",
            "step 1    scikit-learn, stored as skops; its compiled graph serves",
            "step 2    code: serving_code:Advise makes advice, per_mille of scores",
        ):
            self.assertIn(words, inspected)
        self.assertIn("start it with --allow-code", self.bad("push", "chain.lamp"))
        self.assertIn("the same package", self.good("diff", "chain.lamp", "chain.lamp"))
        (self.service.folder / "other.toml").write_text(
            CHAIN.replace('"chain"', '"other"').replace("choices = ['visit', 'wait']", "choices = ['visit', 'wait', 'call']")
        )
        self.good("pack", "--allow-code", "other.toml")
        done = self.service.run("diff", "chain.lamp", "other.lamp", "--json")
        self.assertEqual((done.returncode, json.loads(done.stdout)["changes"][0]["part"]), (1, "answers"))

    def test_a_package_that_fails_its_proof_says_how(self) -> None:
        pack_refit(self.service.folder / "refit.lamp")
        done = self.service.run("prove", "refit.lamp", "--allow-code")
        self.assertEqual(done.returncode, 1)
        self.assertIn("20 of 20 rows differ from training", done.stdout)
        self.assertRegex(done.stdout, r"\n +0  label +(fails|holds) +(fails|holds)\n")
        self.assertIn("preprocessing that is fitted again on the request", done.stdout)

    def write(self, name: str, text: str) -> str:
        (self.service.folder / name).write_text(text)
        return name

    def test_several_lamp_files_are_pushed_at_once_and_those_that_are_there_are_said(self) -> None:
        one, other = str(outage_lamp()), str(moody_lamp("moody-pushed", Moody()))
        self.assertIn("there is no file", self.bad("push", one, "none.lamp"))
        self.assertIn("--model names one model", self.bad("push", one, one, "--model", "x"))
        self.assertIn("start it with --allow-pickle", self.bad("push", one, other))
        with self.service.client() as client:
            known = client.push(one)["version"]
            told: list[tuple[int, int | None]] = []
            answers = client.push_all([one, Path(one), one], progress=lambda there, whole: told.append((there, whole)))
            self.assertEqual([(answer["version"], answer["new"]) for answer in answers], [(known, False)] * 3)
            self.assertEqual(told, [(1, 3), (2, 3), (3, 3)])
        self.assertEqual(self.good("push", one, one).count(f"this package is {known} already"), 2)

    def test_errors_are_one_line_and_an_exit_code(self) -> None:
        self.assertIn("there is no none.toml", self.bad("pack", "--allow-code", "none.toml"))
        self.assertIn(
            "name: field required", self.bad("pack", "--allow-code", self.write("a.toml", "[model]\nfile = 'x'\n[training]\nframe = 'y'\n"))
        )
        self.assertIn("is not TOML", self.bad("pack", "--allow-code", self.write("b.toml", "[")))
        self.assertIn(
            "cannot be loaded", self.bad("pack", "--allow-code", self.write("c.toml", DESCRIPTION.replace("model.joblib", "none.joblib")))
        )
        self.assertIn(
            "no such column; did you mean age_years?",
            self.bad("pack", "--allow-code", self.write("d.toml", DESCRIPTION.replace("fields.age_years", "fields.age_year"))),
        )
        self.assertIn("is no lamp file", self.bad("inspect", self.write("a.lamp", "hello")))
        self.assertIn("there is no file", self.bad("push", "none.lamp") + self.bad("prove", "none.lamp"))
        self.assertIn("is not a version", self.bad("point", "outage-risk", "outage-risk"))
        self.bad("nonsense", code=2)
        self.assertIn("lamppost up", self.bad("endpoints", "--address", "http://127.0.0.1:9", code=3))
        self.assertIn("a token", self.bad("endpoints", "--address", self.service.address, code=4, LAMPPOST_CONFIG="/nowhere/client.toml"))

    def test_tokens(self) -> None:
        secret = self.good("token", "new", "kiosk", "--endpoint", "outage-risk").splitlines()[-1]
        self.assertTrue(secret.startswith("lamp_"))
        self.assertIn("kiosk", self.good("token", "list"))
        self.assertIn("has the role caller", self.bad("models", code=4, LAMPPOST_TOKEN=secret))
        self.good("token", "revoke", "kiosk")
        self.bad("models", code=4, LAMPPOST_TOKEN=secret)
        self.assertIn("/#link=", self.good("console"))

    def test_the_clients_file_is_for_its_owner_only(self) -> None:
        mode = (self.service.folder / "client.toml").stat().st_mode
        self.assertEqual(stat.S_IMODE(mode), 0o600)
        with self.service.client(token="lamp_wrong") as client, self.assertRaises(NotSignedIn):
            client.fetch("GET", "/api/endpoints")

    def test_the_client_raises_what_the_service_says(self) -> None:
        self.service.serve(outage_lamp(), "for-client")
        with self.service.client() as client, self.assertRaises(InvalidRows) as caught:
            client.predict("for-client", [{"age_years": 1}])
        self.assertEqual(caught.exception.status, 422)
        self.assertEqual(caught.exception.extra["faults"][0]["row"], 0)
