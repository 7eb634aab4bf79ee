"""``lamppost door`` before a running service: HTTP, streams and gRPC from programs that have no token."""

import signal
import subprocess
import unittest
from typing import Any, ClassVar

import grpc
import orjson
from grpc_health.v1 import health_pb2, health_pb2_grpc

import lamppost
from lamppost.cli.doors.grpc_door import read_target
from lamppost.core.errors import SetupError
from lamppost.service.grpc import predict_pb2 as pb
from tests.end_to_end.test_grpc import rows
from tests.end_to_end.test_service import ROW
from tests.support import http
from tests.support.lamps import outage_lamp
from tests.support.service import Service, free_port, take_interrupts, until


class ThroughADoor(unittest.TestCase):
    service: ClassVar[Service]

    @classmethod
    def setUpClass(cls) -> None:
        grpc_port, cls.port, cls.grpc_port = free_port(), free_port(), free_port()
        cls.service = Service("--grpc-port", str(grpc_port)).start()
        cls.addClassCleanup(cls.service.remove)
        cls.service.serve(outage_lamp())
        words = ("door", "--port", str(cls.port), "--grpc-to", f"grpc://127.0.0.1:{grpc_port}", "--grpc-port", str(cls.grpc_port))
        cls.log = cls.service.folder / "door.log"
        with cls.log.open("wb") as log:
            cls.door = subprocess.Popen(
                cls.service.command(*words), env=cls.service.environment, stdout=log, stderr=log, preexec_fn=take_interrupts
            )
        cls.addClassCleanup(cls.end)
        until(lambda: "with your token" in cls.log.read_text(), 60, "the door")
        cls.channel = grpc.insecure_channel(f"127.0.0.1:{cls.grpc_port}")
        cls.addClassCleanup(cls.channel.close)

    @classmethod
    def end(cls) -> None:
        cls.door.send_signal(signal.SIGINT)
        cls.door.wait(30)

    def ask(self, kind: str, method: str) -> Any:
        make = getattr(self.channel, kind)
        return make(
            f"/lamppost.v1.Prediction/{method}",
            request_serializer=pb.PredictRequest.SerializeToString,
            response_deserializer=pb.PredictReply.FromString,
        )

    def test_http_and_streams_without_a_token(self) -> None:
        address = f"http://127.0.0.1:{self.port}"
        with lamppost.Client(address, "none") as client, self.service.client() as direct:
            self.assertEqual(client.predict("outage-risk", ROW).answer, direct.predict("outage-risk", ROW).answer)
        lines = orjson.dumps(ROW) + b"\n"
        said = http.post(f"{address}/predict/outage-risk", content=lines * 40, headers={"content-type": "application/x-ndjson"})
        self.assertEqual((said.status_code, said.text.count('"label"')), (200, 40), said.text[:300])
        self.assertEqual(http.get(f"{address}/api/endpoints").status_code, 403)
        self.assertIn("POST /predict/outage-risk  200 OK", self.log.read_text())

    def test_grpc_without_a_token(self) -> None:
        message = pb.PredictRequest(endpoint="outage-risk", rows=rows(ROW, ROW))
        said = self.ask("unary_unary", "Predict")(message, metadata=(("authorization", "Bearer guessed"),), timeout=30)
        self.assertEqual((said.version, len(said.rows.rows)), ("outage-risk@1", 2))
        replies = list(self.ask("stream_stream", "PredictStream")(iter([message] * 3), timeout=30))
        self.assertEqual([len(reply.rows.rows) for reply in replies], [2, 2, 2])
        health = health_pb2_grpc.HealthStub(self.channel)
        self.assertEqual(health.Check(health_pb2.HealthCheckRequest(service="outage-risk"), timeout=30).status, 1)

    def test_what_is_refused_there_is_refused_here_in_the_same_words(self) -> None:
        bad = pb.PredictRequest(endpoint="outage-risk", rows=rows({**ROW, "district": "nowhere"}))
        with self.assertRaises(grpc.RpcError) as caught:
            self.ask("unary_unary", "Predict")(bad, timeout=30)
        self.assertEqual(caught.exception.code(), grpc.StatusCode.INVALID_ARGUMENT)
        problem = orjson.loads(dict(caught.exception.trailing_metadata())["problem-bin"])
        self.assertEqual(problem["faults"][0]["field"], "district")
        with self.assertRaises(grpc.RpcError) as caught:
            self.channel.unary_unary("/somebody.else/Does")(b"", timeout=30)
        self.assertEqual(caught.exception.code(), grpc.StatusCode.PERMISSION_DENIED)
        self.assertIn("start it with --all", caught.exception.details())

    def test_an_address_that_is_none(self) -> None:
        self.assertEqual(read_target("grpcs://models.internal:8430"), ("models.internal:8430", True))
        for wrong in ("models:8430", "http://models:8430", "grpc://models", "grpc://models:x", "grpc://models:8430/pole-net"):
            with self.subTest(wrong), self.assertRaisesRegex(SetupError, "write grpc://HOST:PORT"):
                read_target(wrong)
