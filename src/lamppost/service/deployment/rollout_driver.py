"""Drives rollouts. Every node counts what it answers; whichever node holds a rollout's row decides for all of them."""

from __future__ import annotations

import asyncio
import contextlib
import logging
from collections.abc import Awaitable, Callable, Sequence
from dataclasses import asdict, replace
from datetime import UTC, datetime, timedelta
from typing import Any, NoReturn
from uuid import uuid4

import psycopg
from psycopg import AsyncConnection
from psycopg.rows import TupleRow

from lamppost.core.endpoint.rollout import Rollout, RolloutPlan, apply_decision, decide_rollout
from lamppost.core.endpoint.rollout_counts import counted_rollout, read_counted_rollout, write_counted_rollout
from lamppost.core.endpoint.rollout_guards import StepCounts, read_guards
from lamppost.core.endpoint.rollout_steering import RolloutAction
from lamppost.core.endpoint.shares import StickyKey
from lamppost.core.errors import Conflict, LampPostError
from lamppost.core.names import VersionName, parse_version
from lamppost.service.deployment.changes import ChangeOverrides, EndpointChanges
from lamppost.service.deployment.deployment import Deployment
from lamppost.service.deployment.switching import MadeChange
from lamppost.store import endpoints, packages, records, rollouts, trail
from lamppost.store.database import AWAY, Pool, announce
from lamppost.store.endpoints import EndpointChange, EndpointRevision
from lamppost.store.rollouts import StoredRollout
from lamppost.store.trail import ChangedBy

log = logging.getLogger("lamppost.rollouts")

LOOK_S = 0.5


async def look_again(advance_rollouts: Callable[[], Awaitable[None]], every_s: float) -> NoReturn:
    """Advance rollouts again and again, whatever happens meanwhile."""
    while True:
        await asyncio.sleep(every_s)
        try:
            await advance_rollouts()
        except AWAY as error:
            log.debug("rollouts wait for the database: %s", error)
        except LampPostError as error:
            log.error("a rollout cannot be moved: %s", error.detail)
        except Exception:
            log.exception("looking at rollouts failed on a fault of our own, trying again")


class RolloutDriver:
    """Drives the rollouts of one node."""

    def __init__(self, pool: Pool, deployment: Deployment, changes: EndpointChanges) -> None:
        self._pool = pool
        self._deployment = deployment
        self._changes = changes
        self._node = uuid4().hex
        self._stored_counts: dict[tuple[int, int], StepCounts] = {}
        self._task: asyncio.Task[None] | None = None

    def start(self) -> None:
        """Begin to drive rollouts."""
        self._task = asyncio.create_task(look_again(self.advance_rollouts, LOOK_S), name="rollouts")

    async def close(self) -> None:
        """Stop. Another node, or the next start, continues running rollouts."""
        if self._task is not None:
            self._task.cancel()
            await asyncio.gather(self._task, return_exceptions=True)
            with contextlib.suppress(psycopg.Error, *AWAY):
                await self._store_node_counts()

    async def begin_rollout(
        self,
        endpoint: str,
        version: VersionName,
        plan: RolloutPlan | None,
        sticky: StickyKey | None,
        by: ChangedBy,
        role: str,
        overrides: ChangeOverrides,
    ) -> tuple[StoredRollout, list[StepCounts]]:
        """Begin a rollout to a version, with its first step. Raise Conflict where one goes on, or where the endpoint serves several."""
        present = self._deployment.table.find_route(endpoint).in_force
        going = await rollouts.latest_rollouts(self._pool, endpoint)
        if going and going[0].ended_at is None:
            raise Conflict(
                f"a rollout of {endpoint} to {going[0].rollout.new} goes on already; finish it or take it back first: "
                f"lamppost rollout {endpoint} --finish or --back"
            )
        old = present.setup.version
        if old is None:
            raise Conflict(
                f"{endpoint} serves {present.setup.summary()}; a rollout goes from one version to another: point it at one first"
            )
        rollout = Rollout(old, str(version), plan or present.setup.rollout or RolloutPlan(), sticky)
        since = datetime.now(UTC) - timedelta(hours=1)
        p99_ms = await records.version_p99_ms(self._pool, endpoint, old, since)
        lamp = await self._deployment.package_cache.lamp_of((await packages.get_version(self._pool, parse_version(old))).digest)
        counted = counted_rollout(rollout, 0, lamp.manifest.answers, lamp.reference)
        setup = present.setup.with_shares(rollout.shares)
        change = EndpointChange(endpoint, setup, present.revision, action="began rollout", note=f"to {version}, first {counted.share:g} %")
        change = await self._changes.check_change(change, role, overrides)

        async def commit(ready: Sequence[EndpointChange]) -> list[MadeChange]:
            async with self._pool.connection() as connection, connection.transaction():
                number = await rollouts.begin_rollout(connection, endpoint, rollout, present.revision, p99_ms, by.token)
                step = replace(ready[0], rollout=number, counted=write_counted_rollout(replace(counted, rollout=number)))
                revision = await endpoints.add_revision(connection, step, by)
                await announce(connection, "routes")
                return [revision]

        await self._deployment.switching.switch([change], commit)
        return (await self.latest_rollouts(endpoint))[0]

    async def act_on_rollout(self, endpoint: str, what: RolloutAction, by: ChangedBy) -> tuple[StoredRollout, list[StepCounts]]:
        """Pause, resume, finish or take back a rollout now."""
        async with rollouts.hold_rollout(self._pool, endpoint=endpoint) as (connection, stored):
            assert stored is not None
            rollout = getattr(stored.rollout, what)(by.token)
            await self._put(connection, stored, rollout, stored.readings, by)
        await self._deployment.reconciler.reconcile()
        return (await self.latest_rollouts(endpoint))[0]

    async def latest_rollouts(self, endpoint: str, limit: int = 1) -> list[tuple[StoredRollout, list[StepCounts]]]:
        """The last rollouts of an endpoint, each with what was counted at its steps."""
        rollouts_found = await rollouts.latest_rollouts(self._pool, endpoint, limit)
        async with self._pool.connection() as connection:
            return [(rollout, await rollouts.sum_counts(connection, rollout.number, rollout.rollout)) for rollout in rollouts_found]

    # -- looking ------------------------------------------------------------------------------------------------------

    async def advance_rollouts(self) -> None:
        """Store the counts of this node, then decide the next step of every running rollout that no other node holds."""
        await self._store_node_counts()
        for number in await rollouts.running_rollouts(self._pool):
            await self._advance_rollout(number)

    async def _store_node_counts(self) -> None:
        """Store what this node has counted since the last call of this method."""
        for route in list(self._deployment.table.by_endpoint.values()):
            after, revision = route.hooks, route.in_force
            if after is None or after.tally is None or revision.rollout is None:
                continue
            counts = after.tally.take_counts()
            if counts is None:
                continue
            step = after.tally.rollout.step
            total = self._stored_counts.setdefault((revision.rollout, step), StepCounts(counts.share))
            total.add(counts)
            await rollouts.save_node_counts(self._pool, revision.rollout, step, self._node, total)

    async def _advance_rollout(self, number: int) -> None:
        """Decide one rollout's next step, unless another node holds its row."""
        async with rollouts.hold_rollout(self._pool, number) as (connection, stored):
            if stored is None:
                return
            steps = await rollouts.sum_counts(connection, number, stored.rollout)
            read = read_guards(stored.rollout.plan.guards, steps, stored.p99_ms)
            minutes = (datetime.now(UTC) - stored.step_since).total_seconds() / 60
            decision = decide_rollout(stored.rollout, read, steps[-1], minutes)
            readings = [asdict(reading) for reading in read]
            if decision.do == "hold":
                if readings != stored.readings or decision.reason != stored.rollout.reason:
                    held = apply_decision(stored.rollout, decision)
                    await rollouts.save_rollout(connection, number, held, stored.revision, readings, new_step=False)
                return
            await self._put(
                connection, stored, apply_decision(stored.rollout, decision), readings, ChangedBy(f"rollout of {stored.begun_by}")
            )
        log.info("%s: %s", stored.endpoint, decision.reason)
        await self._deployment.reconciler.reconcile()

    async def _put(
        self, connection: AsyncConnection[TupleRow], stored: StoredRollout, rollout: Rollout, read: list[dict[str, Any]], by: ChangedBy
    ) -> None:
        """Store the rollout's progress and the endpoint's new revision in one transaction."""
        revision = stored.revision
        before = await endpoints.newest_revision(connection, stored.endpoint)
        assert before is not None
        if rollout.shares != stored.rollout.shares:
            change = self._change(stored, rollout, before)
            revision = before.revision + 1
            await rollouts.save_rollout(connection, stored.number, rollout, revision, read, new_step=True)
            await endpoints.add_revision(connection, change, by)
            await announce(connection, "routes")
        else:
            await rollouts.save_rollout(connection, stored.number, rollout, revision, read, new_step=False)
            action = "paused rollout" if rollout.state == "paused" else "resumed rollout"
            await trail.add_entry(connection, by, action, stored.endpoint, note=rollout.reason)

    def _change(self, stored: StoredRollout, rollout: Rollout, before: EndpointRevision) -> EndpointChange:
        if rollout.state in ("done", "back"):
            version = parse_version(next(iter(rollout.shares.of)))
            restores = stored.before if rollout.state == "back" else None
            action = "finished rollout" if rollout.state == "done" else "took rollout back"
            return EndpointChange(
                stored.endpoint, before.setup.with_version(version), before.revision, restores, action=action, note=rollout.reason
            )
        assert before.counted is not None
        counted = replace(read_counted_rollout(before.counted), share=rollout.shares.of[rollout.new], step=rollout.step)
        setup = before.setup.with_shares(rollout.shares)
        action, counts = "moved rollout on", write_counted_rollout(counted)
        return EndpointChange(
            stored.endpoint, setup, before.revision, rollout=stored.number, counted=counts, action=action, note=rollout.reason
        )
