"""Values of private fields are in no table, file, log and problem, whatever is sent and whatever goes wrong."""

import io
import json
import unittest
from datetime import UTC, datetime, timedelta
from pathlib import Path
from typing import Any
from uuid import uuid4

import grpc
import psycopg

from lamppost.service.grpc import predict_pb2 as pb
from tests.support.gossip import MARK, NUMBER, gossip_lamp
from tests.support.service import Service, free_port, until

ROW = {"note": f"{MARK} in the lamp", "age": NUMBER}
GOOD = {"note": f"{MARK} in the lamp", "age": 12.0}
ENDPOINTS = ("alone", "lenient", "shared", "shadowed", "guarded")
SPREAD = (MARK, f"{NUMBER}", MARK.upper())


def arrow(names: dict[str, list[Any]]) -> bytes:
    import pyarrow as pa

    batch = pa.record_batch([pa.array(values) for values in names.values()], names=list(names))
    sink = io.BytesIO()
    with pa.ipc.new_stream(sink, batch.schema) as stream:
        stream.write_batch(batch)
    return sink.getvalue()


def requests() -> list[tuple[str, bytes]]:
    """Content type and body of calls that are answered, refused, and failed by the model."""
    bodies: list[Any] = [
        GOOD,
        ROW,
        {"rows": [GOOD, ROW]},
        {"columns": {name: [value] for name, value in GOOD.items()}},
        {"columns": {name: [value] for name, value in ROW.items()}},
        {"note": GOOD["note"], "agee": NUMBER, MARK: MARK},
        {"note": [MARK], "age": MARK},
        {"note": MARK * 2_000, "age": NUMBER},
        {"rows": [{"note": GOOD["note"], "age": f" {NUMBER} "}, {MARK: NUMBER}]},
        {"rows": MARK},
        {"rows": [MARK, NUMBER]},
        {"columns": {"note": [MARK], "age": [NUMBER, 1.0]}},
        {"columns": {MARK: [MARK]}},
        {"note": GOOD["note"], "age": 850.0},
    ]
    sent = [("application/json", json.dumps(body).encode()) for body in bodies]
    sent += [
        ("application/json", f'{{"note": "{MARK}", "note": "{MARK}", "age": 1}}'.encode()),
        ("application/json", f'{{"note": "{MARK}", "age": {NUMBER}'.encode()),
        ("application/json", f'{{"note": "{MARK}\\u0000", "age": 1}}'.encode()),
        ("application/json", MARK.encode()),
        ("application/x-ndjson", f'{{"note": "{MARK}", "age": 1}}\n{MARK}\n'.encode()),
        ("application/x-ndjson", f'{{"note": "{MARK}", "age": {NUMBER}}}\n'.encode()),
        ("application/x-ndjson", f'"{MARK}"\n'.encode()),
        ("text/csv", f"note,age\n{MARK},{NUMBER}\n".encode()),
        ("text/csv", f"note,age\n{MARK},12\n".encode()),
        ("text/csv", f"{MARK},{NUMBER}\nnote,age\n".encode()),
        ("text/csv", f'note,age\n{MARK},"{MARK}"x,1\n'.encode()),
        ("text/csv", f"note,age\n{NUMBER},{MARK}\n".encode()),
        ("application/vnd.apache.arrow.stream", arrow({"note": [MARK], "age": [NUMBER]})),
        ("application/vnd.apache.arrow.stream", arrow({"note": [MARK], "age": [12.0]})),
        ("application/vnd.apache.arrow.stream", arrow({MARK: [MARK]})),
        ("application/vnd.apache.arrow.stream", arrow({"note": [NUMBER], "age": [MARK]})),
        ("application/vnd.apache.arrow.stream", MARK.encode()),
        ("multipart/form-data; boundary=x", f'--x\r\ncontent-disposition: form-data; name="{MARK}"\r\n\r\n{MARK}\r\n--x--\r\n'.encode()),
    ]
    return sent


class Private(unittest.TestCase):
    service: Service

    @classmethod
    def setUpClass(cls) -> None:
        cls.rpc_port = free_port()
        cls.service = Service("--allow-pickle", "--grpc-port", str(cls.rpc_port)).start()
        cls.addClassCleanup(cls.service.remove)
        with cls.service.client() as client:
            for private in (True, False):
                client.push(gossip_lamp("gossip", private))
            client.set_up("alone", {"version": "gossip@1"})
            client.set_up("lenient", {"version": "gossip@1", "lenient": True})
            client.set_up("shared", {"shares": {"of": {"gossip@1": 50, "gossip@2": 50}}})
            client.set_up("shadowed", {"version": "gossip@1", "shadows": [{"version": "gossip@2", "share": 100}]})
            client.set_up("guarded", {"version": "gossip@1", "monitoring": {"refuse_odd": 3.0}})
            until(lambda: client.fetch("GET", "/api/endpoints/shadowed")["shadows"][0]["open"], what="the shadow's lane")

    def ask_by_grpc(self, endpoint: str) -> str:
        """All that a failed and a refused call say."""
        said = ""
        with grpc.insecure_channel(f"127.0.0.1:{self.rpc_port}") as channel:
            ask = channel.unary_unary(
                "/lamppost.v1.Prediction/Predict",
                request_serializer=pb.PredictRequest.SerializeToString,
                response_deserializer=pb.PredictReply.FromString,
            )
            for row in (ROW, {"note": MARK, "agee": NUMBER}, {MARK: MARK}):
                message = pb.PredictRequest(endpoint=endpoint)
                made = message.rows.rows.add()
                for name, value in row.items():
                    made.values[name].CopyFrom(pb.Value(text=value) if isinstance(value, str) else pb.Value(number=value))
                try:
                    ask(message, metadata=[("authorization", f"Bearer {self.service.token}")], timeout=60)
                except grpc.RpcError as error:
                    said += f"{error.details()} {error.trailing_metadata()}"  # type: ignore[attr-defined]
        return said

    def everything_kept(self) -> dict[str, str]:
        """The text of every table, and of every file below the data folder but packages, which hold their own proofs."""
        kept: dict[str, str] = {}
        with psycopg.connect(self.service.database()) as connection:
            tables = connection.execute(
                "SELECT schemaname, tablename FROM pg_tables WHERE schemaname NOT IN ('pg_catalog', 'information_schema')"
            )
            for schema, table in tables.fetchall():
                if table in ("chunks", "packages"):
                    continue
                rows = connection.execute(f'SELECT t::text FROM "{schema}"."{table}" t'.encode()).fetchall()
                kept[f"table {table}"] = "\n".join(row[0] for row in rows)
        for path in self.service.data.rglob("*"):
            parts = path.relative_to(self.service.data).parts
            if path.is_file() and parts[0] not in ("packages", "postgres", "workers", "incoming"):
                kept[str(path)] = path.read_bytes().decode("latin-1")
        kept["log"] = Path(self.service.log).read_text()
        return kept

    def test_nothing_is_kept_or_told(self) -> None:
        told: dict[str, str] = {}
        statuses: set[int] = set()
        for endpoint in ENDPOINTS:
            for content_type, body in requests():
                answer = self.service.post(f"/predict/{endpoint}", body, content_type=content_type)
                statuses.add(answer.status_code)
                if answer.status_code != 200:
                    told[f"{endpoint} {content_type} {body[:60]!r}"] = answer.text
            told[f"{endpoint} by gRPC"] = self.ask_by_grpc(endpoint)
            for row in (GOOD, ROW, {"note": [MARK], "age": MARK}, {**GOOD, MARK: MARK}, {**GOOD, "age": 850.0}):
                for path, more in (("explain", {"rows": 40, "cases": 9}), ("explain/curve", {"field": "age"})):
                    answer = self.service.post(f"/api/endpoints/{endpoint}/{path}", json.dumps({"row": row, **more}))
                    told[f"{endpoint} {path} {str(row)[:30]}"] = answer.text
        self.assertEqual(statuses, {200, 400, 422, 502})
        now = datetime.now(UTC) - timedelta(minutes=2)
        brought = [
            {"at": now.isoformat(), "version": "gossip@1", "input": body, "answer": {"answer": {"value": 3.0}}, "status": status}
            for body in (GOOD, ROW, {"rows": [ROW]}, {"columns": {"note": [MARK]}}, {"agee": NUMBER, MARK: MARK}, [MARK], MARK)
            for status in (200, 422)
        ]
        with self.service.client() as client:
            client.fetch("POST", "/api/endpoints/alone/calls", {"source": "elsewhere", "batch": str(uuid4()), "calls": brought})
            until(lambda: client.fetch("GET", "/api/node")["records_waiting"] == 0, what="every record in the database")
            self.assertEqual(client.fetch("GET", "/api/node")["records_set_aside"], 0)
            calls = client.fetch("GET", "/api/calls", limit=1_000)
        self.assertGreater(len(calls), 60)
        kept = self.everything_kept()
        self.assertIn("table call_blocks", "".join(kept))
        found = {
            (place, spread): text[max(0, text.find(spread) - 120) : text.find(spread) + 60]
            for place, text in (told | kept).items()
            for spread in SPREAD
            if spread in text
        }
        self.assertEqual(found, {})

    def test_what_is_wrong_is_said_all_the_same(self) -> None:
        for body, said in (
            ({"note": MARK, "age": MARK}, "row 0, age: given a private value, expected a number"),
            ({"note": MARK}, "row 0, age: given nothing, expected a number"),
            ({"note": MARK, "age": 1, MARK: 2}, "a key that is no field"),
            ({"note": MARK, "age": NUMBER}, "fields of this endpoint are private"),
        ):
            answer = self.service.post("/predict/alone", json.dumps(body))
            self.assertIn(said, answer.json()["detail"])
        broken = self.service.post("/predict/alone", b'{"note": ')
        self.assertIn("EOF while parsing", broken.json()["detail"])
