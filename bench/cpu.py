"""Processor time of a request, by process, beside that of a bare ASGI callable: noise on the machine hardly touches it.

``python -m bench.cpu``. Goals at 64 clients: the front at most 1.6 times the bare callable, record writer and PostgreSQL together at most
35 µs a call, a worker at most 40 µs a row of the forest.
"""

from __future__ import annotations

import os
import sys
import tempfile
import time
from contextlib import ExitStack
from dataclasses import dataclass
from pathlib import Path

import lamppost
from bench.load import Measured, load
from bench.records import pack_outage_risk
from bench.servers import free_port, running, uvicorn
from demo.lamps import make_traffic
from lamppost.client.config import find_connection

CLIENTS = (1, 16, 64)
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
    """Seconds of processor time so far: of the front, its workers, the record writer, and PostgreSQL."""
    processes = all_processes()

    def is_below(pid: int, ancestor: int) -> bool:
        while pid in processes and pid != ancestor:
            pid = processes[pid].parent
        return pid == ancestor

    used = dict.fromkeys(("front", "worker", "record writer", "PostgreSQL"), 0.0)
    for pid, one in processes.items():
        if is_below(pid, postmaster):
            used["PostgreSQL"] += one.used_s
        elif pid == service:
            used["front"] += one.used_s
        elif is_below(pid, service):
            used["record writer" if "record_writer" in one.command else "worker"] += one.used_s
    return used


def _requests(found: Measured, seconds: int) -> float:
    return found.per_s * seconds


def measure(seconds: int = 6) -> int:
    """Print the figures; the number of goals that were missed."""
    with tempfile.TemporaryDirectory(prefix="lamppost-bench-") as name, ExitStack() as stack:
        folder = Path(name)
        folder.chmod(0o755)
        os.environ["LAMPPOST_CONFIG"] = str(folder / "client.toml")
        bare, port = (free_port() for _ in range(2))
        address, log = f"http://127.0.0.1:{port}", folder / "log"
        ceiling = stack.enter_context(running(uvicorn("bench.bare:app", bare), f"http://127.0.0.1:{bare}", log))
        up = [sys.executable, "-m", "lamppost", "up", "--data", str(folder / "data"), "--port", str(port)]
        stack.enter_context(running(up, f"{address}/health/ready", log))
        service = int((folder / "data" / "lock").read_text())
        postmaster = int((folder / "data" / "postgres" / "postmaster.pid").read_text().split()[0])
        rows = make_traffic(500, seed=77)
        with lamppost.Client(address, timeout_s=120) as client:
            client.point("outage-risk", client.push(pack_outage_risk(folder).path)["version"])
            headers = {"Authorization": f"Bearer {find_connection(address).token}"}
            print(f"\n{'µs of processor time a request':32s}{'bare':>8s}{'front':>8s}{'worker':>8s}{'writer':>8s}{'PostgreSQL':>12s}")
            for clients in CLIENTS:
                one_bare = _bare(ceiling, bare, rows, clients, seconds)
                used = _service(client, (service, postmaster), headers, rows, clients, seconds)
                print(
                    f"{clients:4d} clients{'':21s}{one_bare:8.0f}{used['front']:8.0f}{used['worker']:8.0f}"
                    f"{used['record writer']:8.0f}{used['PostgreSQL']:12.0f}",
                    flush=True,
                )
        missed = 0
        stored = used["record writer"] + used["PostgreSQL"]
        for what, value, goal in (
            ("front over the bare callable", used["front"] / one_bare, 1.6),
            ("record writer and PostgreSQL, µs a call", stored, 35.0),
            ("worker, µs a row", used["worker"], 40.0),
        ):
            missed += value > goal
            print(f"{what}: {value:.2f} (goal: at most {goal:g}) {'met' if value <= goal else 'MISSED'}")
    return missed


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
