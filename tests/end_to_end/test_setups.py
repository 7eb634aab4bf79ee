"""Endpoints that serve more than one version, look fields up, or read leniently: as callers and operators meet them."""

import io
import tempfile
import time
import unittest
from pathlib import Path
from typing import Any

import numpy as np
import orjson
import pandas as pd
import psycopg
import pyarrow as pa
from sklearn.linear_model import LinearRegression, LogisticRegression

from lamppost.core.errors import BadRequest, Conflict, InvalidRows, LampPostError, NotFound, Unavailable
from lamppost.packing.build import build_package
from lamppost.packing.recipe import Recipe
from lamppost.store.postgres import PrivateServer
from tests.support.lamps import run_folder
from tests.support.service import Service, until

ARROW = "application/vnd.apache.arrow.stream"


def frame(seed: int, high: float) -> pd.DataFrame:
    random = np.random.default_rng(seed)
    made = pd.DataFrame({"age": random.uniform(0, high, 300), "load": random.uniform(0, 1, 300)})
    return made.assign(label=np.where(made["age"] / high + random.normal(0, 0.2, 300) > 0.5, "fails", "holds"))


class Setups(unittest.TestCase):
    service: Service
    source: PrivateServer

    @classmethod
    def setUpClass(cls) -> None:
        folder = tempfile.TemporaryDirectory(prefix="lamppost-source-")
        cls.addClassCleanup(folder.cleanup)
        cls.source = PrivateServer(Path(folder.name), durable=False)
        cls.addClassCleanup(cls.source.stop)
        owner = cls.source.start()
        with psycopg.connect(owner, autocommit=True) as connection:
            connection.execute("CREATE TABLE lamps (id int PRIMARY KEY, age_years numeric, load real, wrong text)")
            connection.execute("INSERT INTO lamps SELECT n, n * 1.5, 0.5, 'x' FROM generate_series(1, 20) n")
            connection.execute("INSERT INTO lamps VALUES (99, NULL, 0.5, 'x')")
            connection.execute("CREATE ROLE reader LOGIN PASSWORD 'reads'")
            connection.execute("GRANT SELECT ON lamps TO reader")
        cls.owner = owner
        read = psycopg.conninfo.make_conninfo(owner, user="reader", password="reads")
        cls.service = Service("--source", "town=$TOWN", "--source", f"owner={owner}")
        cls.service.environment["TOWN"] = read
        cls.service.start()
        cls.addClassCleanup(cls.service.remove)
        cls.made = {}
        with cls.service.client() as client:
            for name, high in (("north", 80.0), ("south", 40.0)):
                data = frame(len(name), high)
                fields = {"age": {"low": 0, "high": high}}
                model = LogisticRegression().fit(data[["age", "load"]], data["label"])
                build_package(model, data, Recipe(name, "label", fields=fields), cls.lamp(name))
                cls.made[name] = (client.push(cls.lamp(name))["version"], model)
            parts = pd.DataFrame(np.random.default_rng(1).uniform(0, 1, (200, 2)), columns=["n.scores.fails", "s.scores.fails"])
            parts["risk"] = parts.mean(axis=1)
            build_package(LinearRegression().fit(parts.iloc[:, :2], parts["risk"]), parts, Recipe("stack", "risk"), cls.lamp("stack"))
            client.push(cls.lamp("stack"))

    @staticmethod
    def lamp(name: str) -> Path:
        return run_folder() / f"setups-{name}.lamp"

    def fails(self, name: str, age: float, load: float = 0.5) -> float:
        model = self.made[name][1]
        return float(model.predict_proba(pd.DataFrame({"age": [age], "load": [load]}))[0, list(model.classes_).index("fails")])

    def set_up(self, endpoint: str, **setup: Any) -> dict[str, Any]:
        with self.service.client() as client:
            return client.set_up(endpoint, setup)

    def problem(self, endpoint: str, body: Any, status: int, **headers: str) -> dict[str, Any]:
        response = self.service.post(f"/predict/{endpoint}", body if isinstance(body, bytes) else orjson.dumps(body), **headers)
        self.assertEqual(response.status_code, status, response.text)
        return dict(response.json())

    def test_rows_of_one_request_go_to_the_versions_that_a_field_chooses(self) -> None:
        said = self.set_up("by-area", choose={"by": "field", "name": "area", "cases": {"n": "north@1", "s": "south@1"}})
        self.assertEqual(said["summary"], "by-area is serving north@1 or south@1 by area; it is a new endpoint.")
        rows = [{"area": area, "age": 10.0 + at, "load": 0.5} for at, area in enumerate("nssnn")]
        names = {"n": "north", "s": "south"}
        with self.service.client() as client:
            told = client.predict("by-area", rows)
            self.assertEqual([answer["version"] for answer in told.answers], [f"{names[row['area']]}@1" for row in rows])
            self.assertEqual(told.version, "north@1, south@1")
            for row, answer in zip(rows, told.answers, strict=True):
                self.assertAlmostEqual(answer["scores"]["fails"], self.fails(names[row["area"]], row["age"]), places=9)
            with self.assertRaises(InvalidRows) as caught:
                client.predict("by-area", [rows[0], rows[0] | {"age": 70}, rows[1] | {"age": 70}, rows[0] | {"area": "w"}])
            self.assertIn("row 3, area", caught.exception.detail)
            with self.assertRaisesRegex(InvalidRows, "row 2, age: given 70.0, expected a number from 0 to 40, for south@1"):
                client.predict("by-area", [rows[0], rows[0] | {"age": 70}, rows[1] | {"age": 70}])
            document = client.fetch("GET", "/openapi.json")
            self.assertEqual(document["components"]["schemas"]["ByAreaRow"]["properties"]["area"]["enum"], ["n", "s"])
            page = client.fetch("GET", "/api/endpoints/by-area")
            self.assertEqual((page["versions"], [f["name"] for f in page["inputs"]]), (["north@1", "south@1"], ["area", "age", "load"]))
            self.assertIn("by-area", client.fetch("GET", "/api/models/south/versions/1")["serves"])
        sink = io.BytesIO()
        table = pa.Table.from_pylist(rows)
        with pa.ipc.new_stream(sink, table.schema) as writer:
            writer.write_table(table)
        for body, kind in (
            (sink.getvalue(), ARROW),
            (b"area,age,load\r\n" + b"".join(b"%s,%f,0.5\r\n" % (r["area"].encode(), r["age"]) for r in rows), "text/csv"),
        ):
            arrow = self.service.post("/predict/by-area", body, content_type=kind, accept=ARROW)
            answers = pa.ipc.open_stream(arrow.content).read_all().to_pylist()
            self.assertEqual([answer["version"] for answer in answers], [answer["version"] for answer in told.answers])

    def test_a_header_or_an_option_chooses_for_the_whole_call(self) -> None:
        cases = {"n": "north@1", "s": "south@1"}
        self.set_up("by-header", choose={"by": "header", "name": "Town-Area", "cases": cases})
        self.set_up("by-option", choose={"by": "option", "name": "area", "cases": cases, "other": "north@1"})
        row = {"age": 30, "load": 0.2}
        body = orjson.dumps(row)
        for area, version in (("n", "north@1"), ("s", "south@1")):
            said = self.service.post("/predict/by-header", body, **{"Town-Area": area})
            self.assertEqual((said.json()["version"], said.headers["model-version"]), (version, version))
            option = self.service.post("/predict/by-option", orjson.dumps({**row, "options": {"area": area}}))
            self.assertEqual(option.json()["version"], version)
        self.assertEqual(self.service.post("/predict/by-option", body).json()["version"], "north@1")
        self.assertIn("it did not come; send one of n, s", self.problem("by-header", row, 400)["detail"])
        self.assertIn('it is "west"', self.problem("by-header", row, 400, **{"Town-Area": "west"})["detail"])
        with self.service.client() as client:
            parameters = client.fetch("GET", "/openapi.json")["paths"]["/predict/by-header"]["post"]["parameters"]
        self.assertEqual([(p["name"], p["in"], p["required"]) for p in parameters], [("Town-Area", "header", True)])

    def test_several_answer_together_and_a_package_combines_them(self) -> None:
        self.set_up("both", together={"parts": {"n": "north@1", "s": "south@1"}, "combine": "stack@1"})
        rows = [{"age": age, "load": 0.4} for age in (5.0, 20.0, 39.0)]
        with self.service.client() as client:
            said = client.predict("both", rows)
            for row, answer in zip(rows, said.answers, strict=True):
                mean = (self.fails("north", row["age"], 0.4) + self.fails("south", row["age"], 0.4)) / 2
                self.assertAlmostEqual(answer["risk"], mean, places=9)
            self.assertEqual(said.version, "stack@1, north@1, south@1")
            with self.assertRaisesRegex(InvalidRows, "from 0 to 40"):
                client.predict("both", {"age": 50, "load": 0.4})
        self.assertEqual(until(lambda: self.calls("both"), what="records")[-1]["version"], "stack@1, north@1, south@1")

    def calls(self, endpoint: str) -> list[dict[str, Any]]:
        with self.service.client() as client:
            return list(client.fetch("GET", "/api/calls", endpoint=endpoint))

    def test_setups_that_cannot_be_change_nothing(self) -> None:
        self.set_up("steady", version="north@1")
        lookup = {"source": "twon", "table": "lamps", "key": "k", "column": "id", "fields": {"age": "age_years"}}
        for what, setup, kind in (
            ("other answers", {"choose": {"by": "field", "name": "area", "cases": {"n": "north@1", "s": "stack@1"}}}, Conflict),
            ("a combiner that takes no answers", {"together": {"parts": {"n": "north@1"}, "combine": "south@1"}}, Conflict),
            ("no such version", {"choose": {"by": "field", "name": "area", "cases": {"n": "north@9"}}}, NotFound),
            ("no such source", {"version": "north@1", "lookups": [lookup]}, LampPostError),
            ("no such key", {"version": "north@1", "speed": 3}, BadRequest),
        ):
            with self.subTest(what), self.assertRaises(kind):
                self.set_up("steady", **setup)
        with self.service.client() as client:
            page = client.fetch("GET", "/api/endpoints/steady")
            self.assertEqual((page["revision"], page["setup"]["version"], page["setup"]["lookups"]), (1, "north@1", []))
            with self.assertRaisesRegex(Conflict, "changed meanwhile: its revision is 1, and this was made for 7"):
                client.set_up("steady", {"version": "south@1"}, after=7)

    def test_a_lenient_endpoint_takes_and_tells(self) -> None:
        self.set_up("easy", version="north@1", lenient=True)
        said = self.service.post("/predict/easy", b'{"age": "30", "load": 0.5, "shoe": 44}')
        changed = [
            {"row": 0, "field": "age", "given": '"30"', "taken": "30.0"},
            {"row": 0, "field": "shoe", "given": "44", "left_out": True},
        ]
        self.assertEqual((said.json()["changed"], said.headers["values-changed"]), (changed, "2"))
        self.assertAlmostEqual(said.json()["answer"]["scores"]["fails"], self.fails("north", 30), places=9)
        self.assertNotIn("changed", self.service.post("/predict/easy", b'{"age": 30, "load": 0.5}').json())
        lines = self.service.post("/predict/easy", b'{"age": "30", "load": 0.5}\n', content_type="application/x-ndjson", accept="text/csv")
        self.assertEqual((lines.status_code, lines.headers["values-changed"]), (200, "1"))
        self.problem("easy", {"age": "old", "load": 0.5}, 422)
        shown = self.service.run("setup", "easy", "--strict")
        self.assertIn("easy serves north@1 as before, in another way.", shown.stdout)
        self.problem("easy", {"age": "30", "load": 0.5}, 422)
        self.assertIn("undo: lamppost setup easy --as-of 1", shown.stdout)
        self.assertEqual(self.service.run("setup", "easy", "--as-of", "1").returncode, 0)
        self.assertEqual(self.service.post("/predict/easy", b'{"age": "30", "load": 0.5}').status_code, 200)
        self.assertIn('version = "north@1"\nlenient = true', self.service.run("setup", "easy").stdout)

    def lookup(self, **more: Any) -> dict[str, Any]:
        fields = {"age": "age_years", "load": "load"}
        return {"source": "town", "table": "lamps", "key": "lamp", "column": "id", "fields": fields, "timeout_s": 5} | more

    def test_a_key_becomes_the_fields_that_a_table_knows(self) -> None:
        text = (
            'version = "north@1"\n[[lookups]]\nsource = "town"\ntable = "lamps"\nkey = "lamp"\ncolumn = "id"\n'
            "ttl_s = 0.0\ntimeout_s = 5.0\n"
            '[lookups.fields]\nage = "age_years"\nload = "load"\n'
        )
        (self.service.folder / "known.toml").write_text(text)
        made = self.service.run("setup", "known", "--file", "known.toml")
        self.assertIn("known is serving north@1", made.stdout, made.stderr)
        with self.service.client() as client:
            self.assertAlmostEqual(client.predict("known", {"lamp": 4}).answer["scores"]["fails"], self.fails("north", 6.0), places=9)
            many = client.predict("known", [{"lamp": 1 + at % 20} for at in range(200)])
            self.assertAlmostEqual(many.answers[19]["scores"]["fails"], self.fails("north", 30.0), places=9)
            with self.assertRaisesRegex(InvalidRows, "row 1, lamp: given 21, expected a key that is in the table lamps"):
                client.predict("known", [{"lamp": 1}, {"lamp": 21}])
            with self.assertRaisesRegex(InvalidRows, "no field of that name"):
                client.predict("known", {"lamp": 1, "age": 3})
            with psycopg.connect(self.owner, autocommit=True) as connection:
                connection.execute("UPDATE lamps SET age_years = 60 WHERE id = 20")
            self.assertAlmostEqual(client.predict("known", {"lamp": 20}).answer["scores"]["fails"], self.fails("north", 60.0), places=9)
        fault = self.problem("known", {"lamp": 99}, 502)
        self.assertIn("the table lamps has null in age_years for 99; age is a number from 0 to 80", fault["detail"])

    def test_what_was_looked_up_is_explained_and_not_its_key(self) -> None:
        self.set_up("why", version="north@1", lookups=[self.lookup()])
        with self.service.client() as client:
            found = client.explain("why", {"lamp": 5})
            self.assertEqual(found["row"], {"age": 7.5, "load": 0.5})
            self.assertEqual({name for one in found["contributions"] for name in one["fields"]}, {"age", "load"})
            self.assertEqual(found["answer"], client.predict("why", {"lamp": 5}).answer)
            with self.assertRaisesRegex(InvalidRows, "given 21, expected a key that is in the table lamps"):
                client.explain("why", {"lamp": 21})
            request_id = client.predict("why", {"lamp": 6}).request_id
            until(lambda: any(call["request_id"] == request_id for call in client.calls("why")), what="the record")
            self.assertEqual(client.explain("why", call=request_id)["row"]["age"], 9.0)

    def test_a_choice_between_versions_and_several_together_are_explained(self) -> None:
        self.set_up("why-one", choose={"by": "field", "name": "area", "cases": {"n": "north@1", "s": "south@1"}})
        self.set_up("why-both", together={"parts": {"n": "north@1", "s": "south@1"}, "combine": "stack@1"})
        with self.service.client() as client:
            for area in ("n", "s"):
                found = client.explain("why-one", {"area": area, "age": 30.0, "load": 0.5})
                self.assertEqual(found["answer"], client.predict("why-one", {"area": area, "age": 30.0, "load": 0.5}).answer)
                self.assertEqual((found["contributions"][0]["fields"], found["left_out"]), (["age"], ["area"]))
            found = client.explain("why-both", {"age": 30.0, "load": 0.5}, limit=0.2)
            self.assertEqual((found["figure"], found["contributions"][0]["fields"]), ("risk", ["age"]))
            self.assertLess(found["changes"]["changes"][0]["answer"]["risk"], 0.2)

    def test_what_was_looked_up_is_kept_for_its_time(self) -> None:
        self.set_up("kept", version="north@1", lookups=[self.lookup(ttl_s=300)])
        with self.service.client() as client:
            before = client.predict("kept", {"lamp": 7}).answer
            with psycopg.connect(self.owner, autocommit=True) as connection:
                connection.execute("UPDATE lamps SET age_years = 79 WHERE id = 7")
            self.assertEqual(client.predict("kept", {"lamp": 7}).answer, before)

    def test_a_table_that_does_not_answer_is_said_in_time(self) -> None:
        self.set_up("waits", version="north@1", lookups=[self.lookup(timeout_s=0.4, ttl_s=0)])
        with psycopg.connect(self.owner) as connection, self.service.client() as client:
            connection.execute("LOCK TABLE lamps IN ACCESS EXCLUSIVE MODE")
            start = time.perf_counter()
            with self.assertRaisesRegex(Unavailable, "look-up in lamps of town took longer than 0.4 s"):
                client.predict("waits", {"lamp": 1})
            self.assertLess(time.perf_counter() - start, 3)
        with self.service.client() as client:
            self.assertEqual(len(client.predict("waits", {"lamp": 1}).answers), 1)

    def test_a_role_that_may_write_and_columns_that_are_not_there_are_refused(self) -> None:
        for change, said in (
            ({"source": "owner"}, "may change it: lamps; give it a role that may only read"),
            ({"table": "lampz"}, 'cannot be made: relation "lampz" does not exist'),
            ({"column": "idd"}, "lamps has no column 'idd'; did you mean id?"),
        ):
            with self.subTest(said=said), self.assertRaisesRegex(Conflict, said):
                self.set_up("never", version="north@1", lookups=[self.lookup(**change)])
        with self.service.client() as client, self.assertRaisesRegex(LampPostError, "no endpoint 'never'"):
            client.predict("never", {"lamp": 1})

    def test_all_of_it_is_there_again_after_a_start(self) -> None:
        self.set_up("stays", choose={"by": "field", "name": "area", "cases": {"n": "north@1", "s": "south@1"}}, lookups=[self.lookup()])
        self.service.stop()
        self.service.start()
        with self.service.client() as client:
            said = client.predict("stays", [{"area": "n", "lamp": 3}, {"area": "s", "lamp": 3}])
            self.assertEqual([answer["version"] for answer in said.answers], ["north@1", "south@1"])
