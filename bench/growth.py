"""What calls take on disk in the database, and how long it takes to find them again.

``python -m bench.growth``. The goals: 100,000 calls of three fields take at most 25 MB, and a call is found by its id within 50 ms.
"""

from __future__ import annotations

import argparse
import os
import sys
import tempfile
import time
from collections.abc import Sequence
from contextlib import ExitStack
from pathlib import Path
from statistics import median
from typing import Any

import psycopg
from sklearn.impute import SimpleImputer
from sklearn.linear_model import LogisticRegression
from sklearn.pipeline import make_pipeline
from sklearn.preprocessing import StandardScaler

import lamppost
from bench.load import load
from bench.records import drained
from bench.servers import free_port, running
from demo.lamps import as_sent, make_lamps
from lamppost.client.config import find_connection

FIELDS = ["age_years", "voltage_v", "flicker_per_night"]
CALLS = 100_000
MOST_MB = 25.0
MOST_MS = 50.0
SEARCHES = {"the latest 50": "", "calls that failed (none did)": "&status=500", "calls with a text that none has": "&contains=nowhere"}


def main() -> int:
    """Print sizes and times; exit code 1 when a goal is missed."""
    parser = argparse.ArgumentParser(description=__doc__)
    parser.add_argument("--clients", type=int, default=16, help="with one of them calls arrive a few at a time")
    parser.add_argument("--calls", type=int, default=CALLS)
    given = parser.parse_args()
    with tempfile.TemporaryDirectory(prefix="lamppost-bench-") as name, ExitStack() as stack:
        folder = Path(name)
        folder.chmod(0o755)
        os.environ["LAMPPOST_CONFIG"] = str(folder / "client.toml")
        address = f"http://127.0.0.1:{(port := free_port())}"
        up = [sys.executable, "-m", "lamppost", "up", "--data", str(folder / "data"), "--port", str(port)]
        stack.enter_context(running(up, f"{address}/health/ready", folder / "log"))
        frame = make_lamps(4_000)
        model = make_pipeline(SimpleImputer(), StandardScaler(), LogisticRegression()).fit(frame[FIELDS], frame["failed"])
        labels = {0: "holds", 1: "fails"}
        lamp = lamppost.pack(model, frame[[*FIELDS, "failed"]], name="risk", target="failed", labels=labels, to=folder / "risk.lamp")
        database = stack.enter_context(psycopg.connect(_database(folder / "data"), autocommit=True))
        rows = as_sent(make_lamps(5_000, seed=17)[FIELDS])
        with lamppost.Client(address) as client:
            client.point("risk", client.push(lamp.path)["version"])
            before = _sizes(database)
            sent = _send(address, rows, given.calls, given.clients)
            waited = drained(address)
            print(f"{sent:,.0f} calls of {given.clients} clients; the last was in the database {waited:.1f} s after its answer")
            after = _sizes(database)
            for table, size in sorted(after.items(), key=lambda item: -item[1])[:6]:
                grown = (size - before.get(table, 0)) / sent * 100_000 / 1e6
                print(f"  {table:40} {grown:8.1f} MB for 100,000 calls")
            total = (sum(after.values()) - sum(before.values())) / sent * 100_000 / 1e6
            found = [str(call["request_id"]) for call in client.calls("risk", limit=200)]
            by_id = [_took(client, f"/api/calls/{request_id}") for request_id in found[::10]]
            for what, sought in SEARCHES.items():
                print(f"  {what:40} {median(_took(client, f'/api/calls?endpoint=risk&limit=50{sought}') for _ in range(5)):8.1f} ms")
        print(f"growth {total:.1f} MB for 100,000 calls (goal {MOST_MB:.0f}): {'met' if total <= MOST_MB else 'MISSED'}")
        print(f"a call by its id {median(by_id):.1f} ms (goal {MOST_MS:.0f}): {'met' if median(by_id) <= MOST_MS else 'MISSED'}")
    return 0 if total <= MOST_MB and median(by_id) <= MOST_MS else 1


def _send(address: str, rows: Sequence[object], calls: int, clients: int) -> float:
    headers = {"Authorization": f"Bearer {find_connection(address).token}"}
    sent = 0.0
    while sent < calls:
        sent += load(f"{address}/predict/risk", rows, clients, 5, headers).per_s * 5
    return sent


def _database(data: Path) -> str:
    port = (data / "postgres" / "postmaster.pid").read_text().splitlines()[3]
    return f"postgresql://lamppost:{(data / 'postgres.password').read_text().strip()}@127.0.0.1:{port}/lamppost"


def _sizes(database: psycopg.Connection[Any]) -> dict[str, int]:
    """Bytes by table, with indexes and what is kept beside it."""
    query = (
        "SELECT c.relname, pg_total_relation_size(c.oid) FROM pg_class c JOIN pg_namespace n ON n.oid = c.relnamespace"
        " WHERE n.nspname = 'lamppost' AND c.relkind = 'r'"
    )
    return dict(database.execute(query.encode()).fetchall())


def _took(client: lamppost.Client, path: str) -> float:
    """Milliseconds of a question."""
    started = time.perf_counter()
    client.fetch("GET", path)
    return (time.perf_counter() - started) * 1e3


if __name__ == "__main__":
    raise SystemExit(main())
