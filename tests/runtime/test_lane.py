"""Lanes with real worker processes: batches, and models that misbehave."""

import asyncio
import logging
import os
import signal
import unittest
from dataclasses import replace
from pathlib import Path

from lamppost.core.artifact.proof import Tolerance
from lamppost.core.engine.batch_queue import BatchPolicy
from lamppost.core.errors import LaneFull, ModelFault, PackageRefused, ProofFailed, Unavailable
from lamppost.package.read import read_lamp
from lamppost.runtime.confinement.worker_home import WorkerRules
from lamppost.runtime.lane import Lane
from lamppost.runtime.lane_options import LaneSettings, RequestOptions
from lamppost.runtime.proving import prove
from lamppost.runtime.seat_opening import LaneSpec
from lamppost.runtime.worker_pool import WorkerPool
from lamppost.runtime.worker_process import WorkerProcess
from lamppost.runtime.worker_supply import ForkServers, WorkerSupply
from tests.support.lamps import moody_lamp, outage_lamp, run_folder
from tests.support.lanes import FORK_SERVERS
from tests.support.models import Companion, CrashesOnce, Moody
from tests.support.service import eventually

PICKLE = LaneSettings(formats=frozenset({"pickle"}), run_s=5.0)


class WithLanes(unittest.IsolatedAsyncioTestCase):
    async def asyncSetUp(self) -> None:
        logging.disable(logging.CRITICAL)
        self.addCleanup(logging.disable, logging.NOTSET)
        self.pool = WorkerPool(WorkerSupply(FORK_SERVERS))
        self.addAsyncCleanup(self.pool.close)

    def make(self, path: Path, settings: LaneSettings = PICKLE) -> Lane:
        lamp = read_lamp(path)
        lane = Lane(LaneSpec(lamp.manifest.name, lamp.unpack(run_folder() / "unpacked"), lamp.manifest, lamp.proof), settings, self.pool)
        self.addAsyncCleanup(lane.close, 0.0)
        return lane

    async def opened(self, model: Moody, name: str, settings: LaneSettings = PICKLE) -> Lane:
        lane = self.make(moody_lamp(name, model), settings)
        self.assertTrue((await lane.open()).passed)
        return lane

    async def ask(self, lane: Lane, *values: float) -> list[float]:
        answer = await lane.predict([{"x": value} for value in values], 10)
        return [row["value"] for row in answer.rows]


class Lanes(WithLanes):
    async def test_a_lone_request_goes_at_once_and_a_crowd_goes_together(self) -> None:
        lane = await self.opened(Moody(), "moody")
        alone = await lane.predict([{"x": 1.0}], 10)
        self.assertEqual((alone.rows, alone.batch_rows), ([{"value": 2.0}], 1))
        crowd = await asyncio.gather(*(lane.predict([{"x": float(i)}, {"x": i + 0.5}], 10) for i in range(100, 140)))
        for i, answer in zip(range(100, 140), crowd, strict=True):
            self.assertEqual(answer.rows, [{"value": 2.0 * i}, {"value": 2.0 * i + 1}])
        self.assertGreater(max(answer.batch_rows for answer in crowd), 40)

    async def test_a_row_the_model_fails_on_fails_alone(self) -> None:
        lane = await self.opened(Moody(), "moody")
        for bad, summary in ((Moody.FAIL, "nineteen is too much"), (Moody.NAN, "no finite number")):
            asked = await asyncio.gather(*(self.ask(lane, value) for value in (1.0, bad, 3.0)), return_exceptions=True)
            self.assertEqual([asked[0], asked[2]], [[2.0], [6.0]])
            assert isinstance(asked[1], ModelFault)
            self.assertIn(summary, asked[1].detail)
        self.assertEqual(lane.state, "serving")

    async def test_a_worker_that_crashes_costs_one_retry(self) -> None:
        mark = run_folder() / "crashed"
        self.pool.supply = WorkerSupply(FORK_SERVERS, WorkerRules(confined=False))  # it leaves a mark outside of its scratch
        lane = await self.opened(CrashesOnce(str(mark)), "crashes-once")
        first = lane.worker_pid
        self.assertEqual(await asyncio.gather(self.ask(lane, Moody.CRASH), self.ask(lane, 4.0)), [[26.0], [8.0]])
        self.assertNotEqual(lane.worker_pid, first)
        self.assertTrue(mark.exists())

    async def test_a_request_that_always_crashes_its_worker_is_given_up_and_the_lane_goes_on(self) -> None:
        lane = await self.opened(Moody(), "moody")
        with self.assertRaises(ModelFault) as caught:
            await self.ask(lane, Moody.CRASH)
        self.assertIn("ended 2 times on this request", caught.exception.detail)
        self.assertEqual(await self.ask(lane, 4.0), [8.0])

    async def test_a_worker_that_hangs_is_stopped(self) -> None:
        lane = await self.opened(Moody(), "moody", replace(PICKLE, run_s=0.5, tries=1))
        pid = lane.worker_pid
        with self.assertRaises(ModelFault) as caught:
            await self.ask(lane, Moody.HANG)
        self.assertIn("did not answer within 0.5 s", caught.exception.detail)
        self.assertEqual(await self.ask(lane, 4.0), [8.0])
        with self.assertRaises(ProcessLookupError):
            os.kill(pid or 0, 0)

    async def test_what_a_model_prints_goes_to_the_log_and_not_on_the_wire(self) -> None:
        lane = await self.opened(Moody(), "moody")
        logging.disable(logging.NOTSET)
        with self.assertLogs("lamppost.worker", "INFO") as logged:
            self.assertEqual(await self.ask(lane, Moody.NOISE), [58.0])
            await eventually(lambda: any("a word on stderr" in line for line in logged.output))
        printed = [line for line in logged.records if "garbage on stdout" in line.getMessage()]
        self.assertEqual({(line.version, line.worker) for line in printed}, {("moody", lane.worker_pid)})  # type: ignore[attr-defined]

    async def test_what_is_said_of_a_failure_names_its_request(self) -> None:
        lane = await self.opened(Moody(), "moody")
        logging.disable(logging.NOTSET)
        ids = [f"0199f3a1-6d7e-7c1a-8a57-{number:012x}" for number in range(3)]
        with self.assertLogs("lamppost.worker", "INFO") as logged:
            asked = [
                lane.predict([{"x": value}], 10, RequestOptions(request_id=one))
                for value, one in zip((1.0, Moody.FAIL, 3.0), ids, strict=True)
            ]
            await asyncio.gather(*asked, return_exceptions=True)

            def named() -> set[str]:
                """The requests that lines about the failure name."""
                about = [record for record in logged.records if "nineteen" in record.getMessage()]
                return {record.request_id for record in about if record.request_id}  # type: ignore[attr-defined]

            await eventually(named)
        self.assertEqual(named(), {ids[1]})

    async def test_half_of_a_crowd_is_with_the_worker_while_the_rest_is_read(self) -> None:
        lane = await self.opened(Moody(), "moody")
        for _ in range(2):
            rows = [[{"x": float(i)}] for i in range(100, 140)]
            answers = await asyncio.gather(*(lane.predict(row, 10) for row in rows))
        self.assertEqual([answer.rows for answer in answers], [[{"value": 2.0 * i}] for i in range(100, 140)])
        self.assertEqual([answer.batch_rows for answer in answers[:20]], [20] * 20)

    async def test_the_queue_is_bounded(self) -> None:
        lane = await self.opened(Moody(), "moody", replace(PICKLE, batch=BatchPolicy(max_rows=1, queue_rows=3)))
        asked = await asyncio.gather(*(self.ask(lane, 1.0) for _ in range(30)), return_exceptions=True)
        refused = [one for one in asked if isinstance(one, LaneFull)]
        self.assertEqual(len(refused) + sum(one == [2.0] for one in asked), 30)
        self.assertGreater(len(refused), 20)

    async def test_closing_finishes_what_waits_and_then_refuses(self) -> None:
        lane = await self.opened(Moody(), "moody", replace(PICKLE, batch=BatchPolicy(max_rows=1)))
        asked = [asyncio.create_task(self.ask(lane, 1.0)) for _ in range(20)]
        await asyncio.sleep(0)
        await lane.close(drain_s=10.0)
        self.assertEqual(await asyncio.gather(*asked), [[2.0]] * 20)
        with self.assertRaises(Unavailable):
            await self.ask(lane, 1.0)

    async def test_a_request_nobody_waits_for_is_dropped(self) -> None:
        lane = await self.opened(Moody(), "moody", replace(PICKLE, tries=1))
        gone = asyncio.create_task(self.ask(lane, Moody.CRASH))
        first = asyncio.create_task(self.ask(lane, 1.0))
        await asyncio.sleep(0)
        gone.cancel()
        self.assertEqual(await first, [2.0])


class Reopening(WithLanes):
    async def test_another_form_and_more_threads_are_opened_beside_what_answers(self) -> None:
        lane = self.make(outage_lamp(), LaneSettings())
        await lane.open()
        self.pool.start(None)
        row = lane.plan.read_rows(lane.proof.rows[:1])[0]
        first = lane.seats[0]
        self.assertEqual(first.needs, "graphs")
        answers: list[str] = []

        async def ask_until_others_serve() -> list[str]:
            for _ in range(10_000):
                answers.append(str((await lane.predict([row], 10)).rows[0]["label"]))
                if lane.seats and first not in lane.seats:
                    break
                await asyncio.sleep(0.002)
            return [seat.needs for seat in lane.seats]

        lane.apply_settings(replace(lane.settings, original=True))
        self.assertEqual(await ask_until_others_serve(), ["sklearn"])
        first = lane.seats[0]
        lane.apply_settings(replace(lane.settings, original=False, threads=2))
        self.assertEqual(await ask_until_others_serve(), ["graphs"])
        self.assertGreater(len(os.listdir(f"/proc/{lane.seats[0].worker.pid}/task")), 1)  # noqa: PTH208 - not worth a thread
        self.assertEqual(len(set(answers)), 1, answers[:3])


class Proving(WithLanes):
    async def test_answers_that_depend_on_the_batch_fail_the_proof(self) -> None:
        lane = self.make(moody_lamp("companion", Companion()))
        with self.assertRaises(ProofFailed) as caught:
            await lane.open()
        self.assertIn("3 of 3 rows differ from training; row 0, value", caught.exception.detail)
        self.assertEqual(lane.state, "down")
        with self.assertRaises(Unavailable):
            await lane.predict([{"x": 1.0}], 10)

    async def test_another_answer_fails_the_proof(self) -> None:
        lamp = read_lamp(outage_lamp())
        answers = [dict(answer) for answer in lamp.proof.answers]
        answers[2] = {"label": answers[2]["label"], "scores": {name: score + 1e-4 for name, score in answers[2]["scores"].items()}}
        proof = replace(lamp.proof, answers=answers, tolerance=Tolerance())
        lane = Lane(LaneSpec("x", lamp.unpack(run_folder() / "unpacked"), lamp.manifest, proof), LaneSettings(), self.pool)
        self.addAsyncCleanup(lane.close)
        with self.assertRaises(ProofFailed) as caught:
            await lane.open()
        self.assertEqual(len(caught.exception.extra["differences"]), 2)
        self.assertIn("row 2, scores.", caught.exception.extra["differences"][0])

    async def test_a_format_the_policy_does_not_allow_is_not_opened(self) -> None:
        lane = self.make(moody_lamp("moody", Moody()), LaneSettings())
        with self.assertRaises(PackageRefused) as caught:
            await lane.open()
        self.assertIn("stored as pickle", caught.exception.detail)

    async def test_a_member_changed_on_disk_is_not_opened(self) -> None:
        lamp = read_lamp(moody_lamp("moody", Moody()))
        folder = lamp.unpack(run_folder() / "changed")
        (folder / "steps/0/model.pickle").write_bytes(b"cos\nsystem\n(S'true'\ntR.")
        lane = Lane(LaneSpec("x", folder, lamp.manifest, lamp.proof), PICKLE, self.pool)
        self.addAsyncCleanup(lane.close)
        with self.assertRaises(PackageRefused) as caught:
            await lane.open()
        self.assertIn("was changed since it was unpacked", caught.exception.detail)

    async def test_a_lamp_file_proves_itself_in_a_fresh_process(self) -> None:
        verdict = prove(read_lamp(outage_lamp()))  # blocks this loop on purpose: notebooks call it inside a running one
        self.assertEqual((verdict.passed, verdict.rows), (True, 20))


def forked_from(pid: int) -> set[int]:
    """The processes that are children of one."""
    return set(map(int, Path(f"/proc/{pid}/task/{pid}/children").read_text().split()))


class Supplying(unittest.IsolatedAsyncioTestCase):
    async def asyncSetUp(self) -> None:
        self.supply = WorkerSupply(ForkServers())
        self.addAsyncCleanup(self.supply.close)

    async def worker(self) -> WorkerProcess:
        worker = await self.supply.take_worker("a", "graphs")
        self.addAsyncCleanup(worker.close)
        return worker

    async def test_workers_are_forked_and_share_what_was_imported(self) -> None:
        self.supply.expect("graphs")
        first, second = await self.worker(), await self.worker()
        assert self.supply.servers is not None
        server = self.supply.servers.server("graphs")
        self.assertEqual(forked_from(server.pid), {first.pid, second.pid})
        self.assertLess(first.memory_bytes, server.memory_bytes / 2)

    async def test_a_process_id_stays_taken_until_the_worker_is_closed(self) -> None:
        worker = await self.worker()
        worker.kill()
        while worker.end_reason is None:
            await asyncio.sleep(0.01)
        os.kill(worker.pid, 0)
        await worker.close()
        with self.assertRaises(ProcessLookupError):
            os.kill(worker.pid, 0)

    async def test_when_the_server_ends_its_workers_end_and_another_one_forks_the_next(self) -> None:
        worker = await self.worker()
        assert self.supply.servers is not None
        os.kill(self.supply.servers.server("graphs").pid, signal.SIGKILL)
        while worker.end_reason is None:
            await asyncio.sleep(0.01)
        await worker.close()
        self.assertIsNone((await self.worker()).end_reason)

    async def test_a_worker_whose_taker_was_cancelled_ends(self) -> None:
        assert self.supply.servers is not None
        server = self.supply.servers.server("graphs")
        taking = asyncio.create_task(self.supply.take_worker("a", "graphs"))
        await asyncio.sleep(0)
        taking.cancel()
        with self.assertRaises(asyncio.CancelledError):
            await taking
        self.assertEqual(forked_from(server.pid), set())
