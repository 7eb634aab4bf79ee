"""Processor time of a request, by process, beside that of a bare ASGI callable: noise on the machine hardly touches it.

``python -m bench.cpu`` measures a node that reads requests itself, and then one with two front processes. Goals at 64 clients: the node
alone at most 1.6 times the bare callable, record writer and PostgreSQL together at most 35 µs a call, a worker at most 40 µs a row of the
forest.
"""

from __future__ import annotations

import os
import sys
import tempfile
import time
from collections.abc import Iterator
from contextlib import ExitStack, contextmanager
from dataclasses import dataclass
from pathlib import Path

import lamppost
from bench.load import Measured, load
from bench.records import pack_outage_risk
from bench.servers import free_port, running, uvicorn
from demo.lamps import make_traffic
from lamppost.client.config import find_connection

CLIENTS = (1, 16, 64)
FRONTS = 2
_TICKS = os.sysconf("SC_CLK_TCK")
_STORED_S = 120.0


@dataclass(frozen=True, slots=True)
class ProcessFacts:
    """A process. used_s : user and system time so far, of it and of children that it has waited for."""

    parent: int
    command: str
    used_s: float


def all_processes() -> dict[int, ProcessFacts]:
    """Every process of this machine by its id."""
    found = {}
    for entry in Path("/proc").iterdir():
        if entry.name.isdigit():
            try:
                fields = (entry / "stat").read_text().rsplit(")", 1)[1].split()
                command = (entry / "cmdline").read_bytes().replace(b"\0", b" ").decode(errors="replace")
            except OSError:
                continue
            found[int(entry.name)] = ProcessFacts(int(fields[1]), command, sum(map(int, fields[11:15])) / _TICKS)
    return found


def used_by_part(service: int, postmaster: int) -> dict[str, float]:
    """Seconds of processor time so far: of the node, its front processes, its workers, the record writer, and PostgreSQL."""
    processes = all_processes()

    def is_below(pid: int, ancestor: int) -> bool:
        while pid in processes and pid != ancestor:
            pid = processes[pid].parent
        return pid == ancestor

    used = dict.fromkeys(("node", "fronts", "worker", "record writer", "PostgreSQL"), 0.0)
    for pid, one in processes.items():
        if is_below(pid, postmaster):
            used["PostgreSQL"] += one.used_s
        elif pid == service:
            used["node"] += one.used_s
        elif is_below(pid, service):
            part = "record writer" if "record_writer" in one.command else "fronts" if "front_process" in one.command else "worker"
            used[part] += one.used_s
    return used


def _requests(found: Measured, seconds: int) -> float:
    return found.per_s * seconds


def measure(seconds: int = 6) -> int:
    """Print the figures; the number of goals that were missed."""
    with tempfile.TemporaryDirectory(prefix="lamppost-bench-") as name, ExitStack() as stack:
        folder = Path(name)
        folder.chmod(0o755)
        os.environ["LAMPPOST_CONFIG"] = str(folder / "client.toml")
        bare = free_port()
        ceiling = stack.enter_context(running(uvicorn("bench.bare:app", bare), f"http://127.0.0.1:{bare}", folder / "log"))
        lamp = pack_outage_risk(folder).path
        rows = make_traffic(500, seed=77)
        parts = ("bare", "node", "fronts", "worker", "record writer", "PostgreSQL")
        print(f"\n{'µs of processor time a request':34s}" + "".join(f"{part:>15s}" for part in parts))
        last: dict[int, dict[str, float]] = {}
        for fronts in (1, FRONTS):
            with _started_service(folder, lamp, fronts) as (client, pids, headers):
                for clients in CLIENTS:
                    used = {"bare": _bare(ceiling, bare, rows, clients, seconds)}
                    used |= _service(client, pids, headers, rows, clients, seconds)
                    about = f"{clients} clients" + (f", {fronts} front processes" if fronts > 1 else "")
                    print(f"{about:34s}" + "".join(f"{used[part]:15.0f}" for part in parts), flush=True)
                    last[fronts] = used
        missed = 0
        alone, split = last[1], last[FRONTS]
        for what, value, goal in (
            ("node over the bare callable", alone["node"] / alone["bare"], 1.6),
            ("record writer and PostgreSQL, µs a call", alone["record writer"] + alone["PostgreSQL"], 35.0),
            ("worker, µs a row", alone["worker"], 40.0),
        ):
            missed += value > goal
            print(f"{what}: {value:.2f} (goal: at most {goal:g}) {'met' if value <= goal else 'MISSED'}")
        print(
            f"with {FRONTS} front processes the node itself takes {split['node'] / alone['node']:.2f} of what it takes alone, "
            f"and a front {split['fronts'] / alone['node']:.2f}"
        )
    return missed


@contextmanager
def _started_service(folder: Path, lamp: Path, fronts: int) -> Iterator[tuple[lamppost.Client, tuple[int, int], dict[str, str]]]:
    """A service with the forest behind ``outage-risk``: a client, the ids of the node and of PostgreSQL, and headers of a caller."""
    port = free_port()
    address, data = f"http://127.0.0.1:{port}", folder / f"data-{fronts}"
    up = [sys.executable, "-m", "lamppost", "up", "--data", str(data), "--port", str(port), "--fronts", str(fronts)]
    with running(up, f"{address}/health/ready", folder / "log"), lamppost.Client(address, timeout_s=120) as client:
        client.point("outage-risk", client.push(lamp)["version"])
        service = int((data / "lock").read_text())
        postmaster = int((data / "postgres" / "postmaster.pid").read_text().split()[0])
        yield client, (service, postmaster), {"Authorization": f"Bearer {find_connection(address).token}"}


def _bare(pid: int, port: int, rows: list[dict[str, object]], clients: int, seconds: int) -> float:
    url = f"http://127.0.0.1:{port}/"
    load(url, rows, clients, 1, {})
    before = all_processes()[pid].used_s
    found = load(url, rows, clients, seconds, {})
    return (all_processes()[pid].used_s - before) / _requests(found, seconds) * 1e6


def _service(
    client: lamppost.Client, pids: tuple[int, int], headers: dict[str, str], rows: list[dict[str, object]], clients: int, seconds: int
) -> dict[str, float]:
    """Microseconds a request by part, until its record is stored; the leader's jobs meanwhile are part of it."""
    url = str(client.connection_options["base_url"]).rstrip("/") + "/predict/outage-risk"
    load(url, rows, clients, 2, headers)
    _wait_for_records(client)
    before = used_by_part(*pids)
    found = load(url, rows, clients, seconds, headers)
    _wait_for_records(client)
    after = used_by_part(*pids)
    return {part: (after[part] - before[part]) / _requests(found, seconds) * 1e6 for part in after}


def _wait_for_records(client: lamppost.Client) -> None:
    deadline = time.monotonic() + _STORED_S
    while client.fetch("GET", "/api/node")["records_waiting"] and time.monotonic() < deadline:
        time.sleep(0.2)


if __name__ == "__main__":
    sys.exit(1 if measure() else 0)
