"""What the engine does beside plain speed: many rows a request, more callers than it can carry, and a swap of versions under load."""

from __future__ import annotations

import io
import subprocess
import sys
import threading
from collections.abc import Callable, Mapping, Sequence
from pathlib import Path
from typing import Any

import httpx
import joblib
import orjson
import pandas as pd
import pyarrow as pa

import lamppost
from bench.contract import best
from bench.load import Measured, load

ROWS = 1_000
ARROW = "application/vnd.apache.arrow.stream"


def goals(found: Mapping[str, Measured], model_ms: float, one: Mapping[str, Measured]) -> int:
    """Print each figure beside its goal; the number of those that were missed. ``found`` at 64 clients, ``one`` at one, by letter."""
    a, b, c, d, e = (found[letter] for letter in "abcde")
    checks = [
        ("compiled against hand-written", d.per_s / a.per_s, 300.0, True),
        ("compiled against a bare ASGI callable", d.per_s / b.per_s, 0.6, True),
        ("compiled against an empty FastAPI endpoint", d.per_s / e.per_s, 2.0, True),
        ("not compiled against hand-written", c.per_s / a.per_s, 30.0, True),
        ("compiled: p99 over p50", d.p99_ms / d.p50_ms, 3.0, False),
        ("one client: p50 over that of the empty endpoint and the model's own", one["d"].p50_ms / (one["e"].p50_ms + model_ms), 1.0, False),
    ]
    missed = 0
    for name, value, goal, least in checks:
        met = value >= goal if least else value <= goal
        missed += not met
        print(f"{name}: {value:.2f} (goal: at {'least' if least else 'most'} {goal:g}) {'met' if met else 'MISSED'}")
    return missed


def many_rows(address: str, headers: Mapping[str, str], rows: Sequence[dict[str, Any]], model: Path) -> None:
    """Rows a second of requests of 1,000 rows by one client, against the library in this process with a frame made already."""
    rows = list(rows)[:ROWS]
    frame, pipeline = pd.DataFrame(rows), joblib.load(model)
    sink = io.BytesIO()
    table = pa.Table.from_pylist(rows)
    with pa.ipc.new_stream(sink, table.schema) as writer:
        writer.write_table(table)
    bodies = {"JSON": (orjson.dumps({"rows": rows}), "application/json"), "Arrow": (sink.getvalue(), ARROW)}
    with httpx.Client(trust_env=False, verify=False, headers=dict(headers), timeout=60) as http:

        def library() -> None:
            pipeline.predict_proba(frame)

        base = _rate(library)
        print(f"\n{ROWS:,} rows a request; the library itself, in-process: {base:,.0f} rows/s")
        for endpoint in ("outage-risk", "original"):
            for kind, (body, content_type) in bodies.items():

                def ask(endpoint: str = endpoint, body: bytes = body, content_type: str = content_type) -> None:
                    said = http.post(f"{address}/predict/{endpoint}", content=body, headers={"content-type": content_type})
                    said.raise_for_status()

                rate, goal = _rate(ask), 0.7 if kind == "JSON" else 0.9
                print(f"{endpoint} by {kind}: {rate:,.0f} rows/s, {rate / base:.2f} of the library (goal: {goal})", flush=True)


def _rate(call: Callable[[], Any]) -> float:
    return ROWS / best(call, 3.0)


def crowd(address: str, headers: Mapping[str, str], rows: Sequence[object], usual: Measured) -> None:
    """2,000 clients at once, with a bound on the expected wait and on the rows of a batch."""
    with lamppost.Client(address) as client:
        client.set_up("outage-risk", {"version": "outage-risk@1", "lane": {"queue_s": max(0.005, usual.p99_ms / 2e3), "max_rows": 64}})
    pid = process_of(address)
    before = _memory(pid)
    found = load(f"{address}/predict/outage-risk", rows, 2_000, 6, headers)
    after = _memory(pid)
    with httpx.Client(trust_env=False, verify=False, headers=dict(headers)) as http:
        calls = http.get(f"{address}/api/calls", params={"endpoint": "outage-risk", "limit": 1_000}).json()
    taken = sorted(call["total_us"] / 1e3 for call in calls if call["status"] == 200)
    refused = sorted(call["total_us"] / 1e3 for call in calls if call["status"] == 503)
    print(
        f"2,000 clients: {found.per_s:,.0f} answers/s, {found.errors:,} of them refusals, the callers' p50 {found.p50_ms:.0f} ms;"
        f" memory {before:.0f} → {after:.0f} MB"
    )
    if taken:
        p99 = taken[int(len(taken) * 0.99)]
        print(f"  accepted: p99 {p99:.1f} ms in the service, {p99 / usual.p99_ms:.1f} times that of 64 clients (goal: 2)")
    if refused:
        print(f"  refused: p99 {refused[int(len(refused) * 0.99)]:.1f} ms in the service (goal: 5)")
    with lamppost.Client(address) as client:
        client.set_up("outage-risk", {"version": "outage-risk@1"})


def swaps(address: str, headers: Mapping[str, str], rows: Sequence[object], other: str) -> None:
    """Pointing to and fro while 64 clients call."""
    done, stop = [0], threading.Event()

    def swap() -> None:
        with lamppost.Client(address) as client:
            while not stop.is_set():
                client.point("outage-risk", other if done[0] % 2 == 0 else "outage-risk@1")
                done[0] += 1

    thread = threading.Thread(target=swap)
    thread.start()
    found = load(f"{address}/predict/outage-risk", rows, 64, 8, headers)
    stop.set()
    thread.join()
    print(f"{done[0]} swaps of versions under 64 clients: {found.per_s:,.0f} requests/s, {found.errors} failed (goal: 0)")


def process_of(address: str) -> int:
    """The id of the service's process."""
    port = address.rsplit(":", 1)[1]
    found = subprocess.run(["pgrep", "-f", f"lamppost up .*--port {port}"], capture_output=True, text=True, check=True)
    return int(found.stdout.split()[0])


def _memory(pid: int) -> float:
    return int(Path(f"/proc/{pid}/statm").read_text().split()[1]) * 4096 / 1e6


if __name__ == "__main__":
    sys.exit("run it as a part of: make bench")
