"""Bodies, connections and headers of callers who are not known, or who want more than their share."""

import contextlib
import http.client
import socket
import unittest
from typing import Any

import grpc
import orjson

from lamppost.core.errors import Misdirected, Unavailable
from lamppost.core.limits import MAX_UNSIGNED_BODY_BYTES
from lamppost.service.grpc import predict_pb2 as pb
from lamppost.service.http.connection_limits import ConnectionLimits
from lamppost.service.http.known_hosts import KnownHosts
from tests.end_to_end.test_service import ROW
from tests.support.lamps import outage_lamp
from tests.support.service import Service, WithService, free_port, until

BODY = orjson.dumps(ROW)


class Hosts(unittest.TestCase):
    def test_which_names_are_known(self) -> None:
        hosts = KnownHosts(["https://lamps.tallowby.example", "http://dusk:8420"])
        for name in (
            *(b"localhost", b"LOCALHOST:8420", b"127.0.0.1:1", b"[::1]:8420", b"10.1.2.3", b"lamps.tallowby.example"),
            *(b"lamps.tallowby.example:443", b"lamps.tallowby.example.", b"dusk:8420", socket.gethostname().encode()),
        ):
            hosts.require(name)
            self.assertIn(name, hosts.seen)
        for name in (b"evil.example", b"localhost.evil.example", b"", b"127.0.0.1.evil.example", b"tallowby.example", b"a" * 5_000):
            with self.subTest(name), self.assertRaises(Misdirected):
                hosts.require(name)

    def test_memory_of_names_is_bounded(self) -> None:
        hosts = KnownHosts([])
        for port in range(2_000):
            hosts.require(b"localhost:%d" % port)
        self.assertEqual(len(hosts.seen), 1_000)

    def test_places(self) -> None:
        limits = ConnectionLimits(4, spare=1)
        places = [limits.enter("a") for _ in range(4)]
        self.assertEqual(places, ["usual", "usual", "spare", "none"], "one address has half of the places")
        self.assertEqual([limits.enter("b"), limits.enter("b"), limits.enter("c")], ["usual", "usual", "none"])
        limits.leave("a", "spare")
        limits.leave("a", "usual")
        self.assertEqual((limits.enter("c"), limits.enter("c"), limits.open), ("usual", "spare", 5))


class Connections(WithService):
    @classmethod
    def setUpClass(cls) -> None:
        cls.rpc_port = free_port()
        cls.service = Service("--grpc-port", str(cls.rpc_port)).start()
        cls.addClassCleanup(cls.service.remove)
        cls.service.serve(outage_lamp())

    def exchange(self, raw: bytes, cut: int | None = None) -> bytes:
        """All that comes back for some bytes, until the service ends the connection or is quiet for a second."""
        with socket.create_connection(("127.0.0.1", self.service.port), timeout=20) as line:
            for at in range(0, len(raw), cut or len(raw)):
                line.sendall(raw[at : at + (cut or len(raw))])
            received = line.recv(2**16)
            line.settimeout(1.0)
            with contextlib.suppress(TimeoutError, ConnectionResetError):
                while piece := line.recv(2**16):
                    received += piece
            return received

    def head(self, path: str = "/predict/outage-risk", length: int = len(BODY), **headers: str) -> bytes:
        lines = {"host": "localhost", "authorization": f"Bearer {self.service.token}", "content-type": "application/json"}
        lines |= {name.replace("_", "-"): value for name, value in headers.items()}
        text = "".join(f"{name}: {value}\r\n" for name, value in lines.items())
        return f"POST {path} HTTP/1.1\r\n{text}content-length: {length}\r\n\r\n".encode()

    # -- bodies -------------------------------------------------------------------------------------------------------

    def sent_until_refused(self, path: str, token: str, chunked: bool = False) -> tuple[int, int, dict[str, Any]]:
        """How many bytes of a body of 300 MB were taken, the status, and the problem."""
        line = http.client.HTTPConnection("127.0.0.1", self.service.port, timeout=30)
        self.addCleanup(line.close)
        line.putrequest("POST", path)
        line.putheader("authorization", f"Bearer {token}")
        line.putheader("content-type", "application/json")
        if chunked:
            line.putheader("transfer-encoding", "chunked")
        else:
            line.putheader("content-length", str(300 * 10**6))
        line.endheaders()
        sent = 0
        piece = b"x" * 2**16
        assert line.sock is not None
        line.sock.settimeout(1.0)
        try:
            while sent < 300 * 10**6:
                line.sock.sendall(b"%x\r\n%s\r\n" % (len(piece), piece) if chunked else piece)
                sent += len(piece)
        except OSError:
            pass
        line.sock.settimeout(30)
        response = line.getresponse()
        return sent, response.status, orjson.loads(response.read())

    def test_a_body_without_a_known_token_is_not_read(self) -> None:
        for path in ("/api/session", "/api/endpoints/outage-risk/point", "/api/packages", "/api/packages/chunks", "/api/nothing"):
            for chunked in (False, True):
                with self.subTest(path, chunked=chunked):
                    sent, status, problem = self.sent_until_refused(path, "lamp_unknown", chunked)
                    self.assertIn(status, (401, 413, 404), problem)
                    self.assertLess(sent, 40 * 10**6)
        sent, status, _ = self.sent_until_refused("/predict/outage-risk", "lamp_unknown")
        self.assertEqual(status, 401)
        self.assertLess(sent, 40 * 10**6)

    def test_a_known_caller_is_held_to_the_bound_too(self) -> None:
        sent, status, problem = self.sent_until_refused("/api/endpoints/outage-risk/point", self.service.token, chunked=True)
        self.assertEqual((status, problem["type"]), (413, "urn:lamppost:body-too-large"))
        self.assertLess(sent, 60 * 10**6)

    def test_the_answer_to_a_refused_body_can_be_read(self) -> None:
        refused = self.service.post("/predict/outage-risk", b"x" * 3_000_000, authorization="Bearer lamp_unknown")
        self.assertEqual(refused.status_code, 401)
        small = self.service.post("/api/session", b"{" + b" " * (MAX_UNSIGNED_BODY_BYTES - 2) + b"}", authorization="")
        self.assertEqual(small.status_code, 400)

    def test_grpc_reads_no_message_of_an_unknown_caller(self) -> None:
        with grpc.insecure_channel(f"127.0.0.1:{self.rpc_port}") as channel:
            predict = channel.unary_unary(
                "/lamppost.v1.Prediction/Predict", request_serializer=lambda data: data, response_deserializer=pb.PredictReply.FromString
            )
            for metadata in ((), (("authorization", "Bearer lamp_unknown"),)):
                with self.assertRaises(grpc.RpcError) as caught:
                    predict(b"\xff this is no message", metadata=metadata, timeout=20)
                self.assertEqual(caught.exception.code(), grpc.StatusCode.UNAUTHENTICATED)

    # -- headers ------------------------------------------------------------------------------------------------------

    def test_a_body_behind_an_upgrade_is_no_second_request(self) -> None:
        hidden = self.head("/api/endpoints/outage-risk/rollback", 2) + b"{}"
        for upgrade in ("h2c", "websocket", "tallow/1"):
            raw = self.head(length=len(hidden), upgrade=upgrade, connection="Upgrade, HTTP2-Settings", http2_settings="AAMAAABk") + hidden
            for cut in (None, 40):
                with self.subTest(upgrade, cut=cut):
                    received = self.exchange(raw, cut)
                    self.assertEqual(received.count(b"HTTP/1.1 "), 1, received[:400])
                    self.assertTrue(received.startswith(b"HTTP/1.1 400"), "the body is no JSON")

    def test_a_client_that_offers_another_protocol_is_answered(self) -> None:
        asking = self.head(upgrade="h2c", connection="Upgrade, HTTP2-Settings", http2_settings="AAMAAABk") + BODY
        received = self.exchange(asking + self.head() + BODY)
        self.assertEqual(received.count(b"HTTP/1.1 200"), 2, received[:400])
        self.assertTrue(self.exchange(b"CONNECT localhost:80 HTTP/1.1\r\nhost: localhost:80\r\n\r\n").startswith(b"HTTP/1.1 400"))

    def test_two_authorization_headers_are_read_by_nobody(self) -> None:
        for first, second in ((self.service.token, "lamp_unknown"), ("lamp_unknown", self.service.token)):
            for path in ("/predict/outage-risk", "/api/endpoints/outage-risk/rollback"):
                raw = self.head(path, authorization=f"Bearer {first}\r\nauthorization: Bearer {second}") + BODY
                self.assertTrue(self.exchange(raw).startswith(b"HTTP/1.1 401"), (first, path))

    def test_a_host_that_is_none_of_ours(self) -> None:
        for path in ("/predict/outage-risk", "/api/session", "/"):
            for host in ("evil.example", "evil.example:80", "localhost.evil.example"):
                self.assertTrue(self.exchange(self.head(path, host=host) + BODY).startswith(b"HTTP/1.1 421"), (path, host))
        self.assertTrue(self.exchange(self.head(host="127.0.0.1:99") + BODY).startswith(b"HTTP/1.1 200"))
        none = self.head().replace(b"host: localhost\r\n", b"")
        self.assertTrue(self.exchange(none + BODY).startswith(b"HTTP/1.1 400"))
        twice = self.head(host="localhost\r\nhost: evil.example")
        self.assertTrue(self.exchange(twice + BODY).startswith(b"HTTP/1.1 400"))


class Crowded(unittest.TestCase):
    """A service with few files: what one address takes leaves room for health, for others and for the database."""

    def test_many_connections_of_one_address(self) -> None:
        service = Service()
        service.prefix = ["prlimit", "--nofile=400:400"]
        service.start()
        self.addCleanup(service.remove)
        service.serve(outage_lamp())
        held: list[socket.socket] = []
        self.addCleanup(lambda: [line.close() for line in held])
        for _ in range(200):
            line = socket.create_connection(("127.0.0.1", service.port), timeout=20)
            line.sendall(b"GET /health/live HTTP/1.1\r\nhost: localhost\r\n\r\n")
            held.append(line)
        answers = [line.recv(2**12) for line in held]
        self.assertTrue(all(answer.startswith(b"HTTP/1.1 ") for answer in answers))
        self.assertGreater(sum(answer.startswith(b"HTTP/1.1 503") for answer in answers), 50)
        self.assertIn(b"HTTP/1.1 200", answers[-1] + answers[75])
        for line in held:
            line.close()
        with service.client() as client:

            def answered() -> bool:  # as soon as the service has seen that the others are gone
                try:
                    return client.predict("outage-risk", ROW).version == "outage-risk@1"
                except Unavailable:
                    return False

            until(answered, what="room for others")
            self.assertEqual(client.fetch("GET", "/api/endpoints/outage-risk")["state"], "serving")
