"""One matrix of requests down all ways that a prediction can come: answers, statuses and records are the same, field by field."""

import json
import socket
import unittest
from collections.abc import Callable
from typing import Any

import grpc
import numpy as np
import pandas as pd
from sklearn.compose import make_column_transformer
from sklearn.linear_model import LogisticRegression
from sklearn.pipeline import make_pipeline
from sklearn.preprocessing import OneHotEncoder

from lamppost.core.payload.recorded_bodies import answer_rows, request_rows
from lamppost.packing.build import build_package
from lamppost.packing.recipe import Recipe
from lamppost.service.grpc import predict_pb2 as pb
from tests.support import http
from tests.support.lamps import made_once
from tests.support.service import Service, free_port, until

ROW = {"district": "mill", "age": 41.5, "load": 0.25}
OTHER = {"district": "weir", "age": 3.0, "load": 0.75}
Way = Callable[[str, list[dict[str, Any]], str, dict[str, str]], tuple[int, dict[str, Any]]]


def post_lamp(name: str, private: bool) -> Any:
    """A model with a choice and two numbers; the choice is private or not."""

    def make(path: Any) -> None:
        random = np.random.default_rng(4)
        frame = pd.DataFrame(
            {"district": random.choice(["mill", "weir"], 300), "age": random.uniform(0, 80, 300), "load": random.uniform(0, 1, 300)}
        )
        label = np.where(frame["age"] + 20 * (frame["district"] == "mill") > 50, "fails", "holds")
        model = make_pipeline(
            make_column_transformer((OneHotEncoder(), ["district"]), remainder="passthrough"), LogisticRegression(max_iter=500)
        ).fit(frame, label)
        fields: dict[str, Any] = {"age": {"low": 0, "high": 80}, "district": {"private": private, "example": "mill"}}
        build_package(model, frame.assign(label=label), Recipe(name, "label", fields=fields), path)

    return made_once(f"parity-{name}-{private}.lamp", make)


class Parity(unittest.TestCase):
    service: Service
    channel: grpc.Channel
    options: tuple[str, ...] = ()

    @classmethod
    def setUpClass(cls) -> None:
        port = free_port()
        cls.service = Service("--grpc-port", str(port), *cls.options).start()
        cls.addClassCleanup(cls.service.remove)
        with cls.service.client() as client:
            for name, private in (("post", True), ("post", False), ("sleepy", False)):
                client.push(post_lamp(name, private))
            client.set_up("plain", {"version": "post@2"})
            client.set_up("private", {"version": "post@1"})
            client.set_up("lenient", {"version": "post@2", "lenient": True})
            shares = {"of": {"post@1": 50, "post@2": 50}, "sticky": {"by": "header", "name": "customer"}}
            client.set_up("shared", {"shares": shares})
            client.set_up("shadowed", {"version": "post@2", "shadows": [{"version": "post@1", "share": 100}]})
            client.set_up("sleepy", {"version": "sleepy@1", "lane": {"sleep_after_s": 1}})
            until(lambda: client.fetch("GET", "/api/endpoints/shadowed")["shadows"][0]["open"], what="the shadow's lane")
        cls.channel = grpc.insecure_channel(f"127.0.0.1:{port}")
        cls.addClassCleanup(cls.channel.close)
        cls.ask_grpc = cls.channel.unary_unary(
            "/lamppost.v1.Prediction/Predict",
            request_serializer=pb.PredictRequest.SerializeToString,
            response_deserializer=pb.PredictReply.FromString,
        )

    # -- the ways ---------------------------------------------------------------------------------------------------------

    def by_http(self, endpoint: str, rows: list[dict[str, Any]], form: str, headers: dict[str, str]) -> tuple[int, dict[str, Any]]:
        body: Any = {"rows": rows}
        if form == "columns":
            body = {"columns": {name: [row.get(name) for row in rows] for name in rows[0]}}
        sent = {"authorization": f"Bearer {self.service.token}", **headers}
        answer = http.post(f"{self.service.address}/predict/{endpoint}", json=body, headers=sent)
        return answer.status_code, answer.json()

    def fast(self, endpoint: str, rows: list[dict[str, Any]], form: str, headers: dict[str, str]) -> tuple[int, dict[str, Any]]:
        return self.by_http(endpoint, rows, form, headers)

    def handler(self, endpoint: str, rows: list[dict[str, Any]], form: str, headers: dict[str, str]) -> tuple[int, dict[str, Any]]:
        return self.by_http(endpoint, rows, form, {"priority": "u=3", **headers})

    def grpc(self, endpoint: str, rows: list[dict[str, Any]], form: str, headers: dict[str, str]) -> tuple[int, dict[str, Any]]:
        message = pb.PredictRequest(endpoint=endpoint)
        if form == "columns":
            for name in rows[0]:
                column = message.columns.columns.add(name=name)
                values = [row[name] for row in rows]
                column.texts.values.extend(values) if isinstance(values[0], str) else column.numbers.values.extend(values)
        else:
            for row in rows:
                made = message.rows.rows.add()
                for name, value in row.items():
                    made.values[name].CopyFrom(pb.Value(text=value) if isinstance(value, str) else pb.Value(number=value))
        sent = {"authorization": f"Bearer {self.service.token}", **headers}
        try:
            reply = type(self).ask_grpc(message, metadata=list(sent.items()))
        except grpc.RpcError as error:
            problem = json.loads(dict(error.trailing_metadata())["problem-bin"])  # type: ignore[attr-defined]
            return problem["status"], problem
        changed = [{"row": one.row, "field": one.field, "given": one.given, "taken": one.taken} for one in reply.changed]
        return 200, {"version": reply.version, "request_id": reply.request_id} | ({"changed": changed} if changed else {})

    # -- what is compared ---------------------------------------------------------------------------------------------------

    def record(self, request_id: str) -> dict[str, Any]:
        """What was recorded of a call, without what differs between any two calls."""
        with self.service.client() as client:

            def found() -> dict[str, Any] | None:
                calls = client.fetch("GET", "/api/calls", limit=100)
                return client.fetch("GET", f"/api/calls/{request_id}") if request_id in {call["request_id"] for call in calls} else None

            call = until(found, what="the record")
        refused = call["status"] != 200
        return {
            "status": call["status"],
            "version": call["version"],
            "token": call["token"],
            "rows": call["rows"],
            "phases": list(call["phases_us"]),
            "asked": request_rows(call["input"]) if call["input"] is None or not refused else call["input"] is not None,
            "answered": self.bare(call["answer"]) if refused else answer_rows(call["answer"]),
            "trace": call["trace"],
        }

    @staticmethod
    def bare(problem: dict[str, Any]) -> dict[str, Any]:
        return {key: value for key, value in problem.items() if key not in ("request_id", "example")}

    def down_all_ways(self, endpoint: str, rows: list[dict[str, Any]], form: str = "rows", **headers: str) -> list[dict[str, Any]]:
        """The record of the same request by each way, after the answers were found to be the same."""
        told, records = [], []
        for way in (self.fast, self.handler, self.grpc):
            status, said = way(endpoint, rows, form, headers)
            version, changed = said.get("version"), said.get("changed")
            told.append((status, version, changed) if status == 200 else (status, self.bare(said)))
            records.append(self.record(said["request_id"]))
        for other in told[1:]:
            self.assertEqual(other, told[0])
        return records

    def assert_alike(self, records: list[dict[str, Any]], but: frozenset[str] = frozenset()) -> dict[str, Any]:
        for other in records[1:]:
            self.assertEqual(*({key: value for key, value in one.items() if key not in but} for one in (other, records[0])))
        return records[0]

    # -- the matrix ---------------------------------------------------------------------------------------------------------

    def test_rows_and_columns(self) -> None:
        for form in ("rows", "columns"):
            with self.subTest(form):
                records = self.down_all_ways("plain", [ROW, OTHER], form)
                # answers to columns over gRPC, and columns in JSON, are recorded by their size or in the form that they had
                one = self.assert_alike(records, frozenset({"answered"} if form == "columns" else ()))
                self.assertEqual((one["status"], one["rows"], one["version"]), (200, 2, "post@2"))
                self.assertEqual(one["asked"], [ROW, OTHER])
                self.assertEqual(one["phases"], ["token", "read", "validate", "queue", "worker", "answer"])

    def test_private_fields_are_in_no_record_whatever_the_form(self) -> None:
        for form in ("rows", "columns"):
            with self.subTest(form):
                records = self.down_all_ways("private", [ROW, OTHER], form)
                one = self.assert_alike(records, frozenset({"answered"} if form == "columns" else ()))
                self.assertEqual(one["asked"], [{"age": 41.5, "load": 0.25}, {"age": 3.0, "load": 0.75}])

    def test_a_field_is_private_behind_shares_if_any_version_says_so(self) -> None:
        versions = set()
        for customer in ("ada", "ben", "cid", "dot", "eve", "fay"):
            one = self.assert_alike(self.down_all_ways("shared", [ROW], customer=customer))
            self.assertEqual(one["asked"], [{"age": 41.5, "load": 0.25}], one["version"])
            versions.add(one["version"])
        self.assertEqual(versions, {"post@1", "post@2"}, "both versions were asked")

    def test_refused_rows(self) -> None:
        for row in (ROW | {"age": 99.0}, ROW | {"district": "moon"}, {"age": 1.0, "load": 0.5}, ROW | {"more": 1.0}):
            with self.subTest(str(row)):
                one = self.assert_alike(self.down_all_ways("plain", [OTHER, row]))
                self.assertEqual((one["status"], one["rows"], one["version"]), (422, 0, "post@2"))
                self.assertEqual(one["phases"], ["token", "read", "answer"])
        one = self.assert_alike(self.down_all_ways("private", [ROW | {"district": "moon"}]))
        self.assertNotIn("moon", json.dumps(one), "a private value stands in no record of a refusal either")

    def test_lenient_reading_tells_the_same(self) -> None:
        one = self.assert_alike(self.down_all_ways("lenient", [ROW | {"age": "41.5"}]))
        self.assertEqual((one["status"], one["rows"]), (200, 1))

    def test_shadows_get_a_copy_by_every_way(self) -> None:
        with self.service.client() as client:

            def answered() -> int:
                return int(client.fetch("GET", "/api/endpoints/shadowed")["shadows"][0]["answered"])

            before = answered()
            self.assert_alike(self.down_all_ways("shadowed", [ROW]))
            until(lambda: answered() == before + 3, what="three copies")

    def test_a_sleeping_endpoint_is_opened_by_every_way(self) -> None:
        records = []
        for way in (self.fast, self.handler, self.grpc):
            self.fall_asleep()
            status, said = way("sleepy", [ROW], "rows", {})
            self.assertEqual((status, said["version"]), (200, "sleepy@1"))
            records.append(self.record(said["request_id"]))
        self.assert_alike(records)

    def fall_asleep(self) -> None:
        with self.service.client() as client:
            until(lambda: client.fetch("GET", "/api/endpoints/sleepy")["state"] == "asleep", what="sleep")

    def limited_token(self, name: str, rate: float) -> str:
        with self.service.client() as client:
            return str(client.fetch("POST", "/api/tokens", {"name": name, "role": "caller", "rate_per_s": rate})["secret"])

    def test_a_rate_is_charged_once_for_each_call_by_every_way(self) -> None:
        for way in (self.fast, self.handler, self.grpc):
            headers = {"authorization": f"Bearer {self.limited_token(f'slow-{way.__name__}', 0.1)}"}
            self.assertEqual([way("plain", [ROW], "rows", headers)[0] for _ in range(2)], [200, 429], way.__name__)

    def test_a_call_that_one_way_hands_to_another_is_charged_once(self) -> None:
        secret = self.limited_token("handed", 0.1)
        self.assertEqual(self.fast("sleepy", [ROW], "rows", {})[0], 200)
        body = json.dumps(ROW).encode()
        head = (
            f"POST /predict/sleepy HTTP/1.1\r\nhost: localhost\r\nauthorization: Bearer {secret}\r\n"
            f"content-type: application/json\r\ncontent-length: {len(body)}\r\nconnection: close\r\n\r\n"
        )
        with socket.create_connection(("127.0.0.1", self.service.port), timeout=30) as sock:
            sock.sendall(head.encode())
            self.fall_asleep()  # the fast path took the head while the endpoint was awake
            sock.sendall(body)
            said = b"".join(iter(lambda: sock.recv(65_536), b""))
        self.assertTrue(said.startswith(b"HTTP/1.1 200"), said)
        record = self.record(json.loads(said.partition(b"\r\n\r\n")[2])["request_id"])
        self.assertEqual((record["token"], record["status"], record["asked"]), ("handed", 200, [ROW]))
