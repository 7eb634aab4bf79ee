"""Windows, reasons, alerts and what goes out about them, outcomes, load over time: on made-up days that are brought in."""

import base64
import hashlib
import hmac
import json
import re
import threading
import unittest
from collections.abc import Iterator
from datetime import UTC, datetime, timedelta
from http.server import BaseHTTPRequestHandler, ThreadingHTTPServer
from typing import Any

import psycopg
from prometheus_client.openmetrics.parser import text_string_to_metric_families

import lamppost
from demo.mailbox import Mailbox
from lamppost.core.errors import BadRequest, Conflict, NotAllowed, NotFound
from tests.support.lamps import outage_lamp
from tests.support.service import Service, free_port, until
from tests.support.watching import bring, scaled, usual, window_start


class Receiver:
    """A webhook receiver that answers as it is told to, and keeps what came."""

    def __init__(self) -> None:
        self.got: list[tuple[dict[str, str], bytes]] = []
        self.answers: Iterator[int] = iter(())
        receiver = self

        class Handler(BaseHTTPRequestHandler):
            def do_POST(self) -> None:
                body = self.rfile.read(int(self.headers["content-length"]))
                status = next(receiver.answers, 204)
                if status < 300:
                    receiver.got.append(({name.lower(): value for name, value in self.headers.items()}, body))
                self.send_response(status)
                self.send_header("content-length", "0")
                self.end_headers()

            def log_message(self, *_: Any) -> None:
                """Quiet."""

        self.server = ThreadingHTTPServer(("127.0.0.1", 0), Handler)
        self.address = f"http://127.0.0.1:{self.server.server_port}/hook"
        threading.Thread(target=self.server.serve_forever, daemon=True).start()

    def close(self) -> None:
        self.server.shutdown()
        self.server.server_close()


class Watching(unittest.TestCase):
    service: Service
    version: str

    @classmethod
    def setUpClass(cls) -> None:
        port = free_port()
        cls.mailbox = Mailbox(port)
        cls.mailbox.start()
        cls.addClassCleanup(cls.mailbox.stop)
        cls.receiver = Receiver()
        cls.addClassCleanup(cls.receiver.close)
        cls.service = Service("--smtp", f"127.0.0.1:{port}").start()
        cls.addClassCleanup(cls.service.remove)
        cls.version = cls.service.serve(outage_lamp())
        cls.service.serve(outage_lamp(), "quiet")
        with cls.service.client() as client:
            cls.secret = client.fetch("POST", "/api/channels/shift", {"kind": "webhook", "target": cls.receiver.address})["secret"]
            client.fetch("POST", "/api/channels/post", {"kind": "mail", "target": "lamps@tallowby.example", "reports": "daily"})
            client.fetch("POST", "/api/channels/down", {"kind": "webhook", "target": f"http://127.0.0.1:{free_port()}/hook"})
            cls.receiver.answers = iter((500, 503))
            for hours in range(9, 3, -1):
                bring(client, "outage-risk", cls.version, usual(400, hours), window_start(hours))
            for hours in (3, 2):
                bring(
                    client,
                    "outage-risk",
                    cls.version,
                    scaled(usual(400, hours), "old-town", 1.12),
                    window_start(hours),
                    token="new-firmware",
                )
            cls.ids = bring(client, "outage-risk", cls.version, usual(400, 1), window_start(1))
            until(lambda: cls.alert(client)["state"] == "resolved", 40, "the alert's end")

    @classmethod
    def alert(cls, client: lamppost.Client) -> dict[str, Any]:
        found = client.fetch("GET", "/api/alerts", endpoint="outage-risk")
        return found[0] if found else {"state": "none"}

    def drift(self, client: lamppost.Client, hours: int, **more: Any) -> dict[str, Any]:
        at = (window_start(hours) + timedelta(minutes=5)).isoformat()
        said: dict[str, Any] = client.fetch("GET", "/api/endpoints/outage-risk/drift", at=at, **more)
        return said

    def test_a_scaled_voltage_in_one_district_is_found_with_its_reason(self) -> None:
        with self.service.client() as client:
            states = {window["at"][:13]: window["state"] for window in client.fetch("GET", "/api/endpoints/outage-risk/drift")["windows"]}
            by_hour = [states[window_start(hours).isoformat()[:13]] for hours in range(9, 0, -1)]
            self.assertEqual(by_hour, ["steady"] * 6 + ["drifted"] * 2 + ["steady"])
            said = self.drift(client, 2)
            self.assertEqual(said["figures"][0]["name"], "voltage_v")
            why = said["explanation"]
            self.assertEqual(why["fields"][0]["slices"][0]["value"], "old-town")
            self.assertGreater(why["fields"][0]["slices"][0]["part"], 0.8)
            self.assertEqual(why["since"][:13], window_start(3).isoformat()[:13])
            self.assertEqual(why["callers"][0]["token"], "new-firmware")
            self.assertIn("where district is old-town", why["summary"])
            earlier = self.drift(client, 2, against=window_start(3).isoformat())
            self.assertEqual(earlier["state"], "steady", earlier["summary"])
            cells = client.fetch("GET", "/api/endpoints/outage-risk/drift/voltage_v", at=window_start(2).isoformat())
            self.assertAlmostEqual(sum(cells["window"]), 1.0, places=4)
            self.assertGreater(cells["window"][-1], cells["reference"][-1] * 2)

    def test_odd_rows_are_found_among_the_calls(self) -> None:
        with self.service.client() as client:
            odd = client.fetch("GET", "/api/calls", endpoint="outage-risk", odd=3, limit=50)
            self.assertTrue(odd)
            there = sum(one["input"]["district"] == "old-town" for one in odd)
            self.assertGreater(there, 0.9 * len(odd), "what training had in a thousandth of its rows is not all")
            self.assertEqual(odd[0]["brought_by"], "simulated")
            self.assertRegex(odd[0]["odd_reason"], r"^voltage_v is \d+")
        said = self.service.run("call", odd[0]["request_id"])
        self.assertIn("it was answered elsewhere: simulated", said.stdout)
        self.assertIn("voltage_v is", said.stdout)
        live = self.service.post("/predict/quiet", json.dumps(usual(1, 3)[0] | {"voltage_v": 23.0}))
        self.assertEqual(live.status_code, 200)
        with self.service.client() as client:
            until(lambda: self.odd_reason(client, live.json()["request_id"]) == "voltage_v is 23.0", what="the odd call")

    def odd_reason(self, client: lamppost.Client, request_id: str) -> str | None:
        """What is said of a call that was found among the odd ones."""
        found = client.fetch("GET", "/api/calls", endpoint="quiet", odd=3)
        return next((one["odd_reason"] for one in found if one["request_id"] == request_id), None)

    def test_an_alert_begins_and_ends_and_is_told_once_each_by_every_channel(self) -> None:
        with self.service.client() as client:
            alert = self.alert(client)
            self.assertEqual((alert["rule"], alert["cause"]), ("drift", "drift of voltage_v"))
            self.assertEqual(alert["since"][:13], window_start(2).isoformat()[:13])
            self.assertEqual(alert["resolved_at"][:13], window_start(0).isoformat()[:13])
            self.assertIn("old-town", alert["probable_cause"])
            self.assertRaises(Conflict, client.fetch, "POST", f"/api/alerts/{alert['number']}/acknowledge", {})
        until(lambda: len(self.receiver.got) >= 2, 60, "both webhooks, after two were refused")
        types = {json.loads(body)["type"] for _, body in self.receiver.got}
        self.assertEqual(types, {"lamppost.alert.firing", "lamppost.alert.resolved"})
        headers, body = self.receiver.got[0]
        told = json.loads(body)
        self.assertEqual((told["specversion"], told["subject"]), ("1.0", "outage-risk"))
        self.assertEqual(headers["content-type"], "application/cloudevents+json")
        signed = f"{headers['webhook-id']}.{headers['webhook-timestamp']}.".encode() + body
        key = base64.b64decode(self.secret.removeprefix("whsec_"))
        wanted = "v1," + base64.b64encode(hmac.new(key, signed, hashlib.sha256).digest()).decode()
        self.assertEqual(headers["webhook-signature"], wanted)
        until(lambda: self.mailbox.got, 20, "the mail")
        self.assertIn("lamppost drift outage-risk", self.mailbox.got[0])
        with self.service.client() as client:
            everything = client.fetch("GET", "/api/notices")
            notices = [one for one in everything if one["channel"] == "shift"]
            down = [one for one in everything if one["channel"] == "down"]
        self.assertEqual((len(notices), sum(notice["tries"] for notice in notices)), (2, 4), notices)
        self.assertTrue(down and all((one["done_at"] is None and "refused" in one["error"].lower()) or one["error"] for one in down), down)

    def test_reports_go_out_by_mail_when_their_day_is_over(self) -> None:
        with psycopg.connect(self.service.database()) as connection:
            connection.execute("UPDATE channels SET made_at = now() - interval '25 hours' WHERE name = 'post'")

        def mails() -> list[str]:
            return [mail for mail in self.mailbox.got if "daily report" in mail]

        until(lambda: any("outage-risk" in mail for mail in mails()), 120, "the report of outage-risk")
        (mail, *_) = [mail for mail in mails() if "Subject: [Lamp Post] outage-risk, daily report" in mail]
        self.assertIn("application/pdf", mail)
        self.assertIn('filename="outage-risk.html"', mail)

    def test_the_truth_is_told_late_and_in_part(self) -> None:
        with self.service.client() as client:
            told = [{"request_id": one, "truth": "fails" if at % 5 == 0 else "holds"} for at, one in enumerate(self.ids[:200])]
            lost = "01890000-0000-7000-8000-000000000000"
            path = "/api/endpoints/outage-risk/outcomes"
            said = client.fetch("POST", path, {"outcomes": [*told, {"request_id": lost, "truth": "holds"}]})
            self.assertEqual((said["new"], said["unknown"]), (200, [200]))
            self.assertEqual(client.fetch("POST", path, {"outcomes": told})["new"], 0, "what is told twice is told once")
            page = client.fetch("GET", "/api/endpoints/outage-risk/quality")
            (one,) = page["versions"]
            self.assertEqual((one["known"], one["answer"], one["accuracy"]["of"]), (200, "label", 200))
            self.assertLess(one["accuracy"]["low"], one["accuracy"]["value"])
            self.assertEqual({label["label"] for label in one["labels"]}, {"holds", "fails"})
            self.assertGreater(one["calibration"]["brier"], 0)
            later = (datetime.now(UTC) + timedelta(days=10)).isoformat()
            report = client.fetch_bytes("/api/endpoints/outage-risk/report", period="day", until=later).decode()
            self.assertIn("nothing is known yet. The latest that are known are of", report)
            self.assertIn("are known (", report)
            with self.assertRaisesRegex(BadRequest, "did you mean fails"):
                client.fetch("POST", path, {"outcomes": [{"request_id": self.ids[300], "truth": "fail"}]})
            with self.assertRaisesRegex(BadRequest, "needs a request_id"):
                client.fetch("POST", path, {"outcomes": [{"truth": "holds"}]})
            row = usual(1, 99)[0] | {"maker": "Maker-of-one"}
            client.predict("outage-risk", row)
            by_key = {"key": "maker", "outcomes": [{"key": "Maker-of-one", "truth": "holds"}, {"key": "Nobody", "truth": "holds"}]}
            taken = until(lambda: (said := client.fetch("POST", path, by_key))["known"] and said)
            self.assertEqual((taken["known"], taken["unknown"]), (1, [1]))
        done = self.service.run("outcomes", "outage-risk")
        self.assertRegex(done.stdout, r"accuracy \d+\.\d % \(\d+\.\d to \d+\.\d\)")

    def test_load_over_time_and_the_error_budget(self) -> None:
        with self.service.client() as client:
            setup = client.fetch("GET", "/api/endpoints/outage-risk")["setup"]
            wanted = setup | {"monitoring": setup["monitoring"] | {"objectives": {"available": 99.5, "fast_ms": 4, "fast": 90}}}
            client.set_up("outage-risk", wanted)
            said = client.fetch("GET", "/api/endpoints/outage-risk/traffic", since=window_start(10).isoformat())
        self.assertGreaterEqual(sum(moment["calls"] for moment in said["moments"]), 3_600)
        self.assertLessEqual({"queue", "worker", "total"}, {phase["phase"] for phase in said["phases"]})
        worker = next(phase for phase in said["phases"] if phase["phase"] == "worker")
        self.assertAlmostEqual(worker["ms"]["p50"], 1.5, delta=0.03)
        budgets = {budget["name"]: budget for budget in said["budgets"]}
        self.assertEqual(budgets["available"]["bad"], 0)
        self.assertGreater(budgets["fast"]["spent"], 1.0)
        text = self.service.run("traffic", "outage-risk", "--since", window_start(10).isoformat()).stdout
        self.assertIn("budget spent", text)

    def test_metrics_are_openmetrics(self) -> None:
        self.service.post("/predict/quiet", json.dumps(usual(1, 4)[0]))

        def read() -> dict[str, Any]:
            with self.service.client() as client:
                text = client.fetch_bytes("/metrics").decode()
            self.assertTrue(text.endswith("# EOF\n"))
            return {one.name: one for one in text_string_to_metric_families(text)}

        families = until(lambda: (found := read())["lamppost_calls"].samples and found)
        self.assertEqual(families["lamppost_call_seconds"].type, "histogram")
        self.assertTrue(any(sample.exemplar for sample in families["lamppost_call_seconds"].samples))
        self.assertEqual(families["lamppost_endpoint_up"].samples[0].value, 1)

    def test_a_report_as_page_and_as_pdf(self) -> None:
        for name, start in (("week.html", b"<!doctype html>"), ("week.pdf", b"%PDF-")):
            done = self.service.run("report", "outage-risk", "--to", name)
            self.assertEqual(done.returncode, 0, done.stderr)
            content = (self.service.folder / name).read_bytes()
            self.assertTrue(content.startswith(start))
            self.assertGreater(len(content), 20_000)
        self.assertIn(b"voltage_v", (self.service.folder / "week.html").read_bytes())
        page = (self.service.folder / "week.html").read_text()
        self.assertEqual(re.findall(r'(?:src|href)="[^#"]+"|url\((?!#)', page), [], "nothing comes from elsewhere")

    def test_what_cannot_be(self) -> None:
        with self.service.client() as client:
            for status, path, body in (
                (400, "/api/channels/odd", {"kind": "webhook", "target": "ftp://x"}),
                (400, "/api/channels/odd", {"kind": "mail", "target": "nobody"}),
                (400, "/api/channels/odd", {"kind": "webhook", "target": "http://x", "reports": "daily"}),
                (404, "/api/endpoints/nowhere/outcomes", {"outcomes": [{"request_id": self.ids[0], "truth": "holds"}]}),
                (409, "/api/channels/shift", {"kind": "webhook", "target": "http://x"}),
            ):
                self.assertEqual(self.service.post(path, json.dumps(body)).status_code, status, path)
            self.assertRaises(NotFound, client.fetch, "GET", "/api/endpoints/outage-risk/drift/voltage")
            self.assertRaises(NotFound, client.fetch, "GET", "/api/endpoints/outage-risk/drift", at="2020-01-01")
            self.assertRaises(NotFound, client.fetch, "POST", "/api/alerts/99999/acknowledge", {})
            rules = {"rules": [{"on": "drift", "above": 3}]}
            for monitoring in ({"window_minutes": 7}, {"sample": 101}, {"objectives": {"available": 100}}, rules):
                setup = {"version": self.version, "monitoring": monitoring}
                self.assertRaises(BadRequest, client.set_up, "quiet", setup)
            future = {"source": "x", "batch": "01890000-0000-7000-8000-000000000000", "calls": []}
            call = {"at": "2999-01-01T00:00:00Z", "version": self.version, "input": {}, "answer": {}}
            self.assertRaises(BadRequest, client.fetch, "POST", "/api/endpoints/quiet/calls", future | {"calls": [call]})
            secret = client.fetch("POST", "/api/tokens", {"name": "looker", "role": "viewer"})["secret"]
        with self.service.client(secret) as viewer:
            self.assertRaises(NotAllowed, viewer.fetch, "PUT", "/api/endpoints/quiet/mute", {"minutes": 5})
            self.assertRaises(NotAllowed, viewer.fetch, "POST", "/api/endpoints/quiet/outcomes", {"outcomes": [{"truth": 1}]})

    def test_an_endpoint_may_refuse_odd_rows_and_no_other_does(self) -> None:
        usual_row, odd = usual(1, 5)[0], usual(1, 5)[0] | {"voltage_v": 23.0}
        self.service.serve(outage_lamp(), "careful")
        with self.service.client() as client:
            page = client.fetch("GET", "/api/endpoints/careful")
            client.set_up("careful", page["setup"] | {"monitoring": page["setup"]["monitoring"] | {"refuse_odd": 3.5}}, page["revision"])
        self.assertEqual(self.service.post("/predict/careful", json.dumps(usual_row)).status_code, 200)
        said = self.service.post("/predict/careful", json.dumps({"rows": [usual_row, odd]}))
        self.assertEqual(said.status_code, 422)
        (fault,) = said.json()["faults"]
        self.assertEqual((fault["row"], fault["field"], fault["given"]), (1, "voltage_v", "23.0"))
        self.assertIn("refuses rows with an oddness of 3.5", fault["hint"])
        self.assertEqual(self.service.post("/predict/quiet", json.dumps(odd)).status_code, 200)

    def test_a_trace_goes_through_records_and_on_to_a_collector(self) -> None:
        collector = Receiver()
        self.addCleanup(collector.close)
        service = Service("--otlp", collector.address, "--log-json").start()
        self.addCleanup(service.remove)
        service.serve(outage_lamp())
        trace = "4bf92f3577b34da6a3ce929d0e0e4736"
        for urgency in ("u=3", ""):  # the long way, and the short one
            headers = {"traceparent": f"00-{trace}-00f067aa0ba902b7-01"} | ({"priority": urgency} if urgency else {})
            self.assertEqual(service.post("/predict/outage-risk", json.dumps(usual(1, 6)[0]), **headers).status_code, 200)
        with service.client() as client:
            found = until(lambda: len(calls := client.fetch("GET", "/api/calls", trace=trace)) == 2 and calls)
        self.assertEqual({one["trace"] for one in found}, {trace})

        def spans() -> list[Any]:
            told = [json.loads(body) for _, body in collector.got]
            return [span for batch in told for span in batch["resourceSpans"][0]["scopeSpans"][0]["spans"] if span["traceId"] == trace]

        until(lambda: sum(one["name"] == "predict outage-risk" for one in spans()) == 2, what="both spans")
        self.assertIn("00f067aa0ba902b7", {one["parentSpanId"] for one in spans()})
        self.assertLessEqual({"queue", "worker"}, {one["name"] for one in spans()})
        service.stop()
        lines = [line for line in service.log.read_text().splitlines() if line.startswith("{")]
        self.assertLessEqual({"at", "level", "from", "message"}, json.loads(lines[0]).keys())

    def test_commands_say_it_in_words(self) -> None:
        said = self.service.run("drift", "outage-risk", "--at", (window_start(2) + timedelta(minutes=1)).isoformat())
        self.assertIn("drifted  Drifted: voltage_v", said.stdout)
        self.assertIn("probably: voltage_v", said.stdout)
        self.assertIn("where district is old-town", said.stdout)
        figure = self.service.run("drift", "outage-risk", "--field", "district")
        self.assertIn("old-town", figure.stdout)
        self.assertIn("drift of voltage_v", json.dumps(json.loads(self.service.run("alerts", "--all", "--json").stdout)))
        self.assertEqual(self.service.run("mute", "quiet", "2h").returncode, 0)
        self.assertIn("outage-risk", self.service.run("watch").stdout)
        self.assertIn("shift", self.service.run("channel", "list").stdout)
        self.assertEqual(self.service.run("mute", "quiet", "tomorrow").returncode, 1)
        # other tests of this class read what they have asked for
        self.addCleanup(self.service.run, "setup", "quiet", "--monitoring", "window_minutes=60", "--monitoring", "sample=100")
        done = self.service.run("setup", "quiet", "--monitoring", "window_minutes=30", "--monitoring", "sample=50")
        self.assertEqual(done.returncode, 0, done.stderr)
        self.assertIn("window_minutes = 30", self.service.run("setup", "quiet").stdout)
