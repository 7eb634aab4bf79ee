"""The way of records from memory to the spool and on; the database is stood in for."""

import asyncio
import tempfile
import unittest
from pathlib import Path
from unittest import mock

import psycopg

from lamppost.service.records import record_buffer
from lamppost.service.records.recorder import Recorder
from lamppost.store.call_records import CallRecord
from lamppost.store.spool import Spool, SpoolPortion
from tests.support.service import eventually


def call(number: int, payload: bytes = b'{"x": 1}', status: int = 200) -> CallRecord:
    return CallRecord(1.79e9 + number, f"{number:032x}", "lamps", "lamps@1", "desk", status, 2, 1, 1_500, {"queue": 7}, payload, b"{}")


class Brought:
    """What reaches the database, which may be away."""

    def __init__(self) -> None:
        self.calls: list[CallRecord] = []
        self.away = False
        self.faults: list[Exception] = []

    async def __call__(self, portion: SpoolPortion) -> int:
        if self.faults:
            raise self.faults.pop()
        if self.away:
            raise psycopg.OperationalError("away")
        self.calls += [one for frame in portion.read_frames() for one in frame.calls]
        return 0

    async def close(self) -> None:
        pass

    @property
    def numbers(self) -> list[int]:
        return [int(one.request_id, 16) for one in self.calls]


class Records(unittest.IsolatedAsyncioTestCase):
    def setUp(self) -> None:
        folder = tempfile.TemporaryDirectory(prefix="lamppost-recorder-")
        self.addCleanup(folder.cleanup)
        self.brought = Brought()
        self.recorder = Recorder(self.brought, Path(folder.name), 10**9)

    async def all_brought(self) -> None:
        async with asyncio.timeout(10):
            while self.recorder.waiting:
                await asyncio.sleep(0.02)

    async def test_all_come_whole_and_in_their_order_whatever_their_number(self) -> None:
        self.recorder.start()
        sent = [call(number, b'"%s"' % (b"x" * (100_000 if number % 50 == 7 else number))) for number in range(200)]
        for one in sent:
            self.recorder.add_record(one)
        self.assertEqual(self.recorder.waiting, 200)
        await self.recorder.stop()
        self.assertEqual(self.brought.calls, sent)
        self.assertEqual((self.recorder.waiting, self.recorder.dropped, self.recorder.written), (0, 0, 200))

    async def test_a_disk_that_takes_nothing_for_a_while_costs_nothing(self) -> None:
        append, refusals = Spool.append, iter([OSError(28, "no space left on device")] * 2)

        def full(spool: Spool, bundles: object) -> None:
            if (refused := next(refusals, None)) is not None:
                raise refused
            append(spool, bundles)  # type: ignore[arg-type]

        with mock.patch.object(Spool, "append", full), self.assertLogs("lamppost.records", "ERROR") as logged:
            self.recorder.start()
            for number in range(130):
                self.recorder.add_record(call(number))
            await eventually(lambda: logged.records)
            self.recorder.add_record(call(130))
            self.assertEqual(self.recorder.waiting, 131)
            self.assertEqual(len(self.recorder.trouble()), 1)
            self.assertIn("no space left on device", self.recorder.trouble()[0])
            await self.all_brought()
        self.assertEqual(len(logged.output), 1)
        self.assertEqual(self.recorder.trouble(), ())
        await self.recorder.stop()
        self.assertEqual(self.brought.numbers, list(range(131)))

    async def test_past_the_bound_of_memory_the_oldest_give_way_and_are_counted(self) -> None:
        with mock.patch.object(record_buffer, "MAX_CALLS", 200), mock.patch.object(record_buffer, "BUNDLE_CALLS", 10):
            for number in range(500):
                self.recorder.add_record(call(number))
        self.assertEqual((self.recorder.dropped, self.recorder.waiting), (300, 200))
        self.recorder.start()
        await self.recorder.stop()
        self.assertEqual(self.brought.numbers, list(range(300, 500)))

    async def test_a_database_that_is_away_is_asked_again(self) -> None:
        self.brought.away = True
        with self.assertLogs("lamppost.records", "WARNING") as logged:
            self.recorder.start()
            self.recorder.add_record(call(1))
            await eventually(lambda: logged.records)
        self.assertEqual(self.recorder.waiting, 1)
        self.brought.away = False
        await self.all_brought()
        await self.recorder.stop()
        self.assertEqual(self.brought.numbers, [1])

    async def test_a_fault_of_our_own_does_not_end_the_delivery(self) -> None:
        self.brought.faults = [RuntimeError("a closed pipe"), KeyError("a bug")]
        with self.assertLogs("lamppost.records", "ERROR") as logged:
            self.recorder.start()
            self.recorder.add_record(call(1))
            await self.all_brought()
        await self.recorder.stop()
        self.assertEqual((self.brought.numbers, len(logged.output)), ([1], 1))

    async def test_counts_for_metrics_leave_shadows_out(self) -> None:
        for one in (call(1), call(2), call(3, status=422), call(4)._replace(shadow=True)):
            self.recorder.add_record(one)
        self.recorder.start()
        await self.recorder.stop()
        meter = self.recorder.meter
        self.assertEqual(meter.calls, {("lamps", "lamps@1", "200"): 2, ("lamps", "lamps@1", "422"): 1})
        self.assertEqual(meter.rows, {("lamps", "lamps@1"): 4})
        speed = meter.speed["lamps", "lamps@1"]
        self.assertEqual((sum(speed.counts), speed.counts[1]), (2, 2), "1.5 ms is between 1 and 2 ms")
        self.assertAlmostEqual(speed.total_s, 0.003)


if __name__ == "__main__":
    unittest.main()
