"""Workers lie in control groups where these are delegated to the service, and what is in the groups ends with it."""

import asyncio
import contextlib
import os
import subprocess
import sys
import tempfile
import unittest
from pathlib import Path

from lamppost.runtime.confinement.control_groups import worker_groups
from lamppost.runtime.confinement.probe import measure_confinement
from lamppost.runtime.confinement.worker_home import WorkerRules
from lamppost.runtime.fork_server import ForkServer
from lamppost.runtime.worker_process import WorkerProcess, worker_environment
from tests.support.service import until

BOUND_BYTES = 2**30
TAKES_MEMORY = """
import sys
from lamppost.runtime.confinement.control_groups import join_groups
assert join_groups(sys.argv[2:])
print(len(bytearray(b"x") * int(sys.argv[1])))
"""


class WithGroups(unittest.TestCase):
    """The groups of this machine."""

    def setUp(self) -> None:
        self.held = contextlib.ExitStack()
        self.addCleanup(self.held.close)
        self.groups = self.held.enter_context(worker_groups(BOUND_BYTES))
        if not self.groups:
            self.skipTest("no control groups are delegated to this process")

    def members(self) -> set[int]:
        return {int(pid) for group in self.groups for pid in Path(group, "cgroup.procs").read_text().split()}


class Bounds(WithGroups):
    """What the kernel does with what is in the groups."""

    def took(self, size: int) -> int:
        return subprocess.run(
            [sys.executable, "-c", TAKES_MEMORY, str(size), *self.groups], stdout=subprocess.DEVNULL, check=False
        ).returncode

    def test_the_kernel_bounds_the_memory_of_all_workers(self) -> None:
        self.assertEqual(self.took(BOUND_BYTES // 4), 0)
        if any(name.match("memory.*") for group in self.groups for name in Path(group).iterdir()):
            self.assertEqual(self.took(2 * BOUND_BYTES), -9)

    def test_what_left_its_session_ends_with_the_groups(self) -> None:
        process = subprocess.Popen([sys.executable, "-c", TAKES_MEMORY + "import time; time.sleep(600)", "1", *self.groups],
                                   stdout=subprocess.DEVNULL, start_new_session=True)  # fmt: skip
        self.addCleanup(process.wait)
        self.addCleanup(process.kill)
        until(lambda: process.pid in self.members(), what="the process in the group")
        self.held.close()
        self.assertEqual(process.wait(30), -9)

    def test_groups_of_a_killed_service_are_removed(self) -> None:
        program = (
            "import sys, time\nfrom lamppost.runtime.confinement.control_groups import worker_groups\n"
            "with worker_groups(2**30) as groups:\n    print(*groups, flush=True)\n    time.sleep(600)"
        )
        with subprocess.Popen([sys.executable, "-c", program], stdout=subprocess.PIPE, text=True) as service:
            assert service.stdout is not None
            left = [Path(group) for group in service.stdout.readline().split()]
            service.kill()
        self.assertTrue(left)
        self.assertTrue(all(group.exists() for group in left))
        with worker_groups(BOUND_BYTES):
            self.assertFalse([group for group in left if group.exists()])


class Workers(WithGroups, unittest.IsolatedAsyncioTestCase):
    """Who is in the groups."""

    async def test_workers_of_both_kinds_are_in_the_groups(self) -> None:
        rules = WorkerRules(groups=self.groups)
        server = ForkServer("graphs", worker_environment(), groups=self.groups)
        self.addCleanup(server.close)
        forked = await WorkerProcess.fork("forked", rules, server)
        self.addAsyncCleanup(forked.close)
        self.assertLessEqual({server.pid, forked.pid}, self.members())
        started = await WorkerProcess.start("started", rules)
        self.addAsyncCleanup(started.close)
        await asyncio.to_thread(until, lambda: started.pid in self.members(), 30, "the started worker in the group")

    async def test_it_is_measured(self) -> None:
        report = await measure_confinement(WorkerRules(groups=self.groups))
        self.assertTrue(report.groups and report.files)
        self.assertIn("control groups", report.summary)


class Version2(unittest.TestCase):
    """A tree of files as systemd makes it for a service with ``Delegate=memory pids``; other kernels than this one have it."""

    def setUp(self) -> None:
        folder = tempfile.TemporaryDirectory()
        self.addCleanup(folder.cleanup)
        self.mounted = Path(folder.name)
        self.base = self.mounted / "system.slice" / "lamppost.service"
        self.service = self.base / "lamppost-service"
        self.workers = self.base / f"lamppost-workers-{os.getpid()}"
        for group in (self.base, self.service, self.workers):
            group.mkdir(parents=True)
            for name in ("cgroup.procs", "cgroup.subtree_control", "memory.max", "pids.max"):
                (group / name).write_text("")
        (self.base / "cgroup.controllers").write_text("cpu memory pids\n")
        (self.base / "cgroup.procs").write_text(f"{os.getpid()}\n")
        with contextlib.suppress(OSError):
            os.setxattr(self.base, "user.delegate", b"1")

    def test_the_service_moves_below_and_workers_are_bounded_beside_it(self) -> None:
        if os.geteuid() == 0 and "user.delegate" not in os.listxattr(self.base):
            self.skipTest("this file system keeps no marks")
        with worker_groups(BOUND_BYTES, self.mounted, "0::/system.slice/lamppost.service\n") as groups:
            self.assertEqual(groups, (str(self.workers),))
            self.assertEqual((self.service / "cgroup.procs").read_text(), str(os.getpid()))
            self.assertEqual((self.base / "cgroup.subtree_control").read_text(), "+memory +pids")
            self.assertEqual((self.workers / "memory.max").read_text(), str(BOUND_BYTES))
            self.assertGreater(int((self.workers / "pids.max").read_text()), 1_000)

    def test_a_process_of_the_service_makes_its_groups_beside_it(self) -> None:
        with worker_groups(BOUND_BYTES, self.mounted, "0::/system.slice/lamppost.service/lamppost-service\n") as groups:
            self.assertEqual(groups, (str(self.workers),))
        self.assertEqual((self.base / "cgroup.subtree_control").read_text(), "")

    def test_nothing_is_touched_where_nothing_is_delegated(self) -> None:
        for own in ("0::/\n", "0::/user.slice/session-1.scope\n", "", "nonsense\n"):
            with self.subTest(own), worker_groups(BOUND_BYTES, self.mounted, own) as groups:
                self.assertEqual(groups, ())
        self.assertEqual((self.service / "cgroup.procs").read_text(), "")

    def test_a_kernel_that_refuses_leaves_all_as_it_was(self) -> None:
        (self.base / "cgroup.subtree_control").unlink()
        (self.base / "cgroup.subtree_control").mkdir()  # writing fails
        with worker_groups(BOUND_BYTES, self.mounted, "0::/system.slice/lamppost.service\n") as groups:
            self.assertEqual(groups, ())
        self.assertEqual((self.base / "cgroup.procs").read_text(), str(os.getpid()))
