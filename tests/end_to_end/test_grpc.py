"""Predictions over gRPC: rows and columns, every kind of field, the standard services, and what is refused."""

import subprocess
import sys
import tempfile
import unittest
from pathlib import Path
from typing import Any

import grpc
import numpy as np
import orjson
from grpc_health.v1 import health_pb2, health_pb2_grpc
from grpc_reflection.v1alpha import reflection_pb2
from grpc_reflection.v1alpha.proto_reflection_descriptor_database import ProtoReflectionDescriptorDatabase

from demo.poles import make_photos
from lamppost.core.errors import BadBody, InvalidRows, TooManyRows
from lamppost.core.payload.validation_plan import ValidationPlan
from lamppost.core.schema.fields import Field, Schema
from lamppost.service.grpc import predict_pb2 as pb
from lamppost.service.grpc.messages import read_predict_request, request_as_json_body
from tests.core.schema.test_value_kinds import png
from tests.end_to_end.test_service import ROW
from tests.support.lamps import outage_lamp
from tests.support.other_lamps import photo_lamp, several_lamp
from tests.support.service import Service, free_port, until

SCHEMA = Schema(
    (
        Field("height", "number", low=0, high=20, missing=True),
        Field("visits", "integer"),
        Field("trees", "yes/no"),
        Field("district", "choice", choices=("mill", "old"), missing=True),
        Field("note", "text"),
        Field("at", "time"),
        Field("photo", "image", size=(4, 3)),
        Field("grid", "tensor", shape=(2, 2)),
    )
)
TENSOR = pb.Tensor(shape=[2, 2], elements=np.arange(4, dtype="<f8").tobytes())


def value(one: Any) -> pb.Value:
    if one is None:
        return pb.Value()
    names = {bool: "yes_no", float: "number", int: "integer", str: "text", bytes: "image"}
    return pb.Value(**{names[type(one)]: one})


def rows(*given: dict[str, Any]) -> pb.Rows:
    return pb.Rows(rows=[pb.Row(values={name: value(one) for name, one in row.items()}) for row in given])


def columns(**changes: pb.Column | None) -> pb.Columns:
    made = {
        "height": pb.Column(name="height", numbers=pb.Numbers(values=[4.5, 0]), missing=[False, True]),
        "visits": pb.Column(name="visits", integers=pb.Integers(values=[-(2**63), 2**63 - 1])),
        "trees": pb.Column(name="trees", yes_nos=pb.YesNos(values=[True, False])),
        "district": pb.Column(name="district", texts=pb.Texts(values=["mill", ""]), missing=[False, True]),
        "note": pb.Column(name="note", texts=pb.Texts(values=["ü", ""])),
        "at": pb.Column(name="at", times=pb.Times(microseconds=[0, 1])),
        "photo": pb.Column(name="photo", images=pb.Images(files=[png()] * 2)),
        "grid": pb.Column(name="grid", tensors=pb.Tensors(values=[TENSOR] * 2)),
    }
    return pb.Columns(columns=[column for column in {**made, **changes}.values() if column is not None])


class Messages(unittest.TestCase):
    plan = ValidationPlan(SCHEMA)

    def read(self, **parts: Any) -> Any:
        message = pb.PredictRequest(endpoint="x", **parts)
        return read_predict_request(message, request_as_json_body(message), self.plan, SCHEMA, None)

    def test_every_kind_of_field_comes_out_as_from_json(self) -> None:
        plain = {"height": 4.5, "visits": -(2**63), "trees": True, "district": None, "note": "ü", "at": "1970-01-01T00:00:00Z"}
        message = rows({**plain, "photo": png()})
        message.rows[0].values["grid"].tensor.CopyFrom(TENSOR)
        grid = {"base64": "AAAAAAAAAAAAAAAAAADwPwAAAAAAAABAAAAAAAAACEA=", "shape": [2, 2]}
        from base64 import b64encode

        body = orjson.dumps({**plain, "photo": b64encode(png()).decode(), "grid": grid})
        got, wanted = self.read(rows=message).rows[0], self.plan.read_body(body).rows[0]
        self.assertEqual(got.pop("grid").tolist(), wanted.pop("grid").tolist())
        self.assertEqual(got, wanted)

    def test_columns_are_typed_and_checked_by_the_same_rules(self) -> None:
        asked = self.read(columns=columns())
        self.assertEqual(asked.row_count, 2)
        height, visits, trees, district, note, at, photo, grid = asked.columns
        self.assertEqual((height.values[0], bool(np.isnan(height.values[1]))), (4.5, True))
        self.assertEqual((visits.values.tolist(), trees.values.tolist()), ([-(2**63), 2**63 - 1], [1, 0]))
        self.assertEqual((district.values.tolist(), note.values, at.values.tolist()), ([0, -1], ["ü", ""], [0, 1]))
        self.assertEqual((photo.values, grid.values[1].tolist()), ([png()] * 2, [[0, 1], [2, 3]]))

    def test_what_is_wrong_is_named(self) -> None:
        numbers = pb.Numbers
        for change, kind, said in (
            ({"height": pb.Column(name="height", numbers=numbers(values=[21, 1]))}, InvalidRows, "row 0, height: given 21"),
            (
                {"height": pb.Column(name="height", numbers=numbers(values=[float("nan"), 1]))},
                InvalidRows,
                "NaN and infinity are no values",
            ),
            ({"height": pb.Column(name="height", numbers=numbers(values=[1]))}, BadBody, "different lengths .height 1, visits 2"),
            ({"height": pb.Column(name="height", numbers=numbers(values=[1, 2]), missing=[True])}, BadBody, "says of 1 whether"),
            ({"height": pb.Column(name="height")}, BadBody, "'height' has no values"),
            ({"height": pb.Column(name="height", vectors=pb.Vectors())}, BadBody, "vectors, which are in answers only"),
            ({"visits": pb.Column(name="visits", numbers=numbers(values=[1, 2]))}, InvalidRows, "visits: given a column of double"),
            ({"visits": None}, BadBody, "lacks the columns visits, which every row needs"),
            (
                {"more": pb.Column(name="hight", numbers=numbers(values=[1, 2]))},
                BadBody,
                "'hight', which is no field; did you mean height?",
            ),
            ({"more": pb.Column(name="height", numbers=numbers(values=[1, 2]))}, BadBody, "'height' stands there more than once"),
            (
                {"grid": pb.Column(name="grid", tensors=pb.Tensors(values=[pb.Tensor(shape=[3], elements=b"x")] * 2))},
                BadBody,
                "1 bytes of float64",
            ),
            (
                {"grid": pb.Column(name="grid", tensors=pb.Tensors(values=[pb.Tensor(shape=[1], dtype="object")] * 2))},
                BadBody,
                "none of float32",
            ),
        ):
            with self.subTest(said=said), self.assertRaisesRegex(kind, said):
                self.read(columns=columns(**change))
        with self.assertRaisesRegex(BadBody, "neither rows nor columns"):
            self.read()
        with self.assertRaisesRegex(TooManyRows, "this one has 1,001; send columns"):
            self.read(rows=pb.Rows(rows=[pb.Row()] * 1_001))
        with self.assertRaisesRegex(InvalidRows, "height: given NaN"):
            self.read(rows=rows({"height": float("nan")}))

    def test_the_generated_module_is_that_of_the_proto_file(self) -> None:
        source = Path(pb.__file__).parents[3]
        with tempfile.TemporaryDirectory() as folder:
            made = [sys.executable, "-m", "grpc_tools.protoc", "-I", str(source), f"--python_out={folder}"]
            subprocess.run([*made, str(Path(pb.__file__).with_name("predict.proto"))], check=True)
            again = Path(folder, "lamppost/service/grpc/predict_pb2.py").read_text()
        self.assertEqual(again, Path(pb.__file__).read_text(), "run make proto")


class Serving(unittest.TestCase):
    service: Service
    channel: grpc.Channel

    @classmethod
    def setUpClass(cls) -> None:
        cls.port = free_port()
        cls.service = Service("--grpc-port", str(cls.port)).start()
        cls.addClassCleanup(cls.service.remove)
        cls.service.serve(outage_lamp())
        cls.service.serve(photo_lamp(), "pole-photo")
        cls.service.serve(several_lamp(), "several")
        cls.channel = grpc.insecure_channel(f"127.0.0.1:{cls.port}")
        cls.addClassCleanup(cls.channel.close)

    def predict(self, message: pb.PredictRequest, token: str | None = None, timeout: float = 30) -> pb.PredictReply:
        call = self.channel.unary_unary(
            "/lamppost.v1.Prediction/Predict",
            request_serializer=pb.PredictRequest.SerializeToString,
            response_deserializer=pb.PredictReply.FromString,
        )
        said: pb.PredictReply = call(message, metadata=(("authorization", f"Bearer {token or self.service.token}"),), timeout=timeout)
        return said

    def refused(self, code: grpc.StatusCode, message: pb.PredictRequest, token: str | None = None) -> dict[str, Any]:
        with self.assertRaises(grpc.RpcError) as caught:
            self.predict(message, token)
        self.assertEqual(caught.exception.code(), code, caught.exception.details())
        problem = orjson.loads(dict(caught.exception.trailing_metadata())["problem-bin"])
        self.assertEqual(problem["detail"], caught.exception.details())
        return dict(problem)

    def test_the_same_answers_as_over_http_and_records_of_them(self) -> None:
        said = self.predict(pb.PredictRequest(endpoint="outage-risk", rows=rows(ROW, ROW)))
        with self.service.client() as client:
            plain = client.predict("outage-risk", ROW)
        answer = said.rows.rows[1].values
        self.assertEqual((answer["label"].text, said.version), (plain.answer["label"], plain.version))
        scores = answer["scores"].vector
        self.assertEqual(dict(zip(scores.names, scores.values, strict=True)), plain.answer["scores"])
        self.assertIn("worker", said.timing_ms)

        def call() -> dict[str, Any] | None:
            with self.service.client() as client:
                found = client.fetch("GET", "/api/calls", endpoint="outage-risk")
            return next((one for one in found if one["request_id"] == said.request_id), None)

        kept = until(call, what="the record")
        self.assertEqual((kept["rows"], kept["status"], kept["token"]), (2, 200, "admin"))
        self.assertEqual(kept["input"]["rows"][0]["district"], ROW["district"])
        self.assertEqual(kept["answer"]["answers"][0]["label"], plain.answer["label"])

    def test_columns_pictures_tensors_and_options(self) -> None:
        photos = list(make_photos(3, seed=5)["photo"])
        column = pb.Column(name="photo", images=pb.Images(files=photos))
        said = self.predict(pb.PredictRequest(endpoint="pole-photo", columns=pb.Columns(columns=[column])))
        with self.service.client() as client:
            plain = client.predict("pole-photo", [{"photo": photo} for photo in photos]).answers
            label = next(one for one in said.columns.columns if one.name == "label")
            self.assertEqual(list(label.texts.values), [answer["label"] for answer in plain])
            scores = next(one for one in said.columns.columns if one.name == "scores").vectors
            self.assertEqual(np.array(scores.values).reshape(3, -1)[2].tolist(), [plain[2]["scores"][name] for name in scores.names])
            row = {"seq": [1.0, 2.0], "note": "x"}
            options = client.predict("several", row, {"k": 7}).answer
        message = pb.PredictRequest(endpoint="several", rows=pb.Rows(rows=[pb.Row(values={"note": value("x")})]), options={"k": value(7)})
        message.rows.rows[0].values["seq"].tensor.CopyFrom(pb.Tensor(shape=[2], elements=np.array([1, 2], "<f8").tobytes()))
        told = self.predict(message).rows.rows[0].values
        for name, wanted in options.items():
            got = told[name]
            if got.WhichOneof("kind") == "tensor":
                self.assertEqual(np.frombuffer(got.tensor.elements, got.tensor.dtype).tolist(), np.ravel(wanted).tolist())
            else:
                self.assertEqual(getattr(got, got.WhichOneof("kind")), wanted)

    def test_requests_on_one_stream_are_answered_in_order_and_end_with_the_first_that_fails(self) -> None:
        stream = self.channel.stream_stream(
            "/lamppost.v1.Prediction/PredictStream",
            request_serializer=pb.PredictRequest.SerializeToString,
            response_deserializer=pb.PredictReply.FromString,
        )
        sent = [pb.PredictRequest(endpoint="outage-risk", rows=rows(*[ROW] * count)) for count in (1, 3, 2)]
        bad = pb.PredictRequest(endpoint="outage-risk", rows=rows({**ROW, "district": "nowhere"}))
        got = stream(iter([*sent, bad, *sent]), metadata=(("authorization", f"Bearer {self.service.token}"),), timeout=30)
        counts: list[int] = []
        with self.assertRaises(grpc.RpcError) as caught:
            counts.extend(len(reply.rows.rows) for reply in got)
        self.assertEqual((counts, caught.exception.code()), ([1, 3, 2], grpc.StatusCode.INVALID_ARGUMENT))

    def test_what_is_refused_has_a_status_and_the_whole_problem(self) -> None:
        good = rows(ROW)
        code = grpc.StatusCode
        problem = self.refused(code.INVALID_ARGUMENT, pb.PredictRequest(endpoint="outage-risk", rows=rows({**ROW, "voltage_v": "high"})))
        self.assertEqual([fault["field"] for fault in problem["faults"]], ["voltage_v"])
        self.refused(code.NOT_FOUND, pb.PredictRequest(endpoint="outage-rsk", rows=good))
        self.refused(code.UNAUTHENTICATED, pb.PredictRequest(endpoint="outage-risk", rows=good), token="lamp_nobody")
        with self.service.client() as admin:
            only = {"name": "grpc-only", "role": "caller", "endpoints": ["several"], "rate_per_s": 1}
            secret = admin.fetch("POST", "/api/tokens", only)["secret"]
        self.refused(code.PERMISSION_DENIED, pb.PredictRequest(endpoint="outage-risk", rows=good), token=secret)
        self.refused(code.RESOURCE_EXHAUSTED, pb.PredictRequest(endpoint="several", rows=good), token=secret)
        with self.assertRaises(grpc.RpcError) as caught:
            self.predict(pb.PredictRequest(endpoint="outage-risk", rows=rows({**ROW, "district": "x" * 11_000_000})))
        self.assertEqual(caught.exception.code(), code.RESOURCE_EXHAUSTED)

    def test_health_and_reflection_are_the_standard_ones(self) -> None:
        health = health_pb2_grpc.HealthStub(self.channel)
        for name in ("", "lamppost.v1.Prediction", "outage-risk"):
            self.assertEqual(health.Check(health_pb2.HealthCheckRequest(service=name)).status, health_pb2.HealthCheckResponse.SERVING)
        with self.assertRaises(grpc.RpcError) as caught:
            health.Check(health_pb2.HealthCheckRequest(service="nothing"))
        self.assertEqual(caught.exception.code(), grpc.StatusCode.NOT_FOUND)
        watch = health.Watch(health_pb2.HealthCheckRequest(service="outage-risk"))
        self.assertEqual(next(watch).status, health_pb2.HealthCheckResponse.SERVING)
        watch.cancel()
        seen = ProtoReflectionDescriptorDatabase(self.channel)
        self.assertIn("lamppost.v1.Prediction", seen.get_services())
        self.assertEqual(seen.FindFileContainingSymbol("lamppost.v1.Prediction").package, "lamppost.v1")
        stable = self.channel.stream_stream(
            "/grpc.reflection.v1.ServerReflection/ServerReflectionInfo",
            request_serializer=reflection_pb2.ServerReflectionRequest.SerializeToString,
            response_deserializer=reflection_pb2.ServerReflectionResponse.FromString,
        )
        (answer,) = stable(iter([reflection_pb2.ServerReflectionRequest(list_services="")]))
        self.assertIn("lamppost.v1.Prediction", [service.name for service in answer.list_services_response.service])

    def test_a_taken_port_is_said(self) -> None:
        other = Service("--grpc-port", str(self.port))
        self.addCleanup(other.remove)
        with self.assertRaisesRegex(AssertionError, f"cannot listen on 127.0.0.1:{self.port} .*; choose another port with --grpc-port"):
            other.start()
