"""Background tasks end, also one that loses a cancellation."""

import asyncio
import unittest
from unittest import mock

from lamppost.service import ended_tasks
from lamppost.service.ended_tasks import end_tasks


class EndedTasks(unittest.IsolatedAsyncioTestCase):
    async def test_a_lost_cancellation_is_repeated(self) -> None:
        lost = 0

        async def ask_again_and_again() -> None:
            nonlocal lost
            while True:
                try:
                    await asyncio.sleep(60)
                except asyncio.CancelledError:  # as where a connection fails at that moment
                    if lost == 2:
                        raise
                    lost += 1

        tasks = [asyncio.create_task(ask_again_and_again()), asyncio.create_task(asyncio.sleep(60))]
        await asyncio.sleep(0)
        with mock.patch.object(ended_tasks, "_AGAIN_S", 0.01):
            await asyncio.wait_for(end_tasks(tasks), 10)
        self.assertEqual((lost, [task.done() for task in tasks]), (2, [True, True]))

    async def test_what_has_ended_is_no_fault(self) -> None:
        async def fail() -> None:
            raise OSError("gone")

        task = asyncio.create_task(fail())
        await end_tasks([task])
        self.assertTrue(task.done())
        await asyncio.gather(task, return_exceptions=True)
