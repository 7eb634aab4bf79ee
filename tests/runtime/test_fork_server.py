"""Servers that workers are forked from, and those that they fork for other processes."""

import os
import unittest
from contextlib import suppress
from pathlib import Path

from lamppost.runtime.confinement.worker_home import USUAL_RULES
from lamppost.runtime.fork_server import ForkServer, ForkServerGone
from lamppost.runtime.wire import pack_frame
from lamppost.runtime.worker_process import WorkerProcess, worker_environment
from lamppost.runtime.worker_supply import ForkServers
from tests.support.service import eventually


def niceness(pid: int) -> int:
    return os.getpriority(os.PRIO_PROCESS, pid)


def is_there(pid: int) -> bool:
    """Whether a process runs; one that waits for its parent has ended."""
    with suppress(OSError):
        return Path(f"/proc/{pid}/stat").read_bytes().rpartition(b") ")[2][:1] != b"Z"
    return False


class ForkedServers(unittest.IsolatedAsyncioTestCase):
    async def asyncSetUp(self) -> None:
        self.server = ForkServer("graphs", worker_environment())
        self.addCleanup(self.server.close)

    async def test_a_server_forks_one_for_another_process_and_that_one_forks_workers(self) -> None:
        first = await WorkerProcess.fork("first", USUAL_RULES, self.server)
        self.addAsyncCleanup(first.close)
        forked = ForkServer("graphs", {}, self.server.fork_server(3))
        self.addCleanup(forked.close)
        self.assertEqual((forked.warm, forked.running), (True, True))
        worker = await WorkerProcess.fork("second", USUAL_RULES, forked)
        self.assertEqual((niceness(worker.pid), niceness(forked.pid)), (niceness(self.server.pid) + 3,) * 2)
        await worker.call(pack_frame({"op": "warm", "needs": "graphs"}), 20.0)
        self.server.close()
        await eventually(lambda: first.end_reason is not None, 20.0)
        await worker.call(pack_frame({"op": "warm", "needs": "graphs"}), 20.0)
        await worker.close()
        self.assertFalse(is_there(worker.pid))
        forked.close()
        await eventually(lambda: not is_there(forked.pid), 20.0)
        self.assertFalse(forked.running)

    async def test_workers_of_a_forked_server_end_with_it_and_another_server_is_started(self) -> None:
        forked = self.server.fork_server(0)
        servers = ForkServers([forked])
        self.addCleanup(servers.close)
        self.assertEqual(servers.server("graphs").pid, forked.pid)
        worker = await WorkerProcess.fork("worker", USUAL_RULES, servers.server("graphs"))
        os.kill(forked.pid, 9)
        await eventually(lambda: worker.end_reason is not None, 20.0)
        with self.assertRaises(ForkServerGone):
            servers.server("graphs").fork_server(0)
        self.assertNotEqual(servers.server("graphs").pid, forked.pid)
        await worker.close()

    async def test_only_servers_that_are_warm_are_forked(self) -> None:
        servers = ForkServers()
        self.addCleanup(servers.close)
        server = servers.server("graphs")
        self.assertEqual(servers.fork_warm_servers(0), [], "it imports still")
        await eventually(lambda: server.warm, 30.0)
        (forked,) = servers.fork_warm_servers(0)
        self.assertEqual(forked.needs, "graphs")
        forked.socket.close()
        await eventually(lambda: not is_there(forked.pid), 20.0)
