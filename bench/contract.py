"""What the contract costs: validating a request, checking a token, and JSON against Arrow for many rows."""

from __future__ import annotations

import asyncio
import io
import os
import sys
import tempfile
import time
from collections.abc import Callable
from functools import partial
from pathlib import Path
from typing import Any

import grpc
import httpx
import orjson
import pyarrow as pa
from sklearn.compose import ColumnTransformer
from sklearn.impute import SimpleImputer
from sklearn.linear_model import LogisticRegression
from sklearn.pipeline import make_pipeline
from sklearn.preprocessing import OneHotEncoder, StandardScaler

import lamppost
from bench.servers import free_port, running
from demo.lamps import FIELDS, make_lamps, make_traffic
from demo.train import CHOICES, FLAGS, NUMBERS
from lamppost.client.config import find_connection
from lamppost.core.payload.validation_plan import ValidationPlan
from lamppost.core.roles import Principal
from lamppost.package.read import Lamp
from lamppost.packing.pack import pack_with_remarks
from lamppost.packing.recipe import Recipe
from lamppost.service.auth import Auth
from lamppost.service.grpc import predict_pb2 as pb
from lamppost.store.tokens import hash_of

ROWS = 10_000
GRPC_ROWS = 1_000
ARROW = "application/vnd.apache.arrow.stream"


def best(call: Callable[[], Any], seconds: float = 1.0) -> float:
    """The median of as many runs as fit, in seconds."""
    took: list[float] = []
    end = time.perf_counter() + seconds
    while time.perf_counter() < end or len(took) < 5:
        start = time.perf_counter()
        call()
        took.append(time.perf_counter() - start)
    return sorted(took)[len(took) // 2]


def validation(lamp: Lamp) -> None:
    """Microseconds for one row, milliseconds for a thousand."""
    plan = ValidationPlan(lamp.manifest.inputs)
    rows = make_traffic(1_000, seed=4)
    one, many = orjson.dumps(rows[0]), orjson.dumps({"rows": rows})
    print(f"validation of a row of {len(rows[0])} fields: {best(lambda: plan.read_body(one)) * 1e6:.1f} µs (goal: 30 for 8)", end="")
    print(f"; of 1,000 rows: {best(lambda: plan.read_body(many)) * 1e3:.2f} ms (goal: 3)")


def token_check() -> None:
    """Microseconds for a token that is known already."""
    auth = Auth(None)  # type: ignore[arg-type]
    auth._by_hash = {hash_of("lamp_bench"): Principal("bench", "admin")}
    headers = [(b"host", b"localhost"), (b"authorization", b"Bearer lamp_bench")]
    count = 2_000

    async def checks() -> None:
        for _ in range(count):
            await auth.check("POST", headers)

    took = best(lambda: asyncio.run(checks()))
    print(f"a token check: {took / count * 1e6:.1f} µs (goal: 5)")


def arrow_and_json(lamp: Lamp) -> None:
    """Rows a second of requests of 10,000 rows each, by one client, there and back."""
    rows = make_traffic(ROWS, seed=8)
    table = pa.Table.from_pylist(rows)
    sink = io.BytesIO()
    with pa.ipc.new_stream(sink, table.schema) as writer:
        writer.write_table(table)
    bodies = {"JSON": (orjson.dumps({"rows": rows}), "application/json"), "Arrow": (sink.getvalue(), ARROW)}
    with tempfile.TemporaryDirectory(prefix="lamppost-bench-") as name:
        folder = Path(name)
        folder.chmod(0o755)
        os.environ["LAMPPOST_CONFIG"] = str(folder / "client.toml")
        port = free_port()
        address = f"http://127.0.0.1:{port}"
        grpc_port = free_port()
        up = [sys.executable, "-m", "lamppost", "up", "--data", str(folder / "data"), "--port", str(port), "--grpc-port", str(grpc_port)]
        with running(up, address + "/health/live", folder / "log"), lamppost.Client(address) as client:
            client.point("outage-risk", client.push(lamp.path)["version"])
            headers = {"authorization": f"Bearer {find_connection(address).token}"}
            found = {}
            with httpx.Client(trust_env=False, verify=False, headers=headers, timeout=60) as http:
                for kind, (body, content_type) in bodies.items():

                    def send(body: bytes = body, content_type: str = content_type) -> None:
                        http.post(f"{address}/predict/outage-risk", content=body, headers={"content-type": content_type}).raise_for_status()

                    found[kind] = ROWS / best(send, 4.0)
                    print(f"{kind:12s} {len(body) / 1e6:5.2f} MB a request of {ROWS:,} rows: {found[kind]:12,.0f} rows/s", flush=True)
            found |= grpc_rows(f"127.0.0.1:{grpc_port}", headers, rows)
            for way in ("gRPC columns", "gRPC rows"):
                print(f"{way} / JSON: {found[way] / found['JSON']:.2f}")
            print(f"Arrow / JSON: {found['Arrow'] / found['JSON']:.1f} (goal: 5)")


def grpc_rows(address: str, headers: dict[str, str], rows: list[dict[str, Any]]) -> dict[str, float]:
    """Rows a second of the same requests over gRPC, as columns and as rows."""
    names = {bool: "yes_no", float: "number", int: "integer", str: "text"}
    listed = [pb.Row(values={k: pb.Value(**({} if v is None else {names[type(v)]: v})) for k, v in row.items()}) for row in rows]
    lists: dict[str, Any] = {"yes_no": pb.YesNos, "number": pb.Numbers, "integer": pb.Integers, "text": pb.Texts}
    columns = []
    for field in rows[0]:
        values = [row[field] for row in rows]
        gone = [value is None for value in values]
        kind = next(type(value) for value in values if value is not None)
        typed = lists[names[kind]](values=[kind() if value is None else value for value in values])
        columns.append(pb.Column(name=field, missing=gone if any(gone) else [], **{f"{names[kind]}s": typed}))
    messages = {
        "gRPC columns": pb.PredictRequest(endpoint="outage-risk", columns=pb.Columns(columns=columns)),
        "gRPC rows": pb.PredictRequest(endpoint="outage-risk", rows=pb.Rows(rows=listed[:GRPC_ROWS])),
    }
    found: dict[str, float] = {}
    with grpc.insecure_channel(address, options=[("grpc.max_receive_message_length", -1)]) as channel:
        call = channel.unary_unary(
            "/lamppost.v1.Prediction/Predict",
            request_serializer=pb.PredictRequest.SerializeToString,
            response_deserializer=pb.PredictReply.FromString,
        )
        for way, message in messages.items():
            count = GRPC_ROWS if way == "gRPC rows" else ROWS
            found[way] = count / best(partial(call, message, metadata=tuple(headers.items()), timeout=60), 4.0)
            print(f"{way:12s} {message.ByteSize() / 1e6:5.2f} MB a request of {count:,} rows: {found[way]:12,.0f} rows/s", flush=True)
    return found


def light_lamp(folder: Path) -> Lamp:
    """The nine fields before a logistic regression: a model that costs next to nothing, so that the contract is what is measured."""
    frame = make_lamps(4_000, seed=6)
    inputs = frame[CHOICES + NUMBERS + FLAGS]
    columns = ColumnTransformer(
        [
            ("choices", make_pipeline(SimpleImputer(strategy="most_frequent"), OneHotEncoder(handle_unknown="ignore")), CHOICES),
            ("numbers", make_pipeline(SimpleImputer(), StandardScaler()), NUMBERS),
            ("flags", "passthrough", FLAGS),
        ]
    )
    model = make_pipeline(columns, LogisticRegression(max_iter=300)).fit(inputs, frame["failed"])
    recipe = Recipe("outage-risk", "failed", labels={0: "holds", 1: "fails"}, fields=FIELDS)
    return pack_with_remarks(model, frame, folder / "light.lamp", recipe)[0]


def measure() -> None:
    """All of it."""
    with tempfile.TemporaryDirectory(prefix="lamppost-bench-") as name:
        lamp = light_lamp(Path(name))
        validation(lamp)
        token_check()
        arrow_and_json(lamp)


if __name__ == "__main__":
    measure()
