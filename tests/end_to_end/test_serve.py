"""From a fitted model to answers in one call, in a program of its own; and the endpoint as an object."""

import os
import subprocess
import sys
import tempfile
import unittest
from pathlib import Path

import numpy as np
import pandas as pd
import pyarrow as pa
from sklearn.linear_model import LogisticRegression
from sklearn.pipeline import make_pipeline
from sklearn.preprocessing import StandardScaler

import lamppost
from lamppost.core.errors import BadRequest
from lamppost.serving.serve import ServedEndpoint
from tests.end_to_end.test_life import alive
from tests.support.service import Service, until

ROOT = Path(__file__).resolve().parents[2]
SCRIPT = """
import numpy as np, pandas as pd, lamppost
from sklearn.tree import DecisionTreeClassifier

X = pd.DataFrame({"age": np.linspace(0, 40, 200)})
endpoint = lamppost.serve(DecisionTreeClassifier().fit(X, X.age > 20), X.assign(old=X.age > 20), target="old", quiet=True)
from lamppost.serving import own_service
print(own_service._own.process.pid, own_service._own.folder)
print(endpoint.predict({"age": 30.0}), endpoint.predict(X.tail(1))["label"].tolist())
again = lamppost.serve(DecisionTreeClassifier().fit(X, X.age > 30), X.assign(old=X.age > 30), target="old", quiet=True)
print(again.version, again.url == endpoint.url)
"""

RNG = np.random.default_rng(1)
X = pd.DataFrame({"age": RNG.uniform(0, 40, 300), "nights": RNG.integers(0, 90, 300)})
FAILED = np.where(X["age"] + RNG.normal(0, 5, 300) > 20, "fails", "holds")
MODEL = make_pipeline(StandardScaler(), LogisticRegression()).fit(X, FAILED)


class OneCall(unittest.TestCase):
    def test_without_a_service_one_is_started_for_the_program_and_ends_with_it(self) -> None:
        with tempfile.TemporaryDirectory() as folder:
            environment = {key: value for key, value in os.environ.items() if not key.startswith("LAMPPOST_")}
            environment |= {"PYTHONPATH": str(ROOT / "src"), "LAMPPOST_CONFIG": f"{folder}/client.toml", "OMP_NUM_THREADS": "1"}
            done = subprocess.run(
                [sys.executable, "-W", "ignore", "-c", SCRIPT], cwd=folder, env=environment, capture_output=True, text=True, timeout=300
            )
        self.assertEqual(done.returncode, 0, done.stderr)
        told, started, answers, again = done.stdout.splitlines()
        self.assertIn("no service is configured; one is started for this interpreter at http://127.0.0.1:", told)
        self.assertEqual((answers, again), ("True ['True']", "old@2 True"))
        pid, own_folder = started.split()
        self.assertFalse(alive(int(pid)))
        self.assertFalse(Path(own_folder).exists())


class Served(unittest.TestCase):
    service: Service

    @classmethod
    def setUpClass(cls) -> None:
        cls.service = Service().start()
        cls.addClassCleanup(cls.service.remove)
        cls.endpoint = cls.serve()

    @classmethod
    def serve(cls, notes: str = "") -> ServedEndpoint:
        where = {"address": cls.service.address, "token": cls.service.token}
        return lamppost.serve(MODEL, X.assign(failed=FAILED), target="failed", name="outage", prove=False, quiet=True, notes=notes, **where)

    def test_a_frame_gets_a_frame_with_its_index_and_a_row_its_label(self) -> None:
        rows = X.tail(40).set_axis([f"lamp {at}" for at in range(40)])
        answers = self.endpoint.predict(rows.assign(note="not a field", nights=rows["nights"].astype(float)))
        self.assertEqual(answers["label"].tolist(), MODEL.predict(X.tail(40)).tolist())
        np.testing.assert_allclose(answers["scores.fails"], MODEL.predict_proba(X.tail(40))[:, 0])
        self.assertEqual((list(answers.index), answers.attrs["version"]), (list(rows.index), "outage@1"))
        table = pa.Table.from_pandas(X.tail(40), preserve_index=False)
        self.assertEqual(self.endpoint.predict(table)["label"].tolist(), answers["label"].tolist())
        first = MODEL.predict(X.head(1))[0]
        self.assertEqual(
            [self.endpoint.predict(X.iloc[0]), self.endpoint.predict({"age": X["age"][0], "nights": X["nights"][0]})], [first, first]
        )
        self.assertEqual(self.endpoint.predict([{"age": 39.0, "nights": 3}])[0]["label"], "fails")

    def test_truth_is_told_of_what_a_frame_was_answered(self) -> None:
        answers = self.endpoint.predict(X.head(30))
        until(lambda: answers.attrs["request_id"] in self.endpoint.calls()["request_id"].tolist(), what="the record of the call")
        told = self.endpoint.record_outcomes(answers.assign(truth=FAILED[:30]))
        self.assertEqual((told["new"], told["unknown"]), (30, []))
        (quality,) = self.endpoint.client.quality("outage")["versions"]
        self.assertGreaterEqual(quality["known"], 30)

    def test_what_came_as_arrow_does_not_stand_in_the_way_of_the_next_version(self) -> None:
        asked = self.endpoint.predict(X.head(3)).attrs["request_id"]
        until(lambda: asked in self.endpoint.calls()["request_id"].tolist(), what="the record of the call")
        (call,) = [call for call in self.endpoint.client.calls("outage") if call["request_id"] == asked]
        self.assertEqual((len(call["input"]["rows"]), len(call["answer"]["answers"])), (3, 3))
        replayed = self.service.run("call", asked, "--replay", "outage@1")
        self.assertEqual((replayed.returncode, replayed.stdout.count("same")), (0, 3), replayed.stderr)
        again = self.serve("another one")
        number = int(str(again.version).rpartition("@")[2])
        self.assertEqual(again.point(1)["version"], "outage@1")
        self.assertEqual(again.point({"version": f"outage@{number}"})["version"], f"outage@{number}")
        self.assertEqual(again.rollback()["version"], "outage@1")
        self.assertIn(f"outage@{number}", again.versions().index)

    def test_a_file_of_rows_is_asked_as_it_is(self) -> None:
        file = self.service.folder / "rows.csv"
        X.head(7).to_csv(file, index=False)
        answers = self.endpoint.client.predict("outage", file).answers
        self.assertEqual([answer["label"] for answer in answers], MODEL.predict(X.head(7)).tolist())
        for wrong, sentence in ((Path("rows.xlsx"), "is none of .csv"), (Path("missing.csv"), "cannot be read")):
            with self.assertRaises(BadRequest) as caught:
                self.endpoint.client.predict("outage", wrong)
            self.assertIn(sentence, caught.exception.detail)

    def test_a_notebook_shows_what_it_is(self) -> None:
        shown = self.endpoint._repr_html_()
        for text in ("serving", "outage@", "age, nights", "endpoint.predict({"):
            self.assertIn(text, shown)
        self.assertEqual(repr(self.endpoint), f"<endpoint outage: {self.service.address}/predict/outage>")
        self.assertIn("serve", dir(lamppost))

    def test_the_client_asks_and_changes_what_commands_do(self) -> None:
        client = self.endpoint.client
        self.assertIn("outage", [endpoint["name"] for endpoint in client.endpoints()])
        self.assertEqual(client.describe("outage")["inputs"][0]["name"], "age")
        self.assertEqual([model["name"] for model in client.models()], ["outage"])
        self.assertEqual(client.describe_version("outage@1")["name"], "outage@1")
        self.assertEqual(client.ask_version("outage@1", {"age": 39.0, "nights": 1})["answers"][0]["label"], "fails")
        for asked in (client.drift("outage"), client.traffic("outage"), client.quality("outage")):
            self.assertIn("summary", asked)
        self.assertEqual(client.alerts(), [])
        made = client.make_token("billing", endpoints=["outage"])
        with lamppost.Client(self.service.address, made["secret"]) as caller:
            self.assertEqual(caller.predict("outage", {"age": 39.0, "nights": 1}).answer["label"], "fails")
        client.revoke_token("billing")
        self.assertTrue(next(token for token in client.tokens() if token["name"] == "billing")["revoked_at"])
        with self.assertRaises(BadRequest):
            client.predict_frame("outage", X.head(2).assign(age=[1.0, np.inf]))
