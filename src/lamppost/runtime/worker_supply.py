"""Starts worker processes for lanes: forked from a process that has their slow imports done, or as an interpreter of their own.

The libraries of models cost seconds to import and hundreds of megabytes to hold, so the process that workers for them are forked from
is started only once a package needs one. Workers with other library versions are interpreters of their own, because what is imported
there came in with a package and must be confined before.
"""

from __future__ import annotations

import asyncio
import contextlib
import threading
from collections.abc import Iterable, Sequence
from pathlib import Path

from lamppost.core.artifact.manifest import Manifest
from lamppost.runtime.confinement.worker_home import USUAL_RULES, WorkerRules
from lamppost.runtime.fork_server import ForkedServer, ForkServer, ForkServerGone, Needs
from lamppost.runtime.lane_options import LaneSettings
from lamppost.runtime.wire import pack_frame
from lamppost.runtime.worker_process import WorkerProcess, worker_environment

_WARM_S = 120.0


def needed_worker(manifest: Manifest, settings: LaneSettings) -> Needs:
    """The kind of worker that a package is opened in."""
    return "graphs" if not settings.original and manifest.serves_graphs else "sklearn"


class ForkServers:
    """A server for each kind of worker, started when it is first asked for, and again when it has ended. `close` ends them.

    forked : servers that another process of the service has forked for this one. groups : control groups that others join.
    """

    def __init__(self, forked: Iterable[ForkedServer] = (), groups: Sequence[str] = ()) -> None:
        self._groups = groups
        self._servers: dict[Needs, ForkServer] = {one.needs: ForkServer(one.needs, {}, one) for one in forked}
        self._lock = threading.Lock()

    def server(self, needs: Needs) -> ForkServer:
        """The server of a kind; a new one may still be importing."""
        with self._lock:
            server = self._servers.get(needs)
            if server is None or not server.running:
                if server is not None:
                    server.close()
                server = self._servers[needs] = ForkServer(needs, worker_environment(), groups=self._groups)
            return server

    def fork_warm_servers(self, nice: int) -> list[ForkedServer]:
        """Fork those servers that have their imports done, for another process; see `ForkServer.fork_server`."""
        with self._lock:
            servers = [server for server in self._servers.values() if server.running and server.warm]
        forked = []
        for server in servers:
            with contextlib.suppress(ForkServerGone):
                forked.append(server.fork_server(nice))
        return forked

    def close(self) -> None:
        """End the servers, and every worker that was forked from them."""
        with self._lock:
            for server in self._servers.values():
                server.close()
            self._servers.clear()


class WorkerSupply:
    """Starts workers. servers : what they are forked from, None to start an interpreter for each. rules : what all are confined to."""

    def __init__(self, servers: ForkServers | None = None, rules: WorkerRules = USUAL_RULES) -> None:
        self.servers = servers
        self._rules = rules

    def expect(self, needs: Needs) -> None:
        """Begin to import what workers of this kind need: a package that needs one was pushed, or is being opened."""
        if self.servers is not None:
            self.servers.server(needs)

    def fork_warm_servers(self, nice: int) -> list[ForkedServer]:
        """For another process of the service, what its workers are forked from; see `ForkServers.fork_warm_servers`."""
        return [] if self.servers is None else self.servers.fork_warm_servers(nice)

    async def take_worker(self, name: str, needs: Needs, overlay: Path | None = None) -> WorkerProcess:
        """A worker for the lane ``name``, with other libraries where an environment is given; the caller closes it.

        Raise WorkerGone or OSError where none can be started.
        """
        if self.servers is None or overlay is not None:
            return await self._start(name, needs, overlay)
        try:
            return await WorkerProcess.fork(name, self._rules, self.servers.server(needs))
        except ForkServerGone:
            # once more: the server may have been ended for want of memory
            return await WorkerProcess.fork(name, self._rules, self.servers.server(needs))

    async def _start(self, name: str, needs: Needs, overlay: Path | None) -> WorkerProcess:
        worker = await WorkerProcess.start(name, self._rules, overlay)
        try:
            await worker.call(pack_frame({"op": "warm", "needs": needs}), _WARM_S)
        except BaseException:
            await worker.close()
            raise
        return worker

    async def close(self) -> None:
        """End what workers are forked from."""
        if self.servers is not None:
            await asyncio.to_thread(self.servers.close)
