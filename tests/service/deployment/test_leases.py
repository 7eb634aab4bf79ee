import asyncio
import unittest

from lamppost.core.errors import PackageRefused, Unavailable
from lamppost.core.names import VersionName
from lamppost.service.deployment.leases import LaneLeases
from tests.support.lanes import LaneFactory

ONE, TWO = VersionName("lamps", 1), VersionName("lamps", 2)


class Leases(unittest.IsolatedAsyncioTestCase):
    async def asyncSetUp(self) -> None:
        self.factory = LaneFactory()
        self.leases = LaneLeases(self.factory.open)
        self.addAsyncCleanup(self.leases.close)

    async def settle(self) -> None:
        for _ in range(5):
            await asyncio.sleep(0)

    async def test_a_lane_is_opened_once_and_closed_when_the_last_holder_lets_go(self) -> None:
        async with self.leases.opened([ONE]) as lanes:
            self.leases.hold(("route", "a"), [ONE])
            self.leases.hold(("route", "b"), [ONE])
            self.assertIs(self.leases.open_lane(ONE), lanes["lamps@1"])
        self.leases.release(("route", "a"))
        await self.settle()
        self.assertFalse(self.factory.opened[0].closed)
        self.leases.release(("route", "b"))
        await self.settle()
        self.assertTrue(self.factory.opened[0].closed)
        self.assertEqual((len(self.factory.opened), self.leases.open_lane(ONE)), (1, None))

    async def test_holding_other_versions_replaces_what_was_held_and_keeps_what_is_in_both(self) -> None:
        async with self.leases.opened([ONE, TWO]):
            self.leases.hold(("route", "a"), [ONE, TWO])
        self.leases.hold(("route", "a"), [TWO])
        await self.settle()
        self.assertEqual([lane.closed for lane in self.factory.opened], [True, False])
        self.assertEqual((self.leases.is_held(ONE, "route"), self.leases.is_held(TWO, "route")), (False, True))
        self.assertFalse(self.leases.is_held(TWO, "use", "visit"))
        self.assertEqual(self.leases.held_by("route"), {"a": (TWO,)})

    async def test_all_lanes_or_the_error_of_one_and_then_nothing_stays_open(self) -> None:
        self.factory.broken["lamps@2"] = PackageRefused("it is broken")
        with self.assertRaises(PackageRefused):
            async with self.leases.opened([ONE, TWO]):
                self.fail("it is not entered")
        await self.settle()
        self.assertEqual([lane.closed for lane in self.factory.opened], [True])
        del self.factory.broken["lamps@2"]
        async with self.leases.opened([TWO]):
            self.assertEqual(len(self.factory.asked), 3, "what failed is tried again")

    async def test_callers_who_come_while_it_is_opened_wait_for_the_same_lane(self) -> None:
        gate = self.factory.gates["lamps@1"] = asyncio.Event()

        async def use() -> object:
            async with self.leases.opened([ONE]) as lanes:
                return lanes["lamps@1"]

        callers = [asyncio.create_task(use()) for _ in range(3)]
        await self.settle()
        callers[0].cancel()
        gate.set()
        first, second, third = await asyncio.gather(*callers, return_exceptions=True)
        self.assertIsInstance(first, asyncio.CancelledError)
        self.assertIs(second, third)
        await self.settle()
        self.assertTrue(self.factory.opened[0].closed, "nobody holds it any more")

    async def test_what_nobody_holds_is_not_opened(self) -> None:
        with self.assertRaises(Unavailable):
            await self.leases.lane(ONE)
        self.assertEqual(self.factory.asked, [])

    async def test_a_visit_stays_for_the_next_look_and_visits_are_bounded(self) -> None:
        async with self.leases.visited(ONE):
            pass
        await self.settle()
        self.assertFalse(self.factory.opened[0].closed)
        for number in range(2, 5):
            async with self.leases.visited(VersionName("lamps", number)):
                pass
        with self.assertRaises(Unavailable):
            async with self.leases.visited(VersionName("lamps", 9)):
                self.fail("it is not entered")
        async with self.leases.visited(ONE):
            self.assertEqual(len(self.factory.asked), 4, "it was open still")
        await self.leases.close()
        self.assertTrue(all(lane.closed for lane in self.factory.opened))
