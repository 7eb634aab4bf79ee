"""The driver alone: what goes into a frame, when it goes, and what becomes of answers; the worker and the lanes are played."""

import asyncio
import unittest
from typing import Any, cast

from lamppost.runtime.wire import HEAD, frame_size, read_header
from lamppost.runtime.worker_driver import FRAME_LANES, FRAME_ROWS, FramePart, WorkerDriver
from lamppost.runtime.worker_process import Frame, OnReply, WorkerGone, WorkerProcess


class Worker:
    """Keeps frames until the test answers them."""

    def __init__(self) -> None:
        self.frames: list[tuple[dict[str, Any], bytes, OnReply]] = []
        self.end_reason: str | None = None
        self.on_end: Any = None

    def submit(self, frame: bytes, on_reply: OnReply, most_bytes: int = 0) -> None:
        length, _ = frame_size(frame[: HEAD.size])
        body = HEAD.size + length
        self.frames.append((read_header(frame[HEAD.size : body]), frame[body:], on_reply))

    def answer(self, *names: str, more: bool = False) -> None:
        """Answer that many parts of the oldest frame, each with a text."""
        _, _, reply = self.frames[0] if more else self.frames.pop(0)
        parts = [{"op": "answers", "bytes": len(name)} for name in names]
        reply(({"op": "answers", "parts": parts, **({"more": True} if more else {})}, "".join(names).encode()))

    def stop(self, why: str) -> None:
        self.end_reason = why
        frames, self.frames = self.frames, []
        for _, _, reply in frames:
            reply(WorkerGone(why))
        if self.on_end is not None:
            self.on_end(why)


class Lane:
    """Gives what it is told to give, and notes what it hears."""

    run_s = 0.2

    def __init__(self, name: str, exclusive_frame: bool = False) -> None:
        self.name = name
        self.exclusive_frame = exclusive_frame
        self.waits: list[int] = []
        self.heard: list[Any] = []

    def usual_s(self, rows: int) -> float:
        return rows / 1_000

    def take_batch(self, room: int, now: float) -> FramePart | None:
        del now
        if not self.waits:
            return None
        rows = min(room, self.waits[0])
        self.waits[0] -= rows
        if not self.waits[0]:
            self.waits.pop(0)
        return FramePart(self, None, rows, [], f"{self.name}:{rows};".encode(), f"{self.name}-id" if rows == 1 else "")

    def deliver_answers(self, part: FramePart, header: dict[str, Any], body: bytes, sent: float) -> None:
        del header, sent
        self.heard.append((part.rows, body.decode()))

    def retry_interrupted(self, part: FramePart, why: str, together: bool) -> None:
        self.heard.append((part.rows, why, together))

    def replace_seat(self, driver: WorkerDriver, why: str) -> None:
        del driver
        self.heard.append(("unseated", why))


class Driving(unittest.IsolatedAsyncioTestCase):
    async def asyncSetUp(self) -> None:
        self.worker = Worker()
        self.driver = WorkerDriver(cast(WorkerProcess, self.worker), "graphs", dedicated=False)

    def seat(self, *lanes: Lane) -> None:
        for slot, lane in enumerate(lanes, 1):
            self.driver.slots[lane] = slot

    def ask(self, lane: Lane, rows: int, enough: bool = False) -> None:
        lane.waits.append(rows)
        self.driver.schedule_lane(lane, enough)

    @property
    def sent(self) -> list[str]:
        return [body.decode() for _, body, _ in self.worker.frames]

    async def test_requests_of_one_turn_of_the_loop_go_together_and_lanes_in_turn(self) -> None:
        a, b = Lane("a"), Lane("b")
        self.seat(a, b)
        self.ask(a, 1)
        self.ask(b, 2)
        self.assertEqual(self.sent, [])
        await asyncio.sleep(0)
        self.assertEqual(self.sent, ["a:1;b:2;"])
        told = self.worker.frames[0][0]["parts"]
        self.assertEqual(told[0], {"slot": 1, "rows": 1, "columns": [], "bytes": 4, "request": "a-id"})
        self.assertNotIn("request", told[1], "rows of several requests have no name in common")

    async def test_enough_of_them_go_at_once_and_the_rest_with_the_next_frame(self) -> None:
        a = Lane("a")
        self.seat(a)
        self.ask(a, 20)
        self.ask(a, 20, enough=True)
        self.assertEqual(self.sent, ["a:20;"])
        self.ask(a, 9)
        await asyncio.sleep(0)
        self.assertEqual(len(self.worker.frames), 1, "one frame at a time")
        self.worker.answer("one")
        self.assertEqual((self.sent, a.heard), (["a:20;"], [(20, "one")]))

    async def test_the_next_frame_goes_out_before_answers_are_read(self) -> None:
        a = Lane("a")
        self.seat(a)
        order: list[str] = []
        a.deliver_answers = lambda *_: order.append(f"read, {len(self.worker.frames)} out")  # type: ignore[method-assign]
        self.ask(a, 1)
        await asyncio.sleep(0)
        self.ask(a, 2)
        self.worker.answer("x")
        self.assertEqual(order, ["read, 1 out"])

    async def test_answers_that_come_in_portions_reach_their_lanes_and_the_frame_ends_with_the_last(self) -> None:
        lanes = [Lane(name) for name in "abc"]
        self.seat(*lanes)
        for lane in lanes:
            self.ask(lane, 1)
        await asyncio.sleep(0)
        self.worker.answer("one", "two", more=True)
        self.assertTrue(self.driver.busy)
        self.ask(lanes[0], 5)
        self.assertEqual(len(self.worker.frames), 1)
        self.worker.answer("three")
        self.assertEqual([lane.heard for lane in lanes], [[(1, "one")], [(1, "two")], [(1, "three")]])
        self.assertEqual(self.sent, ["a:5;"])

    async def test_a_frame_is_bounded_in_rows_and_lanes(self) -> None:
        a, b = Lane("a"), Lane("b")
        self.seat(a, b)
        self.ask(a, FRAME_ROWS - 10)
        self.ask(b, 100)
        await asyncio.sleep(0)
        self.assertEqual(self.sent, [f"a:{FRAME_ROWS - 10};b:10;"])
        self.worker.answer("", "")
        self.assertEqual(self.sent, ["b:90;"])
        self.worker.answer("")
        many = [Lane(str(at)) for at in range(FRAME_LANES + 5)]
        self.seat(*many)
        for lane in many:
            self.ask(lane, 1)
        await asyncio.sleep(0)
        self.assertEqual(len(self.worker.frames[0][0]["parts"]), FRAME_LANES)
        self.worker.answer(*[""] * FRAME_LANES)
        self.assertEqual(len(self.worker.frames[0][0]["parts"]), 5)

    async def test_a_lane_that_is_to_be_alone_is(self) -> None:
        a, b, c = Lane("a"), Lane("b", exclusive_frame=True), Lane("c")
        self.seat(a, b, c)
        for lane in (a, b, c):
            self.ask(lane, 1)
        await asyncio.sleep(0)
        seen = []
        while self.worker.frames:
            seen += self.sent
            self.worker.answer(*[""] * len(self.worker.frames[0][0]["parts"]))
        self.assertEqual(seen, ["a:1;", "b:1;", "c:1;"])

    async def test_a_worker_that_ends_over_a_frame_interrupts_each_of_its_parts_and_unseats_all(self) -> None:
        a, b, idle = Lane("a"), Lane("b"), Lane("idle")
        self.seat(a, b, idle)
        self.ask(a, 1)
        self.ask(b, 2)
        await asyncio.sleep(0)
        with self.assertLogs("lamppost.worker", "WARNING") as logged:
            self.worker.stop("it crashed")
        self.assertEqual(a.heard, [(1, "it crashed", True), ("unseated", "it crashed")])
        self.assertEqual(b.heard, [(2, "it crashed", True), ("unseated", "it crashed")])
        self.assertEqual(idle.heard, [("unseated", "it crashed")])
        self.assertIn("a, b, idle", logged.output[0])
        self.ask(a, 1)
        await asyncio.sleep(0)
        self.assertEqual(self.worker.frames, [], "nothing is sent to one that has ended")

    async def test_another_number_of_answers_than_asked_for_ends_the_worker(self) -> None:
        for said in (("one", "two"), ()):
            with self.subTest(answers=len(said)), self.assertLogs("lamppost.worker", "WARNING"):
                await self.asyncSetUp()
                a = Lane("a")
                self.seat(a)
                self.ask(a, 1)
                await asyncio.sleep(0)
                self.worker.answer(*said)
                self.assertEqual(self.worker.end_reason, "it answered another number of batches than it was asked")
                self.assertEqual(a.heard[0], (1, self.worker.end_reason, False))

    async def test_one_that_takes_too_long_is_stopped(self) -> None:
        a = Lane("a")
        self.seat(a)
        self.ask(a, 1)
        with self.assertLogs("lamppost.worker", "WARNING"):
            await asyncio.sleep(Lane.run_s + 0.1)
        self.assertEqual(self.worker.end_reason, "it did not answer within 0.2 s and was stopped")

    async def test_asking_apart_from_the_queue_gathers_all_portions(self) -> None:
        a = Lane("a")
        self.seat(a)
        asked = asyncio.create_task(self.driver.run_batches(a, [(1, [], b"x"), (2, [], b"yz")], 1.0, 2**20))
        await asyncio.sleep(0)
        self.assertEqual([part["bytes"] for part in self.worker.frames[0][0]["parts"]], [1, 2])
        self.worker.answer("first", more=True)
        self.worker.answer("second")
        answers: list[Frame] = await asked
        self.assertEqual([body for _, body in answers], [b"first", b"second"])
        late = asyncio.create_task(self.driver.run_batches(a, [(1, [], b"x")], 0.05, 2**20))
        with self.assertLogs("lamppost.worker", "WARNING"), self.assertRaises(WorkerGone):
            await late


if __name__ == "__main__":
    unittest.main()
