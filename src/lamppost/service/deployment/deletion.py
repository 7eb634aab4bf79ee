"""Deletes endpoints and versions on one node, and gives endpoints back. Other nodes follow with the notification.

An endpoint that somebody else calls is deleted only with ``break_callers``. A version is deleted only when nothing refers to it.
"""

from __future__ import annotations

from dataclasses import dataclass
from datetime import UTC, datetime, timedelta

from lamppost.core.errors import BreaksCallers
from lamppost.core.quantities import few_names
from lamppost.core.roles import MAY, Role
from lamppost.service.deployment.deployment import Deployment
from lamppost.store.database import Pool
from lamppost.store.deletion import endpoint_deletion, version_deletion
from lamppost.store.deletion.endpoint_deletion import DeletedEndpoint, EndpointCaller
from lamppost.store.deletion.version_deletion import DeletedVersions
from lamppost.store.endpoints import EndpointRevision
from lamppost.store.trail import ChangedBy

CALLERS_OF = timedelta(days=7)
_SHOWN = 3


@dataclass(frozen=True, slots=True)
class EndpointDeletion:
    """A deletion that was made. callers : who had called the endpoint within the last week."""

    endpoint: DeletedEndpoint
    callers: list[EndpointCaller]


class Deletions:
    """Makes deletions for one node."""

    def __init__(self, pool: Pool, deployment: Deployment) -> None:
        self._pool = pool
        self._deployment = deployment

    async def recent_callers(self, endpoint: str) -> list[EndpointCaller]:
        """The tokens that called an endpoint within the last week, the one with most calls first."""
        return await endpoint_deletion.list_callers(self._pool, endpoint, datetime.now(UTC) - CALLERS_OF)

    async def delete_endpoint(self, endpoint: str, by: ChangedBy, role: Role, break_callers: bool, for_good: bool) -> EndpointDeletion:
        """Delete an endpoint. Raise NotFound, NotAllowed, or BreaksCallers where others called it within the last week."""
        served = endpoint in self._deployment.table.by_endpoint
        if not for_good:
            self._deployment.table.find_route(endpoint)  # the error names the endpoints there are
        callers = await self.recent_callers(endpoint)
        others = [caller for caller in callers if caller.token != by.token]
        if others and served and not break_callers:
            names = few_names([f"{caller.token} ({caller.calls:,})" for caller in others], _SHOWN)
            calls, last = sum(caller.calls for caller in others), max(caller.last_at for caller in others)
            raise BreaksCallers(
                f"{endpoint} was called {calls:,} times within the last week, last at {last:%Y-%m-%d %H:%M} UTC, by {names}."
                f" Nothing was deleted; delete it anyway with: lamppost delete endpoint {endpoint} --anyway",
                refused=calls,
                calls=calls,
            )
        deleted = await endpoint_deletion.delete_endpoint(self._pool, endpoint, by, "tokens" in MAY[role], for_good)
        await self._deployment.reconciler.reconcile()
        return EndpointDeletion(deleted, callers)

    async def restore_endpoint(self, endpoint: str, by: ChangedBy) -> EndpointRevision:
        """Give an endpoint back as it was; it opens in the background. Raise NotFound or Conflict."""
        revision = await endpoint_deletion.restore_endpoint(self._pool, endpoint, by)
        await self._deployment.reconciler.reconcile()
        return revision

    async def delete_versions(self, model: str, number: int | None, by: ChangedBy) -> DeletedVersions:
        """Delete one version of a model, or all with None. Raise NotFound or Conflict."""
        return await version_deletion.delete_versions(self._pool, model, number, by)
