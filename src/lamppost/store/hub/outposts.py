"""Stores outposts: who may report as one, what each is to serve, and what it last said of itself."""

from __future__ import annotations

import secrets
from collections.abc import Sequence
from dataclasses import dataclass
from datetime import datetime
from typing import Any

import orjson
from psycopg import AsyncConnection
from psycopg.rows import TupleRow

from lamppost.core.endpoint.outposts import OutpostVersion, WantedVersions
from lamppost.core.errors import Conflict, NotFound
from lamppost.core.names import closest_name, parse_version
from lamppost.store import trail
from lamppost.store.database import Pool, announce
from lamppost.store.hub.outpost_rollouts import end_replaced_outpost_rollout, running_outpost_rollouts
from lamppost.store.packages import require_version_in_service
from lamppost.store.tokens import hash_of, new_secret
from lamppost.store.trail import ChangedBy

CHANGE = "outposts"
"""What nodes are told when an outpost is to serve something else."""
_COLUMNS = (
    "name, token, labels, payload_bytes_per_day, made_by, made_at, barred_at, instance, heard_at, report, records_at, clock_ahead_s,"
    " extract(epoch FROM now() - heard_at)::float8"
)


@dataclass(frozen=True, slots=True)
class StoredOutpost:
    """An outpost. token : the name of its token. payload_bytes_per_day : of inputs and answers that it may send, None for any amount.

    instance : by which a second process of the same name is known. heard_at, heard_s_ago : when it last reported; None before that.
    report : what it said then. records_at : time of the latest call whose record came. clock_ahead_s : of its clock, to the hub's.
    """

    name: str
    token: str
    labels: tuple[str, ...]
    payload_bytes_per_day: int | None
    made_by: str
    made_at: datetime
    barred_at: datetime | None
    instance: str | None
    heard_at: datetime | None
    report: dict[str, Any] | None
    records_at: datetime | None
    clock_ahead_s: float | None
    heard_s_ago: float | None

    @property
    def own_files(self) -> bool:
        """Whether it serves lamp files of its own, as it says, and not what is set for it."""
        return bool((self.report or {}).get("own_files"))

    def recorded_versions(self, wanted: WantedVersions) -> dict[str, str]:
        """By endpoint, the version whose calls it is to bring: of its own files as the hub calls them, else what is set for it."""
        if not self.own_files:
            return {endpoint: one.version for endpoint, one in wanted.at_outpost(self.name, self.labels).items()}
        report = self.report or {}
        served = {endpoint: one["version"] for endpoint, one in report["served"].items()}
        return {endpoint: version for endpoint, version in served.items() if version is not None and endpoint in report["may_report"]}


def _outpost(row: TupleRow) -> StoredOutpost:
    name, token, labels, *rest = row
    return StoredOutpost(name, token, tuple(labels), *rest)


async def add_outpost(
    pool: Pool, name: str, labels: Sequence[str], payload_bytes_per_day: int | None, by: ChangedBy, may_report: Sequence[str] = ()
) -> tuple[StoredOutpost, str]:
    """Add an outpost with a token of its own, whose secret is shown this once; raise Conflict for a name that is taken.

    may_report : endpoints of which it may bring records without being told to serve them.
    """
    secret, token = new_secret(), f"outpost-{name}"
    async with pool.connection() as connection, connection.transaction():
        made = await connection.execute(
            "INSERT INTO tokens (name, role, hash, made_by) VALUES (%s, 'outpost', %s, %s) ON CONFLICT DO NOTHING",
            (token, hash_of(secret), by.token),
        )
        if not made.rowcount:
            raise Conflict(f"there is a token {token!r} already, and so perhaps the outpost {name}; choose another name")
        rows = await connection.execute(
            f"INSERT INTO outposts (name, token, labels, payload_bytes_per_day, made_by) VALUES (%s, %s, %s, %s, %s)"
            f" RETURNING {_COLUMNS}".encode(),
            (name, token, list(labels), payload_bytes_per_day, by.token),
        )
        row = await rows.fetchone()
        assert row is not None
        await _note_endpoints(connection, name, may_report)
        await trail.add_entry(connection, by, "added outpost", name, after={"labels": list(labels), "may_report": list(may_report)})
        await announce(connection, "tokens")
    return _outpost(row), secret


async def list_outposts(pool: Pool) -> list[StoredOutpost]:
    """All outposts, by name."""
    async with pool.connection() as connection:
        rows = await connection.execute(f"SELECT {_COLUMNS} FROM outposts ORDER BY name".encode())
        return [_outpost(row) for row in await rows.fetchall()]


async def get_outpost(pool: Pool, name: str) -> StoredOutpost:
    """One outpost; raise NotFound with the closest name."""
    async with pool.connection() as connection:
        rows = await connection.execute(f"SELECT {_COLUMNS} FROM outposts WHERE name = %s".encode(), (name,))
        if (row := await rows.fetchone()) is not None:
            return _outpost(row)
    like = closest_name(name, [outpost.name for outpost in await list_outposts(pool)])
    raise NotFound(f"there is no outpost {name!r}; " + (f"did you mean {like}?" if like else "see lamppost outpost list"))


async def label_outpost(pool: Pool, name: str, labels: Sequence[str], by: ChangedBy) -> StoredOutpost:
    """Give an outpost other labels; raise NotFound."""
    before = await get_outpost(pool, name)
    async with pool.connection() as connection, connection.transaction():
        await connection.execute("UPDATE outposts SET labels = %s WHERE name = %s", (list(labels), name))
        await trail.add_entry(connection, by, "labelled outpost", name, before={"labels": before.labels}, after={"labels": list(labels)})
        await announce(connection, CHANGE)
    return await get_outpost(pool, name)


async def bar_outpost(pool: Pool, name: str, by: ChangedBy) -> StoredOutpost:
    """End the token of an outpost, so that it gets nothing more and brings nothing more; raise NotFound."""
    outpost = await get_outpost(pool, name)
    async with pool.connection() as connection, connection.transaction():
        await connection.execute("UPDATE outposts SET barred_at = coalesce(barred_at, now()) WHERE name = %s", (name,))
        await connection.execute("UPDATE tokens SET revoked_at = coalesce(revoked_at, now()) WHERE name = %s", (outpost.token,))
        await trail.add_entry(connection, by, "barred outpost", name)
        await announce(connection, "tokens")
        await announce(connection, CHANGE)
    return await get_outpost(pool, name)


async def list_outpost_versions(pool: Pool) -> list[OutpostVersion]:
    """Everything that outposts are to serve."""
    async with pool.connection() as connection:
        rows = await connection.execute("SELECT endpoint, target, version, number FROM outpost_versions ORDER BY endpoint, target")
        return [OutpostVersion(*row) for row in await rows.fetchall()]


async def load_wanted_versions(pool: Pool) -> WantedVersions:
    """Everything that outposts are to serve, by what was set and by rollouts that go on."""
    going = await running_outpost_rollouts(pool)
    return WantedVersions(await list_outpost_versions(pool), {stored.endpoint: stored.rollout for stored in going})


async def set_outpost_version(
    pool: Pool, endpoint: str, target: str, version: str | None, by: ChangedBy, note: str | None = None
) -> str | None:
    """Have outposts serve a version for an endpoint, or with None nothing any more; a rollout over them ends. Returns the version before,
    None for none.
    """
    async with pool.connection() as connection, connection.transaction():
        # as a rollout does: its row first, then the version
        await end_replaced_outpost_rollout(connection, endpoint, target, f"{by.token} set {version or 'nothing'} for {target}")
        return await set_version_within(connection, endpoint, target, version, by, "pointed outposts", note)


async def set_version_within(
    connection: AsyncConnection[TupleRow],
    endpoint: str,
    target: str,
    version: str | None,
    by: ChangedBy,
    action: str,
    note: str | None = None,
) -> str | None:
    """Set a version for a target inside the caller's transaction. action, note : for the trail."""
    if version is not None:
        await require_version_in_service(connection, parse_version(version))
    rows = await connection.execute(
        "DELETE FROM outpost_versions WHERE endpoint = %s AND target = %s RETURNING version", (endpoint, target)
    )
    row = await rows.fetchone()
    before = None if row is None else str(row[0])
    if version is not None:
        await connection.execute(
            "INSERT INTO outpost_versions (endpoint, target, version, set_by) VALUES (%s, %s, %s, %s)",
            (endpoint, target, version, by.token),
        )
    told_before, told_after = ({"at": target, "version": one} for one in (before, version))
    await trail.add_entry(connection, by, action, endpoint, before=told_before, after=told_after, note=note)
    await announce(connection, CHANGE)
    return before


async def note_endpoints(pool: Pool, name: str, endpoints: Sequence[str]) -> None:
    """Note endpoints that an outpost is told to serve; those that are gone meanwhile are left out."""
    async with pool.connection() as connection:
        await _note_endpoints(connection, name, endpoints)


async def _note_endpoints(connection: AsyncConnection[TupleRow], name: str, endpoints: Sequence[str]) -> None:
    await connection.execute(
        "INSERT INTO outpost_endpoints (outpost, endpoint) SELECT %s, name FROM endpoints WHERE name = ANY (%s) ON CONFLICT DO NOTHING",
        (name, list(endpoints)),
    )


async def endpoints_of_outpost(pool: Pool, name: str) -> frozenset[str]:
    """Every endpoint that an outpost was ever told to serve."""
    async with pool.connection() as connection:
        rows = await connection.execute("SELECT endpoint FROM outpost_endpoints WHERE outpost = %s", (name,))
        return frozenset(str(endpoint) for (endpoint,) in await rows.fetchall())


async def note_report(pool: Pool, name: str, instance: str, report: dict[str, Any], clock_ahead_s: float) -> None:
    """Note what an outpost says of itself."""
    async with pool.connection() as connection:
        await connection.execute(
            "UPDATE outposts SET instance = %s, heard_at = now(), report = %s, clock_ahead_s = %s WHERE name = %s",
            (instance, orjson.dumps(report).decode(), clock_ahead_s, name),
        )


async def seal_key(pool: Pool, name: str) -> bytes:
    """The key that the packages of an outpost are sealed with, made with the first question for it."""
    async with pool.connection() as connection:
        rows = await connection.execute(
            "UPDATE outposts SET seal_key = coalesce(seal_key, %s) WHERE name = %s AND barred_at IS NULL RETURNING seal_key",
            (secrets.token_bytes(32), name),
            binary=True,
        )
        row = await rows.fetchone()
    if row is None:
        raise NotFound(f"there is no outpost {name!r} that may have a key")
    return bytes(row[0])


async def note_records(pool: Pool, name: str, latest: datetime) -> None:
    """Note until when the records of an outpost have come."""
    async with pool.connection() as connection:
        await connection.execute("UPDATE outposts SET records_at = greatest(records_at, %s) WHERE name = %s", (latest, name))


async def package_chunks(pool: Pool, digest: str) -> list[tuple[str, int]]:
    """The chunks of a stored package in their order: SHA-256 and size in bytes of each; raise NotFound."""
    async with pool.connection() as connection:
        rows = await connection.execute(
            "SELECT encode(p.sha256, 'hex'), octet_length(c.data) FROM package_chunks p JOIN chunks c USING (sha256)"
            " WHERE p.digest = %s ORDER BY p.position",
            (digest,),
        )
        found = [(str(sha256), int(size)) for sha256, size in await rows.fetchall()]
    if not found:
        raise NotFound(f"no package {digest[:12]}… is stored")
    return found


async def read_chunk(pool: Pool, digest: str, sha256: bytes) -> bytes:
    """The content of a chunk of a stored package; raise NotFound."""
    async with pool.connection() as connection:
        rows = await connection.execute(
            "SELECT c.data FROM chunks c JOIN package_chunks p USING (sha256) WHERE p.digest = %s AND c.sha256 = %s LIMIT 1",
            (digest, sha256),
            binary=True,
        )
        row = await rows.fetchone()
    if row is None:
        raise NotFound(f"the package {digest[:12]}… has no chunk {sha256.hex()[:12]}…")
    return bytes(row[0])
