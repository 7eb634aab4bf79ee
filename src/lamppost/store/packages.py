"""Packages, models and versions. A package's bytes are kept in chunks named by their content."""

from __future__ import annotations

import hashlib
from collections.abc import AsyncIterator
from dataclasses import dataclass
from datetime import datetime
from pathlib import Path
from typing import Any, Literal

import anyio

from lamppost.core.errors import NotFound
from lamppost.core.names import VersionName
from lamppost.store.database import Pool, announce

CHUNK_BYTES = 2**20
Proven = Literal["not yet", "passed", "failed"]


@dataclass(frozen=True, slots=True)
class Version:
    """One immutable version. manifest : its JSON. proof : what replaying it on a node showed last; proof_says : in words."""

    model: str
    number: int
    digest: str
    size_bytes: int
    pushed_by: str
    pushed_at: datetime
    proof: Proven
    proof_says: str | None
    proven_at: datetime | None
    manifest: str

    @property
    def name(self) -> str:
        """``model@number``."""
        return f"{self.model}@{self.number}"


_VERSION = (
    "SELECT v.model, v.number, v.digest, p.size_bytes, v.pushed_by, v.pushed_at, v.proof, v.proof_says, v.proven_at, p.manifest"
    " FROM versions v JOIN packages p ON p.digest = v.digest"
)


async def store_version(pool: Pool, model: str, digest: str, manifest: str, path: Path, pushed_by: str) -> tuple[VersionName, bool]:
    """Store a checked lamp file as the model's next version, whole or not at all.

    Returns the version and whether it is new: the same package pushed again is the version it already was.
    """
    size_bytes = (await anyio.Path(path).stat()).st_size
    async with pool.connection() as connection, connection.transaction():
        await connection.execute("INSERT INTO models (name) VALUES (%s) ON CONFLICT DO NOTHING", (model,))
        await connection.execute("SELECT 1 FROM models WHERE name = %s FOR UPDATE", (model,))
        row = await (await connection.execute("SELECT number FROM versions WHERE model = %s AND digest = %s", (model, digest))).fetchone()
        if row is not None:
            return VersionName(model, row[0]), False
        made = await connection.execute(
            "INSERT INTO packages (digest, size_bytes, manifest) VALUES (%s, %s, %s) ON CONFLICT DO NOTHING", (digest, size_bytes, manifest)
        )
        if made.rowcount:
            async for position, data in _chunks(path):
                sha256 = hashlib.sha256(data).digest()
                await connection.execute("INSERT INTO chunks (sha256, data) VALUES (%s, %s) ON CONFLICT DO NOTHING", (sha256, data))
                await connection.execute("INSERT INTO package_chunks VALUES (%s, %s, %s)", (digest, position, sha256))
        number = await (
            await connection.execute(
                "INSERT INTO versions (model, number, digest, pushed_by)"
                " SELECT %s, coalesce(max(number), 0) + 1, %s, %s FROM versions WHERE model = %s RETURNING number",
                (model, digest, pushed_by, model),
            )
        ).fetchone()
        assert number is not None
        await announce(connection, "versions")
        return VersionName(model, number[0]), True


async def _chunks(path: Path) -> AsyncIterator[tuple[int, bytes]]:
    async with await anyio.open_file(path, "rb") as file:
        position = 0
        while data := await file.read(CHUNK_BYTES):
            yield position, data
            position += 1


async def fetch_package(pool: Pool, digest: str, to: Path) -> None:
    """Write a stored lamp file to disk."""
    async with pool.connection() as connection:
        rows = await connection.execute("SELECT sha256 FROM package_chunks WHERE digest = %s ORDER BY position", (digest,))
        async with await anyio.open_file(to, "wb") as file:
            for (sha256,) in await rows.fetchall():
                chunk = await (await connection.execute("SELECT data FROM chunks WHERE sha256 = %s", (sha256,), binary=True)).fetchone()
                assert chunk is not None
                await file.write(chunk[0])


async def get_version(pool: Pool, name: VersionName) -> Version:
    """One version; raise NotFound that names the ones there are."""
    async with pool.connection() as connection:
        row = await (await connection.execute(_VERSION + " WHERE v.model = %s AND v.number = %s", (name.model, name.number))).fetchone()
        if row is not None:
            return Version(*row)
        rows = await (
            await connection.execute("SELECT number FROM versions WHERE model = %s ORDER BY number DESC LIMIT 5", (name.model,))
        ).fetchall()
    if rows:
        raise NotFound(f"there is no {name}; versions of {name.model} are {', '.join(f'{name.model}@{n}' for (n,) in rows)}")
    raise NotFound(f"there is no model {name.model!r}; push a package first: lamppost push {name.model}.lamp")


async def list_versions(pool: Pool, model: str | None = None) -> list[Version]:
    """All versions, newest first within a model, models by name."""
    where: tuple[str, tuple[Any, ...]] = ("", ()) if model is None else (" WHERE v.model = %s", (model,))
    async with pool.connection() as connection:
        rows = await connection.execute(_VERSION + where[0] + " ORDER BY v.model, v.number DESC", where[1])
        return [Version(*row) for row in await rows.fetchall()]


async def note_proof(pool: Pool, name: VersionName, proven: Proven, says: str) -> None:
    """Keep what proving a version showed."""
    async with pool.connection() as connection:
        await connection.execute(
            "UPDATE versions SET proof = %s, proof_says = %s, proven_at = now() WHERE model = %s AND number = %s",
            (proven, says, name.model, name.number),
        )
