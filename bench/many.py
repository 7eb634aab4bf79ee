"""Thousands of small versions on one node, each with its own endpoint: the start, the first calls, random calls once warm, memory."""

from __future__ import annotations

import asyncio
import os
import random
import sys
import tempfile
import time
import zipfile
from concurrent.futures import ThreadPoolExecutor
from dataclasses import replace
from pathlib import Path

import httpx

import lamppost
from bench.contract import light_lamp
from bench.load import load
from bench.servers import free_port, running
from demo.lamps import make_traffic
from lamppost.client.config import find_connection
from lamppost.core.artifact.manifest import write_manifest
from lamppost.core.endpoint.setup import EndpointSetup
from lamppost.package.read import Lamp, read_lamp
from lamppost.package.write import write_lamp
from lamppost.store import endpoints, packages
from lamppost.store.database import make_pool, migrate
from lamppost.store.endpoints import EndpointChange
from lamppost.store.postgres import PrivateServer
from lamppost.store.trail import ChangedBy

MODELS = 3_000
CLIENTS = 64


async def register_versions(url: str, lamp: Lamp, folder: Path, count: int) -> None:
    """Versions that differ in their manifests, put straight into the database, each with an endpoint of its name."""
    with zipfile.ZipFile(lamp.path) as archive:
        members = {name: archive.read(name) for name in lamp.manifest.members}
    pool = make_pool(url)
    await pool.open()
    for number in range(count):
        name = f"small-{number}"
        path = folder / "one.lamp"
        write_lamp(path, replace(lamp.manifest, name=name, provenance=replace(lamp.manifest.provenance, notes=f"number {number}")), members)
        made = read_lamp(path)
        manifest = write_manifest(made.manifest).decode()
        version, _ = await packages.store_version(pool, name, made.digest, manifest, path, ChangedBy("bench"), [(0, made.size_bytes)])
        await endpoints.change_endpoint(pool, EndpointChange(name, EndpointSetup(version=str(version))), ChangedBy("bench"))
    await pool.close()


def measure(count: int = MODELS, seconds: int = 8) -> None:
    """Print the figures."""
    with tempfile.TemporaryDirectory(prefix="lamppost-bench-") as name:
        folder = Path(name)
        folder.chmod(0o755)
        os.environ["LAMPPOST_CONFIG"] = str(folder / "client.toml")
        lamp = light_lamp(folder)
        data = folder / "data"
        server = PrivateServer(data, durable=False)
        try:
            url = server.start()
            migrate(url, own_server=True)
            start = time.perf_counter()
            asyncio.run(register_versions(url, lamp, folder, count))
            print(f"{count:,} versions registered, each with an endpoint, in {time.perf_counter() - start:.0f} s", flush=True)
        finally:
            server.stop()
        port = free_port()
        address = f"http://127.0.0.1:{port}"
        up = [sys.executable, "-m", "lamppost", "up", "--data", str(data), "--port", str(port), "--new-admin-token"]
        start = time.perf_counter()
        with running(up, address + "/health/live", folder / "log"):
            while httpx.get(address + "/health/ready", trust_env=False).status_code != 200:
                time.sleep(0.02)
            print(f"ready after {time.perf_counter() - start:.1f} s (goal: 5)", flush=True)
            _ask(address, count, seconds)


def _ask(address: str, count: int, seconds: int) -> None:
    rows = make_traffic(200, seed=5)
    token = find_connection(address).token
    headers = {"Authorization": f"Bearer {token}"}

    def held() -> tuple[float, float]:
        with lamppost.Client(address) as client:
            said = client.fetch("GET", "/api/lanes")
        pid = int((Path(os.environ["LAMPPOST_CONFIG"]).parent / "data" / "lock").read_text())
        service = int(Path(f"/proc/{pid}/statm").read_text().split()[1]) * 4096
        return said["memory_bytes"] / 1e6, service / 1e6

    before = held()
    with httpx.Client(trust_env=False, verify=False, headers=headers, timeout=60) as http:
        took = []
        for number in range(0, count, max(1, count // 100)):
            start = time.perf_counter()
            http.post(f"{address}/predict/small-{number}", json=rows[0]).raise_for_status()
            took.append((time.perf_counter() - start) * 1e3)
    took.sort()
    print(f"the first call to a sleeping one: p50 {took[len(took) // 2]:.1f} ms, the slowest of {len(took)} {took[-1]:.1f} ms", flush=True)
    order = list(range(count))
    random.Random(1).shuffle(order)
    start = time.perf_counter()
    with (
        httpx.Client(trust_env=False, verify=False, headers=headers, timeout=120, limits=httpx.Limits(max_connections=16)) as http,
        ThreadPoolExecutor(16) as pool,
    ):
        list(pool.map(lambda number: http.post(f"{address}/predict/small-{number}", json=rows[0]).raise_for_status(), order))
    print(f"all {count:,} woken by 16 callers in {time.perf_counter() - start:.1f} s", flush=True)
    after = held()
    print(f"memory: workers {before[0]:.0f} → {after[0]:.0f} MB, service {before[1]:.0f} → {after[1]:.0f} MB", flush=True)
    _all_stored(address)
    paths = [f"/predict/small-{number}" for number in order]
    for way, chosen in (("random", paths), ("one after the other", [f"/predict/small-{number}" for number in range(count)])):
        load(address, rows, CLIENTS, 2, headers, chosen)
        found = load(address, rows, CLIENTS, seconds, headers, chosen)
        print(
            f"{way}: {found.per_s:,.0f} requests/s (goal: 4,000), p50 {found.p50_ms:.1f}, p95 {found.p95_ms:.1f} ms (goal: 20),"
            f" p99 {found.p99_ms:.1f} ms, {found.errors} errors",
            flush=True,
        )


def _all_stored(address: str) -> None:
    """Wait until the records of what was woken are stored: to read each reference for the first time is not being warm."""
    deadline = time.monotonic() + 180
    with lamppost.Client(address) as client:
        while client.fetch("GET", "/api/node")["records_waiting"] and time.monotonic() < deadline:
            time.sleep(0.5)


if __name__ == "__main__":
    measure(int(sys.argv[1]) if len(sys.argv) > 1 else MODELS)
