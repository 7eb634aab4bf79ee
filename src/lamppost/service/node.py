"""One running node: its parts, and the order in which they start and stop."""

from __future__ import annotations

import asyncio
import contextlib
import importlib
import logging
import os
from collections.abc import AsyncIterator, Callable
from datetime import UTC, datetime
from typing import TYPE_CHECKING
from uuid import uuid4

import psycopg
from psycopg.rows import TupleRow

import lamppost
from lamppost.service.auth import Auth
from lamppost.service.bulk.run_starting import BulkRuns
from lamppost.service.bulk.scheduling import Scheduling
from lamppost.service.database_watch import DatabaseWatch
from lamppost.service.deployment.call_admission import CallAdmission
from lamppost.service.deployment.changes import EndpointChanges
from lamppost.service.deployment.deletion import Deletions
from lamppost.service.deployment.deployment import Deployment
from lamppost.service.deployment.node_memory import NodeMemory
from lamppost.service.deployment.rollout_driver import RolloutDriver
from lamppost.service.explanation.explainer import Explainer
from lamppost.service.forwarding import Forwarding
from lamppost.service.fronts.front_set import FrontSet
from lamppost.service.http.connection_limits import ConnectionLimits, available_connections
from lamppost.service.http.fast_path import FastPath
from lamppost.service.http.known_hosts import KnownHosts
from lamppost.service.http.predict_handler import PredictHandler
from lamppost.service.http.request_gate import RequestGate
from lamppost.service.hub.outpost_hub import OutpostHub
from lamppost.service.hub.outpost_rollouts import OutpostRollouts
from lamppost.service.logs.log_files import LogFiles
from lamppost.service.measuring.sweep_runs import SweepRuns
from lamppost.service.monitoring.endpoint_summaries import EndpointSummaries
from lamppost.service.monitoring.maintenance import Maintenance
from lamppost.service.packages.package_cache import PackageCache
from lamppost.service.packages.package_export import PackageExport
from lamppost.service.packages.version_listing import VersionListing
from lamppost.service.records.record_writer import RecordSink, WriterProcess
from lamppost.service.records.recorder import Recorder
from lamppost.service.records.window_counting import WindowCounting
from lamppost.service.settings import Settings
from lamppost.store.database import AWAY, CHANGES, DELETED_VERSIONS, NEW_VERSIONS, make_pool
from lamppost.store.nodes import SEEN_WITHIN, database_mark, forget_node, note_node

if TYPE_CHECKING:
    from lamppost.service.grpc.server import GrpcServer

log = logging.getLogger("lamppost.node")

_IMPORT_AFTER_S = 1.0
_LOOK_AGAIN_S = 10.0
_NOTED_EVERY = SEEN_WITHIN / 4


class Node:
    """Pool, sign-in, routes, records and the prediction path of one process. sink : takes the records, in place of the record writer."""

    def __init__(
        self, settings: Settings, before_database_returns: Callable[[], object] | None = None, sink: RecordSink | None = None
    ) -> None:
        self.settings = settings
        self.pool = make_pool(settings.database)
        self.database_watch = DatabaseWatch(self.pool, settings.database, before_database_returns)
        self.forwarding = Forwarding(settings.public_urls, settings.trusted_proxies)
        self.auth = Auth(self.pool, self.forwarding.origins)
        package_cache = PackageCache(self.pool, settings.packages_folder)
        self.window_counting = WindowCounting(self.pool, package_cache)
        sink = sink or WriterProcess(settings.database, settings.packages_folder, self.window_counting)
        self.recorder = Recorder(sink, settings.data / "spool", settings.spool_bytes, settings.otlp)
        self.recorder.enabled = settings.records
        self.log_files = LogFiles(settings.data / "logs", settings.name, settings.log_bytes, settings.log_days)
        self.memory = NodeMemory(self.pool, settings.data, package_cache)
        self.deployment = Deployment(
            pool=self.pool,
            settings=settings,
            packages=package_cache,
            memory=self.memory,
            recorder=self.recorder,
            window_counting=self.window_counting,
        )
        self.changes = EndpointChanges(self.pool, self.deployment)
        self.deletions = Deletions(self.pool, self.deployment)
        self.explainer = Explainer(self.deployment)
        fork_servers = self.deployment.workers.supply.fork_warm_servers
        self.bulk_runs = BulkRuns(self.pool, settings, lambda name: self.deployment.table.find_route(name).setup, fork_servers)
        self.sweep_runs = SweepRuns(self.pool, settings, package_cache, self.deployment.table, fork_servers)
        self.rollout_driver = RolloutDriver(self.pool, self.deployment, self.changes)
        self.call_admission = CallAdmission(self.auth, self.deployment)
        self.predict_handler = PredictHandler(self.auth, self.deployment, self.recorder, settings.max_body_bytes)
        self.known_hosts = KnownHosts((settings.address, *settings.public_urls))
        self.connection_limits = ConnectionLimits(available_connections())
        self.request_gate = RequestGate(self.auth, self.known_hosts, settings.max_body_bytes, settings.max_package_bytes)
        self.fast_path = FastPath(self.auth, self.known_hosts, self.deployment.table.by_endpoint, self.recorder)
        self.fronts = FrontSet(settings, self.deployment.table, self.auth, self.recorder, self.connection_limits)
        self.scheduling = Scheduling(self.pool, self.bulk_runs)
        self.outpost_rollouts = OutpostRollouts(self.pool, self.deployment, self.changes)
        self.outpost_hub = OutpostHub(self.pool, self.auth, self.deployment.table, self.outpost_rollouts)
        self.maintenance = Maintenance(
            self.pool, self.deployment, self.window_counting, self.scheduling, self.outpost_hub, settings, uuid4().hex[:8]
        )
        self.drift_evaluation = self.maintenance.drift_evaluation
        self.endpoint_summaries = EndpointSummaries(self.pool, self.deployment)
        self.version_listing = VersionListing(self.pool)
        self.package_export = PackageExport(settings.workers)
        self.ending = False
        self._began_at = datetime.now(UTC)
        self._noted_at = datetime.fromtimestamp(0, UTC)
        self._rpc: GrpcServer | None = None
        self._listening: asyncio.Task[None] | None = None
        self._warming: asyncio.Task[None] | None = None
        self._importing: asyncio.Task[None] | None = None

    async def start(self) -> None:
        """Connect, read tokens, and begin to open endpoints; does not wait for the lanes.

        Where the database is away, this node serves what it knew when it last wrote its memory. Raise DatabaseAway if it knew nothing.
        """
        self.log_files.start()
        await self.database_watch.start()
        await self.pool.open()
        try:
            await self.auth.reload()
            await self.deployment.package_cache.delete_unknown()
            self.deployment.remote.mark = await database_mark(self.pool)
        except AWAY:
            if (state := await asyncio.to_thread(self.memory.read)) is None:
                raise
            log.warning("the database is away; this node serves the %d endpoints that it knew", len(state.histories))
            self.auth.put_in_force(state.principals)
            self.changes.put_histories(state.histories)
            await self.deployment.reconciler.serve_revisions([history[0] for history in state.histories.values() if history])
            self._warm_up()
        self.recorder.start()
        self.deployment.start()
        self.rollout_driver.start()
        self.outpost_rollouts.start()
        self.maintenance.start()
        self.bulk_runs.start()
        self.sweep_runs.start()
        self._listening = asyncio.create_task(self._listen(), name="changes")
        self._importing = asyncio.create_task(import_arrow(), name="import of Arrow")
        await self._start_grpc()

    async def _start_grpc(self) -> None:
        if self.settings.grpc is not None:
            self._rpc = _rpc(self, self.settings.grpc)
            await self._rpc.start()

    async def stop(self) -> None:
        """Finish what is in hand, write the records, disconnect."""
        if self._listening is not None:
            self._listening.cancel()
            await asyncio.gather(self._listening, return_exceptions=True)
        for task in (self._warming, self._importing):
            if task is not None:
                task.cancel()
                await asyncio.gather(task, return_exceptions=True)
        if self._rpc is not None:
            await self._rpc.stop()
        await self.memory.close()
        await self.explainer.close()
        await self.bulk_runs.close()
        await self.sweep_runs.close()
        await self.maintenance.close()
        await self.outpost_rollouts.close()
        await self.rollout_driver.close()
        await self.changes.close()
        await self.deployment.close()
        await self.recorder.stop()
        with contextlib.suppress(psycopg.Error, *AWAY):
            await self.auth.note_used()
            await forget_node(self.pool, self.settings.name)
        await self.database_watch.close()
        await self.pool.close()
        await asyncio.to_thread(self.log_files.close)

    async def _listen(self) -> None:
        """Follow changes: at once when the database notifies, and every ten seconds; reconnects when the connection is lost."""
        while True:
            try:
                connection = await psycopg.AsyncConnection.connect(self.settings.database, autocommit=True, connect_timeout=5)
                async with connection:
                    await connection.execute(f"LISTEN {CHANGES}".encode())
                    while True:
                        await self._catch_up()
                        self._warm_up()
                        await self._await_change(connection)
            except (psycopg.Error, OSError, *AWAY) as error:
                if self.pool.away is None:
                    log.warning("the database cannot be followed, trying again: %s", str(error).strip())
                await asyncio.sleep(1.0)
            except Exception:
                log.exception("following changes failed on a fault of our own, trying again")
                await asyncio.sleep(1.0)

    async def _await_change(self, connection: psycopg.AsyncConnection[TupleRow]) -> None:
        """Return when something has changed that this node serves by, and after ten seconds in any case."""
        loop = asyncio.get_running_loop()
        until, changed = loop.time() + _LOOK_AGAIN_S, False
        while not changed and (left_s := until - loop.time()) > 0:
            async for notice in connection.notifies(timeout=left_s, stop_after=1):
                if notice.payload == DELETED_VERSIONS:
                    await self.deployment.package_cache.delete_unknown()
                changed = changed or notice.payload != NEW_VERSIONS  # a version changes nothing here until an endpoint serves it

    async def refresh(self) -> None:
        """Read tokens and endpoints anew now, and not with the next notification."""
        try:
            await self._catch_up()
        except AWAY as error:
            log.warning("tokens and endpoints cannot be read anew: %s", str(error).strip())

    async def _catch_up(self) -> None:
        await self._note_presence()
        await self.auth.note_used()
        await self.auth.reload()
        await self.deployment.reconciler.reconcile()
        await self.changes.refresh_history()
        await self.memory.remember(self.changes.histories, self.auth.principals)
        self.outpost_hub.note_change()

    async def _note_presence(self) -> None:
        """Tell other nodes that this one is there, now and then."""
        now = datetime.now(UTC)
        if now - self._noted_at < _NOTED_EVERY:
            return
        self._noted_at = now
        await note_node(self.pool, self.settings.name, self.settings.address, lamppost.__version__, self._began_at)
        await asyncio.to_thread(self.log_files.delete_old, now.timestamp())

    def _warm_up(self) -> None:
        if not self.deployment.waking.warm and self._warming is None:
            self._warming = asyncio.create_task(self.deployment.waking.warm_up(), name="warm up")


def _rpc(node: Node, address: str) -> GrpcServer:
    """The gRPC server, made inside the running loop; its library is loaded only where it is wanted."""
    os.environ.setdefault("GRPC_ENABLE_FORK_SUPPORT", "0")  # workers are other programs and never use it
    from lamppost.service.grpc.server import GrpcServer, PredictionServicer

    servicer = PredictionServicer(node.auth, node.deployment, node.recorder)
    return GrpcServer(address, servicer, node.deployment, node.settings.max_body_bytes, node.settings.tls)


@contextlib.asynccontextmanager
async def running(node: Node) -> AsyncIterator[Node]:
    """A node from start to stop."""
    await node.start()
    try:
        yield node
    finally:
        await node.stop()


async def import_arrow() -> None:
    """Import Arrow once the node answers: the first caller who sends it would hold up all others for half a second."""
    await asyncio.sleep(_IMPORT_AFTER_S)
    await asyncio.to_thread(importlib.import_module, "pyarrow")
