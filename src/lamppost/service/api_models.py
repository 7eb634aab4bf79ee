"""Models and versions: pushing packages, looking at them."""

from __future__ import annotations

import os
import tempfile
from pathlib import Path

import anyio
from fastapi import APIRouter, Request

from lamppost.core.errors import BodyTooLarge, NotFound, PackageRefused
from lamppost.core.manifest import write_manifest
from lamppost.core.names import VersionName, check_name, closest
from lamppost.core.steps import about
from lamppost.package.read import Lamp, read_lamp
from lamppost.runtime.steps import refusal
from lamppost.service.access import PROBLEMS, Looker, Pusher, TheNode
from lamppost.service.node import Node
from lamppost.service.shapes import FileShape, Pushed, VersionPage, VersionShape, field_shapes
from lamppost.store import packages
from lamppost.store.packages import Version

router = APIRouter(prefix="/api", tags=["models"], responses=PROBLEMS)


@router.get("/versions")
async def list_versions(node: TheNode, _: Looker, model: str | None = None) -> list[VersionShape]:
    """All versions, of one model or of all; newest first within a model."""
    found = await packages.list_versions(node.pool, model)
    if model is not None and not found:
        like = closest(model, {version.model for version in await packages.list_versions(node.pool)})
        raise NotFound(f"there is no model {model!r}" + (f"; did you mean {like}?" if like else ""))
    return [_shape(node, version) for version in found]


@router.get("/models/{model}/versions/{number}")
async def get_version(model: str, number: int, node: TheNode, _: Looker) -> VersionPage:
    """One version: schemas, story, proof."""
    version = await packages.get_version(node.pool, VersionName(model, number))
    lamp = await node.routes.described(version.digest)
    manifest, reference = lamp.manifest, lamp.reference
    return VersionPage(
        **_shape(node, version).model_dump(),
        inputs=field_shapes(manifest.inputs),
        options=field_shapes(manifest.options or ()),
        answers=field_shapes(manifest.answers),
        steps=[about(step) for step in manifest.steps],
        story=manifest.story,
        formats=sorted(manifest.formats),
        proof_rows=len(lamp.proof.rows),
        files=[FileShape(path=path, size_bytes=member.size_bytes, sha256=member.sha256) for path, member in manifest.members.items()],
        reference_rows=reference.rows if reference else None,
        reference_inputs=list(reference.inputs) if reference else [],
        reference_answers=list(reference.answers) if reference else [],
    )


@router.post(
    "/packages",
    status_code=201,
    openapi_extra={"requestBody": {"required": True, "content": {"application/zip": {"schema": {"type": "string", "format": "binary"}}}}},
)
async def push_package(request: Request, node: TheNode, caller: Pusher, model: str | None = None) -> Pushed:
    """Store a lamp file as the next version of its model (or of ``model``). The body is the file itself; nothing broken is stored."""
    incoming = node.settings.data / "incoming"
    await anyio.to_thread.run_sync(lambda: incoming.mkdir(parents=True, exist_ok=True))
    handle, name = tempfile.mkstemp(dir=incoming, suffix=".lamp")
    path = Path(name)
    try:
        await _receive(request, handle, node.settings.max_package_bytes)
        lamp = await anyio.to_thread.run_sync(_read, path)
        if refused := lamp.manifest.formats - node.settings.lane.formats:
            raise PackageRefused(refusal(sorted(refused)[0]))
        target = check_name(model, "model") if model else lamp.manifest.name
        manifest = write_manifest(lamp.manifest).decode()
        version, new = await packages.store_version(node.pool, target, lamp.digest, manifest, path, caller.token)
        await node.routes.keep(lamp.digest, path)
        return Pushed(version=str(version), digest=lamp.digest, new=new)
    finally:
        await anyio.to_thread.run_sync(lambda: path.unlink(missing_ok=True))


async def _receive(request: Request, handle: int, limit: int) -> None:
    """The body into a file, a piece at a time."""
    size = 0
    with os.fdopen(handle, "wb") as file:
        async for piece in request.stream():
            size += len(piece)
            if size > limit:
                raise BodyTooLarge(f"the lamp file is over the limit of {limit:,} bytes", max_bytes=limit)
            await anyio.to_thread.run_sync(file.write, piece)


def _read(path: Path) -> Lamp:
    try:
        return read_lamp(path)
    except PackageRefused as error:  # the caller does not know our temporary name
        raise PackageRefused(error.detail.replace(path.name, "the file")) from error


def _shape(node: Node, version: Version) -> VersionShape:
    serves = sorted(name for name, route in node.routes.by_endpoint.items() if str(route.split.version) == version.name)
    return VersionShape(
        name=version.name,
        model=version.model,
        number=version.number,
        digest=version.digest,
        size_bytes=version.size_bytes,
        pushed_by=version.pushed_by,
        pushed_at=version.pushed_at,
        proof=version.proof,
        proof_says=version.proof_says,
        serves=serves,
    )
