"""API for backups of the database, for whoever may keep tokens."""

from __future__ import annotations

import asyncio
from collections.abc import AsyncIterator
from typing import Any

from fastapi import APIRouter
from fastapi.responses import StreamingResponse

import lamppost
from lamppost.core.errors import Conflict
from lamppost.service.api.access import PROBLEMS, TheNode, TokenKeeper
from lamppost.service.api.schemas.base import ApiModel
from lamppost.store import trail
from lamppost.store.backup import dump_database

router = APIRouter(prefix="/api/backup", tags=["backup"], responses=PROBLEMS)

_dumping = asyncio.Lock()


class BackupAboutAnswer(ApiModel):
    """lamppost : the version of the service. settings : the options it was started with, without secrets."""

    lamppost: str
    settings: dict[str, Any]


@router.get("/about")
async def describe_backup(node: TheNode, _: TokenKeeper) -> BackupAboutAnswer:
    """What stands in a backup beside the database."""
    return BackupAboutAnswer(lamppost=lamppost.__version__, settings=dict(node.settings.options))


@router.get(
    "/database",
    response_class=StreamingResponse,
    responses={200: {"content": {"application/octet-stream": {"schema": {"type": "string", "format": "binary"}}}}},
)
async def dump(node: TheNode, caller: TokenKeeper, records: bool = True) -> StreamingResponse:
    """The database as of one moment, in the custom format of ``pg_dump``; without the rows of calls if ``records`` is false.

    An answer that ends early, without the last chunk, is no backup.
    """
    if _dumping.locked():
        raise Conflict("a backup is being made already; try again when it is complete")
    async with node.pool.connection() as connection, connection.transaction():
        await trail.add_entry(connection, caller.changed_by, "made a backup", "database", after={"records": records})
    pieces = _one_at_a_time(dump_database(node.settings.database, records))
    first = await anext(pieces)  # what keeps pg_dump from beginning is said as a problem
    return StreamingResponse(_with_first(first, pieces), media_type="application/octet-stream")


async def _one_at_a_time(pieces: AsyncIterator[bytes]) -> AsyncIterator[bytes]:
    async with _dumping:
        async for piece in pieces:
            yield piece


async def _with_first(first: bytes, pieces: AsyncIterator[bytes]) -> AsyncIterator[bytes]:
    yield first
    async for piece in pieces:
        yield piece
