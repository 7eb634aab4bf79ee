"""Changes what endpoints serve on this node: opens and proves everything first, then has it stored, then serves it.

A change either happens for all of its endpoints or for none; whatever an endpoint served before goes on until the change stands.
"""

from __future__ import annotations

from collections.abc import Awaitable, Callable, Sequence
from contextlib import AsyncExitStack
from dataclasses import replace

from lamppost.runtime.lane import Lane
from lamppost.runtime.seat_opening import MEASURE_S
from lamppost.service.deployment.activation import RouteActivation
from lamppost.service.deployment.lane_tuning import LaneTuning
from lamppost.service.deployment.leases import LaneLeases
from lamppost.service.deployment.predictor_assembly import PredictorAssembly
from lamppost.service.deployment.route_table import Route, RouteTable
from lamppost.service.deployment.side_by_side import do_for_each
from lamppost.service.prediction.predictors import Predictor
from lamppost.store.endpoints import EndpointChange, EndpointRevision

MadeChange = tuple[EndpointRevision, EndpointRevision | None]
"""The revision that a change made, and the one before it; None for a new endpoint."""
_OPEN_AT_ONCE = 4
"""Changes whose versions are opened at the same time: while one is in its worker, another one is read."""
_ALL_MEASURED_S = 2.0
"""So long all new versions of a change are measured together."""
Commit = Callable[[Sequence[EndpointChange]], Awaitable[list[MadeChange]]]


class Switching:
    """Switches the endpoints of one node."""

    def __init__(
        self, *, table: RouteTable, leases: LaneLeases, activation: RouteActivation, assembly: PredictorAssembly, tuning: LaneTuning
    ) -> None:
        self._table = table
        self._leases = leases
        self._activation = activation
        self._assembly = assembly
        self._tuning = tuning

    async def switch(self, changes: Sequence[EndpointChange], commit: Commit) -> list[MadeChange]:
        """Open and prove all versions here, commit, then serve them. Returns each new revision and the one before.

        commit : stores the changes, all or none. Raise NotFound, ProofFailed, PackageRefused, Conflict or Unavailable; every endpoint then
        serves what it served before.
        """
        async with AsyncExitStack() as stack:
            for name in sorted({change.endpoint for change in changes}):
                await stack.enter_async_context(self._table.lock(name))
            measure_s = min(MEASURE_S, _ALL_MEASURED_S / max(1, len(changes)))

            async def open_change(change: EndpointChange) -> tuple[EndpointChange, Predictor, dict[str, Lane]]:
                setup = await self._assembly.with_resolved_lookups(change.setup)
                lanes = await stack.enter_async_context(self._leases.opened(setup.versions, measure_s))
                return replace(change, setup=setup), await self._assembly.assemble(change.endpoint, setup, lanes), lanes

            ready = await do_for_each(changes, open_change, _OPEN_AT_ONCE)
            switched = {revision.endpoint: (revision, before) for revision, before in await commit([change for change, _, _ in ready])}
            for change, predictor, lanes in ready:
                revision, before = switched[change.endpoint]
                self._activation.put(change.endpoint, Route(revision, predictor, tuple(lanes.values())))
                self._tuning.apply_to(self._leases, (*change.setup.versions, *(before.setup.versions if before else ())))
            return [switched[change.endpoint] for change in changes]

    async def go_back(self, endpoint: str, present: EndpointRevision, target: EndpointRevision) -> None:
        """Serve an earlier revision on this node at once, ahead of the database; the caller sees to it that the database follows."""
        setup = target.setup
        async with self._table.lock(endpoint):
            async with self._leases.opened(setup.versions) as lanes:
                ahead = replace(target, revision=present.revision + 1, restores=target.revision, counted=None, rollout=None)
                self._activation.put(endpoint, Route(ahead, await self._assembly.assemble(endpoint, setup, lanes), tuple(lanes.values())))
            self._tuning.apply_to(self._leases, (*setup.versions, *present.setup.versions))
