"""What it costs to have a part of an answer made by another service, and what several nodes behind one gateway answer.

``python -m bench.remote``. A hop: the demo's picture model, split at its pixels, with both halves in one service and with the second half
in another, asked in turns on one connection; milliseconds at the median and CPU time of all processes. Nodes: a stand-in for a network on
an accelerator, which takes a millisecond for each row and no CPU, on one node and on three.
"""

from __future__ import annotations

import argparse
import base64
import os
import sys
import tempfile
import time
from collections.abc import Iterator
from concurrent.futures import ThreadPoolExecutor
from contextlib import ExitStack, contextmanager
from pathlib import Path
from statistics import median

import numpy as np
import pandas as pd
from sklearn.linear_model import LinearRegression

import lamppost
from bench.cpu import all_processes
from bench.servers import free_port, running
from demo import poles
from lamppost.package.read import read_lamp
from lamppost.packing.build import build_package
from lamppost.packing.recipe import Recipe
from lamppost.packing.side_steps import Code
from lamppost.packing.splitting import split_package

ACCELERATOR = '''
import time


class Accelerator:
    """A millisecond a row, and no CPU."""

    def run(self, columns):
        rows = columns["a"]
        time.sleep(0.001 * len(rows))
        return {"sum": [float(value) for value in rows]}
'''
SECRET = "lamp_" + "b" * 40
CLIENTS, ROWS_OF_CALL = 24, 32


def main() -> int:
    """Print the figures."""
    parser = argparse.ArgumentParser(description=__doc__)
    parser.add_argument("--calls", type=int, default=300)
    parser.add_argument("--seconds", type=float, default=8.0)
    given = parser.parse_args()
    with tempfile.TemporaryDirectory(prefix="lamppost-bench-") as name:
        folder = Path(name)
        folder.chmod(0o755)
        lamps = packed(folder)
        with ExitStack() as stack:
            ports = [stack.enter_context(model_node(folder, [lamps["second"], lamps["accelerator"]], at)) for at in range(3)]
            hosts = [f"127.0.0.1:{port}" for port, _ in ports]
            remotes = (*("--remote", f"one=grpc://{hosts[0]}"), *("--remote", f"three=grpc://{','.join(hosts)}"))
            client, gateway = stack.enter_context(gateway_node(folder, remotes))
            client.push_all([lamps["whole"], lamps["first"], lamps["second"], lamps["scale"]])
            client.point("whole", "pole-photo@1")
            client.set_up("here", {"together": {"parts": {"eye": "pole-eye@1"}, "combine": "pole-net@1"}})
            client.set_up("there", {"together": {"parts": {"eye": "pole-eye@1"}, "combine": "grpc://one/pole-net"}})
            hop(client, [gateway, *(pid for _, pid in ports)], given.calls)
            for service in ("one", "three"):
                client.set_up(service, {"together": {"parts": {"a": f"grpc://{service}/accelerator"}, "combine": "scale@1"}})
            nodes(str(client.connection_options["base_url"]), given.seconds)
    return 0


def packed(folder: Path) -> dict[str, Path]:
    """The lamp files by what they are for."""
    model, frame, *_ = poles.train_pole_photo()
    files = {name: folder / f"{name}.lamp" for name in ("whole", "first", "second", "accelerator", "scale")}
    recipe = Recipe("pole-photo", poles.TARGET, fields=poles.FIELDS, before=[poles.pixels()], insight=False)
    build_package(model, frame, recipe, files["whole"])
    whole = read_lamp(files["whole"])
    split_package(whole, "pixels", files["first"], files["second"], ("pole-eye", "pole-net"), frozenset({"skops"}))
    (folder / "accelerator.py").write_text(ACCELERATOR)
    numbers = pd.DataFrame({"a": np.random.default_rng(1).uniform(0, 1, 100)})
    step = Code(folder / "accelerator.py", "accelerator:Accelerator", ["a"], {"sum": {"kind": "number"}})
    fitted = LinearRegression().fit(numbers.rename(columns={"a": "sum"}), numbers["a"])
    recipe = Recipe("accelerator", "out", before=[step], insight=False)
    build_package(fitted, numbers.assign(out=numbers["a"]), recipe, files["accelerator"])
    scaled = pd.DataFrame({"a.out": numbers["a"], "y": numbers["a"]})
    build_package(LinearRegression().fit(scaled[["a.out"]], scaled["y"]), scaled, Recipe("scale", "y", insight=False), files["scale"])
    return files


@contextmanager
def model_node(folder: Path, lamps: list[Path], at: int) -> Iterator[tuple[int, int]]:
    """The gRPC port and the process of a node that serves lamp files."""
    port, grpc_port = free_port(), free_port()
    command = [sys.executable, "-m", "lamppost", "serve", *map(str, lamps), "--port", str(port)]
    command += ["--grpc-port", str(grpc_port), "--allow-code", "--no-token"]
    with running(command, f"http://127.0.0.1:{port}/health/ready", folder / f"node-{at}.log") as pid:
        yield grpc_port, pid


@contextmanager
def gateway_node(folder: Path, remotes: tuple[str, ...]) -> Iterator[tuple[lamppost.Client, int]]:
    """A client of a service with a database, and its process."""
    port = free_port()
    command = [sys.executable, "-m", "lamppost", "up", "--data", str(folder / "data"), "--port", str(port), *remotes]
    more = {"LAMPPOST_DURABLE": "0", "LAMPPOST_ADMIN_TOKEN": SECRET, "LAMPPOST_CONFIG": str(folder / "client.toml")}
    with running(command, f"http://127.0.0.1:{port}/health/ready", folder / "gateway.log", more) as pid:
        deadline = time.monotonic() + 60
        with lamppost.Client(f"http://127.0.0.1:{port}", SECRET) as client:
            while True:
                try:
                    client.endpoints()
                    break
                except lamppost.LampPostError:
                    if time.monotonic() > deadline:
                        raise
                    time.sleep(0.2)
            yield client, pid


def cpu_s(roots: list[int]) -> float:
    """CPU time of processes and all that they have started."""
    found = all_processes()
    total = 0.0
    for pid, facts in found.items():
        at: int | None = pid
        while at in found and at not in roots:
            at = found[at].parent
        total += facts.used_s if at in roots else 0.0
    return total


def hop(client: lamppost.Client, roots: list[int], calls: int) -> None:
    """A lone caller, one picture a call, the three ways in turns of 50 calls."""
    photos = [base64.b64encode(photo).decode() for photo in poles.make_photos(20, seed=3)["photo"]]
    ways = ("whole", "here", "there")
    times: dict[str, list[float]] = {way: [] for way in ways}
    used: dict[str, list[float]] = {way: [] for way in ways}
    for turn in range(max(2, calls // 50)):
        for way in ways:
            before = cpu_s(roots)
            for at in range(50):
                began = time.perf_counter()
                client.predict(way, {"photo": photos[at % len(photos)]})
                if turn:
                    times[way].append(time.perf_counter() - began)
            if turn:
                used[way].append((cpu_s(roots) - before) / 50)
    for way, said in zip(ways, ("the whole package", "both halves here", "the second half there"), strict=True):
        print(f"{said:24} p50 {median(times[way]) * 1e3:6.2f} ms   CPU {median(used[way]) * 1e3:6.2f} ms a call")
    extra = median(times["there"]) - median(times["here"])
    cpu = median(used["there"]) - median(used["here"])
    print(f"a hop costs {extra * 1e3:.2f} ms at the median and {cpu * 1e3:.2f} ms of CPU")


def nodes(address: str, seconds: float) -> None:
    """Rows a second from many callers, in turns."""
    body = [{"a": at / ROWS_OF_CALL} for at in range(ROWS_OF_CALL)]

    def ask(way: str, until: float) -> int:
        done = 0
        with lamppost.Client(address, SECRET) as own:
            while time.monotonic() < until:
                own.predict(way, body)
                done += ROWS_OF_CALL
        return done

    paces: dict[str, list[float]] = {"one": [], "three": []}
    for turn in range(4):
        for way in paces:
            began = time.monotonic()
            with ThreadPoolExecutor(CLIENTS) as pool:
                rows = sum(pool.map(ask, [way] * CLIENTS, [began + seconds / 2] * CLIENTS))
            if turn:
                paces[way].append(rows / (time.monotonic() - began))
    one, three = (median(paces[way]) for way in ("one", "three"))
    print(f"1 node {one:,.0f} rows/s, 3 nodes {three:,.0f} rows/s, {three / one:.2f} ×, {os.cpu_count()} cores for all of it")


if __name__ == "__main__":
    sys.exit(main())
