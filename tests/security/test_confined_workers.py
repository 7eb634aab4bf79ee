"""A package with code reaches nothing but its libraries, its own files and its scratch, and no other process."""

import asyncio
import logging
import os
import socket
import tempfile
import unittest
from dataclasses import replace
from pathlib import Path
from uuid import uuid4

from lamppost.core.errors import ModelFault
from lamppost.package.read import read_lamp
from lamppost.runtime.confinement.call_filter import filter_program
from lamppost.runtime.confinement.confine import readable_paths
from lamppost.runtime.confinement.probe import ConfinementReport, measure_confinement
from lamppost.runtime.confinement.worker_home import WorkerHome, WorkerRules
from lamppost.runtime.lane import Lane
from lamppost.runtime.lane_options import LaneSettings
from lamppost.runtime.seat_opening import LaneSpec
from lamppost.runtime.worker_pool import WorkerPool
from lamppost.runtime.worker_supply import WorkerSupply
from tests.support.intruder import FIRST, Intruder
from tests.support.lamps import moody_lamp, run_folder
from tests.support.lanes import FORK_SERVERS

MUST_SUCCEED = ("write in its scratch", "start a thread", "make two ends of an event loop")
BUDGET_BYTES = 10**9
PICKLE = LaneSettings(formats=frozenset({"pickle"}), run_s=20.0)


class Confined(unittest.IsolatedAsyncioTestCase):
    """The lane of an intruder, in a forked worker, as a service opens it."""

    async def asyncSetUp(self) -> None:
        logging.disable(logging.CRITICAL)
        self.addCleanup(logging.disable, logging.NOTSET)
        self.folder = Path(tempfile.mkdtemp(prefix="secrets-", dir=run_folder()))
        self.folder.chmod(0o755)
        (self.folder / "secret").write_text("secret")
        (self.folder / "secret").chmod(0o644)
        listener = socket.create_server(("127.0.0.1", 0))
        self.addCleanup(listener.close)
        self.port = listener.getsockname()[1]
        supply = WorkerSupply(FORK_SERVERS, WorkerRules(self.folder / "workers", self.folder))
        self.pool = WorkerPool(supply, budget_bytes=BUDGET_BYTES)
        self.addAsyncCleanup(self.pool.close)

    async def opened(self, settings: LaneSettings = PICKLE) -> Lane:
        path = moody_lamp(f"intruder-{uuid4().hex}", Intruder(str(self.folder), self.port, 2 * BUDGET_BYTES))
        lamp = read_lamp(path)
        lane = Lane(LaneSpec("intruder", lamp.unpack(self.folder / "packages"), lamp.manifest, lamp.proof), settings, self.pool)
        self.addAsyncCleanup(lane.close, 0.0)
        await lane.open()
        return lane

    async def test_what_a_package_tries_fails(self) -> None:
        lane = await self.opened()
        names = list(Intruder(str(self.folder)).attempts())
        answer = await lane.predict([{"x": float(FIRST + number)} for number in range(len(names))], 10)
        succeeded = [name for name, row in zip(names, answer.rows, strict=True) if row["value"] == 1.0]
        self.assertEqual(succeeded, list(MUST_SUCCEED))
        self.assertEqual((self.folder / "secret").stat().st_mode & 0o777, 0o644)

    async def test_a_copy_and_a_replacement_are_confined_too(self) -> None:
        lane = await self.opened(replace(PICKLE, tries=1))
        number = list(Intruder(str(self.folder)).attempts()).index("read a file of the service")
        os.kill(lane.worker_pid or 0, 9)
        with self.assertRaises(ModelFault):
            await lane.predict([{"x": Intruder.CRASH}], 10)
            await lane.predict([{"x": Intruder.CRASH}], 10)
            raise ModelFault("the worker was replaced before the first request")
        answer = await lane.predict([{"x": float(FIRST + number)}], 10)
        self.assertEqual(answer.rows, [{"value": 0.0}])

    async def test_nothing_of_a_worker_is_left(self) -> None:
        lane = await self.opened()
        pid = lane.worker_pid or 0
        await lane.close(0.0)
        await self.pool.close()
        with self.assertRaises(ProcessLookupError):
            os.kill(pid, 0)
        self.assertEqual(list((self.folder / "workers").iterdir()), [])


class Measured(unittest.TestCase):
    """What a service says of its workers is what was tried."""

    def test_everything_is_in_force_here(self) -> None:
        report = asyncio.run(measure_confinement(WorkerRules()))
        own_user = os.geteuid() == 0
        self.assertEqual(report, ConfinementReport(True, True, True, True, True, own_user))

    def test_without_confines_nothing_is_claimed(self) -> None:
        report = asyncio.run(measure_confinement(WorkerRules(confined=False)))
        self.assertEqual(report, ConfinementReport())

    def test_a_data_folder_beneath_the_libraries_is_left_out(self) -> None:
        here = Path(__file__).resolve()
        paths = set(map(Path, readable_paths(str(here.parent))))
        self.assertNotIn(here, paths)
        self.assertFalse([path for path in paths if path == here.parent or path in here.parents])

    def test_a_package_on_another_disk_is_copied(self) -> None:
        with tempfile.TemporaryDirectory(dir="/dev/shm") as elsewhere:
            Path(elsewhere, "inner").mkdir()
            Path(elsewhere, "inner", "member").write_text("x")
            home = WorkerHome(WorkerRules())
            self.addCleanup(home.delete)
            self.assertEqual((home.put_package(Path(elsewhere), "1") / "inner" / "member").read_text(), "x")
            home.remove_package("1")
            self.assertEqual(list(home.packages.iterdir()), [])

    def test_the_filter_ends_with_allowing(self) -> None:
        program = filter_program(7, {"ptrace": 101}, 0xC000003E)
        self.assertEqual(len(program) % 8, 0)
        self.assertEqual(program[-8:], bytes.fromhex("0600 00 00 0000ff7f"))
