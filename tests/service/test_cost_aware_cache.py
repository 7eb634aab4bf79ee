"""An answer is kept in proportion to what it cost, and asked for once however many want it."""

import asyncio
import unittest

from lamppost.service.cost_aware_cache import CostAwareCache


class Keeping(unittest.IsolatedAsyncioTestCase):
    def setUp(self) -> None:
        self.now = 100.0
        self.cost = 0.5
        self.asked = 0

    async def ask(self) -> int:
        self.asked += 1
        await asyncio.sleep(0)
        self.now += self.cost
        return self.asked

    async def test_ten_times_as_long_as_it_took(self) -> None:
        kept = CostAwareCache(self.ask, lambda: self.now)
        self.assertEqual(await kept.get(), 1)
        self.now += 4.9
        self.assertEqual(await kept.get(), 1)
        self.now += 0.1
        self.assertEqual(await kept.get(), 2)

    async def test_what_costs_nothing_is_always_new(self) -> None:
        self.cost = 0.0
        kept = CostAwareCache(self.ask, lambda: self.now)
        self.assertEqual([await kept.get() for _ in range(3)], [1, 2, 3])

    async def test_many_at_once_ask_once(self) -> None:
        kept = CostAwareCache(self.ask, lambda: self.now)
        self.assertEqual(await asyncio.gather(*(kept.get() for _ in range(20))), [1] * 20)

    async def test_a_failure_is_kept_for_nobody(self) -> None:
        async def broken() -> int:
            self.asked += 1
            if self.asked == 1:
                raise OSError("the database is away")
            return self.asked

        kept = CostAwareCache(broken, lambda: self.now)
        with self.assertRaises(OSError):
            await kept.get()
        self.assertEqual(await kept.get(), 2)


if __name__ == "__main__":
    unittest.main()
