"""Drives rollouts over outposts: counts the calls that outposts bring, and gives one outpost after the other the new version."""

from __future__ import annotations

import asyncio
import logging
from collections.abc import Sequence
from dataclasses import asdict
from datetime import UTC, datetime
from typing import Any

import orjson

from lamppost.core.endpoint.outpost_rollout import OutpostRollout, OutpostRolloutPlan, OutpostStanding, advance_outpost_rollout
from lamppost.core.endpoint.outposts import LATE_AFTER, OutpostVersion, versions_of_outpost
from lamppost.core.endpoint.rollout_counts import CountedRollout, RolloutTally, counted_versions
from lamppost.core.endpoint.rollout_guards import read_guards
from lamppost.core.endpoint.rollout_steering import RolloutAction
from lamppost.core.errors import BadRequest
from lamppost.core.names import VersionName, parse_version
from lamppost.core.payload.recorded_bodies import answer_rows
from lamppost.service.deployment.changes import ChangeOverrides, EndpointChanges
from lamppost.service.deployment.deployment import Deployment
from lamppost.service.deployment.rollout_driver import look_again
from lamppost.store import packages, trail
from lamppost.store.call_records import CallRecord, without_loads
from lamppost.store.database import Pool, announce
from lamppost.store.endpoints import EndpointChange
from lamppost.store.hub import outpost_rollouts, outposts
from lamppost.store.hub.outpost_rollouts import Connection, OutpostTurn, StoredOutpostRollout
from lamppost.store.hub.outposts import StoredOutpost
from lamppost.store.trail import ChangedBy

log = logging.getLogger("lamppost.rollouts")

LOOK_S = 1.0
_GOING = ("running", "paused")


class OutpostRollouts:
    """Drives them on one node; any node may."""

    def __init__(self, pool: Pool, deployment: Deployment, changes: EndpointChanges) -> None:
        self._pool = pool
        self._deployment = deployment
        self._changes = changes
        self._task: asyncio.Task[None] | None = None

    def start(self) -> None:
        """Begin to drive rollouts."""
        self._task = asyncio.create_task(look_again(self._advance_all, LOOK_S), name="rollouts over outposts")

    async def close(self) -> None:
        """Stop. Another node, or the next start, continues."""
        if self._task is not None:
            self._task.cancel()
            await asyncio.gather(self._task, return_exceptions=True)

    async def begin_rollout(
        self,
        endpoint: str,
        target: str,
        version: VersionName,
        plan: OutpostRolloutPlan,
        by: ChangedBy,
        role: str,
        overrides: ChangeOverrides,
    ) -> StoredOutpostRollout:
        """Begin a rollout to a version over the outposts that serve what is set for a target. Raise Conflict where one goes on."""
        note = await self.check_version(endpoint, version, role, overrides)
        wanted = await outposts.list_outpost_versions(self._pool)
        present = next((one for one in wanted if (one.endpoint, one.target) == (endpoint, target)), None)
        if present is None:
            raise BadRequest(
                f"nothing is set for {endpoint} at {target}, so there is no version to roll out from; set one first: "
                f"lamppost point {endpoint} MODEL@N --at {target}"
            )
        names = tuple(outpost.name for outpost in await outposts.list_outposts(self._pool) if _is_meant(outpost, present, wanted))
        rollout = OutpostRollout(target, present.version, str(version), names, plan)
        lamp = await self._deployment.package_cache.lamp_of((await packages.get_version(self._pool, parse_version(present.version))).digest)
        counted = counted_versions(rollout.old, rollout.new, plan.step.share, plan.guards, lamp.manifest.answers, lamp.reference)
        async with self._pool.connection() as connection, connection.transaction():
            await packages.require_version_in_service(connection, version)
            await outpost_rollouts.begin_outpost_rollout(connection, endpoint, rollout, counted, by.token)
            about = {"at": target, "version": str(version), "outposts": list(names)}
            await trail.add_entry(connection, by, "began rollout over outposts", endpoint, after=about, note=note)
        await self._advance_all()
        return (await outpost_rollouts.latest_outpost_rollouts(self._pool, endpoint, 1))[0]

    async def check_version(self, endpoint: str, version: VersionName, role: str, overrides: ChangeOverrides) -> str | None:
        """Hold a version for outposts against the rules for an endpoint: reviews, and what callers send. Returns a note for the trail."""
        present = self._deployment.table.find_route(endpoint).setup
        change = EndpointChange(endpoint, present.with_version(version))
        return (await self._changes.check_change(change, role, overrides)).note

    async def act_on_rollout(self, endpoint: str, what: RolloutAction, by: ChangedBy) -> StoredOutpostRollout:
        """Pause, resume, finish or take back a rollout now."""
        async with outpost_rollouts.hold_outpost_rollout(self._pool, endpoint=endpoint) as (connection, stored):
            assert stored is not None
            await self._put(connection, stored, getattr(stored.rollout, what)(by.token), stored.readings, by)
        return (await outpost_rollouts.latest_outpost_rollouts(self._pool, endpoint, 1))[0]

    async def list_turns(self, numbers: Sequence[int]) -> dict[int, list[OutpostTurn]]:
        """The turns of rollouts, by their numbers."""
        async with self._pool.connection() as connection:
            return await outpost_rollouts.list_turns(connection, numbers)

    async def count_calls(self, connection: Connection, outpost: str, calls: Sequence[CallRecord], ahead_s: float) -> None:
        """Count calls that an outpost brings, inside the transaction that stores them. ahead_s : of the clock that their times are of."""
        endpoints = sorted({call.endpoint for call in calls})
        for stored, turn in await outpost_rollouts.turns_of_outpost(connection, outpost, endpoints):
            of_turn = [call for call in calls if call.endpoint == stored.endpoint and _is_within(turn, call.at - ahead_s)]
            if of_turn:
                await asyncio.to_thread(_count, stored.counted, turn, of_turn)
                await outpost_rollouts.save_turn_counts(connection, stored.number, outpost, turn.counts)

    # -- looking ------------------------------------------------------------------------------------------------------

    async def _advance_all(self) -> None:
        for stored in await outpost_rollouts.running_outpost_rollouts(self._pool):
            await self._advance(stored.number)

    async def _advance(self, number: int) -> None:
        """Decide what is next in one rollout, unless another node holds its row."""
        async with outpost_rollouts.hold_outpost_rollout(self._pool, number) as (connection, stored):
            if stored is None:
                return
            turns = (await outpost_rollouts.list_turns(connection, [number]))[number]
            rollout = stored.rollout
            present = next((turn for turn in turns if turn.outpost == rollout.at and turn.until is None), None)
            minutes = 0.0 if present is None else (datetime.now(UTC) - present.since).total_seconds() / 60
            read = read_guards(rollout.plan.guards, [turn.counts for turn in turns])
            calls_of_new = 0 if present is None else present.counts.calls[1]
            standings = await self._standings(stored)
            if standings is None:  # set at the moment at which the rollout began
                after = rollout.end(f"something else was set for {rollout.target}")
            else:
                after = advance_outpost_rollout(rollout, read, calls_of_new, minutes, standings)
            readings = [asdict(reading) for reading in read]
            if after == rollout and readings == stored.readings:
                return
            await self._put(connection, stored, after, readings, ChangedBy(f"rollout of {stored.begun_by}"))
        if _serves_otherwise(rollout, after):
            log.info("%s: %s", stored.endpoint, after.reason)

    async def _standings(self, stored: StoredOutpostRollout) -> dict[str, OutpostStanding] | None:
        """How the outposts of a rollout are that still serve what is set for its target; None where that is not its old version."""
        rollout, wanted = stored.rollout, await outposts.list_outpost_versions(self._pool)
        target = next((one for one in wanted if (one.endpoint, one.target) == (stored.endpoint, rollout.target)), None)
        if target is None or target.version != rollout.old:
            return None
        return {
            outpost.name: _standing(outpost, stored.endpoint, rollout.new)
            for outpost in await outposts.list_outposts(self._pool)
            if outpost.name in rollout.outposts and _is_meant(outpost, target, wanted)
        }

    async def _put(
        self, connection: Connection, stored: StoredOutpostRollout, after: OutpostRollout, readings: list[dict[str, Any]], by: ChangedBy
    ) -> None:
        """Store a rollout's progress and what follows from it, in one transaction."""
        before = stored.rollout
        await outpost_rollouts.save_outpost_rollout(connection, stored.number, after, readings)
        if after.state == "done":
            action = "finished rollout over outposts"
            await outposts.set_version_within(connection, stored.endpoint, after.target, after.new, by, action, after.reason)
        elif _serves_otherwise(before, after) or after.state != before.state:
            action = {"back": "took rollout over outposts back", "ended": "ended rollout over outposts"}.get(
                after.state, "paused rollout over outposts" if after.state == "paused" else "moved rollout over outposts on"
            )
            await trail.add_entry(connection, by, action, stored.endpoint, note=after.reason)
            await announce(connection, outposts.CHANGE)


def _serves_otherwise(before: OutpostRollout, after: OutpostRollout) -> bool:
    """Whether outposts are to serve something else."""
    return (before.at, before.done, before.state in _GOING) != (after.at, after.done, after.state in _GOING)


def _is_meant(outpost: StoredOutpost, target: OutpostVersion, wanted: Sequence[OutpostVersion]) -> bool:
    """Whether an outpost serves what is set for a target."""
    if outpost.barred_at is not None or outpost.own_files:
        return False
    chosen = versions_of_outpost(outpost.name, outpost.labels, wanted).get(target.endpoint)
    return chosen is not None and chosen.target == target.target


def _standing(outpost: StoredOutpost, endpoint: str, new: str) -> OutpostStanding:
    report = outpost.report or {}
    there = outpost.heard_s_ago is not None and outpost.heard_s_ago < LATE_AFTER.total_seconds()
    served, refused = (report.get("served") or {}).get(endpoint) or {}, (report.get("refused") or {}).get(endpoint)
    versions = served.get("versions") or ([served["version"]] if served.get("version") else [])
    reason = refused["reason"] if refused is not None and refused["version"] == new else None
    return OutpostStanding("there" if there else "away", frozenset(versions), reason)


def _is_within(turn: OutpostTurn, at: float) -> bool:
    return turn.since.timestamp() <= at and (turn.until is None or at < turn.until.timestamp())


def _count(counted: CountedRollout, turn: OutpostTurn, calls: Sequence[CallRecord]) -> None:
    """Add calls to the counts of a turn, as a node counts those that it answers."""
    tally = RolloutTally(counted)
    for call in without_loads(calls):
        if call.shadow or call.version is None:
            continue
        if call.status >= 500:
            tally.failed(call.version)
        elif call.status < 400:
            tally.answered(call.version, call.total_us / 1e3, _answers(call.answer))
    if (more := tally.take_counts()) is not None:
        turn.counts.add(more)


def _answers(recorded: bytes | None) -> list[dict[str, Any]]:
    """The rows of a recorded answer; none where it did not fit the budget, or is no JSON."""
    try:
        return [] if recorded is None else answer_rows(orjson.loads(recorded))
    except ValueError:
        return []
