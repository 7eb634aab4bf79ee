"""Points and rollbacks in a row while 64 clients call, on one node and on three that share a PostgreSQL. ``python -m bench.changes``.

Beside the load, one caller a node notes which version answered when. After a change is acknowledged the node that was asked must give no
answer of the other version; on all nodes the time from the request to the last such answer is measured.
"""

from __future__ import annotations

import bisect
import os
import sys
import tempfile
import threading
import time
from collections.abc import Mapping, Sequence
from concurrent.futures import ThreadPoolExecutor
from contextlib import ExitStack
from pathlib import Path
from typing import Any

import httpx

import lamppost
from bench.load import load
from bench.servers import free_port, running
from demo.lamps import FIELDS, make_traffic
from demo.train import train_outage_risk
from lamppost.client.config import find_connection
from lamppost.store.postgres import PrivateServer

CHANGES = 100
CLIENTS = 64
ENDPOINT = "outage-risk"


class Caller:
    """Asks one node in turn. seen : when each call began, and which version answered it, or what went wrong."""

    def __init__(self, address: str, headers: Mapping[str, str], row: object) -> None:
        self.seen: list[tuple[float, str]] = []
        self._stop = threading.Event()
        self._thread = threading.Thread(target=self._call, args=(address, dict(headers), row))

    def __enter__(self) -> Caller:
        self._thread.start()
        return self

    def __exit__(self, *_: object) -> None:
        self._stop.set()
        self._thread.join()

    def _call(self, address: str, headers: dict[str, str], row: object) -> None:
        with httpx.Client(trust_env=False, verify=False, headers=headers, timeout=30) as http:
            while not self._stop.is_set():
                began = time.monotonic()
                try:
                    said = http.post(f"{address}/predict/{ENDPOINT}", json=row)
                    self.seen.append((began, said.headers.get("model-version", f"status {said.status_code}")))
                except httpx.HTTPError as error:
                    self.seen.append((began, type(error).__name__))


def measure(addresses: Sequence[str], token: str, versions: Sequence[str], changes: int = CHANGES) -> int:
    """Print the figures of one arrangement; the number of goals that were missed."""
    headers = {"Authorization": f"Bearer {token}"}
    rows = make_traffic(300, seed=6)
    said: list[tuple[float, float, str]] = []  # asked, acknowledged, version from then on
    with ExitStack() as stack:
        client = stack.enter_context(lamppost.Client(addresses[0], token))
        client.point(ENDPOINT, versions[0])
        callers = [stack.enter_context(Caller(address, headers, rows[0])) for address in addresses]
        pool = stack.enter_context(ThreadPoolExecutor())
        share = CLIENTS // len(addresses)
        loads = [pool.submit(load, f"{address}/predict/{ENDPOINT}", rows, share, 45, headers) for address in addresses]
        time.sleep(2)
        for number in range(changes):
            asked = time.monotonic()
            if number % 2 == 0:
                client.point(ENDPOINT, versions[1])
            else:
                client.rollback(ENDPOINT)
            said.append((asked, time.monotonic(), versions[(number + 1) % 2]))
            time.sleep(0.1)
        time.sleep(1)
        found = [one.result() for one in loads]
    wrong = sum(_wrong(callers[0].seen, said))
    failed = sum(one.errors for one in found) + sum("@" not in version for caller in callers for _, version in caller.seen)
    points, backs = ([ack - asked for asked, ack, _ in said[part::2]] for part in (0, 1))
    last = [late for caller in callers for late in _late(caller.seen, said[1::2])]
    print(
        f"{len(addresses)} node{'s' if len(addresses) > 1 else ''}, {len(said)} changes under {CLIENTS} clients,"
        f" {sum(one.per_s for one in found):,.0f} requests/s: {failed} failed, {wrong} wrong after a change was acknowledged (goal: 0, 0)"
    )
    print(
        f"  point: {sorted(points)[len(points) // 2] * 1e3:.0f} ms (median), {max(points) * 1e3:.0f} ms at most;"
        f" rollback: {sorted(backs)[len(backs) // 2] * 1e3:.0f} ms, {max(backs) * 1e3:.0f} ms at most;"
        f" from rollback to the last old answer on any node: {max(last) * 1e3:.0f} ms at most (goal: 1,000)"
    )
    return (failed > 0) + (wrong > 0) + (max(last) > 1.0)


def _wrong(seen: Sequence[tuple[float, str]], said: Sequence[tuple[float, float, str]]) -> list[bool]:
    """Whether each answer, begun after an acknowledgement and before the next change, was another version's."""
    out = []
    for at, (_, acknowledged, version) in enumerate(said):
        until = said[at + 1][0] if at + 1 < len(said) else float("inf")
        first, last = (bisect.bisect_left(seen, (moment,)) for moment in (acknowledged, until))
        out += [one != version for _, one in seen[first:last] if "@" in one]
    return out


def _late(seen: Sequence[tuple[float, str]], backs: Sequence[tuple[float, float, str]]) -> list[float]:
    """Seconds from each going back to the last call that began with the other version answering, within the tenth of a second after."""
    out = []
    for asked, acknowledged, version in backs:
        old = [began - asked for began, one in seen if asked <= began < acknowledged + 0.1 and "@" in one and one != version]
        out.append(max(old, default=0.0))
    return out


def main() -> int:
    """Both arrangements."""
    missed = 0
    with tempfile.TemporaryDirectory(prefix="lamppost-bench-") as name:
        folder = Path(name)
        folder.chmod(0o755)
        os.environ["LAMPPOST_CONFIG"] = str(folder / "client.toml")
        model, frame, *_ = train_outage_risk()
        recipe: dict[str, Any] = {"target": "failed", "labels": {0: "holds", 1: "fails"}, "fields": FIELDS}
        lamp = lamppost.pack(model, frame, name="outage-risk", to=folder / "one.lamp", **recipe)
        other = lamppost.pack(model, frame, name="outage-risk", to=folder / "two.lamp", notes="the same again", **recipe)
        for nodes in (1, 3):
            with ExitStack() as stack:
                server = PrivateServer(folder / f"postgres-{nodes}", durable=True)
                stack.callback(server.stop)
                url = server.start()
                addresses = []
                for node in range(nodes):
                    port = free_port()
                    data = str(folder / f"data-{nodes}-{node}")
                    up = [sys.executable, "-m", "lamppost", "up", "--data", data, "--port", str(port), "--database", url]
                    addresses.append(f"http://127.0.0.1:{port}")
                    stack.enter_context(running(up, f"{addresses[-1]}/health/live", folder / "servers.log"))
                token = find_connection(addresses[0]).token
                with lamppost.Client(addresses[0], token) as client:
                    started = time.perf_counter()
                    first = client.push(lamp.path)["version"]
                    client.point(ENDPOINT, first)
                    client.predict(ENDPOINT, make_traffic(1, seed=5)[0])
                    took = time.perf_counter() - started
                    print(f"push to the first answer: {took:.2f} s (goal: 3)")
                    missed += took > 3.0
                    second = client.push(other.path)["version"]
                    client.point(ENDPOINT, second)
                missed += measure(addresses, str(token), (first, second))
    return 1 if missed else 0


if __name__ == "__main__":
    sys.exit(main())
