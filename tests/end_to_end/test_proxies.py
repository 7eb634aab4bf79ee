"""What stands between callers and a node: a path before every address, TLS, other origins, compressed answers, secrets from files."""

import gzip
import json
import signal
import socket
import ssl
import unittest
from datetime import UTC, datetime, timedelta
from pathlib import Path
from typing import Any

import httpx
from cryptography import x509
from cryptography.hazmat.primitives import hashes, serialization
from cryptography.hazmat.primitives.asymmetric import ec
from cryptography.x509.oid import NameOID

import lamppost
from lamppost.core.errors import ServerUnreachable
from lamppost.service.auth import COOKIE
from tests.support import http
from tests.support.service import Service, until
from tests.support.versions import times_lamp

PUBLIC = "https://town.example/lamps"


class BehindAProxy(unittest.TestCase):
    """A node that people reach as ``https://town.example/lamps``, through proxies that take the path away and through those that do not."""

    service: Service

    @classmethod
    def setUpClass(cls) -> None:
        secret = "first-secret-of-forty-characters-at-random"
        cls.service = Service("--public-url", PUBLIC, "--trust-proxy", "127.0.0.0/8", "--cors-origin", "https://board.example")
        cls.addClassCleanup(cls.service.remove)
        file = cls.service.folder / "admin-token"
        file.write_text(f"{secret}\n")
        cls.service.options = (*cls.service.options, "--admin-token-file", str(file))
        cls.service.environment["LAMPPOST_TOKEN"] = secret
        cls.service.start(ready=False)
        cls.token = secret
        with cls.service.client(secret) as client:
            client.point("times", client.push(times_lamp(2)))

    def ask(self, method: str, path: str, **more: Any) -> httpx.Response:
        headers = {"authorization": f"Bearer {self.token}", "host": "town.example", **more.pop("headers", {})}
        return http.request(method, self.service.address + path, headers=headers, **more)

    def test_the_given_secret_is_the_first_admins_and_is_not_printed(self) -> None:
        self.assertNotIn(self.token, self.service.log.read_text())
        self.assertNotIn("admin token", self.service.log.read_text())

    def test_addresses_answer_with_and_without_the_path(self) -> None:
        for base in ("", "/lamps"):
            with self.subTest(base):
                answered = self.ask("POST", f"{base}/predict/times", json={"x": 3.0})
                self.assertEqual((answered.status_code, answered.json()["answer"]["y"]), (200, 6.0), answered.text)
                self.assertEqual(self.ask("GET", f"{base}/api/endpoints?search=ti").status_code, 200)
                page = self.ask("GET", f"{base}/endpoints/times")
                self.assertIn('<base href="/lamps/" />', page.text)
        self.assertEqual(self.ask("GET", "/lamps?x=1").status_code, 200)
        self.assertEqual(self.ask("POST", "/lampshade/predict/times", json={"x": 3.0}).status_code, 405)
        script = self.ask("GET", "/lamps/endpoints/times").text.partition('src="./')[2].partition('"')[0]
        self.assertEqual(self.ask("GET", f"/lamps/{script}").headers["content-type"].partition(";")[0], "text/javascript")
        with lamppost.Client(f"{self.service.address}/lamps", self.token) as client:
            self.assertEqual(client.predict("times", {"x": 3.0}).answer["y"], 6.0)

    def test_links_have_the_public_address_and_the_cookie_is_for_https(self) -> None:
        link = self.ask("POST", "/api/session/link", headers={"host": "127.0.0.1"}).json()["link"]
        self.assertTrue(link.startswith(f"{PUBLIC}/#link="), link)
        signed = self.ask("POST", "/lamps/api/session", json={"link": link.partition("#link=")[2]})
        self.assertIn("secure", signed.headers["set-cookie"].lower())
        cookie = f"{COOKIE}={signed.cookies[COOKIE]}"
        for origin, host, status in (
            ("https://town.example", "127.0.0.1:8420", 200),  # a proxy that says its own host
            ("https://town.example", "town.example", 200),
            ("https://evil.example", "town.example", 403),
        ):
            headers = {"cookie": cookie, "origin": origin, "host": host}
            changed = http.post(f"{self.service.address}/lamps/api/endpoints/times/point", json={"version": "times@1"}, headers=headers)
            self.assertEqual(changed.status_code, status, changed.text)
        direct = self.ask("POST", "/api/session", json={"token": self.token}, headers={"host": "127.0.0.1"})
        self.assertNotIn("secure", direct.headers["set-cookie"].lower())
        forwarded = self.ask(
            "POST", "/api/session", json={"token": self.token}, headers={"host": "127.0.0.1", "x-forwarded-proto": "https"}
        )
        self.assertIn("secure", forwarded.headers["set-cookie"].lower())

    def test_the_trail_has_the_address_that_a_trusted_proxy_names(self) -> None:
        for sent, kept in (("203.0.113.9", "203.0.113.9"), ("6.6.6.6, 203.0.113.9, 127.0.0.5", "203.0.113.9"), ("nonsense", "127.0.0.1")):
            self.ask("PUT", "/api/models/times", json={"owner": f"crew of {sent}"}, headers={"x-forwarded-for": sent})
            self.assertEqual(self.ask("GET", "/api/trail?limit=1").json()[0]["address"], kept)

    def test_pages_of_a_named_origin_may_ask_and_no_others(self) -> None:
        asks = {"access-control-request-method": "POST", "access-control-request-headers": "authorization,content-type"}
        allowed = self.ask("OPTIONS", "/predict/times", headers={"origin": "https://board.example", **asks})
        self.assertEqual((allowed.status_code, allowed.headers["access-control-allow-origin"]), (200, "https://board.example"))
        refused = self.ask("OPTIONS", "/predict/times", headers={"origin": "https://other.example", **asks})
        self.assertNotIn("access-control-allow-origin", refused.headers)
        for path, body, status in (("/predict/times", {"x": 1.0}, 200), ("/predict/times", {"x": "?"}, 422), ("/predict/none", {}, 404)):
            answered = self.ask("POST", path, json=body, headers={"origin": "https://board.example"})
            self.assertEqual((answered.status_code, answered.headers["access-control-allow-origin"]), (status, "https://board.example"))
            self.assertNotIn("access-control-allow-credentials", answered.headers)

    def test_large_answers_are_compressed_where_asked(self) -> None:
        rows = {"rows": [{"x": float(row)} for row in range(9_000)]}
        plain = self.ask("POST", "/predict/times", json=rows, headers={"accept-encoding": "identity"})
        self.assertNotIn("content-encoding", plain.headers)
        with (
            http.client() as client,
            client.stream(
                "POST",
                f"{self.service.address}/predict/times",
                json=rows,
                headers={"authorization": f"Bearer {self.token}", "accept-encoding": "gzip"},
            ) as response,
        ):
            packed = b"".join(response.iter_raw())
        self.assertEqual(response.headers["content-encoding"], "gzip")
        self.assertIn("accept-encoding", response.headers["vary"])
        self.assertLess(len(packed) * 4, len(plain.content))
        self.assertEqual(json.loads(gzip.decompress(packed))["answers"], plain.json()["answers"])
        small = self.ask("POST", "/predict/times", json={"rows": [{"x": 1.0}]}, headers={"accept-encoding": "gzip", "origin": PUBLIC})
        self.assertNotIn("content-encoding", small.headers)
        self.assertEqual(self.ask("GET", "/openapi.json", headers={"accept-encoding": "gzip"}).headers["content-encoding"], "gzip")


def make_certificate(folder: Path, name: str) -> tuple[Path, Path]:
    """A certificate of its own for 127.0.0.1, and its key."""
    key = ec.generate_private_key(ec.SECP256R1())
    subject = x509.Name([x509.NameAttribute(NameOID.COMMON_NAME, name)])
    now = datetime.now(UTC)
    certificate = (
        x509.CertificateBuilder(subject, subject, key.public_key(), x509.random_serial_number(), now, now + timedelta(days=1))
        .add_extension(x509.SubjectAlternativeName([x509.DNSName("localhost")]), critical=False)
        .sign(key, hashes.SHA256())
    )
    paths = folder / f"{name}.pem", folder / f"{name}.key"
    paths[0].write_bytes(certificate.public_bytes(serialization.Encoding.PEM))
    paths[1].write_bytes(key.private_bytes(serialization.Encoding.PEM, serialization.PrivateFormat.PKCS8, serialization.NoEncryption()))
    return paths


class OverTls(unittest.TestCase):
    def test_a_node_answers_over_tls_and_takes_a_new_certificate_without_a_restart(self) -> None:
        service = Service()
        self.addCleanup(service.remove)
        service.address = f"https://localhost:{service.port}"
        first, key = make_certificate(service.folder, "first")
        service.options = ("--host", "localhost", "--tls-cert", str(first), "--tls-key", str(key))
        service.start(ready=False)
        with lamppost.Client(service.address, service.token, ca=first) as client:
            client.point("times", client.push(times_lamp(2)))
            self.assertEqual(client.predict("times", {"x": 3.0}).answer["y"], 6.0)
        signed = http.post(f"{service.address}/api/session", json={"token": service.token})
        self.assertIn("secure", signed.headers["set-cookie"].lower())
        with lamppost.Client(service.address, service.token) as client, self.assertRaises(ServerUnreachable):
            client.versions()
        second, second_key = make_certificate(service.folder, "second")
        first.write_bytes(b"damaged")
        assert service.process is not None
        service.process.send_signal(signal.SIGHUP)
        until(lambda: "the certificate of before stays" in service.log.read_text(), 10, "the line in the log")
        self.assertEqual(self.name_of(service.port), "first")
        second.replace(first)
        second_key.replace(key)
        service.process.send_signal(signal.SIGHUP)
        until(lambda: self.name_of(service.port) == "second", 10, "the new certificate")

    def name_of(self, port: int) -> str:
        """The common name in the certificate that a port shows."""
        context = ssl.SSLContext(ssl.PROTOCOL_TLS_CLIENT)
        context.check_hostname, context.verify_mode = False, ssl.CERT_NONE
        with socket.create_connection(("localhost", port)) as plain, context.wrap_socket(plain) as secured:
            shown = secured.getpeercert(binary_form=True)
        assert shown is not None
        return str(x509.load_der_x509_certificate(shown).subject.get_attributes_for_oid(NameOID.COMMON_NAME)[0].value)

    def test_wrong_files_and_options_are_named(self) -> None:
        service = Service()
        folder = service.folder
        certificate, _ = make_certificate(folder, "one")
        _, other_key = make_certificate(folder, "other")
        (folder / "empty").write_text("")
        for options, reason in (
            (["--tls-cert", str(certificate)], "needs both --tls-cert FILE and --tls-key FILE"),
            (["--tls-cert", str(certificate), "--tls-key", str(other_key)], "are no certificate with its key"),
            (["--trust-proxy", "somewhere"], "write 10.0.0.7 or 10.0.0.0/8"),
            (["--cors-origin", "board.example"], "write https:// and a name"),
            (["--database-file", str(folder / "empty")], "holds nothing"),
            (["--admin-token-file", str(folder / "none")], "cannot be read: No such file"),
        ):
            with self.subTest(options[0]):
                done = service.run("up", "--data", str(folder / "data"), "--port", str(service.port), *options)
                self.assertEqual((done.returncode, reason in done.stderr), (1, True), done.stderr)
        (folder / "short").write_text("secret")
        done = service.run("up", "--data", str(folder / "data"), "--port", str(service.port), "--admin-token-file", str(folder / "short"))
        self.assertIn("give at least 32", done.stderr)
