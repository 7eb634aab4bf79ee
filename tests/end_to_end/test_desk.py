"""A desk as its owner sets it and as people use it who only ask: over HTTP, with a link and nothing else."""

import csv
import io
import json
import time
from typing import Any
from urllib.parse import unquote

import openpyxl
import pandas as pd
import psycopg
import requests

from tests.support.bulk import WithBulkRuns, lamps
from tests.support.service import until

SETTINGS: dict[str, Any] = {
    "title": "Will this lamp fail?",
    "use": "To plan visits.",
    "keep_days": 3,
    "fields": {"age_years": {"label": "Age"}, "maker": {"shown": False, "value": "Brightwell"}},
    "answers": {"fails": {"text": "Send somebody", "state": "act"}, "holds": {"text": "Nothing to do", "state": "fine"}},
}


class Desk(WithBulkRuns):
    @classmethod
    def setUpClass(cls) -> None:
        super().setUpClass()
        with cls.service.client() as client:
            maker = client.fetch("GET", "/api/endpoints/outage-risk")["example"]["maker"]
            cls.settings = json.loads(json.dumps(SETTINGS).replace("Brightwell", maker))
            client.fetch("PUT", "/api/desks/outage-risk", cls.settings)

    def link(self, name: str, endpoint: str = "outage-risk") -> str:
        with self.service.client() as client:
            return str(client.fetch("POST", f"/api/desks/{endpoint}/links", {"name": name})["link"])

    def guest(self, link: str, endpoint: str = "outage-risk") -> requests.Session:
        """A browser that has opened a link."""
        session = requests.Session()
        opened = session.post(f"{self.service.address}/api/desk/{endpoint}/session", json={"link": link.partition("#link=")[2]}, timeout=10)
        self.assertEqual(opened.status_code, 204, opened.text)
        return session

    def url(self, path: str = "", endpoint: str = "outage-risk") -> str:
        return f"{self.service.address}/api/desk/{endpoint}{path}"

    def bring(self, guest: requests.Session, name: str, data: bytes) -> str:
        begun = guest.post(self.url("/files"), json={"file_name": name}, timeout=10)
        self.assertEqual(begun.status_code, 201, begun.text)
        file = str(begun.json()["id"])
        half = len(data) // 2
        for at, piece in ((0, data[:half]), (half, data[half:])):
            sent = guest.put(self.url(f"/files/{file}"), params={"at": at}, data=piece, timeout=30)
            self.assertEqual(sent.status_code, 200, sent.text)
        return file

    def matched(self, guest: requests.Session, file: str, **more: Any) -> dict[str, Any]:
        answer = guest.post(self.url(f"/files/{file}/match"), json=more, timeout=60)
        self.assertEqual(answer.status_code, 200, answer.text)
        found: dict[str, Any] = answer.json()
        return found

    def answered(self, guest: requests.Session, file: str, **more: Any) -> dict[str, Any]:
        begun = guest.post(self.url("/results"), json={"file": file, **more}, timeout=60)
        self.assertEqual(begun.status_code, 202, begun.text)
        name = begun.json()["name"]

        def look() -> dict[str, Any] | None:
            found: dict[str, Any] = guest.get(self.url(f"/results/{name}"), timeout=10).json()
            return found if found["ended_at"] else None

        found = until(look, 90, "the end of the file")
        self.assertEqual(found["state"], "finished", found["reason"])
        return found

    # -- one question -------------------------------------------------------------------------------------------------

    def test_a_question_is_answered_in_the_owners_words_and_explained(self) -> None:
        guest = self.guest(self.link("ask"))
        page = guest.get(self.url(), timeout=10).json()
        self.assertEqual((page["title"], page["use"], page["guest"]), ("Will this lamp fail?", "To plan visits.", True))
        self.assertNotIn("maker", [field["name"] for field in page["fields"]])
        self.assertEqual(page["words"]["age_years"]["label"], "Age")
        row = {key: value for key, value in page["example"].items() if key != "maker"}
        reply = guest.post(self.url("/ask"), json={"row": row}, timeout=30).json()
        with self.service.client() as client:
            said = client.predict("outage-risk", {**row, "maker": self.settings["fields"]["maker"]["value"]}).answer
        self.assertEqual(reply["text"], SETTINGS["answers"][said["label"]]["text"])
        self.assertEqual(reply["state"], SETTINGS["answers"][said["label"]]["state"])
        self.assertEqual(max(score["share"] for score in reply["scores"]), max(said["scores"].values()))
        reasons = guest.post(self.url("/why"), json={"row": row}, timeout=60).json()
        self.assertEqual(max(abs(reason["share"]) for reason in reasons), 1.0)
        self.assertNotIn("maker", [reason["label"] for reason in reasons])
        wrong = guest.post(self.url("/ask"), json={"row": {**row, "age_years": "old"}}, timeout=30)
        self.assertEqual((wrong.status_code, wrong.json()["faults"][0]["field"]), (422, "age_years"))
        with self.service.client() as client:
            calls = until(lambda: client.fetch("GET", "/api/calls", endpoint="outage-risk", token="ask", limit=5), 20, "the record")
            self.assertTrue(calls)
            uses = [use for use in client.fetch("GET", "/api/desks/outage-risk")["uses"] if use["link"] == "ask"]
        self.assertEqual([use["questions"] for use in uses], [1])

    # -- files ----------------------------------------------------------------------------------------------------------

    def test_a_file_in_other_words_is_matched_tried_answered_and_taken_home(self) -> None:
        guest = self.guest(self.link("files"))
        frame = lamps(3_000, 7).drop(columns="maker").rename(columns={"age_years": "AGE"})
        frame.insert(0, "note", ["=HYPERLINK(1)", "-5", "+x", "plain"] * 750)
        frame["AGE"] = frame["AGE"].astype(object)
        frame.loc[[4, 9], "AGE"] = ["old", 400]
        file = self.bring(guest, "round.csv", frame.to_csv(index=False, sep=";").encode())
        found = self.matched(guest, file)
        self.assertEqual(found["matched"]["age_years"], "AGE")
        self.assertEqual((found["problem"], found["rows"], found["rejects"], found["whole"]), (None, 3_000, 2, True))
        self.assertEqual([reject["line"] for reject in found["first_rejects"]], [6, 11])
        self.assertEqual(found["first"][0]["note"], "=HYPERLINK(1)")
        result = self.answered(guest, file)
        self.assertEqual((result["rows"], result["rejects"], result["file_name"], result["mine"]), (3_000, 2, "round.csv", True))
        self.assertEqual(sum(one["rows"] for one in result["counts"]), 2_998)
        self.assertEqual({one["text"] for one in result["counts"]}, {"Send somebody", "Nothing to do"})
        with self.service.client() as client:
            rows = [{**row, "maker": self.settings["fields"]["maker"]["value"]} for row in self.rows_of(frame.head(4))]
            labels = [answer["label"] for answer in client.predict("outage-risk", rows).answers]
        name = result["name"]
        first = guest.get(self.url(f"/results/{name}/rows"), params={"limit": 4}, timeout=10).json()
        self.assertEqual([row["text"] for row in first["rows"]], [SETTINGS["answers"][label]["text"] for label in labels])
        sure = guest.get(
            self.url(f"/results/{name}/rows"), params={"answer": "fails", "sort": f"-{first['sort_sure']}", "limit": 50}, timeout=10
        ).json()
        self.assertEqual(sure["matching"], next(one["rows"] for one in result["counts"] if one["label"] == "fails"))
        self.assertEqual(sorted((row["sure"] for row in sure["rows"]), reverse=True), [row["sure"] for row in sure["rows"]])
        searched = guest.get(self.url(f"/results/{name}/rows"), params={"search": "HYPERLINK", "at": 700}, timeout=10).json()
        self.assertEqual((searched["matching"], len(searched["rows"])), (749, 49))
        text = guest.get(self.url(f"/results/{name}/file"), params={"form": "csv"}, timeout=60).content.decode("utf-8-sig")
        home = list(csv.DictReader(io.StringIO(text)))
        self.assertEqual(len(home), 2_998)
        self.assertEqual([row["note"] for row in home[:4]], ["'=HYPERLINK(1)", "-5", "'+x", "plain"])
        self.assertIn(home[0]["answer"], ("Send somebody", "Nothing to do"))
        sheet = guest.get(self.url(f"/results/{name}/file"), params={"form": "xlsx"}, timeout=120)
        self.assertIn("round with answers.xlsx", unquote(sheet.headers["content-disposition"]))
        book = openpyxl.load_workbook(io.BytesIO(sheet.content))
        self.assertEqual(book.sheetnames, ["answers", "without an answer"])
        self.assertEqual((book["answers"]["A2"].value, book["answers"]["A2"].data_type), ("=HYPERLINK(1)", "s"))
        self.assertEqual(book["without an answer"].max_row, 3)

    def rows_of(self, frame: pd.DataFrame) -> list[dict[str, Any]]:
        renamed = frame.rename(columns={"AGE": "age_years"}).drop(columns=["note", "lamp_id"])
        return [{key: None if value != value else value for key, value in row.items()} for row in renamed.to_dict("records")]

    def test_a_sheet_is_chosen_and_columns_are_mended_by_hand(self) -> None:
        guest = self.guest(self.link("sheets"))
        data = io.BytesIO()
        with pd.ExcelWriter(data) as writer:
            lamps(50, 8).rename(columns={"height_m": "x1"}).to_excel(writer, sheet_name="north", index=False)
            lamps(20, 9).to_excel(writer, sheet_name="south", index=False)
        file = self.bring(guest, "two.xlsx", data.getvalue())
        self.assertEqual(self.matched(guest, file)["sheets"], ["north", "south"])
        found = self.matched(guest, file, sheet="north")
        self.assertIsNone(found["matched"]["height_m"])
        self.assertIn("no column holds height_m", found["problem"])
        mended = self.matched(guest, file, sheet="north", columns={**found["matched"], "height_m": "x1"} | {"maker": ""})
        self.assertEqual((mended["problem"], mended["rows"]), (None, 50))
        columns = {name: column for name, column in mended["matched"].items() if column}
        self.assertEqual(self.answered(guest, file, sheet="north", columns=columns)["rows"], 50)

    def test_what_cannot_be_read_is_told_and_nothing_starts(self) -> None:
        guest = self.guest(self.link("bad-files"))
        refused = guest.post(self.url("/files"), json={"file_name": "lamps.parquet"}, timeout=10)
        self.assertEqual((refused.status_code, "neither CSV nor XLSX" in refused.json()["detail"]), (400, True))
        for name, data, part in (
            ("no.xlsx", b"a,b\n1,2\n", "is no XLSX file"),
            ("empty.csv", b"", "the file is empty"),
            ("latin.csv", "Stra\u00dfe;b\n".encode("latin-1"), "is not UTF-8"),
        ):
            with self.subTest(name):
                answer = guest.post(self.url(f"/files/{self.bring(guest, name, data)}/match"), json={}, timeout=60)
                self.assertEqual(answer.status_code, 400, answer.text)
                self.assertIn(part, answer.json()["detail"])
        twice = self.bring(guest, "twice.csv", b"age_years,age_years\n1,2\n")
        self.assertIn("more than once", self.matched(guest, twice)["problem"])

    def test_a_large_result_is_paged_quickly(self) -> None:
        guest = self.guest(self.link("large"))
        file = self.bring(guest, "large.csv", lamps(100_000, 12).to_csv(index=False).encode())
        result = self.answered(guest, file)
        slowest = 0.0
        for params in ({}, {"sort": "-age_years"}, {"answer": "fails", "sort": "district"}, {"search": "harbour"}, {"at": 99_000}):
            started = time.monotonic()
            page = guest.get(self.url(f"/results/{result['name']}/rows"), params=params, timeout=20)  # type: ignore[arg-type]
            self.assertEqual(page.status_code, 200, page.text)
            slowest = max(slowest, time.monotonic() - started)
        self.assertLess(slowest, 5.0, "a page stalls")

    # -- who may what ---------------------------------------------------------------------------------------------------

    def test_a_link_opens_its_desk_and_nothing_else_until_it_is_revoked(self) -> None:
        link = self.link("office")
        guest, secret = self.guest(link), link.partition("#link=")[2]
        cookie = guest.cookies.get_dict()
        self.assertEqual([made.path for made in guest.cookies], ["/api/desk/outage-risk"])
        for method, path in (
            *(("GET", "/api/endpoints"), ("GET", "/api/desks/outage-risk"), ("POST", "/predict/outage-risk"), ("GET", "/api/bulk")),
            *(("GET", "/api/tokens"), ("POST", "/api/uploads"), ("POST", "/api/endpoints/outage-risk/explain"), ("GET", "/api/logs")),
        ):
            for given in ({"cookies": cookie}, {"headers": {"authorization": f"Bearer {secret}"}}):
                with self.subTest(path, given=[*given]):
                    answer = requests.request(method, f"{self.service.address}{path}", json={}, timeout=10, **given)  # type: ignore[arg-type]
                    self.assertIn(answer.status_code, (401, 403), answer.text)
        mine = self.answered(guest, self.bring(guest, "mine.csv", lamps(30, 1).to_csv(index=False).encode()))
        other = self.guest(self.link("other-office"))
        self.assertEqual(other.get(self.url("/results"), timeout=10).json(), [])
        shared = other.get(self.url(f"/results/{mine['name']}"), timeout=10).json()
        self.assertEqual((shared["rows"], shared["mine"]), (30, False))
        self.assertEqual(other.delete(self.url(f"/results/{mine['name']}"), timeout=10).status_code, 403)
        with self.service.client() as client:
            names = [token["name"] for token in client.fetch("GET", "/api/tokens") if token["role"] == "desk"]
            self.assertIn("office", names)
            self.assertNotIn(mine["name"], [run["name"] for run in client.fetch("GET", "/api/bulk")])
        self.assertEqual(self.service.run("desk", "revoke", "outage-risk", "office").returncode, 0)
        self.assertEqual(guest.get(self.url(), timeout=10).status_code, 401)
        again = requests.post(self.url("/session"), json={"link": secret}, timeout=10)
        self.assertIn("was ended", again.json()["detail"])
        self.assertEqual(other.get(self.url(), timeout=10).status_code, 200)

    def test_results_are_deleted_by_hand_and_when_their_time_is_over(self) -> None:
        guest = self.guest(self.link("short"))
        gone, old = (self.answered(guest, self.bring(guest, "a.csv", lamps(20, 2).to_csv(index=False).encode())) for _ in range(2))
        self.assertEqual(guest.delete(self.url(f"/results/{gone['name']}"), timeout=10).status_code, 204)
        self.assertEqual(guest.get(self.url(f"/results/{gone['name']}"), timeout=10).status_code, 404)
        folder = self.service.data / "bulk" / old["name"]
        self.assertTrue(folder.exists())
        with psycopg.connect(self.service.database()) as connection:
            connection.execute("UPDATE bulk_runs SET keep_until = now() - interval '1 minute' WHERE name = %s", (old["name"],))
        self.service.stop()
        self.service.start()
        until(lambda: not folder.exists(), 30, "the deletion of the result")
        guest = self.guest(self.link("short-again"))
        self.assertEqual(guest.get(self.url(f"/results/{old['name']}"), timeout=10).status_code, 404)

    def test_the_owner_sets_shows_and_closes_a_desk_by_commands(self) -> None:
        toml = self.service.run("desk", "show", "outage-risk", "--toml")
        self.assertIn('title = "Will this lamp fail?"', toml.stdout)
        (self.service.folder / "desk.toml").write_text(toml.stdout.replace("Will this lamp fail?", "Lamps"))
        self.assertEqual(self.service.run("desk", "set", "outage-risk", "desk.toml").returncode, 0)
        self.addCleanup(self.reset_desk)
        shown = self.service.run("desk", "show", "outage-risk").stdout
        self.assertIn("Lamps", shown)
        self.assertIn("not asked for: maker", shown)
        (self.service.folder / "bad.toml").write_text(toml.stdout.replace("[fields.age_years]", "[fields.age_year]"))
        bad = self.service.run("desk", "set", "outage-risk", "bad.toml")
        self.assertEqual((bad.returncode, "did you mean 'age_years'?" in bad.stderr), (1, True))
        opened = self.service.run("desk", "open", "outage-risk", "--for", "2d", "--name", "two-days")
        link = next(line for line in opened.stdout.splitlines() if "#link=" in line)
        guest = self.guest(link)
        self.assertIn("two-days", self.service.run("desk", "show", "outage-risk").stdout)
        self.assertIn("Lamps", self.service.run("desk", "list").stdout)
        self.assertEqual(self.service.run("desk", "close", "outage-risk").returncode, 0)
        self.assertIn(guest.get(self.url(), timeout=10).status_code, (401, 404))
        self.assertEqual(self.service.run("desk", "show", "outage-risk").returncode, 1)

    def reset_desk(self) -> None:
        with self.service.client() as client:
            client.fetch("PUT", "/api/desks/outage-risk", self.settings)
