"""Bulk runs over a Dask cluster: rows a second with two workers against one, where the model is the cost.

``python -m bench.cluster``. The goal: at least 1.6 times as many rows a second with two workers as with one. The forest has so many trees
that reading and writing, which the node does, cost little beside it; with the demo's 100 trees they take a third of a core.
"""

from __future__ import annotations

import argparse
import os
import sys
import tempfile
from contextlib import ExitStack
from pathlib import Path
from statistics import median
from typing import Any

import lamppost
from bench.bulk import write_rows
from bench.dask_processes import Cluster
from bench.servers import free_port, running
from demo.lamps import FIELDS
from demo.train import outage_pipeline, train_outage_risk

GOAL = 1.6


def main() -> int:
    """Print the figures; exit code 1 when the goal is missed."""
    parser = argparse.ArgumentParser(description=__doc__)
    parser.add_argument("--rows", type=int, default=300_000)
    parser.add_argument("--trees", type=int, default=600)
    parser.add_argument("--turns", type=int, default=3)
    given = parser.parse_args()
    with tempfile.TemporaryDirectory(prefix="lamppost-bench-") as name, ExitStack() as stack:
        folder = Path(name)
        folder.chmod(0o755)
        files = folder / "files"
        files.mkdir()
        os.environ["LAMPPOST_CONFIG"] = str(folder / "client.toml")
        clusters = {"one": Cluster(1), "two": Cluster(2)}
        for cluster, workers in zip(clusters.values(), (1, 2), strict=True):
            stack.callback(cluster.stop)
            cluster.wait(workers)
        address = f"http://127.0.0.1:{(port := free_port())}"
        named = [word for name, cluster in clusters.items() for word in ("--cluster", f"{name}={cluster.address}")]
        up = [sys.executable, "-m", "lamppost", "up", "--data", str(folder / "data"), "--port", str(port), "--folder", f"files={files}"]
        stack.enter_context(running([*up, *named], f"{address}/health/ready", folder / "log"))
        forest = outage_pipeline().set_params(forest__n_estimators=given.trees)
        pipeline, frame, metrics, _ = train_outage_risk(forest)
        pipeline.set_params(forest__n_jobs=1)
        more: dict[str, Any] = {"target": "failed", "labels": {0: "holds", 1: "fails"}, "fields": FIELDS, "metrics": metrics}
        write_rows(files / "rows.parquet", given.rows)
        with lamppost.Client(address, timeout_s=600) as client:
            lamp = lamppost.pack(pipeline, frame, name="original", to=folder / "original.lamp", compile=False, insight=False, **more)
            client.point("original", client.push(lamp)["version"])
            ratios = []
            for turn in range(given.turns + 1):
                rates = {}
                for on in clusters:
                    facts = client.bulk("original", "files:rows.parquet", keep=["lamp_id"], on=on).wait().facts
                    rates[on] = facts["rows"] / facts["busy_s"]
                if turn:  # the first opens the package
                    ratios.append(rates["two"] / rates["one"])
                    print(f"one worker {rates['one']:,.0f} rows/s, two {rates['two']:,.0f}: {ratios[-1]:.2f} times", flush=True)
    times = median(ratios)
    print(f"two workers against one: {times:.2f} times (goal {GOAL}){'' if times >= GOAL else ': missed'}")
    return int(times < GOAL)


if __name__ == "__main__":
    raise SystemExit(main())
