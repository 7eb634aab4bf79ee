"""What recording costs: the same load on two services in turns, one that records, counts windows and oddness, and one that does not.

``python -m bench.records``. The goal is that recording takes at most 10 % of the requests a second.
"""

from __future__ import annotations

import argparse
import os
import sys
import tempfile
import time
from contextlib import ExitStack
from pathlib import Path
from statistics import median

import lamppost
from bench.load import load
from bench.servers import free_port, running
from demo.lamps import FIELDS, make_traffic
from demo.train import train_outage_risk
from lamppost.client.config import find_connection
from lamppost.package.read import Lamp

CLIENTS = 64
GOAL = 0.90


def main() -> int:
    """Print the rates; exit code 1 when the goal is missed."""
    parser = argparse.ArgumentParser(description=__doc__)
    parser.add_argument("--seconds", type=int, default=8, help="of load per turn")
    parser.add_argument("--turns", type=int, default=5, help="for each of the two")
    given = parser.parse_args()
    with tempfile.TemporaryDirectory(prefix="lamppost-bench-") as name, ExitStack() as stack:
        folder = Path(name)
        folder.chmod(0o755)
        os.environ["LAMPPOST_CONFIG"] = str(folder / "client.toml")
        lamp = pack_outage_risk(folder)
        rows = make_traffic(2_000, seed=17)
        addresses: dict[str, str] = {}
        for what, options in (("on", []), ("off", ["--no-records"])):
            port = free_port()
            command = [sys.executable, "-m", "lamppost", "up", "--data", str(folder / what), "--port", str(port), *options]
            addresses[what] = f"http://127.0.0.1:{port}"
            stack.enter_context(running(command, f"{addresses[what]}/health/ready", folder / f"{what}.log"))
            with lamppost.Client(addresses[what]) as client:
                client.point("outage-risk", client.push(lamp.path)["version"])
        rates: dict[str, list[float]] = {"on": [], "off": []}
        waited = []
        for turn in range(given.turns + 1):
            for what, address in addresses.items():
                headers = {"Authorization": f"Bearer {find_connection(address).token}"}
                found = load(f"{address}/predict/outage-risk", rows, CLIENTS, given.seconds, headers)
                if turn:  # the first warms up
                    rates[what].append(found.per_s)
                    print(f"recording {what:3}  {found.per_s:8,.0f} requests/s, p99 {found.p99_ms:.1f} ms", flush=True)
                if what == "on":
                    waited.append(drained(address))
        part = median(rates["on"]) / median(rates["off"])
        print(f"with records {part:.2f} of without (goal {GOAL:.2f}): {'met' if part >= GOAL else 'MISSED'}")
        print(f"after each turn the last record was in the database {median(waited):.1f} s later (median)")
    return 0 if part >= GOAL else 1


def pack_outage_risk(folder: Path) -> Lamp:
    """The demo's forest, packed in a folder."""
    model, frame, metrics, held_out = train_outage_risk()
    recipe = {"labels": {0: "holds", 1: "fails"}, "fields": FIELDS, "metrics": metrics, "held_out": held_out}
    return lamppost.pack(model, frame, name="outage-risk", target="failed", to=folder / "outage-risk.lamp", **recipe)  # type: ignore[arg-type]


def drained(address: str) -> float:
    """Seconds until no record waits any more, so that the other service has the machine to itself."""
    start = time.monotonic()
    with lamppost.Client(address) as client:
        while client.fetch("GET", "/api/node")["records_waiting"] and time.monotonic() - start < 120:
            time.sleep(0.2)
    return time.monotonic() - start


if __name__ == "__main__":
    raise SystemExit(main())
