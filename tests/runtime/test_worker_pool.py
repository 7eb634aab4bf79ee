"""Lanes that share workers, have copies, give way to others; and workers that misbehave."""

import asyncio
import logging
import os
import signal
from dataclasses import replace
from typing import Any

from lamppost.core.endpoint.states import endpoint_status
from lamppost.core.engine.batch_queue import BatchPolicy
from lamppost.core.engine.scaling import CopyBounds
from lamppost.core.errors import DeadlinePassed, ModelFault, Unavailable
from lamppost.core.payload.validation_plan import Row
from lamppost.package.read import read_lamp
from lamppost.runtime.lane import Lane
from lamppost.runtime.lane_options import LaneSettings, RequestOptions
from lamppost.runtime.seat_opening import LaneSpec
from lamppost.runtime.worker_pool import WorkerPool
from tests.runtime.test_lane import PICKLE, WithLanes
from tests.support.lamps import outage_lamp, run_folder
from tests.support.models import Moody
from tests.support.service import eventually


class Sharing(WithLanes):
    rows: list[Row]

    async def light(self, name: str, **more: Any) -> Lane:
        """``outage-risk`` compiled: data only, and small."""
        lamp = read_lamp(outage_lamp())
        settings = LaneSettings(**more)
        lane = Lane(LaneSpec(name, lamp.unpack(run_folder() / "unpacked"), lamp.manifest, lamp.proof), settings, self.pool)
        self.addAsyncCleanup(lane.close, 0.0)
        await lane.open()
        self.rows = lane.plan.read_rows(lamp.proof.rows)
        self.wanted = lamp.proof.answers
        return lane

    def check(self, answers: list[dict[str, Any]]) -> None:
        for answer, wanted in zip(answers, self.wanted, strict=False):
            self.assertEqual(answer["label"], wanted["label"])
            self.assertAlmostEqual(answer["scores"]["fails"], wanted["scores"]["fails"], places=6)

    async def test_light_lanes_share_a_worker_and_their_batches_a_frame(self) -> None:
        lanes = [await self.light(f"light-{at}") for at in range(6)]
        self.assertEqual(len({lane.worker_pid for lane in lanes}), 1)
        driver = lanes[0].seats[0]
        before = driver.frames
        said = await asyncio.gather(*(lane.predict(self.rows[:3], 10) for lane in lanes for _ in range(10)))
        for answer in said:
            self.check(answer.rows)
        self.assertLess(driver.frames - before, 30, "sixty requests went in few frames")
        await lanes[0].close()
        self.assertIsNone(driver.end_reason)
        self.check((await lanes[1].predict(self.rows, 10)).rows)

    async def test_a_shared_worker_that_ends_costs_nobody_an_answer(self) -> None:
        lanes = [await self.light(f"light-{at}") for at in range(3)]
        pid = lanes[0].worker_pid
        assert pid is not None
        os.kill(pid, signal.SIGSTOP)  # so that it dies over its work, however quick it is
        asked = [asyncio.create_task(lane.predict(self.rows, 10)) for lane in lanes for _ in range(20)]
        while not lanes[0].seats[0].busy:
            await asyncio.sleep(0)
        os.kill(pid, signal.SIGKILL)
        for answer in await asyncio.gather(*asked):
            self.check(answer.rows)
        self.assertNotIn(pid, {lane.worker_pid for lane in lanes})

    async def test_a_silent_worker_holds_up_neither_its_neighbours_nor_what_waits_behind_it(self) -> None:
        """It is stopped by a signal and not ended, as code that hangs."""
        self.pool.start()
        lanes = [await self.light(f"light-{at}") for at in range(3)]
        pid = lanes[0].worker_pid
        assert pid is not None
        os.kill(pid, signal.SIGSTOP)
        hanging = asyncio.create_task(lanes[0].predict(self.rows, 10))
        while not lanes[0].seats[0].busy:
            await asyncio.sleep(0)
        logging.disable(logging.NOTSET)
        with self.assertLogs("lamppost.pool", "WARNING") as logged:
            behind = [asyncio.create_task(lane.predict(self.rows, 10)) for lane in lanes]
            for answer in await asyncio.wait_for(asyncio.gather(*behind), 20):
                self.check(answer.rows)
            await eventually(lambda: lanes[0].condition.state == "silent")
        self.assertIn("the worker of light-0 has not answered for 1 s; what waits goes to another worker", logged.output[0])
        self.assertEqual(len(logged.output), 1)
        self.assertFalse(hanging.done())
        status = endpoint_status([lanes[0].condition])
        self.assertEqual((status.state, "its worker does not answer" in status.reasons[0]), ("degraded", True))
        os.kill(pid, signal.SIGCONT)
        self.check((await asyncio.wait_for(hanging, 20)).rows)
        self.assertEqual({lane.condition.state for lane in lanes}, {"serving"})

    async def test_a_lane_over_whose_batch_a_shared_worker_ends_sits_alone_from_then_on(self) -> None:
        lanes = [await self.light(f"light-{at}") for at in range(2)]
        shared = lanes[0].seats[0]
        asked = asyncio.create_task(lanes[0].predict(self.rows, 10))
        while not shared.busy:
            await asyncio.sleep(0)
        shared.worker.stop("it was stopped")
        self.check((await asked).rows)
        self.assertTrue(lanes[0].dedicated_worker and lanes[0].seats[0].dedicated)
        self.check((await lanes[1].predict(self.rows, 10)).rows)
        self.assertFalse(lanes[1].dedicated_worker or lanes[1].seats[0].dedicated)

    async def test_a_frame_with_another_number_of_answers_ends_the_worker_and_costs_one_retry(self) -> None:
        lane = await self.light("light")
        first = lane.seats[0]
        asked = asyncio.create_task(lane.predict(self.rows, 10))
        while not first.busy:
            await asyncio.sleep(0)
        call = first.worker._protocol.open_calls.popleft()[0]  # as if the worker had said it
        call(({"op": "answers", "parts": [{}, {}]}, b""))
        self.check((await asked).rows)
        self.assertIn("another number of batches", first.end_reason or "")

    async def test_copies_follow_the_load_and_leave_again(self) -> None:
        self.pool.start()
        lane = await self.opened(Moody(), "moody", replace(PICKLE, copies=CopyBounds(1, 2), batch=BatchPolicy(max_rows=1)))
        end = asyncio.get_running_loop().time() + 20

        async def caller() -> None:
            while len(lane.seats) < 2 and asyncio.get_running_loop().time() < end:
                await self.ask(lane, Moody.SLOW)

        await asyncio.gather(*(caller() for _ in range(8)))
        self.assertEqual(len({driver.worker.pid for driver in lane.seats}), 2)
        lane.apply_settings(replace(lane.settings, copies=CopyBounds(1, 1)))
        while len(lane.seats) > 1:
            await self.ask(lane, 2.0)
            await asyncio.sleep(0.02)
        self.assertEqual(await self.ask(lane, 4.0), [8.0])
        self.assertEqual([copies for _, copies in lane.load.copies][:2], [1, 2])


class Budget(WithLanes):
    async def test_the_lane_that_was_not_used_for_longest_makes_room(self) -> None:
        gone: list[str] = []

        def let_go(lane: Lane) -> bool:
            gone.append(lane.name)
            closing.append(asyncio.create_task(lane.close()))
            return True

        closing: list[asyncio.Task[None]] = []
        lanes = [await self.opened(Moody(), name) for name in ("moody", "moody-2", "moody-3")]
        await self.ask(lanes[0], 1.0)
        self.pool.put_to_sleep = let_go
        self.pool.budget_bytes = self.pool.memory_bytes
        await self.pool.make_room(lanes[2], lanes[1].memory_bytes // 2)
        self.assertEqual(gone, ["moody-2"])
        await asyncio.gather(*closing)
        with self.assertRaisesRegex(Unavailable, "moody needs .* MB and this node's budget for models is .* MB"):
            await self.pool.make_room(lanes[0], 2 * self.pool.budget_bytes)

    async def test_a_version_too_large_for_the_budget_is_refused_with_the_figures(self) -> None:
        small = WorkerPool(budget_bytes=30_000_000)
        self.addAsyncCleanup(small.close)
        self.pool = small
        with self.assertRaisesRegex(Unavailable, "moody holds .* MB, over this node's budget for models of 30 MB"):
            await self.opened(Moody(), "moody")
        self.assertEqual(small.drivers, set())

    async def test_a_worker_that_fills_its_scratch_folder_is_stopped(self) -> None:
        lane = await self.opened(Moody(), "moody")
        driver = lane.seats[0]
        (driver.worker.home.scratch / "much").write_bytes(b"")
        os.truncate(driver.worker.home.scratch / "much", 2**30 + 1)
        self.pool._look_at_workers()
        self.assertIn("MB of files, over the limit", driver.end_reason or "")
        self.assertEqual(await self.ask(lane, 4.0), [8.0])


class Requests(WithLanes):
    async def test_a_large_request_goes_in_pieces_and_comes_back_in_order(self) -> None:
        lane = await self.opened(Moody(), "moody", replace(PICKLE, batch=BatchPolicy(max_rows=7)))
        values = [float(value) for value in range(100, 150)]
        large, small = await asyncio.gather(lane.predict([{"x": value} for value in values], 500), self.ask(lane, 3.0))
        self.assertEqual([row["value"] for row in large.rows], [2 * value for value in values])
        self.assertEqual((small, large.batch_rows <= 7), ([6.0], True))

    async def test_the_bad_row_of_a_large_request_is_named(self) -> None:
        lane = await self.opened(Moody(), "moody")
        values = [float(value) for value in range(100, 140)]
        values[23] = Moody.FAIL
        with self.assertRaisesRegex(ModelFault, "row 23: .*nineteen is too much") as caught:
            await lane.predict([{"x": value} for value in values], 400)
        self.assertEqual(caught.exception.extra["faults"][0]["row"], 23)
        self.assertEqual(await self.ask(lane, 1.0), [2.0])

    async def test_work_past_its_deadline_is_not_run_and_bulk_work_gives_way(self) -> None:
        lane = await self.opened(Moody(), "moody", replace(PICKLE, batch=BatchPolicy(max_rows=1)))
        loop = asyncio.get_running_loop()
        order: list[str] = []

        async def asked(name: str, terms: RequestOptions) -> None:
            await lane.predict([{"x": 1.0}], 10, terms)
            order.append(name)

        first = [asyncio.create_task(asked(f"bulk {at}", RequestOptions(bulk=True))) for at in range(6)]
        await asyncio.sleep(0)
        live = [asyncio.create_task(asked(f"live {at}", RequestOptions())) for at in range(3)]
        late = asyncio.create_task(asked("late", RequestOptions(deadline=loop.time() - 1)))
        await asyncio.gather(*first, *live)
        self.assertLess(max(order.index(f"live {at}") for at in range(3)), order.index("bulk 3"))
        with self.assertRaisesRegex(DeadlinePassed, "it was not asked"):
            await late

    async def test_whoever_hangs_up_is_not_asked_for(self) -> None:
        lane = await self.opened(Moody(), "moody", replace(PICKLE, tries=1))
        gone = asyncio.create_task(lane.predict([{"x": Moody.CRASH}], 10, RequestOptions(is_abandoned=lambda: True)))
        self.assertEqual(await self.ask(lane, 1.0), [2.0])
        with self.assertRaisesRegex(DeadlinePassed, "hung up"):
            await gone
