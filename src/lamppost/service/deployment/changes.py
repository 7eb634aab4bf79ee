"""Checks and makes changes of what endpoints serve, and goes back.

A change that would break callers, or that lacks a review, is refused before anything is changed.
"""

from __future__ import annotations

import asyncio
import logging
from collections import Counter
from collections.abc import Iterable, Mapping, Sequence
from dataclasses import dataclass, replace
from datetime import UTC, datetime, timedelta
from typing import Any

import orjson

from lamppost.core.artifact.manifest import read_manifest
from lamppost.core.endpoint.endpoint_schema import EndpointSchema, endpoint_schema
from lamppost.core.endpoint.setup import EndpointSetup
from lamppost.core.errors import BadRequest, BreaksCallers, Conflict, LampPostError, NotAllowed
from lamppost.core.names import VersionName, check_name
from lamppost.core.payload.recorded_bodies import request_as_sent
from lamppost.core.payload.validation_plan import ValidationPlan
from lamppost.core.schema.fields import Field, Schema
from lamppost.service.deployment.deployment import Deployment
from lamppost.service.deployment.side_by_side import do_for_each
from lamppost.service.deployment.switching import MadeChange
from lamppost.store import call_search, endpoints, packages, records, reviews
from lamppost.store.database import AWAY, Pool
from lamppost.store.endpoints import EndpointChange, EndpointRevision
from lamppost.store.trail import ChangedBy

log = logging.getLogger("lamppost.changes")

_LOOKED_AT = 2_000
_CHECKED_AT_ONCE = 4
"""Most calls of the last hour that are tried against a changed schema."""
_PATIENCE_S = 0.5
_REMEMBERED = 50
"""Latest revisions of an endpoint that are kept in memory for going back."""
_AGAIN_S = 0.5
_GIVE_UP_S = 600.0


@dataclass(frozen=True, slots=True)
class CallerBreakage:
    """How many calls of the last hour a setup would refuse. refusals : the most frequent reasons, each with its number of calls."""

    calls: int
    looked_at: int
    refused: int
    refusals: tuple[tuple[str, int], ...]

    def sentence(self, what: str) -> str:
        """The breakage in one sentence. what : what the setup serves."""
        of = f"the last {self.looked_at:,} of {self.calls:,} calls" if self.looked_at < self.calls else f"{self.calls:,} calls"
        reasons = "; ".join(f"{reason} ({count:,})" for reason, count in self.refusals)
        return f"{what} would refuse {self.refused:,} of {of} that were answered in the last hour: {reasons}"


@dataclass(frozen=True, slots=True)
class ChangeOverrides:
    """Checks that a caller overrides. break_callers : callers may be refused. override : the reason for skipping the review."""

    break_callers: bool = False
    override: str | None = None


NO_OVERRIDES = ChangeOverrides()


@dataclass(frozen=True, slots=True)
class RollbackResult:
    """The result of a rollback. stored : whether the database has it already."""

    split: EndpointRevision
    before: EndpointRevision
    stored: bool


class EndpointChanges:
    """Makes changes of endpoints on one node."""

    def __init__(self, pool: Pool, deployment: Deployment) -> None:
        self._pool = pool
        self._deployment = deployment
        self._past: dict[str, list[EndpointRevision]] = {}
        self._writing: set[asyncio.Task[EndpointRevision | None]] = set()

    async def make_changes(
        self,
        changes: Sequence[EndpointChange],
        by: ChangedBy,
        role: str,
        overrides: ChangeOverrides = NO_OVERRIDES,
        retires: VersionName | None = None,
    ) -> list[MadeChange]:
        """Check and make changes, all or none. Raise Conflict where callers would break or a review lacks, and what opening raises.

        retires : a version that serves nothing after the changes, and is retired with them.
        """
        checked = await do_for_each(changes, lambda change: self.check_change(change, role, overrides), _CHECKED_AT_ONCE)

        async def commit(ready: Sequence[EndpointChange]) -> list[MadeChange]:
            return await endpoints.change_endpoints(self._pool, ready, by, retires)

        changed = await self._deployment.switching.switch(checked, commit)
        if len(changed) > 1:
            await self.refresh_history()  # of all in one question
        for revision, before in changed:
            await self._keep_for_rollback(revision.endpoint, before)
        return changed

    async def replace_and_retire(
        self, version: VersionName, replacement: VersionName, by: ChangedBy, role: str, overrides: ChangeOverrides
    ) -> list[MadeChange]:
        """Put another version in the place of one, in every endpoint that serves or shadows it, and retire it: all or nothing."""
        if version == replacement:
            raise BadRequest(f"{version} cannot be replaced with itself")
        changes = [
            EndpointChange(name, route.setup.with_replaced(version, replacement), route.in_force.revision, action="replaced a version")
            for name, route in sorted(self._deployment.table.by_endpoint.items())
            if version in (*route.setup.versions, *route.setup.shadow_versions)
        ]
        if changes:
            return await self.make_changes(changes, by, role, overrides, retires=version)
        await packages.get_version(self._pool, replacement)
        await packages.retire_version(self._pool, version, False, by)
        return []

    async def check_change(self, change: EndpointChange, role: str, overrides: ChangeOverrides) -> EndpointChange:
        """Check a change. Returns the change, with a note for the trail if a rule was overridden. Raise Conflict or NotAllowed."""
        check_name(change.endpoint, "endpoint")
        present = self._deployment.table.find_setup(change.endpoint)
        change = replace(change, setup=await self._deployment.remote.with_descriptions(change.setup, change.endpoint, present))
        serving = set(present.versions) if present is not None else set()
        new = [version for version in change.setup.versions if version not in serving]
        for version in change.setup.versions:
            if (await packages.get_version(self._pool, version)).retired_at is not None:
                raise Conflict(f"{version} is retired; choose another version, or take it out: lamppost retire {version} --undo")
        if new:
            needed, lacking = await reviews.unapproved_versions(self._pool, change.endpoint, new)
            if lacking:
                change = _without_review(change, needed, lacking, role, overrides)
        if present is not None and new and not overrides.break_callers:
            broken = await self.caller_breakage(change.endpoint, change.setup)
            if broken.refused:
                raise BreaksCallers(
                    f"{broken.sentence(change.setup.summary())}. Nothing was changed; do it anyway with --anyway, or see: "
                    f"lamppost diff {present.versions[0]} {new[0]}",
                    refused=broken.refused,
                    calls=broken.calls,
                )
        return change

    async def schema_of_setup(self, setup: EndpointSetup) -> EndpointSchema:
        """The schema that a setup promises callers."""
        versions = [await packages.get_version(self._pool, name) for name in setup.versions]

        def read() -> EndpointSchema:
            return endpoint_schema(setup, {version.name: read_manifest(version.manifest.encode()) for version in versions})

        return await asyncio.to_thread(read)

    async def caller_breakage(self, endpoint: str, setup: EndpointSetup) -> CallerBreakage:
        """How many of the calls that were answered in the last hour a setup would refuse."""
        since = datetime.now(UTC) - timedelta(hours=1)
        sent = await call_search.recorded_inputs(self._pool, endpoint, since, _LOOKED_AT)
        past = (await records.endpoint_load(self._pool, since, [endpoint])).get(endpoint)
        schema, present = await self.schema_of_setup(setup), self._deployment.table.find_setup(endpoint)
        kept = schema if present is None else _recorded_part(schema, await self.schema_of_setup(present))
        plan = await asyncio.to_thread(ValidationPlan, kept.inputs, options=kept.options)
        reasons: Counter[str] = Counter()
        refused = await asyncio.to_thread(_refused, plan, [call.input for call in sent], reasons, setup.lenient)
        calls = max(len(sent), past.calls - past.refused - past.failed if past is not None else 0)
        return CallerBreakage(calls, len(sent), refused, tuple(reasons.most_common(3)))

    # -- going back ---------------------------------------------------------------------------------------------------

    async def find_rollback_target(self, endpoint: str) -> EndpointRevision | None:
        """The revision that going back restores, None if there is none. Needs no database if this node has seen the last change."""
        known = self._past.get(endpoint)
        if known is None or known[0].revision != self._deployment.table.find_route(endpoint).in_force.revision:
            known = self._past[endpoint] = await endpoints.endpoint_history(self._pool, endpoint, _REMEMBERED)
        target = endpoints.find_rollback_target(known)
        if target is None and len(known) >= _REMEMBERED:  # further back than is remembered
            target = endpoints.find_rollback_target(await endpoints.endpoint_history(self._pool, endpoint, 1_000_000))
        return target

    async def refresh_history(self) -> None:
        """Read the latest revisions of endpoints that have changed, so that going back needs no database."""
        routes = self._deployment.table.by_endpoint
        for endpoint in self._past.keys() - routes.keys():
            del self._past[endpoint]
        stale = [name for name, route in routes.items() if name not in self._past or self._past[name][0].revision < route.in_force.revision]
        if stale:
            self._past |= await endpoints.endpoint_histories(self._pool, stale, _REMEMBERED)

    @property
    def histories(self) -> Mapping[str, Sequence[EndpointRevision]]:
        """The latest revisions of each endpoint, the newest first, as far as they are in memory."""
        return self._past

    def put_histories(self, histories: Mapping[str, Sequence[EndpointRevision]]) -> None:
        """Take histories over that this node kept for times without the database."""
        self._past = {name: list(history) for name, history in histories.items()}

    async def roll_back(self, endpoint: str, by: ChangedBy, note: str | None = None) -> RollbackResult:
        """Restore what was served before: on this node at once, on other nodes as soon as the database has it."""
        present = self._deployment.table.find_route(endpoint).in_force
        target = await self.find_rollback_target(endpoint)
        if target is None:
            raise Conflict(f"{endpoint} has served nothing before {present.setup.summary()}; point it at another version instead")
        await self._deployment.switching.go_back(endpoint, present, target)
        self._past[endpoint].insert(0, self._deployment.table.find_route(endpoint).in_force)
        change = EndpointChange(endpoint, target.setup, present.revision, target.revision, action="went back", note=note)
        task = asyncio.create_task(self._write_back(change, by), name=f"go back {endpoint}")
        self._writing.add(task)
        task.add_done_callback(self._writing.discard)
        done, _ = await asyncio.wait([task], timeout=_PATIENCE_S)
        ahead = self._deployment.table.find_route(endpoint).in_force
        revision = task.result() if done else None
        if revision is not None:
            await self._keep_for_rollback(endpoint, present)
        return RollbackResult(revision or ahead, present, revision is not None)

    async def _write_back(self, change: EndpointChange, by: ChangedBy) -> EndpointRevision | None:
        """Store a rollback, however long the database is away. If somebody else made a change first, serve that instead."""
        deadline, told = asyncio.get_running_loop().time() + _GIVE_UP_S, False
        while True:
            try:
                return (await endpoints.change_endpoint(self._pool, change, by))[0]
            except AWAY as error:
                if not told:
                    log.warning("%s went back on this node; the database does not take it yet: %s", change.endpoint, str(error).strip())
                    told = True
                if asyncio.get_running_loop().time() > deadline:
                    raise
                await asyncio.sleep(_AGAIN_S)
            except LampPostError:
                newest = (await endpoints.endpoint_history(self._pool, change.endpoint, 1))[0]
                await self._deployment.reconciler.serve_unstored(newest)
                raise

    async def _keep_for_rollback(self, endpoint: str, left: EndpointRevision | None) -> None:
        """Keep the lanes open that a rollback would need, and those that were served until now."""
        target = await self.find_rollback_target(endpoint)
        self._deployment.keep_for_rollback(endpoint, [revision.setup for revision in (target, left) if revision is not None])

    async def close(self) -> None:
        """Wait a moment for rollbacks that the database does not have yet."""
        if self._writing:
            await asyncio.wait(list(self._writing), timeout=5.0)


def _without_review(change: EndpointChange, needed: int, lacking: Sequence[str], role: str, overrides: ChangeOverrides) -> EndpointChange:
    """The change, if an admin overrides the review with a reason. Raise Conflict, NotAllowed or BadRequest otherwise."""
    what = f"{needed} approval{'s' if needed > 1 else ''}"
    if overrides.override is None:
        raise Conflict(
            f"{change.endpoint} demands {what} before {lacking[0]} serves it; ask for them with: "
            f"lamppost review ask {change.endpoint} {lacking[0]} --note '…'",
            lacking=list(lacking),
        )
    if role != "admin":
        raise NotAllowed(f"only an admin may go without review; {lacking[0]} needs {what}")
    if not overrides.override.strip():
        raise BadRequest("going without review needs a reason: --override REASON")
    log.warning("%s: %s serves WITHOUT REVIEW: %s", change.endpoint, ", ".join(lacking), overrides.override)
    return replace(change, action="overrode review", note=overrides.override)


def _recorded_part(schema: EndpointSchema, present: EndpointSchema) -> EndpointSchema:
    """A schema without the fields whose values are in no record, because they are private now: what callers send there is not known.

    A schema of private fields only takes any row.
    """
    private = {field.name for part in (present.inputs, present.options or ()) for field in part if field.private}

    def part(fields: Iterable[Field]) -> Schema:
        kept = tuple(field for field in fields if field.name not in private)
        return Schema(kept or (Field("nothing", "text", missing=True),))

    return replace(schema, inputs=part(schema.inputs), options=None if schema.options is None else part(schema.options))


def _refused(plan: ValidationPlan, bodies: Sequence[Any], reasons: Counter[str], lenient: bool) -> int:
    refused = 0
    for body in bodies:
        try:
            plan.read_body(orjson.dumps(request_as_sent(body)), [] if lenient else None)
        except LampPostError as error:
            faults = error.extra.get("faults") or []
            reasons[f"{faults[0].get('field') or 'row'} {_fault(faults[0])}" if faults else error.detail[:80]] += 1
            refused += 1
    return refused


def _fault(fault: dict[str, Any]) -> str:
    given = str(fault["given"])
    return "is missing" if given in ("nothing", "null") else f"is {given[:40]}, and {str(fault['expected'])[:80]} is wanted"
