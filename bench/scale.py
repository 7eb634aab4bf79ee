"""What grows with endpoints, nodes and days, measured against the real PostgreSQL and the real code: the figures of ``docs/scale.md``.

``python -m bench.scale``; ``--endpoints``, ``--nodes`` and ``--days`` set how many.
"""

from __future__ import annotations

import argparse
import asyncio
import json
import subprocess
import sys
import tempfile
import time
from collections.abc import Awaitable, Callable
from datetime import UTC, datetime, timedelta
from pathlib import Path
from statistics import median, quantiles
from typing import Any

import psycopg

from bench.cpu import all_processes
from lamppost.core.endpoint.setup import EndpointSetup
from lamppost.service.node import Node, running
from lamppost.service.prediction.request_ids import new_request_id
from lamppost.service.settings import Settings
from lamppost.store import call_search, endpoints, tokens
from lamppost.store.call_records import CallRecord, pack_calls
from lamppost.store.call_search import CallFilter
from lamppost.store.database import CHANGES, Pool, make_pool, migrate
from lamppost.store.deletion import endpoint_deletion
from lamppost.store.endpoints import EndpointChange
from lamppost.store.postgres import PrivateServer
from lamppost.store.records import CountedFrames, make_partition, store_frames
from lamppost.store.spool import SpoolFrame
from lamppost.store.trail import ChangedBy

_PROCESSES = 4
_CALLS_A_DAY = 3_000
_STORMS = 5


def main() -> int:
    """Print the figures."""
    parser = argparse.ArgumentParser(description=__doc__)
    parser.add_argument("--endpoints", type=int, default=100_000)
    parser.add_argument("--nodes", type=int, default=1_000)
    parser.add_argument("--days", type=int, default=365)
    parser.add_argument("--follow", help=argparse.SUPPRESS)
    given = parser.parse_args()
    if given.follow:
        asyncio.run(_follow(given.follow, given.nodes))
        return 0
    with tempfile.TemporaryDirectory(prefix="lamppost-bench-") as name:
        folder = Path(name)
        folder.chmod(0o755)
        server = PrivateServer(folder / "data", durable=False, connections=2 * given.nodes + 100)
        try:
            url = server.start()
            migrate(url, own_server=True)
            fill_endpoints(url, given.endpoints)
            asyncio.run(measure_endpoints(url, folder, given.endpoints))
            measure_storm(url, given.nodes, folder / "data")
            asyncio.run(measure_days(url, given.days))
        finally:
            server.stop()
    return 0


async def _took(work: Callable[[], Awaitable[Any]]) -> float:
    begun = time.perf_counter()
    await work()
    return time.perf_counter() - begun


# -- many endpoints -----------------------------------------------------------------------------------------------------


def fill_endpoints(url: str, many: int) -> None:
    """So many endpoints, each serving a version of its own, straight into the tables."""
    numbered = "generate_series(1, %s::int) i"
    with psycopg.connect(url, autocommit=True) as connection:
        connection.execute("SET search_path = lamppost")
        for statement in (
            f"INSERT INTO models (name) SELECT 'small-' || i FROM {numbered}",
            f"INSERT INTO packages (digest, size_bytes, manifest) SELECT md5(i::text) || md5(i::text), 1, '{{}}' FROM {numbered}",
            "INSERT INTO versions (model, number, digest, pushed_by)"
            f" SELECT 'small-' || i, 1, md5(i::text) || md5(i::text), 'x' FROM {numbered}",
            f"INSERT INTO endpoints (name) SELECT 'small-' || i FROM {numbered}",
            "INSERT INTO endpoint_revisions (endpoint, revision, setup, changed_by)"
            f" SELECT 'small-' || i, 1, json_build_object('version', 'small-' || i || '@1'), 'x' FROM {numbered}",
        ):
            connection.execute(statement.encode(), (many,))
        connection.execute("UPDATE endpoints SET made_at = made_at")  # touched now; then long ago, as in a service that has run for a while
        connection.execute("ALTER TABLE endpoints DISABLE TRIGGER note_touch")
        connection.execute("UPDATE endpoints SET touched_at = now() - interval '1 day'")
        connection.execute("ALTER TABLE endpoints ENABLE TRIGGER note_touch")
        connection.execute("ANALYZE")


async def measure_endpoints(url: str, folder: Path, many: int) -> None:
    """What a node takes to read all endpoints, to see one change, and to run the leader's jobs."""
    pool = make_pool(url)
    await pool.open()
    print(f"\n{many:,} endpoints")
    whole = [await _took(lambda: endpoints.list_revisions(pool)) for _ in range(3)]
    await endpoints.change_endpoint(pool, EndpointChange("small-7", EndpointSetup(version="small-7@1")), ChangedBy("bench"))
    since = datetime.now(UTC) - timedelta(minutes=2)
    touched = [await _took(lambda: endpoints.list_touched(pool, since)) for _ in range(20)]
    print(f"  reading all of them: {median(whole):.2f} s; those that were touched lately: {median(touched) * 1e3:.1f} ms")
    await pool.close()
    node = Node(Settings(folder / "node", url, name="bench", records=True))
    begun = time.perf_counter()
    async with running(node):
        while len(node.deployment.table.by_endpoint) < many:
            await asyncio.sleep(0.1)
        print(f"  a node knows them {time.perf_counter() - begun:.1f} s after its start, and holds {_memory_mb():.0f} MB")
        refresh = [await _took(node.refresh) for _ in range(5)]
        print(f"  a look at what has changed, all that follows included: {median(refresh) * 1e3:.0f} ms")
        for job in node.maintenance.jobs:
            took = [await _took(lambda job=job: job.run(datetime.now(UTC))) for _ in range(3)]  # type: ignore[misc]
            print(f"  leader's job, {job.name}: {median(took) * 1e3:,.0f} ms")


def _memory_mb() -> float:
    return int(Path("/proc/self/statm").read_text().split()[1]) * 4096 / 1e6


# -- many nodes ---------------------------------------------------------------------------------------------------------


def measure_storm(url: str, nodes: int, data: Path) -> None:
    """So many connections that listen, each asking what a node asks when it hears of a change: how long until all have it."""
    each = nodes // _PROCESSES
    command = [sys.executable, "-m", "bench.scale", "--follow", url, "--nodes", str(each)]
    followers = [subprocess.Popen(command, stdout=subprocess.PIPE, stdin=subprocess.PIPE, text=True) for _ in range(_PROCESSES)]
    try:
        for one in followers:
            assert one.stdout is not None
            one.stdout.readline()  # all listen
        postmaster = int((data / "postgres" / "postmaster.pid").read_text().split()[0])
        print(f"\n{each * _PROCESSES:,} nodes that follow one database; PostgreSQL holds {_server_mb(postmaster):,.0f} MB of its own")
        for storm in range(_STORMS):
            begun = time.time()
            used = _server_s(postmaster)
            with psycopg.connect(url, autocommit=True) as connection:
                connection.execute("SET search_path = lamppost")
                connection.execute("UPDATE endpoints SET made_at = made_at WHERE name = %s", (f"small-{storm + 1}",))
                connection.execute("SELECT pg_notify(%s, 'routes')", (CHANGES,))
            seen: list[float] = []
            for one in followers:
                assert one.stdout is not None
                seen += [at - begun for at in json.loads(one.stdout.readline())]
            parts = quantiles(seen, n=100)
            print(
                f"  known to half of them after {parts[49] * 1e3:,.0f} ms, to 99 % after {parts[98] * 1e3:,.0f} ms, to all after"
                f" {max(seen) * 1e3:,.0f} ms; the database took {_server_s(postmaster) - used:.2f} s of processor time"
            )
    finally:
        for one in followers:
            one.kill()
            one.wait()


def _of_server(postmaster: int) -> list[int]:
    return [postmaster, *(pid for pid, one in all_processes().items() if one.parent == postmaster)]


def _server_s(postmaster: int) -> float:
    known = all_processes()
    return sum(known[pid].used_s for pid in _of_server(postmaster) if pid in known)


def _server_mb(postmaster: int) -> float:
    """Private memory of all processes of the server."""
    total = 0
    for pid in _of_server(postmaster):
        try:
            lines = Path(f"/proc/{pid}/smaps_rollup").read_text().splitlines()
        except OSError:
            continue
        total += sum(int(line.split()[1]) for line in lines if line.startswith(("Private_Clean", "Private_Dirty")))
    return total / 1e3


async def _follow(url: str, nodes: int) -> None:
    """A process of followers: after each change, the times at which each had read what it changed. Each has a connection to ask by."""
    pool = make_pool(url)
    pool.timeout = 120.0
    await pool.open()
    await pool.resize(nodes, nodes)
    await pool.wait(120.0)
    seen: asyncio.Queue[float] = asyncio.Queue()
    ready = asyncio.Semaphore(0)

    async def follow() -> None:
        async with await psycopg.AsyncConnection.connect(url, autocommit=True, connect_timeout=60) as connection:
            await connection.execute("SET search_path = lamppost")
            await connection.execute(f"LISTEN {CHANGES}".encode())
            ready.release()
            async for _ in connection.notifies():
                since = datetime.now(UTC) - timedelta(minutes=2)
                await tokens.principals_by_hash(pool)
                await endpoints.list_touched(pool, since)
                await endpoint_deletion.list_deleted_endpoints(pool)
                seen.put_nowait(time.time())

    tasks = [asyncio.create_task(follow()) for _ in range(nodes)]
    for _ in range(nodes):
        await ready.acquire()
    print("ready", flush=True)
    while True:
        print(json.dumps([await seen.get() for _ in tasks]), flush=True)


# -- many days ----------------------------------------------------------------------------------------------------------


async def measure_days(url: str, days: int) -> None:
    """Calls of so many days: how long it takes to find them, and to delete a day."""
    pool = make_pool(url)
    await pool.open()
    today = datetime.now(UTC).replace(hour=12, minute=0, second=0, microsecond=0)
    for back in range(days):
        await _fill_day(pool, today - timedelta(days=back), back + 1)
    async with pool.connection() as connection:
        await connection.execute("ANALYZE call_blocks")
    print(f"\n{days:,} days with {_CALLS_A_DAY:,} calls each")
    newest = await call_search.latest_calls(pool, CallFilter(endpoint="small-1"), 50)
    for what, work in (
        ("the latest 50 of an endpoint", lambda: call_search.latest_calls(pool, CallFilter(endpoint="small-1"), 50)),
        ("the latest 50 of all", lambda: call_search.latest_calls(pool, CallFilter(), 50)),
        ("a call by its id", lambda: call_search.find_call(pool, newest[-1]["request_id"])),
        ("failed calls, of which there are none", lambda: call_search.latest_calls(pool, CallFilter(status=500), 50)),
    ):
        took = [await _took(work) for _ in range(5)]
        print(f"  {what}: {median(took) * 1e3:.1f} ms")

    async def drop_oldest() -> None:
        async with pool.connection() as connection:
            await connection.execute("SELECT drop_calls_partitions(%s)", ((today - timedelta(days=days - 30)).date(),))

    print(f"  deleting the oldest month: {await _took(drop_oldest) * 1e3:.0f} ms")
    await pool.close()


async def _fill_day(pool: Pool, at: datetime, number: int) -> None:
    """The calls of one day, stored as the record writer stores them."""
    calls = [
        CallRecord(
            at=at.timestamp() + second,
            request_id=new_request_id(int((at.timestamp() + second) * 1e3)),
            endpoint=f"small-{second % 3}",
            version=f"small-{second % 3}@1",
            token="bench",
            status=200,
            rows=1,
            batch_rows=4,
            total_us=2_000 + second,
            phases_us={"queue": 500, "worker": 1_000},
            input=b'{"x": %d}' % second,
            answer=b'{"answer": {"value": %d}}' % second,
        )
        for second in range(_CALLS_A_DAY)
    ]
    await make_partition(pool, at.date())
    frame = SpoolFrame("bench", number, "calls", pack_calls(calls))
    await store_frames(pool, CountedFrames([frame], [], {}, None))


if __name__ == "__main__":
    raise SystemExit(main())
