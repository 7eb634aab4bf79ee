import unittest
from datetime import datetime

from lamppost.service.monitoring.leader import Job, Leader


class Jobs(unittest.IsolatedAsyncioTestCase):
    async def test_jobs_run_in_order_each_at_its_own_pace(self) -> None:
        ran: list[str] = []

        def job(name: str, every_s: float) -> Job:
            async def run(_: datetime) -> None:
                ran.append(name)

            return Job(name, every_s, run)

        leader = Leader(None, [job("judge", 0), job("alert", 5), job("tidy", 60)], lambda: 0, lambda: None)  # type: ignore[arg-type]
        for now_s in (0.0, 2.0, 4.0, 6.0, 61.0):
            await leader.run_due_jobs(now_s)
            ran.append("|")
        self.assertEqual(" ".join(ran), "judge alert tidy | judge | judge | judge alert | judge alert tidy |")

    async def test_a_job_that_fails_is_due_again_after_its_time_and_those_before_it_have_run(self) -> None:
        ran: list[str] = []

        async def fail(_: datetime) -> None:
            ran.append("fails")
            raise ValueError("it failed")

        async def work(_: datetime) -> None:
            ran.append("works")

        leader = Leader(None, [Job("works", 0, work), Job("fails", 5, fail)], lambda: 0, lambda: None)  # type: ignore[arg-type]
        with self.assertRaises(ValueError):
            await leader.run_due_jobs(0.0)
        await leader.run_due_jobs(1.0)
        with self.assertRaises(ValueError):
            await leader.run_due_jobs(5.0)
        self.assertEqual(ran, ["works", "fails", "works", "works", "fails"])
