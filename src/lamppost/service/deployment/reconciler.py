"""Makes this node serve the revisions in the database: at the start, after every notification, and every ten seconds. A new lane is opened
and proven before its route moves. Open endpoints are swapped in place; sleeping endpoints stay asleep until the next request; an endpoint
whose version cannot be opened is down, with the reason, and is tried again later.

With a hundred thousand endpoints it takes seconds to read all of them. So only those are read that were touched lately, and all of them
every ten minutes and after the database was away. A change is seen when its transaction has ended, and bears the time at which it was
written; what is read reaches back far enough for long transactions.
"""

from __future__ import annotations

import asyncio
from collections.abc import Mapping
from datetime import UTC, datetime, timedelta

from lamppost.service.deployment.activation import RouteActivation
from lamppost.service.deployment.lane_tuning import LaneTuning
from lamppost.service.deployment.leases import LaneLeases
from lamppost.service.deployment.route_table import Route, RouteTable
from lamppost.service.deployment.waking import Waking
from lamppost.store import endpoints
from lamppost.store.database import Pool
from lamppost.store.deletion import endpoint_deletion
from lamppost.store.endpoints import EndpointRevision

_READ_WHOLE_EVERY = timedelta(minutes=10)
_LONGEST_CHANGE = timedelta(minutes=2)
"""So long before the last reading a change may have been written that was not seen then."""


class Reconciler:
    """Reconciles the endpoints of one node."""

    def __init__(
        self, *, pool: Pool, table: RouteTable, leases: LaneLeases, activation: RouteActivation, waking: Waking, tuning: LaneTuning
    ) -> None:
        self._pool = pool
        self._table = table
        self._leases = leases
        self._activation = activation
        self._waking = waking
        self._tuning = tuning
        self._turn = asyncio.Lock()
        self._read_at: datetime | None = None
        self._whole_at = datetime.min.replace(tzinfo=UTC)

    async def reconcile(self) -> None:
        """Serve the newest revision of every endpoint."""
        async with self._turn:
            begun = await endpoints.database_time(self._pool)
            if self._read_at is None or begun - self._whole_at > _READ_WHOLE_EVERY or begun < self._read_at:
                self._read_at = None  # a fault on the way leaves it so
                await self.serve_revisions(await endpoints.list_revisions(self._pool))
                self._whole_at = begun
            else:
                since, self._read_at = self._read_at - _LONGEST_CHANGE, None
                touched = await endpoints.list_touched(self._pool, since)
                for endpoint in touched.gone:
                    self.take_away(endpoint)
                again = [route.in_force for route in self._table.by_endpoint.values() if route.failure]
                await self._serve({revision.endpoint: revision for revision in (*again, *touched.revisions)})
            self._read_at = begun
            self._table.deleted = {deleted.name: deleted for deleted in await endpoint_deletion.list_deleted_endpoints(self._pool)}

    async def serve_revisions(self, revisions: list[EndpointRevision]) -> None:
        """Serve these revisions and nothing else."""
        revisions_by_endpoint = {revision.endpoint: revision for revision in revisions}
        for endpoint in self._table.by_endpoint.keys() - revisions_by_endpoint.keys():
            self.take_away(endpoint)
        await self._serve(revisions_by_endpoint)

    def take_away(self, endpoint: str) -> None:
        """Serve an endpoint no more."""
        if endpoint in self._table.by_endpoint:
            self._activation.put(endpoint, None)
            self._activation.keep_for_rollback(endpoint, [])

    async def _serve(self, revisions: Mapping[str, EndpointRevision]) -> None:
        """Serve revisions, by their endpoints, where these do not serve them already."""
        changed = []
        for endpoint, revision in revisions.items():
            route = self._table.by_endpoint.get(endpoint)
            if route is None:
                self._activation.put(endpoint, Route(revision))
                if self._table.settled:
                    self._waking.wake(endpoint)
            elif route.in_force.revision < revision.revision or route.failure:
                changed.append(revision)
        await asyncio.gather(*(self._settle(revision) for revision in changed))
        self._table.settled = True

    async def serve_unstored(self, revision: EndpointRevision) -> None:
        """Serve the database's revision in place of a newer one that this node serves but that was never stored."""
        async with self._table.lock(revision.endpoint):
            await self._waking.open_revision(revision)

    async def _settle(self, revision: EndpointRevision) -> None:
        async with self._table.lock(revision.endpoint):
            route = self._table.by_endpoint[revision.endpoint]
            if route.in_force.revision > revision.revision:
                return
            if route.in_force.revision == revision.revision and (route.predictor is not None or route.stays_down):
                return
            before = route.setup.versions
            await self._waking.open_revision(revision)
            self._tuning.apply_to(self._leases, before)
