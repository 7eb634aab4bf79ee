"""What callers send and get back, in every content type, over HTTP."""

import io
import json
from typing import Any

import httpx
import orjson
import pyarrow as pa

from demo.lamps import make_traffic
from demo.poles import make_photos
from tests.support import http
from tests.support.lamps import outage_lamp
from tests.support.other_lamps import photo_lamp, several_lamp
from tests.support.service import WithService, until

ROWS = make_traffic(30, seed=9)
ARROW = "application/vnd.apache.arrow.stream"


def stream(rows: list[dict[str, Any]]) -> bytes:
    table = pa.Table.from_pylist(rows)
    sink = io.BytesIO()
    with pa.ipc.new_stream(sink, table.schema) as writer:
        writer.write_table(table)
    return sink.getvalue()


def as_csv(rows: list[dict[str, Any]]) -> str:
    cells = [[("" if value is None else value if isinstance(value, str) else json.dumps(value)) for value in row.values()] for row in rows]
    return "\n".join(",".join(line) for line in [list(rows[0]), *cells])


class Contract(WithService):
    @classmethod
    def setUpClass(cls) -> None:
        super().setUpClass()
        cls.service.serve(photo_lamp(), "pole-photo")
        cls.service.serve(several_lamp(), "several")
        cls.wanted = cls.service.post("/predict/outage-risk", orjson.dumps({"rows": ROWS})).json()["answers"]

    def ask(self, body: Any, kind: str, accept: str = "*/*", path: str = "/predict/outage-risk") -> httpx.Response:
        return self.service.post(path, body, content_type=kind, accept=accept)

    def test_the_same_rows_in_every_type_get_the_same_answers(self) -> None:
        columns = {name: [row[name] for row in ROWS] for name in ROWS[0]}
        said = self.ask(orjson.dumps({"columns": columns}), "application/json").json()
        self.assertEqual(said["columns"]["label"], [answer["label"] for answer in self.wanted])
        self.assertEqual(said["columns"]["scores"]["fails"], [answer["scores"]["fails"] for answer in self.wanted])
        for kind, body in (
            ("application/x-ndjson", b"\n".join(map(orjson.dumps, ROWS))),
            ("text/csv; charset=utf-8", as_csv(ROWS)),
            (ARROW, stream(ROWS)),
        ):
            with self.subTest(kind):
                said = self.ask(body, kind, "application/json")
                self.assertEqual((said.status_code, said.json()["answers"]), (200, self.wanted), said.text[:300])
                self.assertEqual(said.headers["model-version"], "outage-risk@1")

    def test_answers_come_as_the_caller_likes_them(self) -> None:
        body = orjson.dumps({"rows": ROWS})
        lines = self.ask(body, "application/json", "application/x-ndjson").text.splitlines()
        self.assertEqual([orjson.loads(line) for line in lines], self.wanted)
        table = self.ask(body, "application/json", "text/csv;q=0.9, image/png").text.split("\r\n")
        self.assertEqual((table[0], len(table)), ("label,scores.holds,scores.fails", len(ROWS) + 2))
        for sent, accept in ((body, ARROW), (stream(ROWS), "*/*")):
            answer = self.ask(sent, "application/json" if sent is body else ARROW, accept)
            self.assertEqual(answer.headers["content-type"], ARROW)
            self.assertEqual(pa.ipc.open_stream(answer.content).read_all().to_pylist(), self.wanted)
        self.assertEqual(self.ask(body, "application/json", "application/json, text/csv;q=0.5").json()["answers"], self.wanted)
        refused = self.ask(body, "application/json", "image/png, application/json;q=0")
        self.assertEqual((refused.status_code, refused.json()["type"]), (406, "urn:lamppost:not-acceptable"))

    def test_pictures_by_form(self) -> None:
        photo = make_photos(1, seed=3)["photo"][0]
        headers = {"authorization": f"Bearer {self.service.token}"}
        address = f"{self.service.address}/predict/pole-photo"

        def send(**parts: Any) -> httpx.Response:
            return http.post(address, headers=headers, **parts)

        self.assertIn(send(files={"photo": ("post.png", photo)}).json()["answer"]["label"], ("leans", "rusts", "sound"))
        for what, parts, status, code in (
            ("a GIF", {"files": {"photo": b"GIF89a"}}, 422, "invalid-rows"),
            ("another name", {"files": {"foto": photo}}, 422, "invalid-rows"),
            ("a field twice", {"files": [("photo", photo), ("photo", photo)]}, 400, "bad-body"),
            ("one field more", {"files": {"photo": photo}, "data": {"note": "x"}}, 422, "invalid-rows"),
            ("no form", {"content": b"nothing", "headers": {**headers, "content-type": "multipart/form-data"}}, 400, "bad-body"),
        ):
            with self.subTest(what):
                refused = http.post(address, **{"headers": headers, **parts})  # type: ignore[arg-type]
                self.assertEqual((refused.status_code, refused.json()["type"]), (status, f"urn:lamppost:{code}"), refused.text)

    def test_options_beside_other_types(self) -> None:
        row = orjson.dumps({"seq": [1, 2], "note": "n"})
        path = "/predict/several?options="
        said = self.ask(row, "application/x-ndjson", path=path + '{"k": 10}')
        self.assertEqual(said.json()["answers"][0]["scaled"], [10.0, 20.0])
        self.assertEqual(self.ask(row, "application/x-ndjson", path="/predict/several").json()["answers"][0]["scaled"], [2.0, 4.0])
        for query, status in (('{"k": 101}', 422), ("[]", 400), ("{", 400), ('{"q": 1}', 422)):
            self.assertEqual(self.ask(row, "application/x-ndjson", path=path + query).status_code, status, query)
        self.assertEqual(self.ask(row, "application/json", path=path + "{}").status_code, 400)
        self.assertEqual(self.ask(as_csv(ROWS), "text/csv", path="/predict/outage-risk?options={}").status_code, 400)

    def test_what_is_malformed_gets_its_place_and_its_remedy(self) -> None:
        good = as_csv(ROWS)
        for what, kind, body, status, code in (
            ("a short line", "text/csv", good + "\n1,2", 400, "bad-body"),
            ("another column", "text/csv", good.replace("age_years", "age_year", 1), 400, "bad-body"),
            ("a bad line", "application/x-ndjson", b'{"age_years": 1}\n{', 400, "bad-body"),
            ("cut short", ARROW, stream(ROWS)[:200], 400, "bad-body"),
            ("no stream", ARROW, b"\xff\xff\xff\xff\xff\xff\xff\x7f" + bytes(64), 400, "bad-body"),
            ("too few columns", "application/json", b'{"columns": {"age_years": [1, 2], "height_m": [1]}}', 422, "invalid-rows"),
            ("a picture", "image/png", b"", 415, "wrong-content-type"),
        ):
            with self.subTest(what):
                refused = self.ask(body, kind)
                self.assertEqual((refused.status_code, refused.json()["type"]), (status, f"urn:lamppost:{code}"), refused.text[:300])

    def test_other_types_are_recorded_as_rows(self) -> None:
        said = self.ask(as_csv(ROWS[:2]), "text/csv", "text/csv")
        with self.service.client() as client:

            def recorded() -> dict[str, Any] | None:
                calls = client.fetch("GET", "/api/calls", endpoint="outage-risk", limit=50)
                return next((call for call in calls if call["request_id"] == said.headers["request-id"]), None)

            call = until(recorded, what="the record")
        assert call is not None
        self.assertEqual(call["input"]["content_type"], "text/csv")
        self.assertEqual([row["district"] for row in call["input"]["rows"]], [row["district"] for row in ROWS[:2]])
        self.assertEqual(call["answer"]["content_type"], "text/csv")

    def stream(self, pieces: Any, kind: str, path: str = "/predict/outage-risk", **headers: str) -> tuple[int, dict[str, str], bytes, bool]:
        """Status, headers, body as far as it came, and whether it came whole."""
        sent = {"authorization": f"Bearer {self.service.token}", "content-type": kind, **headers}
        got = b""
        with http.client(timeout=60) as client, client.stream("POST", self.service.address + path, content=pieces, headers=sent) as answer:
            try:
                for piece in answer.iter_bytes():
                    got += piece
            except httpx.RemoteProtocolError:
                return answer.status_code, dict(answer.headers), got, False
        return answer.status_code, dict(answer.headers), got, True

    def test_bodies_without_end_in_sight_are_answered_as_they_come(self) -> None:
        count = 30_000
        lines = [orjson.dumps(ROWS[at % len(ROWS)]) + b"\n" for at in range(count)]
        status, headers, got, whole = self.stream(iter(lines), "application/x-ndjson")
        self.assertEqual((status, whole, headers["model-version"]), (200, True, "outage-risk@1"))
        answers = [orjson.loads(line) for line in got.splitlines()]
        self.assertEqual(len(answers), count)
        self.assertTrue(all(answer == self.wanted[at % len(ROWS)] for at, answer in enumerate(answers)))
        body = as_csv([ROWS[at % len(ROWS)] for at in range(9_000)]).encode()
        pieces = (body[at : at + 70_001] for at in range(0, len(body), 70_001))
        status, _, got, whole = self.stream(pieces, "text/csv")
        rows = got.decode().split("\r\n")
        self.assertEqual((status, whole, rows[0], len(rows)), (200, True, "label,scores.holds,scores.fails", 9_002))
        self.assertEqual([row.split(",")[0] for row in rows[1:31]], [answer["label"] for answer in self.wanted])

    def test_a_body_over_the_limit_is_streamed_where_its_type_allows_it(self) -> None:
        line = orjson.dumps(ROWS[0]) + b"\n"
        large = line * (11 * 2**20 // len(line))
        status, _, got, whole = self.stream(large, "application/x-ndjson")
        self.assertEqual((status, whole, got.count(b"\n")), (200, True, large.count(b"\n")))
        self.assertEqual(self.stream(large, "application/x-ndjson", accept="application/json")[0], 413)
        self.assertEqual(self.stream(large, "application/json")[0], 413)

    def test_what_is_wrong_in_a_stream(self) -> None:
        good, bad = orjson.dumps(ROWS[0]) + b"\n", orjson.dumps({**ROWS[0], "age_years": "old"}) + b"\n"
        status, headers, got, _ = self.stream(iter([bad, good]), "application/x-ndjson")
        self.assertEqual((status, headers["content-type"], orjson.loads(got)["faults"][0]["row"]), (422, "application/problem+json", 0))
        status, _, got, whole = self.stream(iter([good] * 5_000 + [bad] + [good] * 10), "application/x-ndjson")
        last = orjson.loads(got.splitlines()[-1])
        self.assertEqual((status, whole), (200, True))
        self.assertTrue(2_000 < len(got.splitlines()) <= 5_001, "the blocks before it are answered")
        self.assertEqual((last["problem"]["faults"][0]["row"], "row 5000, age_years" in last["problem"]["detail"]), (5_000, True))
        status, _, got, _ = self.stream(iter([good] * 2_500 + [b"{\n"]), "application/x-ndjson")
        self.assertIn("line 2501 is not JSON", orjson.loads(got.splitlines()[-1])["problem"]["detail"])
        body = as_csv([ROWS[0]] * 5_000) + "\n1,2\n"
        status, _, got, whole = self.stream(iter([body.encode()]), "text/csv")
        self.assertEqual((status, whole, got.count(b"\n") > 2_000), (200, False, True))
        for pieces, kind, status in (
            ([b""], "application/x-ndjson", 400),
            ([b"age_years\n"], "text/csv", 400),
            ([b"nothing;known\n", b"1;2\n"], "text/csv", 400),
        ):
            self.assertEqual(self.stream(iter(pieces), kind)[0], status, pieces)

    def test_a_long_answer_outlives_a_swap(self) -> None:
        line = orjson.dumps(ROWS[0]) + b"\n"

        def pieces() -> Any:
            for block in range(6):
                if block == 2:
                    self.service.serve(several_lamp(), "outage-risk")
                yield line * 2_000

        try:
            status, headers, got, whole = self.stream(pieces(), "application/x-ndjson")
        finally:
            self.service.serve(outage_lamp())
        self.assertEqual((status, whole, headers["model-version"]), (200, True, "outage-risk@1"))
        self.assertEqual({orjson.dumps(orjson.loads(one)["label"]) for one in got.splitlines()}, {orjson.dumps(self.wanted[0]["label"])})
        self.assertEqual(got.count(b"\n"), 12_000)

    def test_arrow_streams_are_answered_batch_by_batch(self) -> None:
        table = pa.Table.from_pylist([ROWS[at % len(ROWS)] for at in range(30_000)])
        sink = io.BytesIO()
        with pa.ipc.new_stream(sink, table.schema) as writer:
            writer.write_table(table, max_chunksize=4_000)
        data, kind = sink.getvalue(), "application/vnd.apache.arrow.stream"
        pieces = [data[at : at + 70_001] for at in range(0, len(data), 70_001)]
        status, headers, got, whole = self.stream(iter(pieces), kind)
        answers = pa.ipc.open_stream(got).read_all().to_pylist()
        self.assertEqual((status, whole, headers["content-type"], len(answers)), (200, True, kind, 30_000))
        self.assertTrue(all(answer == self.wanted[at % len(ROWS)] for at, answer in enumerate(answers)))
        lines = self.stream(iter(pieces), kind, accept="application/x-ndjson")[2].splitlines()
        self.assertEqual([orjson.loads(line) for line in lines[:5]], self.wanted[:5])
        back = self.stream(iter([b"\n".join(orjson.dumps(row) for row in ROWS)]), "application/x-ndjson", accept=kind)[2]
        self.assertEqual(pa.ipc.open_stream(back).read_all().to_pylist(), self.wanted[: len(ROWS)])
        self.assertEqual(self.stream(iter([data[:1_000]]), kind)[0], 400)
        status, _, got, whole = self.stream(iter(pieces[:-2]), kind)
        self.assertEqual((status, whole, len(got) > 10_000), (200, False, True))

    def test_options_of_a_stream(self) -> None:
        line = orjson.dumps({"seq": [1, 2], "note": "n"}) + b"\n"
        status, _, got, _ = self.stream(iter([line] * 3), "application/x-ndjson", path='/predict/several?options={"k":5}')
        self.assertEqual((status, orjson.loads(got.splitlines()[2])["scaled"]), (200, [5.0, 10.0]))
        self.assertEqual(self.stream(iter([line]), "application/x-ndjson", path='/predict/several?options={"k":500}')[0], 422)
