"""Thousands of small versions brought to a running service: pushed, declared as endpoints of their own, and told in ``/openapi.json``.

``python -m bench.registering [COUNT]``. Goals for 3,000: 15 s for the pushes, 15 s for the document, 1 s for the first ``/openapi.json``,
while calls to an endpoint go on.
"""

from __future__ import annotations

import os
import sys
import tempfile
import threading
import time
import zipfile
from dataclasses import replace
from pathlib import Path

import httpx

import lamppost
from bench.contract import light_lamp
from bench.servers import free_port, running
from demo.lamps import make_traffic
from lamppost.client.config import find_connection
from lamppost.package.read import read_lamp
from lamppost.package.write import write_lamp

COUNT = 3_000


def write_lamps(folder: Path, count: int) -> list[Path]:
    """Lamp files that differ in their manifests."""
    lamp = light_lamp(folder)
    with zipfile.ZipFile(lamp.path) as archive:
        members = {name: archive.read(name) for name in lamp.manifest.members}
    files = []
    for number in range(count):
        path = folder / f"small-{number}.lamp"
        provenance = replace(lamp.manifest.provenance, notes=f"number {number}")
        write_lamp(path, replace(lamp.manifest, name=f"small-{number}", provenance=provenance), members)
        files.append(path)
    read_lamp(files[-1])
    return files


class Caller(threading.Thread):
    """Calls an endpoint again and again. slowest_ms : of its calls so far."""

    def __init__(self, address: str, token: str) -> None:
        super().__init__(daemon=True)
        self._address, self._token = address, token
        self.slowest_ms = 0.0
        self.done = False

    def run(self) -> None:
        """Until ``done`` is set."""
        row = make_traffic(1, seed=3)[0]
        with httpx.Client(trust_env=False, headers={"Authorization": f"Bearer {self._token}"}, timeout=60) as http:
            while not self.done:
                start = time.perf_counter()
                http.post(f"{self._address}/predict/small-0", json=row).raise_for_status()
                self.slowest_ms = max(self.slowest_ms, (time.perf_counter() - start) * 1e3)
                time.sleep(0.005)

    def slowest(self) -> float:
        """The slowest call since the last time that this was asked."""
        found, self.slowest_ms = self.slowest_ms, 0.0
        return found


def measure(count: int) -> None:
    """Print the figures."""
    with tempfile.TemporaryDirectory(prefix="lamppost-bench-") as name:
        folder = Path(name)
        folder.chmod(0o755)
        os.environ["LAMPPOST_CONFIG"] = str(folder / "client.toml")
        files = write_lamps(folder, count)
        address = f"http://127.0.0.1:{(port := free_port())}"
        up = [sys.executable, "-m", "lamppost", "up", "--data", str(folder / "data"), "--port", str(port)]
        with running(up, f"{address}/health/ready", folder / "log"), lamppost.Client(address, timeout_s=600) as client:
            client.point("small-0", client.push(files[0])["version"])
            caller = Caller(address, str(find_connection(address).token))
            caller.start()
            start = time.perf_counter()
            versions = [answer["version"] for answer in client.push_all(files)]
            print(f"{count:,} pushed in {time.perf_counter() - start:.1f} s (goal 15), slowest call {caller.slowest():.0f} ms", flush=True)
            endpoints = {version.partition("@")[0]: {"version": version} for version in versions}
            start = time.perf_counter()
            client.fetch("PUT", "/api/declared", {"endpoints": endpoints})
            print(f"declared in {time.perf_counter() - start:.1f} s (goal 15), slowest call {caller.slowest():.0f} ms", flush=True)
            for turn in ("first", "next"):
                start = time.perf_counter()
                document = client.fetch_bytes("/openapi.json")
                took = time.perf_counter() - start
                size = len(document) / 1e6
                print(f"/openapi.json, {size:.1f} MB, the {turn} time in {took:.2f} s, slowest call {caller.slowest():.0f} ms", flush=True)
            caller.done = True
            caller.join()


if __name__ == "__main__":
    measure(int(sys.argv[1]) if len(sys.argv) > 1 else COUNT)
