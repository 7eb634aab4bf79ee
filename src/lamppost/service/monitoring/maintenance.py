"""Starts the background jobs of a node: the leader's jobs in their order, and the samples of its own lanes."""

from __future__ import annotations

import asyncio
from datetime import datetime

from lamppost.service.bulk.scheduling import RULE as SCHEDULE
from lamppost.service.bulk.scheduling import Scheduling
from lamppost.service.deployment.deployment import Deployment
from lamppost.service.hub.outpost_hub import RULE as OUTPOST
from lamppost.service.hub.outpost_hub import OutpostHub
from lamppost.service.monitoring import outpost_alerts
from lamppost.service.monitoring.alert_evaluation import AlertEvaluation
from lamppost.service.monitoring.drift_evaluation import DriftEvaluation
from lamppost.service.monitoring.lane_sampling import sample_lanes
from lamppost.service.monitoring.leader import Job, Leader
from lamppost.service.monitoring.notices import NoticeSender
from lamppost.service.monitoring.outpost_alerts import OutpostAlerts
from lamppost.service.monitoring.reports import send_due_reports
from lamppost.service.monitoring.retention import roll_up_and_delete
from lamppost.service.monitoring.run_reports import RunReports
from lamppost.service.records.window_counting import WindowCounting
from lamppost.service.settings import Settings
from lamppost.store.call_blocks import merge_small_blocks
from lamppost.store.database import Pool
from lamppost.store.measuring import loads


class Maintenance:
    """`start` once, `close` ends it. node : the name that this node's samples are kept under. jobs : of the leader, in their order."""

    def __init__(
        self,
        pool: Pool,
        deployment: Deployment,
        window_counting: WindowCounting,
        scheduling: Scheduling,
        outpost_hub: OutpostHub,
        settings: Settings,
        node: str,
    ) -> None:
        self.drift_evaluation = DriftEvaluation(pool, deployment, window_counting)
        at_outposts = OutpostAlerts(pool, deployment.table, self.drift_evaluation)
        self.notices = NoticeSender(pool, settings)
        self._run_reports = RunReports(pool, window_counting, self.notices, settings.public_address)
        self._pool = pool
        self._deployment = deployment
        self._node = node
        self._alerts = AlertEvaluation(
            pool,
            deployment,
            self.drift_evaluation,
            {
                SCHEDULE: scheduling.alert_readings,
                OUTPOST: outpost_hub.alert_readings,
                outpost_alerts.DRIFT: at_outposts.drift_readings,
                outpost_alerts.QUALITY: at_outposts.quality_readings,
            },
            settings.public_address,
        )
        self.jobs = (
            Job("judge windows", 0.0, self._judge_windows),
            Job("evaluate alerts", 5.0, self._alerts.evaluate_alerts),
            Job("send notices", 0.0, self._send_notices),
            Job("start scheduled runs", 0.0, scheduling.start_due_runs),
            Job("merge window counts", 60.0, self._merge_deltas),
            Job("merge call blocks", 60.0, self._merge_blocks),
            Job("send reports", 20.0, self._send_reports),
            Job("send reports of bulk runs", 5.0, self._run_reports.send_due),
            Job("end overdue loads", 30.0, self._end_loads),
            Job("roll up and delete", 3_600.0, self._roll_up),
        )
        self._leader = Leader(pool, self.jobs, self._count_calls, self._alerts.forget_windows)
        self._sampling: asyncio.Task[None] | None = None

    def start(self) -> None:
        """Begin."""
        self._leader.start()
        self._sampling = asyncio.create_task(sample_lanes(self._pool, self._node, self._deployment.workers), name="lane samples")

    async def close(self) -> None:
        """Stop."""
        if self._sampling is not None:
            self._sampling.cancel()
            await asyncio.gather(self._sampling, return_exceptions=True)
        await self._leader.close()

    def _count_calls(self) -> int:
        return sum(lane.load.requests for lane in self._deployment.workers.lanes)

    async def _judge_windows(self, _: datetime) -> None:
        await self.drift_evaluation.judge_new_windows()

    async def _send_notices(self, _: datetime) -> None:
        await self.notices.send_due()

    async def _merge_deltas(self, _: datetime) -> None:
        await self.drift_evaluation.merge_deltas()

    async def _merge_blocks(self, now: datetime) -> None:
        await merge_small_blocks(self._pool, now)

    async def _end_loads(self, _: datetime) -> None:
        await loads.end_overdue_loads(self._pool)

    async def _send_reports(self, now: datetime) -> None:
        await send_due_reports(self._pool, self._deployment, self.notices, now)

    async def _roll_up(self, now: datetime) -> None:
        await roll_up_and_delete(self._pool, self._deployment, now)
