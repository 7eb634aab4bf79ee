"""The engine as callers and operators meet it: kept connections, deadlines, sleeping endpoints, rules changed while calls come."""

import socket
import threading
from typing import Any

import orjson

from lamppost.core.errors import LampPostError
from tests.end_to_end.test_service import ROW
from tests.support.lamps import outage_lamp
from tests.support.service import WithService, until

BODY = orjson.dumps(ROW)


class Engine(WithService):
    def request(self, body: bytes, path: str = "/predict/outage-risk", **headers: str) -> bytes:
        lines = {"host": "localhost", "authorization": f"Bearer {self.service.token}", "content-type": "application/json"}
        lines |= {name.replace("_", "-"): value for name, value in headers.items()}
        head = "".join(f"{name}: {value}\r\n" for name, value in lines.items())
        return f"POST {path} HTTP/1.1\r\n{head}content-length: {len(body)}\r\n\r\n".encode() + body

    def exchange(self, *requests: bytes, cut: int | None = None) -> list[tuple[int, Any]]:
        """Status and body of the answers to requests that are sent in one piece, or in pieces of ``cut`` bytes."""
        whole = b"".join(requests)
        with socket.create_connection(("127.0.0.1", self.service.port), timeout=30) as line:
            for at in range(0, len(whole), cut or len(whole)):
                line.sendall(whole[at : at + (cut or len(whole))])
            got = line.makefile("rb")
            answers = []
            for _ in requests:
                status = int(got.readline().split()[1])
                length = 0
                while (header := got.readline().strip()) != b"":
                    if header.lower().startswith(b"content-length:"):
                        length = int(header.split(b":")[1])
                answers.append((status, got.read(length)))
        return answers

    def test_calls_of_both_ways_on_one_line_are_answered_in_their_order(self) -> None:
        csv = f"{','.join(ROW)}\n{','.join('' if v is None else str(v).lower() for v in ROW.values())}\n".encode()
        bad = orjson.dumps({**ROW, "district": "nowhere"})
        many = orjson.dumps({"rows": [ROW] * 3})
        requests = [
            self.request(BODY),
            self.request(csv, content_type="text/csv", accept="text/csv"),
            self.request(bad),
            self.request(many),
            self.request(BODY, path="/predict/outage-rsk"),
            self.request(BODY, authorization="Bearer lamp_no"),
            self.request(BODY),
        ]
        for cut in (None, 400, 97):
            answers = self.exchange(*requests, cut=cut)
            self.assertEqual([status for status, _ in answers], [200, 200, 422, 200, 404, 401, 200], cut)
            self.assertTrue(answers[1][1].startswith(b"label,"))
            self.assertEqual(len(orjson.loads(answers[3][1])["answers"]), 3)
            self.assertEqual(orjson.loads(answers[0][1])["answer"], orjson.loads(answers[6][1])["answer"])

    def test_a_deadline_that_cannot_be_kept_is_said_and_a_wrong_one_too(self) -> None:
        large = orjson.dumps({"rows": [ROW] * 9_000})  # goes in many pieces, the last of which come too late
        late = self.service.post("/predict/outage-risk", large, answer_within="0.002")
        self.assertEqual((late.status_code, late.json()["type"]), (504, "urn:lamppost:too-late"))
        self.assertEqual(self.service.post("/predict/outage-risk", BODY, answer_within="20").status_code, 200)
        wrong = self.service.post("/predict/outage-risk", BODY, answer_within="soon")
        self.assertEqual((wrong.status_code, "seconds above 0" in wrong.json()["detail"]), (400, True))
        self.assertEqual(self.service.post("/predict/outage-risk", BODY, priority="u=6, i").status_code, 200)

    def test_an_endpoint_sleeps_and_is_woken_by_a_call(self) -> None:
        with self.service.client() as client:
            client.push(outage_lamp(), "sleepy")
            client.set_up("sleepy", {"version": "sleepy@1", "lane": {"sleep_after_s": 1}})
            self.assertEqual(client.fetch("GET", "/api/endpoints/sleepy")["state"], "serving")
            until(lambda: client.fetch("GET", "/api/endpoints/sleepy")["state"] == "asleep", what="sleep")
            self.assertNotIn("sleepy@1", [lane["version"] for lane in client.fetch("GET", "/api/lanes")["lanes"]])
            self.assertEqual(client.fetch("GET", "/health/ready")["status"], "ready")
            self.assertEqual(client.predict("sleepy", ROW).version, "sleepy@1")
            self.assertEqual(client.fetch("GET", "/api/endpoints/sleepy")["state"], "serving")

    def test_of_more_endpoints_than_fit_a_page_those_that_matter_are_shown(self) -> None:
        with self.service.client() as client:
            for number in range(6):
                client.point(f"street-{number}", "outage-risk@1")
            for number, calls in ((4, 3), (1, 2)):
                for _ in range(calls):
                    client.predict(f"street-{number}", ROW)

            def look(**query: object) -> dict[str, Any]:
                found: dict[str, Any] = client.fetch("GET", "/api/overview", **query)
                return found

            def names(**query: object) -> list[str]:
                return [one["name"] for one in look(search="street", **query)["shown"]]

            until(lambda: names(limit=2) == ["street-4", "street-1"], what="the most called ones first")
            self.assertEqual(names(), [f"street-{number}" for number in range(6)], "those that fit stand by their names")
            self.assertEqual([one["name"] for one in look(search="STREET-4 outage-risk@1")["shown"]], ["street-4"])
            self.assertEqual((look(search="nowhere")["shown"], look(search="nowhere")["found"]), ([], 0))
            self.assertEqual(look(search="street", limit=2)["found"], 6, "what the limit cuts is told")
            whole = look(limit=1)
            every = client.fetch("GET", "/api/endpoints")
            self.assertEqual((whole["endpoints"], whole["down"], len(whole["shown"])), (len(every), [], 1))
            self.assertGreaterEqual(whole["calls"], 5)
            self.assertEqual(len(client.fetch("GET", "/api/lanes", limit=1)["lanes"]), 1)

    def test_rules_are_in_force_at_once_and_lose_no_call(self) -> None:
        stop, failed, answered = threading.Event(), [], [0]

        def call() -> None:
            with self.service.client() as client:
                while not stop.is_set():
                    try:
                        client.predict("outage-risk", [ROW] * 5)
                        answered[0] += 1
                    except LampPostError as error:
                        failed.append(error)

        threads = [threading.Thread(target=call) for _ in range(4)]
        for thread in threads:
            thread.start()
        try:
            for rows, target in ((2, 5.0), (64, 50.0), (3, 20.0)):
                done = self.service.run("setup", "outage-risk", "--lane", f"max_rows={rows}", "--lane", f"target_ms={target}")
                self.assertEqual(done.returncode, 0, done.stderr)
                lane = next(one for one in self.lanes() if one["version"] == "outage-risk@1")
                self.assertEqual((lane["max_rows"] <= rows, lane["target_ms"]), (True, target))
                goal = answered[0] + 10
                until(lambda goal=goal: answered[0] >= goal, what="calls under the new rules")
        finally:
            stop.set()
            for thread in threads:
                thread.join()
        self.assertEqual(failed, [])
        self.assertTrue(all(batch["rows"] for batch in lane["batches"]))
        for rule, said in (("max_rows=0", "goes from 1 to 10,000"), ("speed=9", "speed"), ("copies_most=x", "is not NAME=VALUE")):
            refused = self.service.run("setup", "outage-risk", "--lane", rule)
            self.assertEqual((refused.returncode, said in refused.stderr), (1, True), refused.stderr)
        shown = self.service.run("lanes", "outage-risk@1").stdout
        self.assertIn("rows in a batch", shown)
        self.service.run("setup", "outage-risk", "--lane", "max_rows=", "--lane", "target_ms=")
        self.assertIn("outage-risk@1", self.service.run("lanes").stdout)

    def lanes(self) -> list[dict[str, Any]]:
        with self.service.client() as client:
            return list(client.fetch("GET", "/api/lanes")["lanes"])
