"""Stores the deletion of versions: the package and its chunks go, the version's number, its records and the trail stay."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass

from psycopg import AsyncConnection
from psycopg.rows import TupleRow

from lamppost.core.errors import Conflict, NotFound
from lamppost.core.names import VersionName
from lamppost.core.quantities import few_names
from lamppost.store import endpoints, packages, trail
from lamppost.store.database import DELETED_VERSIONS, Pool, announce
from lamppost.store.trail import ChangedBy

_SHOWN = 5


@dataclass(frozen=True, slots=True)
class DeletedVersions:
    """What a deletion freed. digests : of packages that are no version of any model any more. shared_bytes : what other packages use."""

    names: tuple[VersionName, ...]
    digests: tuple[str, ...]
    freed_bytes: int
    shared_bytes: int


async def delete_versions(pool: Pool, model: str, number: int | None, by: ChangedBy) -> DeletedVersions:
    """Delete one version of a model, or all with None: all or none. Raise NotFound, or Conflict with what still refers to one."""
    async with pool.connection() as connection, connection.transaction():
        await packages.lock_chunks(connection)
        rows = await connection.execute(
            "SELECT number, digest FROM versions WHERE model = %s AND deleted_at IS NULL AND (%s::numeric IS NULL OR number = %s)"
            " ORDER BY number FOR UPDATE",
            (model, number, number),
        )
        found = await rows.fetchall()
        if not found:
            raise NotFound(f"there is no {model if number is None else f'{model}@{number}'}; see lamppost models")
        names = [VersionName(model, at) for at, _ in found]
        if references := [text for name in names for text in await _references(connection, name)]:
            raise Conflict(f"nothing was deleted: {few_names(references, _SHOWN)}", references=references)
        await connection.execute(
            "UPDATE versions SET digest = NULL, deleted_at = now(), deleted_by = %s WHERE model = %s AND number = ANY(%s)",
            (by.token, model, [name.number for name in names]),
        )
        digests, freed, shared = await _delete_packages(connection, [digest for _, digest in found])
        if number is None:
            await connection.execute("UPDATE models SET owner = NULL, purpose = NULL WHERE name = %s", (model,))
        for name, (_, digest) in zip(names, found, strict=True):
            await trail.add_entry(connection, by, "deleted", str(name), {"digest": digest})
        await announce(connection, DELETED_VERSIONS)
        return DeletedVersions(tuple(names), digests, freed, shared)


async def _references(connection: AsyncConnection[TupleRow], name: VersionName) -> list[str]:
    """What keeps a version from being deleted, in words: endpoints that serve it or may go back to it, rollouts, open reviews."""
    references: list[str] = []
    rows = await connection.execute(
        "SELECT e.name, e.deleted_at IS NOT NULL, max(v.revision) = (SELECT max(revision) FROM endpoint_revisions WHERE endpoint = e.name)"
        " FROM revision_versions v JOIN endpoints e ON e.name = v.endpoint AND v.revision >= e.first_revision"
        " WHERE v.model = %s AND v.number = %s AND (e.deleted_at IS NULL OR e.restorable_until > now()) GROUP BY e.name ORDER BY 1",
        (name.model, name.number),
    )
    for endpoint, deleted, in_force in await rows.fetchall():
        if deleted and in_force:
            references.append(
                f"{endpoint}, which was deleted, can still be given back with {name}"
                f" (end that with: lamppost delete endpoint {endpoint} --for-good)"
            )
        elif in_force:
            references.append(f"{endpoint} serves {name} (point it at another version, or: lamppost retire {name} --replace-with MODEL@N)")
        elif name in await endpoints.rollback_versions(connection, endpoint):
            references.append(f"{endpoint} would go back to {name} with its next rollback")
    rows = await connection.execute(
        "SELECT endpoint FROM rollouts r JOIN revision_versions v USING (endpoint)"
        " WHERE ended_at IS NULL AND v.revision = r.before AND v.model = %s AND v.number = %s",
        (name.model, name.number),
    )
    references += [f"a rollout of {endpoint} may go back to {name}" for (endpoint,) in await rows.fetchall()]
    references += await packages.outpost_uses(connection, name)
    rows = await connection.execute("SELECT number, endpoint FROM reviews WHERE version = %s AND state = 'open'", (str(name),))
    references += [f"review {review} asks for {name} at {endpoint}" for review, endpoint in await rows.fetchall()]
    return references


async def _delete_packages(connection: AsyncConnection[TupleRow], digests: Sequence[str]) -> tuple[tuple[str, ...], int, int]:
    """Delete the packages that are no version any more, and the chunks that no package uses. Returns their digests, and bytes that were
    freed and that other packages use.
    """
    rows = await connection.execute(
        "SELECT digest FROM packages p WHERE digest = ANY(%s) AND NOT EXISTS (SELECT 1 FROM versions v WHERE v.digest = p.digest)",
        (list(digests),),
    )
    unused = tuple(digest for (digest,) in await rows.fetchall())
    rows = await connection.execute(
        "SELECT c.sha256, octet_length(c.data) FROM chunks c WHERE sha256 IN (SELECT sha256 FROM package_chunks WHERE digest = ANY(%s))",
        (list(unused),),
        binary=True,
    )
    size_bytes = {bytes(sha256): size for sha256, size in await rows.fetchall()}
    await connection.execute("DELETE FROM packages WHERE digest = ANY(%s)", (list(unused),))
    freed = await packages.delete_unused_chunks(connection, list(size_bytes))
    freed_bytes = sum(size_bytes[sha256] for sha256 in freed)
    return unused, freed_bytes, sum(size_bytes.values()) - freed_bytes
