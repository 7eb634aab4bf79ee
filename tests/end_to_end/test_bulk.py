"""Bulk runs over a real service: every way in and out, rows that do not fit, and runs that are interrupted by anything."""

import gzip
import json
import subprocess
from pathlib import Path
from typing import Any

import pandas as pd
import psycopg
import pyarrow as pa
import pyarrow.parquet as pq

from lamppost.client import AsyncClient
from lamppost.core.errors import LampPostError
from tests.support import http
from tests.support.bulk import ROWS, WithBulkRuns, lamps
from tests.support.lamps import moody_lamp
from tests.support.models import Moody
from tests.support.object_store import ObjectStore
from tests.support.service import until


class Bulk(WithBulkRuns):
    """Runs that nobody disturbs."""

    # -- ways in and out ----------------------------------------------------------------------------------------------

    def test_answers_are_those_of_calls_in_the_order_of_rows(self) -> None:
        said = self.start("--from", "files:lamps.parquet", "--to", "files:scored.parquet", "--keep", "lamp_id").stdout
        self.assertIn("20,000 rows by outage-risk@1", said)
        scored = pq.read_table(self.files / "scored.parquet").to_pandas()
        self.assertEqual(list(scored.columns), ["lamp_id", "label", "scores.holds", "scores.fails"])
        self.assertEqual(scored["lamp_id"].tolist(), self.frame["lamp_id"].tolist())
        self.assertEqual(scored["label"].head(300).tolist(), self.labels)
        self.assertEqual(scored["scores.fails"].head(300).tolist(), self.scores)
        self.assertEqual(sorted(path.name for path in self.files.glob(".*")), [])

    def test_every_format_in_and_out_gives_the_same_answers(self) -> None:
        few = self.frame.head(300)
        table = pa.Table.from_pandas(few, preserve_index=False)
        few.to_csv(self.files / "few.csv", index=False)
        (self.files / "few.csv.gz").write_bytes(gzip.compress((self.files / "few.csv").read_bytes()))
        few.to_csv(self.files / "few-semicolons.csv", index=False, sep=";")
        few.to_excel(self.files / "few.xlsx", index=False, sheet_name="lamps")
        few.to_json(self.files / "few.ndjson", orient="records", lines=True)
        with pa.output_stream(str(self.files / "few.ndjson.zst"), compression="zstd") as sink:
            sink.write((self.files / "few.ndjson").read_bytes())
        with pa.OSFile(str(self.files / "few.arrow"), "wb") as sink, pa.ipc.new_file(sink, table.schema) as writer:
            writer.write_table(table)
        with pa.OSFile(str(self.files / "stream.arrow"), "wb") as sink, pa.ipc.new_stream(sink, table.schema) as writer:
            writer.write_table(table)
        for district, part in few.groupby("district"):
            folder = self.files / "parts" / f"district={district}"
            folder.mkdir(parents=True)
            part.drop(columns="district").to_parquet(folder / "a.parquet")
        cases = [
            *(("few.csv", "o1.csv", ()), ("few.csv.gz", "o2.csv.gz", ()), ("few-semicolons.csv", "o3.ndjson", ("--delimiter", ";"))),
            *(("few.ndjson", "o4.ndjson.zst", ()), ("few.ndjson.zst", "o5.arrow", ()), ("few.arrow", "o6.arrow", ())),
            *(("stream.arrow", "o7.parquet", ()), ("parts", "o8.parquet", ()), ("few.c*v", "o9.parquet", ())),
            ("few.xlsx", "o10.xlsx", ("--sheet", "lamps")),
        ]
        wanted = dict(zip(few["lamp_id"].tolist(), zip(self.labels, self.scores, strict=True), strict=True))
        for source, target, more in cases:
            with self.subTest(source, target=target):
                self.start("--from", f"files:{source}", "--to", f"files:{target}", "--keep", "lamp_id", *more)
                found = self.read(self.files / target)
                digits = 12 if target.endswith(".xlsx") else 17  # a sheet has no more than 15
                self.assertEqual(
                    {
                        int(one): (label, round(score, digits))
                        for one, label, score in zip(*(found[name] for name in ("lamp_id", "label", "scores.fails")), strict=True)
                    },
                    {one: (label, round(score, digits)) for one, (label, score) in wanted.items()},
                )

        with self.service.client() as client:
            order = {"questions": [{"of": "outage-risk"}], "source": "files:few-semicolons.csv", "delimiter": ";", "rows": 1}
            self.assertEqual(client.fetch("POST", "/api/bulk/check", order)["first"][0]["lamp_id"], "1000")

    def read(self, path: Path) -> Any:
        if path.suffix == ".parquet":
            return pq.read_table(path).to_pydict()
        if path.suffix == ".arrow":
            with pa.OSFile(str(path)) as file, pa.ipc.open_file(file) as reader:
                return reader.read_all().to_pydict()
        if path.suffix == ".xlsx":
            return pd.read_excel(path).to_dict("list")
        with pa.input_stream(str(path), compression="detect") as stream:
            data = stream.read()
        if ".csv" in path.name:
            (self.files / "plain.csv").write_bytes(data)
            try:
                return pd.read_csv(self.files / "plain.csv").to_dict("list")
            finally:
                (self.files / "plain.csv").unlink()
        rows = [json.loads(line) for line in data.splitlines()]
        return {name: [row[name] for row in rows] for name in rows[0]}

    def test_a_folder_appears_when_all_of_its_files_are_whole(self) -> None:
        self.start("--from", "files:lamps.parquet", "--to", "files:in-parts/", "--keep", "lamp_id", "--to-format", "csv")
        found = pd.concat([pd.read_csv(file) for file in sorted((self.files / "in-parts").iterdir())])
        self.assertEqual(found["lamp_id"].tolist(), self.frame["lamp_id"].tolist())
        self.assertIn("is not empty", self.refused("--from", "files:lamps.parquet", "--to", "files:in-parts/"))
        self.start("--from", "files:lamps.parquet", "--to", "files:in-parts/", "--keep", "lamp_id", "--replace")
        self.assertEqual([file.name for file in (self.files / "in-parts").iterdir()], ["part-00000.parquet"])
        self.assertEqual(pq.read_table(self.files / "in-parts").num_rows, ROWS)
        self.assertEqual([path.name for path in self.files.iterdir() if path.name.startswith(".")], [])

    def test_a_file_of_this_machine_goes_there_and_back(self) -> None:
        lamps(500, 3).to_csv(self.service.folder / "mine.csv", index=False)
        self.start("--from", "mine.csv", "--to", "mine-scored.csv", "--keep", "lamp_id")
        self.assertEqual(len((self.service.folder / "mine-scored.csv").read_text().splitlines()), 501)
        with self.service.client() as client:
            run = client.bulk("outage-risk@1", self.service.folder / "mine.csv", target_format="ndjson", keep=["*"])
            seen: list[dict[str, Any]] = []
            path = run.wait(seen.append).download(self.service.folder / "mine.ndjson")
            self.assertEqual(len(path.read_bytes().splitlines()), 500)
            self.assertIn("district", json.loads(path.read_bytes().splitlines()[0]))
            self.assertEqual(seen[-1]["state"], "finished")

    def test_the_async_client_and_several_questions_in_one_pass(self) -> None:
        import asyncio

        async def ask() -> Any:
            async with AsyncClient(self.service.address, self.service.token) as client:
                run = await client.bulk({"now": "outage-risk", "first": "outage-risk@1"}, "files:lamps.parquet", keep=["lamp_id"])
                await run.wait()
                return await run.download(self.service.folder / "both.parquet")

        both = pq.read_table(asyncio.run(ask())).to_pydict()
        self.assertEqual(both["now.label"], both["first.label"])
        self.assertEqual(both["now.label"][:300], self.labels)

    def test_progress_is_told_as_events(self) -> None:
        name = self.started("--from", "files:lamps.parquet", "--rows-per-second", "40000")
        headers = {"authorization": f"Bearer {self.service.token}"}
        with http.client().stream("GET", f"{self.service.address}/api/bulk/{name}/events", headers=headers, timeout=60) as answer:
            self.assertEqual(answer.headers["content-type"].partition(";")[0], "text/event-stream")
            told = [json.loads(line.removeprefix("data: ")) for line in answer.iter_lines() if line.startswith("data: ")]
        self.assertEqual(told[-1]["state"], "finished")
        self.assertEqual(told[-1]["rows"], ROWS)
        self.assertEqual(sorted(one["rows"] for one in told), [one["rows"] for one in told])

    # -- rows and files that do not fit -------------------------------------------------------------------------------

    def test_rows_that_do_not_fit_are_left_out_and_told(self) -> None:
        lines = lamps(1_000, 5).to_csv(index=False).splitlines()
        lines[101] = "only,two"
        lines[201] = lines[201].replace("led", "LED-lamp").replace("sodium", "LED-lamp").replace("metal-halide", "LED-lamp")
        lines[301] = '"quoted"wrongly' + lines[301]
        (self.files / "broken.csv").write_text("\n".join(lines) + "\n")
        self.start("--from", "files:broken.csv", "--to", "files:mended.csv", "--keep", "lamp_id")
        rejects = [json.loads(line) for line in (self.files / "mended.rejects.ndjson").read_text().splitlines()]
        self.assertEqual(
            [(one["row"], one["line"], one.get("field")) for one in rejects], [(100, 102, None), (200, 202, "lamp_type"), (300, 302, None)]
        )
        self.assertEqual(rejects[1]["values"]["lamp_type"], "LED-lamp")
        scored = pd.read_csv(self.files / "mended.csv")
        self.assertEqual(len(scored), 997)
        self.assertEqual(len(set(scored["lamp_id"])), 997)

    def test_too_many_rejects_stop_a_run_which_goes_on_with_a_higher_bound(self) -> None:
        frame = lamps(30_000, 6)
        frame.loc[frame.index % 4 == 0, "age_years"] = 200.0
        frame.to_parquet(self.files / "quarter.parquet", row_group_size=2_000)
        said = self.refused(
            "--from", "files:quarter.parquet", "--to", "files:quarter-scored.parquet", "--keep", "lamp_id", "--name", "quarter"
        )
        self.assertIn("rows were rejected, and 0.01 of all rows may be", said)
        self.assertFalse((self.files / "quarter-scored.parquet").exists())
        before = self.facts("quarter")
        self.assertLess(before["rows"], 30_000, "it stopped early")
        self.assertEqual(before["first_rejects"][0]["field"], "age_years")
        done = self.service.run("bulk", "resume", "quarter", "--most-rejects", "30%")
        self.assertEqual(done.returncode, 0, done.stderr)
        scored = pq.read_table(self.files / "quarter-scored.parquet").to_pydict()["lamp_id"]
        self.assertEqual(scored, frame.loc[frame.index % 4 != 0, "lamp_id"].tolist())
        self.assertEqual(len((self.files / "quarter-scored.rejects.ndjson").read_text().splitlines()), 7_500)

    def test_rows_that_the_model_fails_on_are_rejected_alone(self) -> None:
        self.service.serve(moody_lamp("moody-bulk", Moody()), "moody")
        values = [float(value) for value in range(50, 450)]
        values[40], values[90], values[91] = Moody.FAIL, Moody.FAIL, Moody.NAN
        pd.DataFrame({"x": values}).to_parquet(self.files / "moody.parquet")
        self.start("--from", "files:moody.parquet", "--to", "files:moody-scored.ndjson", "--keep", "x", of="moody")
        rejects = [json.loads(line) for line in (self.files / "moody-scored.rejects.ndjson").read_text().splitlines()]
        self.assertEqual([one["row"] for one in rejects], [40, 90, 91])
        self.assertIn("nineteen is too much", rejects[0]["fault"])
        scored = [json.loads(line) for line in (self.files / "moody-scored.ndjson").read_text().splitlines()]
        self.assertEqual([row["value"] for row in scored], [2 * row["x"] for row in scored])
        self.assertEqual(len(scored), 397)

    def test_what_cannot_be_read_or_written_is_refused_before_anything_is_scored(self) -> None:
        few = self.frame.head(50)
        few.to_csv(self.files / "semicolons.csv", index=False, sep=";")
        few.rename(columns={"district": "District"}).to_csv(self.files / "renamed.csv", index=False)
        (self.files / "twice.csv").write_text("age_years,age_years\n1,2\n")
        (self.files / "cut.parquet").write_bytes((self.files / "lamps.parquet").read_bytes()[:50_000])
        few.assign(age_years=few["age_years"].astype(str)).to_parquet(self.files / "texts.parquet")
        (self.files / "latin.csv").write_bytes(few.to_csv(index=False).replace("Nightjar", "Nachtläufer").encode("latin-1"))
        (self.service.folder / "outside.parquet").write_bytes((self.files / "lamps.parquet").read_bytes())
        (self.files / "link.parquet").symlink_to(self.service.folder / "outside.parquet")
        (self.files / "there.parquet").write_bytes(b"mine")
        (self.files / "empty.csv").write_bytes(b"")
        source = ("--from", "files:lamps.parquet")
        cases: list[tuple[str, tuple[str, ...]]] = [
            ("state the delimiter: --delimiter ';'", ("--from", "files:semicolons.csv")),
            ("no column holds district", ("--from", "files:renamed.csv")),
            ("State it: district=District", ("--from", "files:renamed.csv")),
            ("the column 'age_years' stands there more than once", ("--from", "files:twice.csv")),
            ("cut.parquet cannot be read", ("--from", "files:cut.parquet")),
            ("the numbers are stored as text", ("--from", "files:texts.parquet")),
            ("is a link that leaves the folder", ("--from", "files:link.parquet")),
            ("leaves the folder files", ("--from", "files:../outside.parquet")),
            ("the file is empty", ("--from", "files:empty.csv")),
            ("did you mean lamps.parquet?", ("--from", "files:lamp.parquet")),
            ("no folder or source 'film'", ("--from", "film:lamps.parquet")),
            ("in no store that the operator named", ("--from", "s3://elsewhere/lamps.parquet")),
            ("exists in files", (*source, "--to", "files:there.parquet")),
            ("there is no folder deeper", (*source, "--to", "files:deeper/there.parquet")),
            ("--to-format", (*source, "--to", "files:there.xls")),
            ("did you mean 'lamp_id'", (*source, "--keep", "lampid")),
            ("a key replaces rows of a table", (*source, "--key", "lamp_id")),
            ("was named for reading only", (*source, "--to", "city:answers")),
        ]
        for expected, words in cases:
            with self.subTest(expected):
                self.assertIn(expected, self.refused(*words))
        self.assertIn("there is no model", self.refused(*source, of="nobody@1"))
        self.assertIn("nobody", self.refused(*source, of="nobody"))
        self.assertEqual((self.files / "there.parquet").read_bytes(), b"mine")
        failed = self.refused("--from", "files:latin.csv", "--most-rejects", "1")
        self.assertIn("not UTF-8", failed)

    def test_a_target_that_takes_no_more_is_told_and_the_run_goes_on_when_there_is_room(self) -> None:
        small = self.files / "small"
        small.mkdir()
        mounted = subprocess.run(["mount", "-t", "tmpfs", "-o", "size=64k", "none", str(small)], capture_output=True, check=False)
        if mounted.returncode:
            self.skipTest("no small file system can be mounted here")
        self.addCleanup(subprocess.run, ["umount", str(small)], check=True)
        said = self.refused("--from", "files:lamps.parquet", "--to", "files:small/scored.parquet", "--name", "too-large")
        self.assertIn("small/scored.parquet of files cannot be written", said)
        self.assertEqual(list(small.iterdir()), [])
        subprocess.run(["mount", "-o", "remount,size=16m", str(small)], check=True)
        self.assertEqual(self.service.run("bulk", "resume", "too-large").returncode, 0)
        self.assertEqual(pq.read_metadata(small / "scored.parquet").num_rows, ROWS)

    # -- tables -------------------------------------------------------------------------------------------------------

    def fill_table(self, rows: int = 3_000) -> None:
        frame = self.frame.head(rows)
        with psycopg.connect(self.owner, autocommit=True) as connection:
            connection.execute("DROP TABLE IF EXISTS lamps")
            connection.execute(
                "CREATE TABLE lamps (lamp_id int, district text, lamp_type text, maker text, age_years numeric, height_m real,"
                " voltage_v real, flicker_per_night float8, nights_since_visit int, under_trees bool)"
            )
            with connection.cursor().copy("COPY lamps FROM STDIN (FORMAT csv, HEADER)") as copy:
                copy.write(frame.to_csv(index=False))
            connection.execute("GRANT SELECT ON lamps TO reader")

    def test_from_a_table_to_a_table_whose_rows_are_replaced_by_their_key(self) -> None:
        self.fill_table()
        self.start("--from", "city:lamps", "--to", "office:risks", "--keep", "lamp_id")
        with psycopg.connect(self.owner, autocommit=True) as connection:
            self.assertEqual(connection.execute("SELECT count(*), count(DISTINCT lamp_id) FROM risks").fetchone(), (3_000, 3_000))
            connection.execute("UPDATE risks SET label = 'old'; INSERT INTO risks (lamp_id, label) VALUES (-1, 'theirs')")
            query = "city:SELECT * FROM lamps WHERE lamp_id < 1100"
            self.assertIn("exists; say by which columns", self.refused("--from", query, "--to", "office:risks", "--keep", "lamp_id"))
            self.start("--from", query, "--to", "office:risks", "--keep", "lamp_id", "--key", "lamp_id")
            counts = dict(connection.execute("SELECT label, count(*) FROM risks GROUP BY label").fetchall())
            self.assertEqual((counts["old"], counts["theirs"], sum(counts.values())), (2_900, 1, 3_001))
            first = connection.execute("SELECT label, scores_fails FROM risks WHERE lamp_id = 1000").fetchone()
            self.assertEqual(first, (self.labels[0], self.scores[0]))
            self.start("--from", query, "--to", "office:risks", "--keep", "lamp_id", "--replace")
            self.assertEqual(connection.execute("SELECT count(*) FROM risks").fetchone(), (100,))
            left = connection.execute("SELECT relname FROM pg_class WHERE relname LIKE 'lamppost_bulk_%'").fetchall()
            self.assertEqual(left, [])

    def test_a_failed_run_that_is_forgotten_leaves_nothing_in_the_database(self) -> None:
        self.fill_table(500)
        with psycopg.connect(self.owner, autocommit=True) as connection:
            connection.execute("UPDATE lamps SET age_years = 200 WHERE lamp_id >= 1250")
            failed = ("--from", "city:lamps", "--to", "office:half", "--keep", "lamp_id", "--name", "half")
            self.assertIn("rows were rejected", self.refused(*failed))
            staged = "SELECT count(*) FROM pg_class WHERE relname = 'lamppost_bulk_half'"
            self.assertEqual(connection.execute(staged).fetchone(), (1,))
            self.assertEqual(self.facts("half")["row_total"], 500)
            self.assertEqual(self.service.run("bulk", "forget", "half").returncode, 0)
            self.assertEqual(connection.execute(staged).fetchone(), (0,))

    def test_a_query_that_writes_and_a_role_that_may_not_are_refused(self) -> None:
        self.fill_table(50)
        with psycopg.connect(self.owner, autocommit=True) as connection:
            connection.execute("GRANT ALL ON lamps TO reader")
            connection.execute("DROP TABLE IF EXISTS theirs; CREATE TABLE theirs (lamp_id int)")
        for query in (
            "WITH gone AS (DELETE FROM lamps RETURNING *) SELECT * FROM gone",
            "SELECT * FROM lamps; DELETE FROM lamps",
            "SELECT * FROM lamps) TO STDOUT; COMMIT; SET default_transaction_read_only = off; DELETE FROM lamps; --",
        ):
            with self.subTest(query):
                self.assertIn("the database city refused it", self.refused("--from", f"city:{query}", "--keep", "lamp_id"))
        self.assertIn("gives the column 'a' more than once", self.refused("--from", "city:SELECT 1 AS a, 2 AS a"))
        with psycopg.connect(self.owner, autocommit=True) as connection:
            self.assertEqual(connection.execute("SELECT count(*) FROM lamps").fetchone(), (50,))
        source = ("--from", "files:lamps.parquet", "--keep", "lamp_id")
        self.assertIn("may not make the table", self.refused(*source, "--to", "closed:answers"))
        self.assertIn("may not write theirs", self.refused(*source, "--to", "office:theirs", "--key", "lamp_id"))
        self.assertIn(
            "database 'nowhere'", self.refused("--from", "city:lamps", "--to", "nowhere:answers").replace("folder or target", "database")
        )

    # -- what is known of runs ----------------------------------------------------------------------------------------

    def test_runs_are_kept_compared_and_counted_as_traffic(self) -> None:
        with self.service.client() as client:
            before = sum(window["rows"] for window in client.fetch("GET", "/api/endpoints/outage-risk/drift")["windows"])
        self.start("--from", "files:lamps.parquet", "--name", "night-one")
        warm = self.frame.assign(voltage_v=self.frame["voltage_v"] * 1.11)
        warm.to_parquet(self.files / "warm.parquet")
        self.start("--from", "files:warm.parquet", "--name", "night-two")
        facts = self.facts("night-two")
        self.assertEqual(facts["before"], "night-one")
        self.assertEqual(sum(facts["answers"]["label"].values()), ROWS)
        self.assertEqual({one["against"]: one["state"] for one in facts["drift"]}, {"training": "drifted", "night-one": "drifted"})
        self.assertIn("voltage_v", [field["name"] for field in facts["drift"][1]["fields"]])
        self.assertEqual(len(facts["digest"]), 64)
        self.assertEqual([one["state"] for one in self.facts("night-one")["drift"] if one["against"] == "training"], ["steady"])
        with self.service.client() as client:
            until(
                lambda: (
                    sum(window["rows"] for window in client.fetch("GET", "/api/endpoints/outage-risk/drift")["windows"])
                    >= before + 2 * ROWS
                ),
                30,
                "windows with the rows of both runs",
            )
            marked = client.fetch("GET", "/api/endpoints/outage-risk/drift")["windows"]
            self.assertGreaterEqual(sum(window["bulk_rows"] for window in marked), 2 * ROWS)
        listed = json.loads(self.service.run("bulk", "list", "outage-risk", "--json").stdout)
        self.assertLessEqual({"night-one", "night-two"}, {one["name"] for one in listed})
        self.assertIn("against night-one", self.service.run("bulk", "show", "night-two").stdout)
        self.assertEqual(self.service.run("bulk", "forget", "night-one").returncode, 0)
        self.assertEqual(self.service.run("bulk", "show", "night-one").returncode, 1)

    def test_reasons_are_those_of_an_explanation_and_cost_what_was_stated(self) -> None:
        self.frame.head(400).to_parquet(self.files / "why.parquet")
        source = ("--from", "files:why.parquet", "--keep", "lamp_id", "--reasons", "3")
        self.assertIn("times as long", self.start(*source, "--check").stdout)
        self.assertIn("allow them: --reason-rows 16", self.refused(*source, "--reason-rows", "8"))
        self.start(*source, "--reason-rows", "400", "--to", "files:why-scored.parquet")
        found = pq.read_table(self.files / "why-scored.parquet").to_pylist()
        self.assertEqual([row["label"] for row in found[:300]], self.labels)
        fields = set(self.frame.columns) - {"lamp_id"}
        for row in found:
            self.assertLessEqual({row["reason_1"], row["reason_2"], row["reason_3"]}, fields)
            self.assertGreaterEqual(abs(row["reason_1_amount"]), abs(row["reason_2_amount"]))
        agree = 0
        with self.service.client() as client:
            for at in range(12):
                row = {key: None if value != value else value for key, value in self.frame.iloc[at].items() if key != "lamp_id"}
                row = json.loads(json.dumps(row, default=lambda value: value.item()))
                told = client.fetch("POST", "/api/endpoints/outage-risk/explain", {"row": row, "wanted": ["contributions"]})
                first = max(told["contributions"], key=lambda part: abs(part["amount"]))
                agree += first["fields"][0] in (found[at]["reason_1"], found[at]["reason_2"])
                self.assertAlmostEqual(
                    abs(first["amount"]), max(abs(found[at]["reason_1_amount"]), abs(found[at]["reason_2_amount"])), delta=0.08
                )
        self.assertGreaterEqual(agree, 10, "what an explanation says first is among the first two reasons")

    def test_only_operators_start_runs_and_read_outputs(self) -> None:
        with self.service.client() as admin:
            secret = admin.fetch("POST", "/api/tokens", {"name": "looks", "role": "viewer"})["secret"]
            self.start("--from", "files:lamps.parquet", "--name", "looked-at")
        with self.service.client(secret) as viewer:
            self.assertEqual(viewer.fetch("GET", "/api/bulk/looked-at")["rows"], ROWS)
            for method, path in (
                *(("POST", "/api/bulk"), ("POST", "/api/bulk/check"), ("GET", "/api/bulk/looked-at/output"), ("GET", "/api/bulk/places")),
                *(("POST", "/api/bulk/looked-at/stop"), ("DELETE", "/api/bulk/looked-at"), ("POST", "/api/uploads")),
            ):
                with self.subTest(path), self.assertRaises(LampPostError) as caught:
                    viewer.fetch(
                        method, path, {"questions": [{"of": "outage-risk"}], "source": "files:lamps.parquet"} if method == "POST" else None
                    )
                self.assertIn(caught.exception.status, (403, 422))


class Store(WithBulkRuns):
    """Files in an object store, as in a folder."""

    @classmethod
    def setUpClass(cls) -> None:
        cls.store = ObjectStore().start()
        cls.addClassCleanup(cls.store.stop)
        cls.more_options = ("--folder", "archive=$ARCHIVE")
        cls.more_environment = {"ARCHIVE": cls.store.url("town/lamps")}
        super().setUpClass()

    def test_files_of_a_store_are_read_and_written_by_name_and_by_url(self) -> None:
        for at in range(3):
            part = self.frame[at * 100 : (at + 1) * 100]
            self.store.objects[f"town/lamps/day={at}/part.parquet"] = part.to_parquet()
        self.store.objects["town/other/secret.parquet"] = self.frame.to_parquet()
        self.start("--from", "archive:day=*/*.parquet", "--to", "archive:scored/all.csv", "--keep", "lamp_id", "--keep", "day")
        lines = self.store.objects["town/lamps/scored/all.csv"].decode().splitlines()
        self.assertEqual((lines[0], len(lines)), ('"lamp_id","day","label","scores.holds","scores.fails"', 301))
        self.assertEqual([line.split(",")[2].strip('"') for line in lines[1:]], self.labels)
        self.assertEqual([key for key in self.store.objects if ".part" in key and "part.parquet" not in key], [])
        self.start("--from", "s3://town/lamps/day=1/part.parquet", "--to", "files:one.parquet")
        self.assertEqual(pq.read_metadata(self.files / "one.parquet").num_rows, 100)
        for outside in (
            "s3://town/other/secret.parquet",
            "s3://elsewhere/x.parquet",
            "gs://town/lamps/x.parquet",
            "file:///etc/passwd.csv",
        ):
            with self.subTest(outside):
                self.assertIn("in no store that the operator named", self.refused("--from", outside))
        self.assertIn("leaves the folder", self.refused("--from", "s3://town/lamps/../other/secret.parquet"))
        self.assertIn("exists in archive", self.refused("--from", "files:lamps.parquet", "--to", "archive:scored/all.csv"))
