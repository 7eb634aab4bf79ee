"""Stores the deletion of endpoints. A deleted endpoint keeps its revisions; it can be given back as it was for a day.

After that its name is free: an endpoint that is made under the same name starts without history, reviews and demanded approvals. Records,
windows and the trail stay.
"""

from __future__ import annotations

from dataclasses import dataclass
from datetime import datetime, timedelta

from psycopg import AsyncConnection
from psycopg.rows import TupleRow

from lamppost.core.endpoint.setup import read_setup
from lamppost.core.errors import Conflict, NotAllowed, NotFound
from lamppost.store import alerts, rollouts, trail
from lamppost.store.database import Pool, announce
from lamppost.store.endpoints import EndpointRevision, free_name, newest_revision, revive_endpoint
from lamppost.store.hub.outpost_rollouts import end_replaced_outpost_rollout
from lamppost.store.trail import ChangedBy

RESTORABLE_FOR = timedelta(days=1)

_LATEST_CALLS = 200_000
"""How many calls are looked through for callers, the latest ones, so that the answer comes at once for busy endpoints too."""


@dataclass(frozen=True, slots=True)
class DeletedEndpoint:
    """An endpoint that was deleted. served : what it served, in words. restorable_until : None once it is gone for good."""

    name: str
    deleted_at: datetime
    deleted_by: str
    restorable_until: datetime | None
    served: str


@dataclass(frozen=True, slots=True)
class EndpointCaller:
    """A token that has called an endpoint: how many calls, and the last of them."""

    token: str
    calls: int
    last_at: datetime


async def list_callers(pool: Pool, endpoint: str, since: datetime) -> list[EndpointCaller]:
    """The tokens that called an endpoint since then, the one with most calls first; of the last 200,000 recorded calls or a
    few more.
    """
    async with pool.connection() as connection:
        rows = await connection.execute(
            "SELECT coalesce(token, ''), count(*), max(at) FROM call_heads WHERE at >= %(since)s AND NOT shadow AND block = ANY(ARRAY("
            "SELECT number FROM (SELECT number, sum(calls) OVER (ORDER BY last_at DESC, number) - calls AS later FROM call_blocks"
            " WHERE endpoint = %(endpoint)s AND last_at >= %(since)s) counted WHERE later < %(most)s)) GROUP BY 1 ORDER BY 2 DESC, 1",
            {"endpoint": endpoint, "since": since, "most": _LATEST_CALLS},
        )
        return [EndpointCaller(*row) for row in await rows.fetchall()]


async def list_deleted_endpoints(pool: Pool) -> list[DeletedEndpoint]:
    """The endpoints that can be given back, the last one that was deleted first."""
    async with pool.connection() as connection:
        rows = await connection.execute(
            "SELECT e.name, e.deleted_at, e.deleted_by, e.restorable_until, r.setup FROM endpoints e JOIN LATERAL"
            " (SELECT setup FROM endpoint_revisions WHERE endpoint = e.name ORDER BY revision DESC LIMIT 1) r ON true"
            " WHERE e.restorable_until > now() ORDER BY e.deleted_at DESC, e.name"
        )
        return [DeletedEndpoint(name, at, by, until, read_setup(setup).summary()) for name, at, by, until, setup in await rows.fetchall()]


async def delete_endpoint(pool: Pool, endpoint: str, by: ChangedBy, may_drop_approvals: bool, for_good: bool = False) -> DeletedEndpoint:
    """Delete an endpoint, its open alerts and its rollout, in a transaction that notifies every node.

    for_good : without the day in which it can be given back; also for an endpoint that was deleted already.
    may_drop_approvals : whether the caller may end a demand for approvals. Raise NotFound or NotAllowed.
    """
    async with pool.connection() as connection, connection.transaction():
        rows = await connection.execute(
            "SELECT approvals, deleted_at, restorable_until FROM endpoints WHERE name = %s FOR UPDATE", (endpoint,)
        )
        row, revision = await rows.fetchone(), await newest_revision(connection, endpoint)
        if row is None or revision is None or (row[1] is not None and (row[2] is None or not for_good)):
            raise NotFound(f"there is no endpoint {endpoint!r}; see lamppost endpoints")
        if row[0] and not may_drop_approvals:
            raise NotAllowed(f"{endpoint} demands approvals, so only an admin may delete it")
        if row[1] is None:
            await rollouts.end_replaced_rollout(connection, endpoint, f"{by.token} deleted {endpoint}")
            await end_replaced_outpost_rollout(connection, endpoint, None, f"{by.token} deleted {endpoint}")
            await alerts.resolve_alerts_of(connection, endpoint)
        deleted = await connection.execute(
            "UPDATE endpoints SET deleted_at = coalesce(deleted_at, now()), deleted_by = coalesce(deleted_by, %s),"
            " restorable_until = now() + %s WHERE name = %s RETURNING name, deleted_at, deleted_by, restorable_until",
            (by.token, timedelta(0) if for_good else RESTORABLE_FOR, endpoint),
        )
        if for_good:
            await free_name(connection, endpoint)
        marked = await deleted.fetchone()
        assert marked is not None
        action = "deleted for good" if for_good else "deleted"
        await trail.add_entry(connection, by, action, endpoint, {"serving": revision.setup.summary()})
        await announce(connection, "routes")
        name, deleted_at, deleted_by, until = marked
        return DeletedEndpoint(name, deleted_at, deleted_by, None if for_good else until, revision.setup.summary())


async def restore_endpoint(pool: Pool, endpoint: str, by: ChangedBy) -> EndpointRevision:
    """Give a deleted endpoint back as it was. Raise NotFound, or Conflict where it is not deleted or a version of it cannot serve."""
    async with pool.connection() as connection, connection.transaction():
        rows = await connection.execute(
            "SELECT deleted_at IS NULL, coalesce(restorable_until > now(), false) FROM endpoints WHERE name = %s FOR UPDATE", (endpoint,)
        )
        row, revision = await rows.fetchone(), await newest_revision(connection, endpoint)
        if row is None or revision is None:
            raise NotFound(f"there is no endpoint {endpoint!r}, deleted or not; see lamppost endpoints --deleted")
        if row[0]:
            raise Conflict(f"{endpoint} is not deleted")
        if not row[1]:
            raise Conflict(f"{endpoint} was deleted over a day ago, or for good; make it anew: lamppost point {endpoint} MODEL@N")
        await check_serviceable(connection, revision)
        await revive_endpoint(connection, endpoint)
        await trail.add_entry(connection, by, "gave back", endpoint, after={"serving": revision.setup.summary()})
        await announce(connection, "routes")
        return revision


async def check_serviceable(connection: AsyncConnection[TupleRow], revision: EndpointRevision) -> None:
    """Raise Conflict if a version of a revision was deleted or retired."""
    unfit = await connection.execute(
        "SELECT v.model || '@' || v.number, v.deleted_at IS NOT NULL FROM revision_versions r JOIN versions v USING (model, number)"
        " WHERE r.endpoint = %s AND r.revision = %s AND (v.deleted_at IS NOT NULL OR v.retired_at IS NOT NULL) FOR SHARE OF v",
        (revision.endpoint, revision.revision),
    )
    if row := await unfit.fetchone():
        raise Conflict(
            f"{revision.endpoint} served {row[0]}, which is {'deleted' if row[1] else 'retired'};"
            f" make it anew with another version: lamppost point {revision.endpoint} MODEL@N"
        )


async def free_expired_names(pool: Pool) -> int:
    """Free the names of endpoints that were deleted over a day ago; returns how many."""
    async with pool.connection() as connection, connection.transaction():
        rows = await connection.execute("SELECT name FROM endpoints WHERE restorable_until <= now() FOR UPDATE SKIP LOCKED")
        names = [name for (name,) in await rows.fetchall()]
        for name in names:
            await free_name(connection, name)
        return len(names)
