"""Stores packages, models and versions. The bytes of a package are kept in chunks named by their content."""

from __future__ import annotations

import hashlib
from collections.abc import Iterable, Mapping, Sequence
from dataclasses import dataclass
from datetime import datetime
from pathlib import Path
from typing import Literal

import anyio
import orjson
from psycopg import AsyncConnection
from psycopg.rows import TupleRow

from lamppost.core.errors import BodyTooLarge, Conflict, NotFound
from lamppost.core.names import VersionName
from lamppost.store import trail
from lamppost.store.database import CHUNKS_LOCK, NEW_VERSIONS, Pool, announce
from lamppost.store.trail import ChangedBy

Proven = Literal["not yet", "passed", "failed"]


@dataclass(frozen=True, slots=True)
class ListedVersion:
    """An immutable version in a list. proof : the result of the last replay; proof_summary : in words. measured : figures of its first
    opening, None before that.
    """

    model: str
    number: int
    digest: str
    size_bytes: int
    pushed_by: str
    pushed_at: datetime
    proof: Proven
    proof_summary: str | None
    proven_at: datetime | None
    measured: dict[str, float] | None
    retired_at: datetime | None
    retired_by: str | None

    @property
    def name(self) -> str:
        """``model@number``."""
        return f"{self.model}@{self.number}"


@dataclass(frozen=True, slots=True)
class StoredVersion(ListedVersion):
    """A stored version with its manifest, as JSON."""

    manifest: str


_LISTED = (
    "v.model, v.number, v.digest, p.size_bytes, v.pushed_by, v.pushed_at, v.proof, v.proof_summary, v.proven_at, v.measured,"
    " v.retired_at, v.retired_by"
)
_VERSIONS = "FROM versions v JOIN packages p ON p.digest = v.digest"


async def store_version(
    pool: Pool, model: str, digest: str, manifest: str, path: Path, by: ChangedBy, cut: Sequence[tuple[int, int]]
) -> tuple[VersionName, bool]:
    """Store a checked lamp file as the model's next version, whole or not at all. cut : start and end of its chunks.

    Returns the version and whether it is new: the same package pushed again is the version it already was.
    """
    size_bytes = (await anyio.Path(path).stat()).st_size
    async with pool.connection() as connection, connection.transaction():
        await lock_chunks(connection, shared=True)
        await connection.execute("INSERT INTO models (name) VALUES (%s) ON CONFLICT DO NOTHING", (model,))
        await connection.execute("SELECT 1 FROM models WHERE name = %s FOR UPDATE", (model,))
        row = await (await connection.execute("SELECT number FROM versions WHERE model = %s AND digest = %s", (model, digest))).fetchone()
        if row is not None:
            return VersionName(model, row[0]), False
        inserted = await connection.execute(
            "INSERT INTO packages (digest, size_bytes, manifest) VALUES (%s, %s, %s) ON CONFLICT DO NOTHING", (digest, size_bytes, manifest)
        )
        if inserted.rowcount:
            async with await anyio.open_file(path, "rb") as file:
                for position, (start, end) in enumerate(cut):
                    data = await file.read(end - start)
                    sha256 = hashlib.sha256(data).digest()
                    await connection.execute("INSERT INTO chunks (sha256, data) VALUES (%s, %s) ON CONFLICT DO NOTHING", (sha256, data))
                    await connection.execute("INSERT INTO package_chunks VALUES (%s, %s, %s)", (digest, position, sha256))
            await connection.execute(
                # only those that are awaited: chunks that many packages share would make pushes wait for each other
                "UPDATE chunks SET awaited_until = now() WHERE awaited_until > now()"
                " AND sha256 IN (SELECT sha256 FROM package_chunks WHERE digest = %s)",
                (digest,),
            )
        number = await (
            await connection.execute(
                "INSERT INTO versions (model, number, digest, pushed_by)"
                " SELECT %s, coalesce(max(number), 0) + 1, %s, %s FROM versions WHERE model = %s RETURNING number",
                (model, digest, by.token, model),
            )
        ).fetchone()
        assert number is not None
        await trail.add_entry(connection, by, "pushed", f"{model}@{number[0]}", after={"digest": digest, "size_bytes": size_bytes})
        await announce(connection, NEW_VERSIONS)
        return VersionName(model, number[0]), True


async def lock_chunks(connection: AsyncConnection[TupleRow], shared: bool = False) -> None:
    """Keep chunks from being deleted until the transaction ends (shared), or keep packages from being stored."""
    await connection.execute(f"SELECT pg_advisory_xact_lock{'_shared' if shared else ''}(%s)".encode(), (CHUNKS_LOCK,))


async def missing_chunks(pool: Pool, digests: Sequence[bytes]) -> list[bytes]:
    """The chunks that are not stored, by SHA-256. Stored chunks are kept for a day, even if no package uses them."""
    async with pool.connection() as connection:
        rows = await connection.execute(
            "UPDATE chunks SET awaited_until = now() + interval '1 day' WHERE sha256 = ANY(%s) RETURNING sha256", (list(digests),)
        )
        there = {bytes(sha256) for (sha256,) in await rows.fetchall()}
    return [sha256 for sha256 in dict.fromkeys(digests) if sha256 not in there]


async def delete_unused_chunks(connection: AsyncConnection[TupleRow], among: Sequence[bytes] | None = None) -> list[bytes]:
    """Delete chunks that no package uses and no push waits for; returns their SHA-256. among : only these.

    The caller holds `lock_chunks`.
    """
    deleted = await connection.execute(
        "DELETE FROM chunks c WHERE awaited_until <= now() AND (%s::bytea[] IS NULL OR sha256 = ANY(%s))"
        " AND NOT EXISTS (SELECT 1 FROM package_chunks p WHERE p.sha256 = c.sha256) RETURNING sha256",
        (among, among),
        binary=True,
    )
    return [bytes(sha256) for (sha256,) in await deleted.fetchall()]


async def store_chunk(pool: Pool, sha256: bytes, data: bytes) -> None:
    """Store one chunk, whose digest was checked."""
    async with pool.connection() as connection:
        await connection.execute("INSERT INTO chunks (sha256, data) VALUES (%s, %s) ON CONFLICT DO NOTHING", (sha256, data))


async def assemble_chunks(pool: Pool, digests: Sequence[bytes], to: Path, limit: int | None = None) -> list[tuple[int, int]]:
    """Write chunks one after the other to disk, and return where each begins and ends.

    Raise NotFound where one is not stored, BodyTooLarge where they are more than ``limit`` bytes.
    """
    cut: list[tuple[int, int]] = []
    async with pool.connection() as connection, await anyio.open_file(to, "wb") as file:
        for position, sha256 in enumerate(digests):
            row = await (await connection.execute("SELECT data FROM chunks WHERE sha256 = %s", (sha256,), binary=True)).fetchone()
            if row is None:
                raise NotFound(f"chunk {position} ({sha256.hex()[:12]}…) is not stored; send it first, then push again")
            start = cut[-1][1] if cut else 0
            cut.append((start, start + len(row[0])))
            if limit is not None and cut[-1][1] > limit:
                raise BodyTooLarge(f"the lamp file is over the limit of {limit:,} bytes", max_bytes=limit)
            await file.write(row[0])
    return cut


async def note_signatures(pool: Pool, digest: str, signatures: Iterable[tuple[str, str]]) -> None:
    """Keep signatures of a stored package, each as public key and signature."""
    async with pool.connection() as connection:
        for key, signature in signatures:
            await connection.execute(
                "INSERT INTO signatures (digest, key, signature) VALUES (%s, %s, %s) ON CONFLICT DO NOTHING", (digest, key, signature)
            )


async def list_signatures(pool: Pool, digest: str) -> list[tuple[str, str]]:
    """The signatures of a package: public key and signature."""
    async with pool.connection() as connection:
        rows = await connection.execute("SELECT key, signature FROM signatures WHERE digest = %s ORDER BY stored_at, key", (digest,))
        return [(key, signature) for key, signature in await rows.fetchall()]


async def fetch_package(pool: Pool, digest: str, to: Path) -> None:
    """Write a stored lamp file to disk."""
    async with pool.connection() as connection:
        rows = await connection.execute("SELECT sha256 FROM package_chunks WHERE digest = %s ORDER BY position", (digest,))
        digests = [bytes(sha256) for (sha256,) in await rows.fetchall()]
    await assemble_chunks(pool, digests, to)


async def get_version(pool: Pool, name: VersionName) -> StoredVersion:
    """One version; raise NotFound that names the ones there are, or says who deleted it."""
    async with pool.connection() as connection:
        query = f"SELECT {_LISTED}, p.manifest {_VERSIONS} WHERE v.model = %s AND v.number = %s".encode()
        row = await (await connection.execute(query, (name.model, name.number))).fetchone()
        if row is not None:
            return StoredVersion(*row)
        tombstone = "SELECT deleted_at, deleted_by FROM versions WHERE model = %s AND number = %s"
        deleted = await (await connection.execute(tombstone, (name.model, name.number))).fetchone()
        others = "SELECT number FROM versions WHERE model = %s AND deleted_at IS NULL ORDER BY number DESC LIMIT 5"
        rows = await (await connection.execute(others, (name.model,))).fetchall()
    if deleted is not None:
        raise NotFound(f"{name} was deleted by {deleted[1]} on {deleted[0]:%Y-%m-%d}; its package is gone, its records stay")
    if rows:
        raise NotFound(f"there is no {name}; versions of {name.model} are {', '.join(f'{name.model}@{n}' for (n,) in rows)}")
    raise NotFound(f"there is no model {name.model!r}; push a package first: lamppost push {name.model}.lamp")


@dataclass(frozen=True, slots=True)
class OpenableVersion:
    """What opening a version needs to know. signatures : of its package, each as public key and signature."""

    digest: str
    proof: Proven
    measured: dict[str, float] | None
    signatures: tuple[tuple[str, str], ...]


async def openable_version(pool: Pool, name: VersionName) -> OpenableVersion:
    """What opening a version needs; raise NotFound as `get_version` does."""
    found = await openable_versions(pool, [name])
    if str(name) not in found:
        await get_version(pool, name)  # the error names the versions there are
    return found[str(name)]


async def openable_versions(pool: Pool, names: Sequence[VersionName]) -> dict[str, OpenableVersion]:
    """What opening versions needs, by their names; those that are not there are left out."""
    async with pool.connection() as connection:
        rows = await connection.execute(
            "SELECT v.model || '@' || v.number, v.digest, v.proof, v.measured,"
            " coalesce((SELECT json_agg(json_build_array(key, signature) ORDER BY stored_at, key) FROM signatures s"
            " WHERE s.digest = v.digest), '[]') FROM versions v"
            " JOIN unnest(%s::text[], %s::numeric[]) AS asked (model, number) USING (model, number) WHERE v.deleted_at IS NULL",
            ([name.model for name in names], [name.number for name in names]),
        )
        return {
            name: OpenableVersion(digest, proof, measured, tuple((key, signature) for key, signature in signatures))
            for name, digest, proof, measured, signatures in await rows.fetchall()
        }


async def names_of_packages(pool: Pool, digests: Sequence[str]) -> dict[str, str]:
    """The version that a package is, by its digest; the newest where it was pushed more than once."""
    async with pool.connection() as connection:
        rows = await connection.execute(
            "SELECT DISTINCT ON (digest) digest, model || '@' || number FROM versions WHERE digest = ANY (%s) AND deleted_at IS NULL"
            " ORDER BY digest, pushed_at DESC",
            (list(digests),),
        )
        return dict(await rows.fetchall())


async def list_versions(pool: Pool, model: str | None = None) -> list[ListedVersion]:
    """All versions, newest first within a model, models by name."""
    async with pool.connection() as connection:
        rows = await connection.execute(
            f"SELECT {_LISTED} {_VERSIONS} WHERE %s::text IS NULL OR v.model = %s ORDER BY v.model, v.number DESC".encode(), (model, model)
        )
        return [ListedVersion(*row) for row in await rows.fetchall()]


async def known_digests(pool: Pool, digests: Iterable[str]) -> set[str]:
    """Those of the digests whose packages are stored."""
    async with pool.connection() as connection:
        rows = await connection.execute("SELECT digest FROM packages WHERE digest = ANY(%s)", (list(digests),))
        return {digest for (digest,) in await rows.fetchall()}


async def read_manifests(pool: Pool, digests: Sequence[str]) -> dict[str, str]:
    """The manifests of packages, as JSON, by digest."""
    async with pool.connection() as connection:
        rows = await connection.execute("SELECT digest, manifest FROM packages WHERE digest = ANY(%s)", (list(digests),))
        return dict(await rows.fetchall())


async def note_proof(pool: Pool, name: VersionName, proven: Proven, summary: str) -> None:
    """Store the result of proving a version."""
    async with pool.connection() as connection:
        await connection.execute(
            "UPDATE versions SET proof = %s, proof_summary = %s, proven_at = now() WHERE model = %s AND number = %s",
            (proven, summary, name.model, name.number),
        )


async def note_measurement(pool: Pool, name: VersionName, measured: Mapping[str, float]) -> None:
    """Store what the first opening of a version measured."""
    async with pool.connection() as connection:
        await connection.execute(
            "UPDATE versions SET measured = %s WHERE model = %s AND number = %s AND measured IS NULL",
            (orjson.dumps(dict(measured)).decode(), name.model, name.number),
        )


@dataclass(frozen=True, slots=True)
class ModelRecord:
    """Owner and purpose of a model; None where nobody has set them."""

    name: str
    owner: str | None
    purpose: str | None


async def list_models(pool: Pool) -> list[ModelRecord]:
    """All models that have a version, by name."""
    async with pool.connection() as connection:
        rows = await connection.execute(
            "SELECT name, owner, purpose FROM models WHERE EXISTS"
            " (SELECT 1 FROM versions WHERE model = name AND deleted_at IS NULL) ORDER BY name"
        )
        return [ModelRecord(*row) for row in await rows.fetchall()]


async def describe_model(pool: Pool, record_after: ModelRecord, by: ChangedBy) -> None:
    """Set the owner and the purpose of a model; None leaves a value as it is."""
    async with pool.connection() as connection, connection.transaction():
        rows = await connection.execute("SELECT owner, purpose FROM models WHERE name = %s FOR UPDATE", (record_after.name,))
        row = await rows.fetchone()
        if row is None:
            raise NotFound(f"there is no model {record_after.name!r}; see lamppost models")
        after = [new if new is not None else old for new, old in zip((record_after.owner, record_after.purpose), row, strict=True)]
        if after != list(row):
            await connection.execute("UPDATE models SET owner = %s, purpose = %s WHERE name = %s", (*after, record_after.name))
            was, now = (dict(zip(("owner", "purpose"), record, strict=True)) for record in (row, after))
            await trail.add_entry(connection, by, "described", record_after.name, was, now)


async def retire_version(pool: Pool, name: VersionName, back: bool, by: ChangedBy) -> None:
    """Retire a version, or undo that; raise NotFound, or Conflict while an endpoint serves it."""
    async with pool.connection() as connection, connection.transaction():
        await retire_version_within(connection, name, back, by)


async def retire_version_within(connection: AsyncConnection[TupleRow], name: VersionName, back: bool, by: ChangedBy) -> None:
    """`retire_version`, inside the caller's transaction."""
    where = "model = %s AND number = %s"
    query = f"SELECT retired_at FROM versions WHERE {where} AND deleted_at IS NULL FOR UPDATE"
    row = await (await connection.execute(query.encode(), (name.model, name.number))).fetchone()
    if row is None:
        raise NotFound(f"there is no {name}; see lamppost models {name.model}")
    if (row[0] is None) == back:
        return
    if uses := await outpost_uses(connection, name):
        raise Conflict(f"{name} cannot be retired while {uses[0]}")
    if serving := await _serving_endpoints(connection, name):
        raise Conflict(
            f"{name} cannot be retired while {', '.join(serving)} serves it; point that at another version first,"
            f" or do both: lamppost retire {name} --replace-with {name.model}@N"
        )
    change = "retired_at = NULL, retired_by = NULL" if back else "retired_at = now(), retired_by = %s"
    values = (name.model, name.number) if back else (by.token, name.model, name.number)
    await connection.execute(f"UPDATE versions SET {change} WHERE {where}".encode(), values)
    await trail.add_entry(connection, by, "took out of retirement" if back else "retired", str(name))
    await announce(connection, NEW_VERSIONS)


async def _serving_endpoints(connection: AsyncConnection[TupleRow], name: VersionName) -> list[str]:
    """The endpoints whose revision in force names a version."""
    serving = await connection.execute(
        "SELECT s.endpoint FROM revision_versions v"
        " JOIN (SELECT endpoint, max(revision) AS revision FROM endpoint_revisions GROUP BY endpoint) s USING (endpoint, revision)"
        " JOIN endpoints e ON e.name = s.endpoint AND e.deleted_at IS NULL WHERE v.model = %s AND v.number = %s ORDER BY 1",
        (name.model, name.number),
    )
    return [endpoint for (endpoint,) in await serving.fetchall()]


async def endpoints_served_by(pool: Pool, name: VersionName) -> list[str]:
    """Every endpoint that ever had a version answer, by name."""
    async with pool.connection() as connection:
        rows = await connection.execute(
            "SELECT DISTINCT endpoint FROM revision_versions WHERE model = %s AND number = %s ORDER BY 1", (name.model, name.number)
        )
        return [endpoint for (endpoint,) in await rows.fetchall()]


async def outpost_uses(connection: AsyncConnection[TupleRow], name: VersionName) -> list[str]:
    """Where outposts are to serve a version, now or by a rollout that goes on, in words, and what to do about it."""
    rows = await connection.execute(
        "SELECT u.endpoint, u.target, e.deleted_at IS NOT NULL FROM (SELECT endpoint, target FROM outpost_versions"
        " WHERE version = %(version)s UNION SELECT endpoint, target FROM outpost_rollouts WHERE ended_at IS NULL"
        " AND rollout->>'new' = %(version)s) u JOIN endpoints e ON e.name = u.endpoint"
        " WHERE e.deleted_at IS NULL OR e.restorable_until > now() ORDER BY 1, 2",
        {"version": str(name)},
    )
    return [
        f"{endpoint}, which was deleted, can still be given back with it at {target} (end that with: lamppost delete endpoint {endpoint}"
        " --for-good)"
        if deleted
        else f"it is set for {endpoint} at {target} (set another one: lamppost point {endpoint} {name.model}@N --at {target})"
        for endpoint, target, deleted in await rows.fetchall()
    ]


async def require_version_in_service(connection: AsyncConnection[TupleRow], name: VersionName) -> None:
    """Raise Conflict for a version that is retired, deleted or not there; it stays in service until the transaction ends."""
    rows = await connection.execute(
        "SELECT retired_at IS NOT NULL, deleted_at IS NOT NULL FROM versions WHERE model = %s AND number = %s FOR SHARE",
        (name.model, name.number),
    )
    version = await rows.fetchone()
    if version != (False, False):
        fault = "does not exist" if version is None else "is deleted" if version[1] else "is retired"
        raise Conflict(f"{name} {fault}, and cannot serve; see lamppost models")
