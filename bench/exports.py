"""Packages as SQL in PostgreSQL, against the graph that the service runs: rows a second on the same rows.

``python -m bench.exports``. One process each; the graph is asked in one batch on one thread, from columns that are there already.
"""

from __future__ import annotations

import argparse
import tempfile
import time
from collections.abc import Callable
from pathlib import Path
from statistics import median
from typing import Any

import psycopg
from sklearn.linear_model import LogisticRegression
from sklearn.pipeline import make_pipeline
from sklearn.preprocessing import StandardScaler

import lamppost
from demo.lamps import FIELDS, make_lamps
from demo.train import train_outage_risk
from lamppost.core.artifact.schema_inference import columns_from_frame, frame_rows
from lamppost.package.read import Lamp
from lamppost.packing.export.answer_shape import read_model
from lamppost.packing.export.sql_form import SQL_KINDS, quote, write_sql
from lamppost.runtime.running_steps import open_chain
from lamppost.store.postgres import PrivateServer

LIGHT = ["age_years", "height_m", "nights_since_visit"]


def main() -> int:
    """Print the figures."""
    parser = argparse.ArgumentParser(description=__doc__)
    parser.add_argument("--rows", type=int, default=50_000)
    parser.add_argument("--turns", type=int, default=3)
    given = parser.parse_args()
    with tempfile.TemporaryDirectory(prefix="lamppost-bench-") as name:
        folder = Path(name)
        folder.chmod(0o755)
        server = PrivateServer(folder / "data", durable=False)
        try:
            with psycopg.connect(server.start(), autocommit=True) as connection:
                for lamp in packed(folder):
                    compare(connection, lamp, folder, given.rows, given.turns)
        finally:
            server.stop()
    return 0


def packed(folder: Path) -> list[Lamp]:
    """The demo's forest, and a light model."""
    pipeline, frame, _, _ = train_outage_risk()
    light = make_pipeline(StandardScaler(), LogisticRegression()).fit(frame[LIGHT], frame["failed"])
    more: dict[str, Any] = {"target": "failed", "labels": {0: "holds", 1: "fails"}, "insight": False, "quiet": True}
    return [
        lamppost.pack(light, frame[[*LIGHT, "failed"]], name="light", to=folder / "light.lamp", **more),
        lamppost.pack(pipeline, frame, name="forest", to=folder / "forest.lamp", fields=FIELDS, **more),
    ]


def compare(connection: psycopg.Connection[Any], lamp: Lamp, folder: Path, rows: int, turns: int) -> None:
    """Rows a second of the graph and of the SELECT, in turns."""
    unpacked = lamp.unpack(folder / lamp.manifest.name)
    model, inputs = read_model(lamp.manifest, unpacked), lamp.manifest.inputs
    frame = make_lamps(rows, seed=5)[list(inputs.names)]
    columns = columns_from_frame(inputs, frame)
    chain = open_chain(unpacked, lamp.manifest, frozenset({"skops"}))
    kinds = ", ".join(f"{quote(field.name)} {SQL_KINDS[field.kind]}" for field in inputs)
    connection.execute(f"DROP TABLE IF EXISTS lamps; CREATE TABLE lamps ({kinds})".encode())
    with connection.cursor().copy("COPY lamps FROM STDIN") as copy:
        for row in frame_rows(inputs, frame):
            copy.write_row([row[name] for name in inputs.names])
    connection.execute("ANALYZE lamps")
    connection.execute("SET max_parallel_workers_per_gather = 0")
    statement = f"CREATE TEMP TABLE answers ON COMMIT DROP AS {write_sql(model, 'lamps')}"
    graph, sql = [], []
    for _ in range(turns):
        graph.append(rows / seconds(lambda: chain.run(columns)))
        sql.append(rows / seconds(lambda: connection.execute(statement.encode())))
    print(
        f"{lamp.manifest.name}: {len(statement):,} bytes of SQL; {median(sql):,.0f} rows/s in PostgreSQL on one core, "
        f"{median(graph):,.0f} by the graph: {median(sql) / median(graph):.2f} times",
        flush=True,
    )


def seconds(work: Callable[[], object]) -> float:
    """How long something takes."""
    started = time.perf_counter()
    work()
    return time.perf_counter() - started


if __name__ == "__main__":
    raise SystemExit(main())
