"""Stores which files clients bring for bulk runs; the files lie on the disk of a node."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass
from datetime import datetime
from uuid import UUID

from lamppost.core.errors import NotFound
from lamppost.store.database import Pool


@dataclass(frozen=True, slots=True)
class Upload:
    """A file that a client brings. node : on whose disk it is."""

    id: UUID
    node: str
    file_name: str
    made_by: str
    made_at: datetime


async def add_upload(pool: Pool, upload_id: UUID, node: str, file_name: str, made_by: str) -> Upload:
    """Note a file that is to be brought."""
    async with pool.connection() as connection:
        rows = await connection.execute(
            "INSERT INTO uploads (id, node, file_name, made_by) VALUES (%s, %s, %s, %s) RETURNING id, node, file_name, made_by, made_at",
            (upload_id, node, file_name, made_by),
        )
        row = await rows.fetchone()
        assert row is not None
        return Upload(*row)


async def get_upload(pool: Pool, upload_id: UUID) -> Upload:
    """One upload; raise NotFound."""
    async with pool.connection() as connection:
        rows = await connection.execute("SELECT id, node, file_name, made_by, made_at FROM uploads WHERE id = %s", (upload_id,))
        row = await rows.fetchone()
    if row is None:
        raise NotFound(f"there is no upload {upload_id}; uploads are deleted a day after they were begun")
    return Upload(*row)


async def delete_uploads(pool: Pool, ids: Sequence[UUID]) -> None:
    """Forget uploads."""
    async with pool.connection() as connection:
        await connection.execute("DELETE FROM uploads WHERE id = ANY (%s)", (list(ids),))


async def uploads_of_node(pool: Pool, node: str) -> list[Upload]:
    """All uploads on a node's disk."""
    async with pool.connection() as connection:
        rows = await connection.execute("SELECT id, node, file_name, made_by, made_at FROM uploads WHERE node = %s", (node,))
        return [Upload(*row) for row in await rows.fetchall()]
