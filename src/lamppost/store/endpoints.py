"""Stores endpoints: the revision in force of each, and all earlier revisions."""

from __future__ import annotations

import asyncio
from collections.abc import Sequence
from dataclasses import dataclass, field
from datetime import datetime
from typing import Any

import orjson
from psycopg import AsyncConnection
from psycopg.rows import TupleRow

from lamppost.core.endpoint.setup import EndpointSetup, read_setup, without_findings, write_setup
from lamppost.core.errors import Conflict, NotFound
from lamppost.core.names import VersionName
from lamppost.store import packages, rollouts, trail
from lamppost.store.database import Pool, announce
from lamppost.store.trail import ChangedBy

_COLUMNS = "endpoint, revision, setup, since, changed_by, restores, rollout, counted"
_OF_ITS_OWN = "revision >= (SELECT first_revision FROM endpoints WHERE name = endpoint)"
"""Leaves out revisions of a former endpoint of the same name."""


@dataclass(frozen=True, slots=True)
class EndpointRevision:
    """A revision of an endpoint: its setup, since when, and who made it; revisions count from 1.

    restores : the earlier revision that this one puts back. rollout : the rollout that it is a step of. counted : what is counted then.
    """

    endpoint: str
    revision: int
    setup: EndpointSetup
    since: datetime
    changed_by: str
    restores: int | None = None
    rollout: int | None = None
    counted: dict[str, Any] | None = None

    @property
    def version(self) -> VersionName:
        """The version that stands for the endpoint where one is to be named."""
        return self.setup.versions[0]


@dataclass(frozen=True, slots=True)
class EndpointChange:
    """A change to be made. after : the revision that the change was based on. action, note : for the trail."""

    endpoint: str
    setup: EndpointSetup
    after: int | None = None
    restores: int | None = None
    rollout: int | None = None
    counted: dict[str, Any] | None = None
    approvals: int | None = None
    action: str = "set up"
    note: str | None = field(default=None)


async def list_revisions(pool: Pool) -> list[EndpointRevision]:
    """The revision in force of every endpoint that is not deleted, by name."""
    async with pool.connection() as connection:
        rows = await connection.execute(
            f"SELECT DISTINCT ON (endpoint) {_COLUMNS} FROM endpoint_revisions JOIN endpoints ON name = endpoint"
            " WHERE deleted_at IS NULL ORDER BY endpoint, revision DESC".encode()
        )
        found = await rows.fetchall()
    return await asyncio.to_thread(lambda: [_revision(*row) for row in found])


@dataclass(frozen=True, slots=True)
class TouchedEndpoints:
    """What has become of endpoints that were touched since some time. gone : names of those that are deleted."""

    revisions: list[EndpointRevision]
    gone: list[str]


async def list_touched(pool: Pool, since: datetime) -> TouchedEndpoints:
    """The endpoints that were touched since then. since : on the database's clock."""
    columns = ", ".join(f"r.{column}" for column in _COLUMNS.split(", "))
    async with pool.connection() as connection:
        rows = await connection.execute(
            f"SELECT e.name, e.deleted_at IS NOT NULL, {columns} FROM endpoints e JOIN LATERAL (SELECT * FROM endpoint_revisions"
            " WHERE endpoint = e.name ORDER BY revision DESC LIMIT 1) r ON true WHERE e.touched_at >= %s ORDER BY e.name".encode(),
            (since,),
        )
        found = await rows.fetchall()
    revisions = await asyncio.to_thread(lambda: [_revision(*row[2:]) for row in found if not row[1]])
    return TouchedEndpoints(revisions, [row[0] for row in found if row[1]])


async def database_time(pool: Pool) -> datetime:
    """The time on the database's clock."""
    async with pool.connection() as connection:
        row = await (await connection.execute("SELECT clock_timestamp()")).fetchone()
    assert row is not None
    time: datetime = row[0]
    return time


async def endpoint_history(pool: Pool, endpoint: str, limit: int = 50) -> list[EndpointRevision]:
    """The revisions of one endpoint, newest first."""
    async with pool.connection() as connection:
        query = f"SELECT {_COLUMNS} FROM endpoint_revisions WHERE endpoint = %s AND {_OF_ITS_OWN} ORDER BY revision DESC LIMIT %s"
        return [_revision(*row) for row in await (await connection.execute(query.encode(), (endpoint, limit))).fetchall()]


async def endpoint_histories(pool: Pool, names: Sequence[str], limit: int) -> dict[str, list[EndpointRevision]]:
    """The revisions of several endpoints, each newest first."""
    query = (
        f"SELECT {_COLUMNS} FROM (SELECT *, row_number() OVER (PARTITION BY endpoint ORDER BY revision DESC) AS at FROM endpoint_revisions"
        f" WHERE endpoint = ANY(%s) AND {_OF_ITS_OWN}) newest WHERE at <= %s ORDER BY endpoint, revision DESC"
    )
    histories: dict[str, list[EndpointRevision]] = {}
    async with pool.connection() as connection:
        for row in await (await connection.execute(query.encode(), (list(names), limit))).fetchall():
            histories.setdefault(row[0], []).append(_revision(*row))
    return histories


def _revision(endpoint: str, revision: int, setup: Any, since: datetime, changed_by: str, *more: Any) -> EndpointRevision:
    return EndpointRevision(endpoint, revision, read_setup(setup), since, changed_by, *more)


def find_rollback_target(past: Sequence[EndpointRevision]) -> EndpointRevision | None:
    """The revision that a rollback restores, from revisions with the newest first; None if there is none. Steps of rollouts are skipped,
    and so are revisions that an earlier rollback left, so that two rollbacks in a row go back twice.
    """
    if not past:
        return None
    present = at = past[0].restores or past[0].revision
    by_number = {revision.revision: revision for revision in past}
    setup = by_number[present].setup if present in by_number else past[0].setup
    while at > 1:
        at -= 1
        revision = by_number.get(at)
        if revision is None or revision.rollout is not None:
            continue
        if revision.setup != setup:
            return by_number.get(revision.restores or revision.revision, revision)
        at = revision.restores or at
    return None


async def rollback_versions(connection: AsyncConnection[TupleRow], endpoint: str) -> tuple[VersionName, ...]:
    """The versions that the next rollback of an endpoint would serve."""
    query = f"SELECT {_COLUMNS} FROM endpoint_revisions WHERE endpoint = %s AND {_OF_ITS_OWN} ORDER BY revision DESC"
    rows = await connection.execute(query.encode(), (endpoint,))
    target = find_rollback_target([_revision(*row) for row in await rows.fetchall()])
    return () if target is None else target.setup.versions


async def change_endpoint(pool: Pool, change: EndpointChange, by: ChangedBy) -> tuple[EndpointRevision, EndpointRevision | None]:
    """Make one change in a transaction that notifies every node; returns the new revision and the one before."""
    revisions = await change_endpoints(pool, [change], by)
    return revisions[0]


async def change_endpoints(
    pool: Pool, changes: Sequence[EndpointChange], by: ChangedBy, retires: VersionName | None = None
) -> list[tuple[EndpointRevision, EndpointRevision | None]]:
    """Make changes, all or none. Raise Conflict if one is based on a revision that is not in force any more. retires : a version that
    serves nothing after them, and is retired with them.
    """
    async with pool.connection() as connection, connection.transaction():
        revisions = [await add_revision(connection, change, by) for change in sorted(changes, key=lambda change: change.endpoint)]
        if retires is not None:
            await packages.retire_version_within(connection, retires, False, by)
        await announce(connection, "routes")
        return revisions


async def newest_revision(connection: AsyncConnection[TupleRow], endpoint: str) -> EndpointRevision | None:
    """The newest revision of an endpoint, None for a new endpoint."""
    query = f"SELECT {_COLUMNS} FROM endpoint_revisions WHERE endpoint = %s ORDER BY revision DESC LIMIT 1"
    row = await (await connection.execute(query.encode(), (endpoint,))).fetchone()
    return None if row is None else _revision(*row)


async def add_revision(
    connection: AsyncConnection[TupleRow], change: EndpointChange, by: ChangedBy
) -> tuple[EndpointRevision, EndpointRevision | None]:
    """Make one change inside the caller's transaction; the caller announces it."""
    endpoint, setup = change.endpoint, change.setup
    await connection.execute("INSERT INTO endpoints (name) VALUES (%s) ON CONFLICT DO NOTHING", (endpoint,))
    rows = await connection.execute("SELECT deleted_at IS NOT NULL FROM endpoints WHERE name = %s FOR UPDATE", (endpoint,))
    deleted = await rows.fetchone() == (True,)
    before = await newest_revision(connection, endpoint)
    now = 0 if before is None else before.revision
    if deleted and not await revive_endpoint(connection, endpoint):
        before = None
    if change.after is not None and change.after != (0 if deleted else now):
        message = f"{endpoint} was changed meanwhile: its revision is {now}, and this was made for {change.after}; look again"
        raise Conflict(message, now=now)
    for name in (*setup.versions, *setup.shadow_versions):
        await packages.require_version_in_service(connection, name)
    if change.rollout is None and before is not None and before.rollout is not None:
        await rollouts.end_replaced_rollout(connection, endpoint, f"{by.token} changed {endpoint} otherwise, to {setup.summary()}")
    if change.approvals is not None:
        await demand_approvals(connection, endpoint, change.approvals, by)
    counted = None if change.counted is None else orjson.dumps(change.counted).decode()
    insert = (
        "INSERT INTO endpoint_revisions (endpoint, revision, setup, changed_by, restores, rollout, counted)"
        " VALUES (%s, %s, %s, %s, %s, %s, %s)"
        f" RETURNING {_COLUMNS}"
    )
    written = write_setup(setup)
    values = (endpoint, now + 1, orjson.dumps(written).decode(), by.token, change.restores, change.rollout, counted)
    inserted = await (await connection.execute(insert.encode(), values)).fetchone()
    assert inserted is not None
    for name in dict.fromkeys((*setup.versions, *setup.shadow_versions)):
        await connection.execute(
            "INSERT INTO revision_versions (endpoint, revision, model, number) VALUES (%s, %s, %s, %s)",
            (endpoint, now + 1, name.model, name.number),
        )
    old, new = (None if of is None else write_setup(without_findings(of)) for of in (None if before is None else before.setup, setup))
    await trail.add_entry(connection, by, change.action, endpoint, old, new, change.note)
    return _revision(*inserted), before


async def revive_endpoint(connection: AsyncConnection[TupleRow], endpoint: str) -> bool:
    """Take the mark of deletion off an endpoint's row, inside the transaction of a change. Returns whether its past is still its own."""
    rows = await connection.execute("SELECT restorable_until > now() FROM endpoints WHERE name = %s", (endpoint,))
    row = await rows.fetchone()
    whole = row is not None and bool(row[0])
    if not whole:
        await free_name(connection, endpoint)
    await connection.execute(
        "UPDATE endpoints SET deleted_at = NULL, deleted_by = NULL, restorable_until = NULL WHERE name = %s", (endpoint,)
    )
    return whole


async def free_name(connection: AsyncConnection[TupleRow], endpoint: str) -> None:
    """Let an endpoint that is made under this name later have none of the past of this one."""
    await connection.execute(
        "UPDATE endpoints SET restorable_until = NULL, approvals = 0, first_revision ="
        " 1 + (SELECT coalesce(max(revision), 0) FROM endpoint_revisions WHERE endpoint = name) WHERE name = %s",
        (endpoint,),
    )
    await connection.execute("DELETE FROM outpost_versions WHERE endpoint = %s", (endpoint,))
    await connection.execute("DELETE FROM outpost_endpoints WHERE endpoint = %s", (endpoint,))
    await connection.execute("UPDATE reviews SET state = 'withdrawn' WHERE endpoint = %s AND state IN ('open', 'approved')", (endpoint,))


async def demand_approvals(connection: AsyncConnection[TupleRow], endpoint: str, approvals: int, by: ChangedBy) -> None:
    """Set how many approvals a version needs before it serves an endpoint."""
    approvals_before = await connection.execute(
        "SELECT approvals FROM endpoints WHERE name = %s AND deleted_at IS NULL FOR UPDATE", (endpoint,)
    )
    row = await approvals_before.fetchone()
    if row is None:
        raise NotFound(f"there is no endpoint {endpoint!r}")
    if row[0] != approvals:
        await connection.execute("UPDATE endpoints SET approvals = %s WHERE name = %s", (approvals, endpoint))
        await trail.add_entry(connection, by, "demanded approvals", endpoint, row[0], approvals)


async def list_demanded_approvals(pool: Pool) -> dict[str, int]:
    """The approvals that endpoints demand, for those that demand any."""
    async with pool.connection() as connection:
        rows = await connection.execute("SELECT name, approvals FROM endpoints WHERE approvals > 0 AND deleted_at IS NULL")
        return dict(await rows.fetchall())
