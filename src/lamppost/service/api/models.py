"""API of models and versions: find, show, compare, ask, retire."""

from __future__ import annotations

import time
from dataclasses import replace

from fastapi import APIRouter, Request, Response
from fastapi.responses import FileResponse

from lamppost.core.artifact.difference import compare_packages
from lamppost.core.artifact.steps import step_summary
from lamppost.core.artifact.version_search import VersionSummary, summarize_manifest
from lamppost.core.errors import BadRequest, BodyTooLarge
from lamppost.core.insight.comparison import compare_insights
from lamppost.core.insight.insight_text import insight_lines
from lamppost.core.names import VersionName, parse_version
from lamppost.core.quantities import few_names
from lamppost.package.read import Lamp
from lamppost.service.api.access import PROBLEMS, Pointer, Pusher, RequireView, TheNode
from lamppost.service.api.schemas.base import field_answers
from lamppost.service.api.schemas.models import (
    ComparisonAnswer,
    InsightLine,
    ModelAnswer,
    ModelRequest,
    OpeningMeasurementAnswer,
    PackageFileAnswer,
    RetireAnswer,
    RetireRequest,
    SchemaChangeAnswer,
    VersionAnswer,
    VersionDetailAnswer,
    VersionPredictionAnswer,
)
from lamppost.service.deployment.changes import ChangeOverrides
from lamppost.service.node import Node
from lamppost.service.packages.package_export import MEDIA_TYPES as EXPORT_TYPES
from lamppost.service.packages.package_export import ServedForm
from lamppost.service.pages.draw import MEDIA_TYPES, Form, draw_page, in_turn
from lamppost.store import packages
from lamppost.store.packages import ListedVersion, ModelRecord, StoredVersion

router = APIRouter(prefix="/api", tags=["models"], responses=PROBLEMS)


@router.get("/versions")
async def list_versions(node: TheNode, _: RequireView, model: str | None = None, search: str | None = None) -> list[VersionAnswer]:
    """All versions, of one model or of all; newest first within a model.

    search : words that must all match: the name, a tag (``season:winter`` or ``winter``), a field, a metric, the notes, or the name of who
    packed or pushed the version.
    """
    return [_shape(node, version, summary) for version, summary in await node.version_listing.find_versions(model, search or "")]


@router.get("/models")
async def list_models(node: TheNode, _: RequireView) -> list[ModelAnswer]:
    """All models with their owners and purposes."""
    return [ModelAnswer(name=model.name, owner=model.owner, purpose=model.purpose) for model in await packages.list_models(node.pool)]


@router.put("/models/{model}", status_code=204)
async def describe_model(model: str, body: ModelRequest, node: TheNode, caller: Pusher) -> None:
    """Set the owner and the purpose of a model."""
    await packages.describe_model(node.pool, ModelRecord(model, body.owner, body.purpose), caller.changed_by)


@router.post("/models/{model}/versions/{number}/retire")
async def retire_version(model: str, number: int, body: RetireRequest, node: TheNode, caller: Pointer) -> RetireAnswer:
    """Keep a version from being served, or undo that. The version and everything that refers to it stay stored.

    With ``replace_with`` the endpoints that serve it get another version in its place first; all of it happens, or nothing.
    """
    version = VersionName(model, number)
    if body.undo and body.replace_with is not None:
        raise BadRequest("undo takes no replace_with; roll the endpoints back instead")
    if body.replace_with is None:
        await packages.retire_version(node.pool, version, body.undo, caller.changed_by)
        summary = f"{version} may serve again" if body.undo else f"{version} is retired: it stays stored, and can serve no more"
        undo = f"lamppost retire {version}{'' if body.undo else ' --undo'}"
        return RetireAnswer(version=str(version), replaced_in=[], summary=summary, undo=[undo])
    overrides = ChangeOverrides(body.break_callers, body.override)
    replacement = parse_version(body.replace_with)
    changed = await node.changes.replace_and_retire(version, replacement, caller.changed_by, caller.role, overrides)
    names = [revision.endpoint for revision, _ in changed]
    where = f"{replacement} has taken its place in {few_names(names)}" if names else "nothing served it"
    return RetireAnswer(
        version=str(version),
        replaced_in=names,
        summary=f"{version} is retired; {where}",
        undo=[f"lamppost retire {version} --undo", *(f"lamppost rollback {name}" for name in names)],
    )


@router.get("/compare")
async def compare(before: str, after: str, node: TheNode, _: RequireView) -> ComparisonAnswer:
    """The changes from one version to another, those that break callers first, with both versions."""
    first, second = [await _described(node, parse_version(name)) for name in (before, after)]
    lamps, figures = (first[1], second[1]), (first[0].measured, second[0].measured)
    references, proofs = (lamps[0].reference, lamps[1].reference), (lamps[0].proof, lamps[1].proof)
    changes = compare_packages(lamps[0].manifest, lamps[1].manifest, references, proofs, figures)
    return ComparisonAnswer(
        before=await _page(node, *first),
        after=await _page(node, *second),
        breaks=any(change.breaks for change in changes),
        changes=[SchemaChangeAnswer(part=change.part, summary=change.summary, breaks=change.breaks) for change in changes],
        learned=compare_insights(lamps[0].insight, lamps[1].insight),
    )


@router.get("/models/{model}/versions/{number}")
async def get_version(model: str, number: int, node: TheNode, _: RequireView) -> VersionDetailAnswer:
    """One version: schemas, provenance, proof, what was measured."""
    return await _page(node, *await _described(node, VersionName(model, number)))


@router.get("/models/{model}/versions/{number}/package", response_class=FileResponse)
async def download_package(model: str, number: int, node: TheNode, _: Pusher) -> FileResponse:
    """The lamp file of a version, as it was pushed."""
    version = await packages.get_version(node.pool, VersionName(model, number))
    path = await node.deployment.package_cache.file_of(version.digest)
    return FileResponse(path, media_type="application/zip", filename=f"{model}-{number}.lamp")


@router.get(
    "/models/{model}/versions/{number}/export",
    response_class=Response,
    responses={200: {"content": {one: {"schema": {"type": "string", "format": "binary"}} for one in EXPORT_TYPES.values()}}},
)
async def export_version(model: str, number: int, node: TheNode, _: Pusher, form: ServedForm) -> Response:
    """A version as an ONNX graph or a PMML document, after that was held against the version's own answers. The headers say on how many
    rows, and by how much numbers differed at most. The other forms of lamppost export are programs, and made and checked by the command.
    """
    version = await packages.get_version(node.pool, VersionName(model, number))
    lamp_file = await node.deployment.package_cache.file_of(version.digest)
    written = await node.package_export.write(lamp_file, model, form)
    headers = {
        "content-disposition": f'attachment; filename="{model}-{number}.{form}"',
        "rows-checked": str(written.rows_checked),
        "largest-difference": f"{written.largest:.3g}",
    }
    return Response(written.content, media_type=EXPORT_TYPES[form], headers=headers)


@router.get(
    "/models/{model}/versions/{number}/card",
    response_class=Response,
    responses={200: {"content": {"text/html": {}, "application/pdf": {}}}},
)
async def get_card(model: str, number: int, node: TheNode, _: RequireView, form: Form = "html") -> Response:
    """A page about a version for people who decide on it: what it is for, how good it is, what it looks at, as HTML or PDF."""
    async with in_turn():
        page = await _page(node, *await _described(node, VersionName(model, number)))
        document = await draw_page("card", page.model_dump(mode="json"), form)
    return Response(document, media_type=MEDIA_TYPES[form], headers={"content-disposition": f'inline; filename="{model}-{number}.{form}"'})


@router.post(
    "/models/{model}/versions/{number}/ask",
    openapi_extra={"requestBody": {"required": True, "content": {"application/json": {"schema": {"type": "object"}}}}},
)
async def ask_version(model: str, number: int, request: Request, node: TheNode, caller: RequireView) -> VersionPredictionAnswer:
    """The answers of any version to some rows, whether it is served or not. It is opened and proven first. Nothing is recorded."""
    caller.require_permission("predict")
    body = bytearray()
    async for piece in request.stream():
        body += piece
        if len(body) > node.settings.max_body_bytes:
            raise BodyTooLarge(
                f"the body is over the limit of {node.settings.max_body_bytes:,} bytes", max_bytes=node.settings.max_body_bytes
            )
    async with node.deployment.leases.visited(VersionName(model, number)) as lane:
        rows = lane.plan.read_body(bytes(body)).rows
        start = time.perf_counter()
        answer = await lane.predict(rows, len(body))
        took_ms = (time.perf_counter() - start) * 1e3
    return VersionPredictionAnswer(version=f"{model}@{number}", answers=answer.rows, took_ms=round(took_ms, 3))


async def _described(node: Node, name: VersionName) -> tuple[StoredVersion, Lamp]:
    version = await packages.get_version(node.pool, name)
    return version, await node.deployment.package_cache.lamp_of(version.digest)


async def _page(node: Node, version: StoredVersion, lamp: Lamp) -> VersionDetailAnswer:
    manifest, reference = lamp.manifest, lamp.reference
    about_model = next(model for model in await packages.list_models(node.pool) if model.name == version.model)
    return VersionDetailAnswer(
        **_shape(node, version, summarize_manifest(manifest)).model_dump(),
        inputs=field_answers(manifest.inputs),
        options=field_answers(manifest.options or ()),
        answers=field_answers(manifest.answers),
        steps=[step_summary(step) for step in manifest.steps],
        provenance=manifest.provenance,
        formats=sorted(manifest.formats),
        signers=[key for key, _ in await packages.list_signatures(node.pool, version.digest)],
        proof_rows=len(lamp.proof.rows),
        files=[
            PackageFileAnswer(path=path, size_bytes=member.size_bytes, sha256=member.sha256) for path, member in manifest.members.items()
        ],
        reference_rows=reference.rows if reference else None,
        reference_inputs=[replace(profile, bins=None) for profile in reference.inputs] if reference else [],
        reference_answers=[replace(answer, bins=None) for answer in reference.answers] if reference else [],
        served=await packages.endpoints_served_by(node.pool, parse_version(version.name)),
        owner=about_model.owner,
        purpose=about_model.purpose,
        insight=lamp.insight,
        insight_lines=[InsightLine(word=word, text=text) for word, text in insight_lines(lamp.insight)] if lamp.insight else [],
        exportable=manifest.is_one_graph,
    )


def _shape(node: Node, version: ListedVersion, summary: VersionSummary) -> VersionAnswer:
    serves = [route.in_force.endpoint for route in node.deployment.table.routes_naming(parse_version(version.name))]
    return VersionAnswer(
        name=version.name,
        model=version.model,
        number=version.number,
        digest=version.digest,
        size_bytes=version.size_bytes,
        pushed_by=version.pushed_by,
        pushed_at=version.pushed_at,
        proof=version.proof,
        proof_summary=version.proof_summary,
        serves=serves,
        tags=dict(summary.tags),
        metrics=dict(summary.metrics),
        retired_at=version.retired_at,
        measured=None if version.measured is None else OpeningMeasurementAnswer.model_validate(version.measured),
    )
