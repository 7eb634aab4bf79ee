"""API for pushing packages, whole or in chunks. A package is checked whole before it is stored."""

from __future__ import annotations

import asyncio
import hashlib
import os
import re
import tempfile
from collections.abc import Iterator, Sequence
from contextlib import contextmanager
from pathlib import Path
from typing import Annotated, Any

import anyio
from cachetools import LRUCache
from fastapi import APIRouter, Request, Response
from pydantic import Field as Described

from lamppost.core.artifact.chunks import CHUNK_BYTES, chunk_bounds
from lamppost.core.artifact.manifest import write_manifest
from lamppost.core.errors import BadRequest, BodyTooLarge, PackageRefused
from lamppost.core.limits import MAX_MEMBERS, MAX_PACKAGE_BYTES
from lamppost.core.names import check_name
from lamppost.package.read import Lamp, member_starts, read_lamp
from lamppost.package.signing import demand
from lamppost.runtime.running_steps import refused_format
from lamppost.runtime.worker_supply import needed_worker
from lamppost.service.api.access import PROBLEMS, Pusher, TheNode
from lamppost.service.api.schemas.base import ApiModel
from lamppost.service.api.schemas.models import PushAnswer
from lamppost.service.node import Node
from lamppost.service.records.window_counting import try_reference
from lamppost.store import packages
from lamppost.store.trail import ChangedBy

router = APIRouter(prefix="/api/packages", tags=["packages"], responses=PROBLEMS)

_BYTES: dict[str, Any] = {"type": "string", "format": "binary"}
_LAMP_FILE: dict[str, Any] = {"application/octet-stream": {"schema": _BYTES}, "application/zip": {"schema": _BYTES}}
_SHA256 = re.compile(r"[0-9a-f]{64}")
MAX_CHUNKS = MAX_PACKAGE_BYTES // CHUNK_BYTES + 2 * MAX_MEMBERS
_assembling = asyncio.Semaphore(2)
"""Each holds a connection to the database for as long as it takes."""

_reading = anyio.CapacityLimiter(2)
"""Lamp files that are checked at the same time: more threads would only take the interpreter from each other, and from calls."""
_tried: LRUCache[bytes, bool] = LRUCache(1_024)
"""References that were tried and are well, by `_tried_with`."""

Digest = Annotated[str, Described(pattern=_SHA256.pattern, min_length=64, max_length=64)]


class Chunks(ApiModel):
    """SHA-256 of each chunk of a lamp file, in order, hex."""

    chunks: list[Digest] = Described(min_length=1, max_length=MAX_CHUNKS)


class Missing(ApiModel):
    """The chunks that the service does not have."""

    missing: list[str]


@router.post("", status_code=201, openapi_extra={"requestBody": {"required": True, "content": _LAMP_FILE}})
async def push_package(request: Request, node: TheNode, caller: Pusher, model: str | None = None) -> PushAnswer:
    """Store a lamp file as the next version of its model (or of ``model``). The body is the file itself."""
    with _incoming(node) as (path, handle):
        await _receive(request, handle, node.settings.max_package_bytes)
        return await _store(node, path, model, caller.changed_by, None)


@router.post("/chunks")
async def list_missing_chunks(body: Chunks, node: TheNode, _: Pusher) -> Missing:
    """The chunks of a lamp file that still have to be sent."""
    missing = await packages.missing_chunks(node.pool, [bytes.fromhex(chunk) for chunk in body.chunks])
    return Missing(missing=[sha256.hex() for sha256 in missing])


@router.put(
    "/chunks/{sha256}",
    status_code=204,
    openapi_extra={"requestBody": {"required": True, "content": {"application/octet-stream": {"schema": _BYTES}}}},
)
async def put_chunk(sha256: str, request: Request, node: TheNode, _: Pusher) -> Response:
    """Store one chunk of at most one mebibyte. It is deleted after a day unless a package uses it."""
    data = bytearray()
    async for piece in request.stream():
        data += piece
        if len(data) > CHUNK_BYTES:
            raise BodyTooLarge(f"a chunk has {CHUNK_BYTES:,} bytes at most", max_bytes=CHUNK_BYTES)
    if not _SHA256.fullmatch(sha256) or hashlib.sha256(data).hexdigest() != sha256:
        raise BadRequest(f"the {len(data):,} bytes sent are not those of chunk {sha256[:64]}; read the file again and send it anew")
    await packages.store_chunk(node.pool, bytes.fromhex(sha256), bytes(data))
    return Response(status_code=204)


@router.post("/assembled", status_code=201)
async def push_chunks(sent: Chunks, node: TheNode, caller: Pusher, model: str | None = None) -> PushAnswer:
    """Store the lamp file that these chunks make, as the next version of its model (or of ``model``)."""
    digests = [bytes.fromhex(chunk) for chunk in sent.chunks]
    with _incoming(node) as (path, handle):
        os.close(handle)
        async with _assembling:
            cut = await packages.assemble_chunks(node.pool, digests, path, node.settings.max_package_bytes)
        return await _store(node, path, model, caller.changed_by, cut)


async def _store(node: Node, path: Path, model: str | None, by: ChangedBy, cut: Sequence[tuple[int, int]] | None) -> PushAnswer:
    """Check a complete file and store it as a version."""
    lamp = await anyio.to_thread.run_sync(_read, path, limiter=_reading)
    settings = node.settings
    if refused := lamp.manifest.formats - settings.lane.formats:
        raise PackageRefused(refused_format(sorted(refused)[0]))
    demand(settings.signers, lamp.signatures, lamp.manifest.formats)
    target = check_name(model, "model") if model else lamp.manifest.name
    manifest = write_manifest(lamp.manifest).decode()
    cut = cut or chunk_bounds(lamp.size_bytes, await anyio.to_thread.run_sync(member_starts, path))
    version, new = await packages.store_version(node.pool, target, lamp.digest, manifest, path, by, cut)
    await packages.note_signatures(node.pool, lamp.digest, [(signature.key, signature.signature) for signature in lamp.signatures])
    await node.deployment.package_cache.take_over(lamp.digest, path)
    node.deployment.workers.supply.expect(needed_worker(lamp.manifest, settings.lane))
    return PushAnswer(version=str(version), digest=lamp.digest, new=new)


def _tried_with(lamp: Lamp) -> bytes:
    """What trying a reference depends on: itself, the proof, and the schemas. Thousands of versions of one family may share all three."""
    manifest = lamp.manifest
    members = [manifest.members[name].sha256 for name in (manifest.reference, manifest.proof) if name is not None]
    return hashlib.sha256(repr((members, manifest.inputs, manifest.options, manifest.answers)).encode()).digest()


@contextmanager
def _incoming(node: Node) -> Iterator[tuple[Path, int]]:
    """A temporary file for an upload."""
    folder = node.settings.data / "incoming"
    folder.mkdir(parents=True, exist_ok=True)
    handle, name = tempfile.mkstemp(dir=folder, suffix=".lamp")
    try:
        yield Path(name), handle
    finally:
        Path(name).unlink(missing_ok=True)


async def _receive(request: Request, handle: int, limit: int) -> None:
    """Write the body to a file, piece by piece."""
    size = 0
    with os.fdopen(handle, "wb") as file:
        async for piece in request.stream():
            size += len(piece)
            if size > limit:
                raise BodyTooLarge(f"the lamp file is over the limit of {limit:,} bytes", max_bytes=limit)
            await anyio.to_thread.run_sync(file.write, piece)


def _read(path: Path) -> Lamp:
    try:
        lamp = read_lamp(path)
        key = _tried_with(lamp)
        if key not in _tried:
            try_reference(lamp)
            _tried[key] = True
        return lamp
    except PackageRefused as error:  # the caller does not know our temporary name
        raise PackageRefused(error.detail.replace(path.name, "the file")) from error
