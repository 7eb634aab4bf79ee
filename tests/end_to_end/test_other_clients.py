"""Requests as other people's clients send them: methods, compressed bodies, asks for an upgrade, readers of metrics."""

import gzip
import json
import shutil
import socket
import subprocess
import unittest
from typing import Any

import httpx
from prometheus_client.parser import text_string_to_metric_families

from tests.support import http
from tests.support.service import Service
from tests.support.versions import times_lamp


class OtherClients(unittest.TestCase):
    service: Service

    @classmethod
    def setUpClass(cls) -> None:
        cls.service = Service().start()
        cls.addClassCleanup(cls.service.remove)
        cls.service.serve(times_lamp(2), "times")

    def ask(self, method: str, path: str, **more: Any) -> httpx.Response:
        headers = {"authorization": f"Bearer {self.service.token}", **more.pop("headers", {})}
        return http.request(method, self.service.address + path, headers=headers, **more)

    def test_methods_are_answered_as_the_rfc_says(self) -> None:
        for path, reads in (("/api/endpoints", True), ("/health/live", True), ("/metrics", True), ("/predict/times", False)):
            with self.subTest(path):
                allowed = "GET, HEAD, OPTIONS" if reads else "OPTIONS, POST"
                options = self.ask("OPTIONS", path)
                self.assertEqual((options.status_code, options.headers["allow"], options.content), (204, allowed, b""))
                refused = self.ask("DELETE", path)
                self.assertEqual((refused.status_code, refused.headers["allow"]), (405, allowed))
                self.assertIn("DELETE", refused.json()["detail"])
                head = self.ask("HEAD", path)
                self.assertEqual((head.status_code, head.content), (200 if reads else 405, b""))
        asked, headed = self.ask("GET", "/health/live"), self.ask("HEAD", "/health/live")
        self.assertEqual(headed.headers["content-length"], asked.headers["content-length"])
        self.assertEqual(self.ask("PUT", "/api/nothing").status_code, 404)

    def test_a_body_may_be_compressed_and_is_bounded_by_what_it_unpacks_to(self) -> None:
        sent = {"content-type": "application/json", "content-encoding": "gzip"}
        answered = self.ask("POST", "/predict/times", content=gzip.compress(b'{"x": 3.0}'), headers=sent)
        self.assertEqual((answered.status_code, answered.json()["answer"]["y"]), (200, 6.0))
        many = json.dumps({"rows": [{"x": float(row)} for row in range(9_000)]}).encode()
        answered = self.ask("POST", "/predict/times", content=gzip.compress(many), headers=sent)
        self.assertEqual(answered.json()["answers"][8_999]["y"], 17_998.0)
        pointed = self.ask("POST", "/api/endpoints/zipped/point", content=gzip.compress(b'{"version": "times@1"}'), headers=sent)
        self.assertEqual(pointed.status_code, 200, pointed.text)
        for path in ("/predict/times", "/api/endpoints/zipped/point"):
            for content, encoding, status in (
                (gzip.compress(b'{"x": "' + b"a" * 200_000_000 + b'"}', 1), "gzip", 413),
                (gzip.compress(b'{"x": 3.0}')[:-9], "gzip", 400),
                (gzip.compress(b'{"x": 3.0}') + b"more", "gzip", 400),
                (b'{"x": 3.0}', "gzip", 400),
                (b'{"x": 3.0}', "br", 415),
                (b'{"x": 3.0}', "gzip, gzip", 415),
            ):
                with self.subTest(f"{path} {encoding} {len(content)} bytes"):
                    refused = self.ask("POST", path, content=content, headers={**sent, "content-encoding": encoding})
                    self.assertEqual(refused.status_code, status, refused.text)
                    self.assertEqual(refused.headers["content-type"], "application/problem+json")

    def test_an_offer_of_http_2_leaves_the_body_where_it_is(self) -> None:
        """As Java's client and ``curl --http2`` send it, in one segment and in two."""
        body = b'{"x": 3.0}'
        head = (
            f"POST /predict/times HTTP/1.1\r\nhost: 127.0.0.1:{self.service.port}\r\nauthorization: Bearer {self.service.token}\r\n"
            f"content-type: application/json\r\ncontent-length: {len(body)}\r\nconnection: Upgrade, HTTP2-Settings\r\n"
            "upgrade: h2c\r\nhttp2-settings: AAEAAEAAAAIAAAABAAMAAABkAAQBAAAAAAUAAEAA\r\n\r\n"
        ).encode()
        for segments in ([head + body], [head, body]):
            with socket.create_connection(("127.0.0.1", self.service.port), 10) as connection:
                for segment in segments:
                    connection.sendall(segment)
                answer = connection.recv(65_536)
                self.assertTrue(answer.startswith(b"HTTP/1.1 200"), answer)
                self.assertIn(b'"y":6.0', answer)

    def test_metrics_in_the_format_of_before(self) -> None:
        self.ask("POST", "/predict/times", content=b'{"x": 3.0}', headers={"content-type": "application/json"})
        plain = self.ask("GET", "/metrics", headers={"accept": "text/plain"})
        self.assertEqual(plain.headers["content-type"], "text/plain; version=0.0.4; charset=utf-8")
        families = {family.name: family for family in text_string_to_metric_families(plain.text)}
        self.assertGreaterEqual(sum(sample.value for sample in families["lamppost_calls"].samples), 1)
        self.assertIn("lamppost_call_seconds", families)
        if promtool := shutil.which("promtool"):
            checked = subprocess.run([promtool, "check", "metrics"], input=plain.text, capture_output=True, text=True, check=False)
            self.assertEqual((checked.returncode, checked.stderr), (0, ""))
        for accept in ("application/openmetrics-text; version=1.0.0, text/plain; q=0.5", "*/*", ""):
            answered = self.ask("GET", "/metrics", headers={"accept": accept})
            self.assertTrue(answered.headers["content-type"].startswith("application/openmetrics-text"), accept)
