"""Writes ``/openapi.json``: the API's own paths, and a path for each endpoint that the caller may know."""

from __future__ import annotations

import asyncio
from collections.abc import Mapping, Sequence
from dataclasses import dataclass
from functools import cache, lru_cache
from pathlib import Path
from typing import Any

import orjson
from fastapi import APIRouter, FastAPI, Request, Response
from fastapi.encoders import jsonable_encoder
from pydantic.json_schema import models_json_schema

from lamppost.core.artifact.manifest import Manifest, read_manifest
from lamppost.core.endpoint.openapi_paths import endpoint_paths
from lamppost.core.endpoint.setup import EndpointSetup
from lamppost.core.errors import NotSignedIn
from lamppost.core.names import VersionName
from lamppost.core.roles import MAY, Principal
from lamppost.service.api.access import TheNode
from lamppost.service.api.schemas.base import Problem
from lamppost.service.api.schemas.predictions import PredictionAnswer
from lamppost.service.node import Node
from lamppost.store import packages
from lamppost.store.endpoints import EndpointRevision

router = APIRouter()

OWN_DOCUMENT = Path(__file__).parents[1] / "openapi.json"
"""The API's own paths, as `lamppost.service.openapi` wrote them."""

_REFERENCE = "#/components/schemas/{model}"
_READ_AT_ONCE = 500
"""Manifests that are read from the database in one question."""


@dataclass(frozen=True, slots=True)
class WrittenPaths:
    """Path item and schemas of an endpoint's revision, as JSON: as values, those of thousands of endpoints take hundreds of megabytes."""

    revision: int
    path: bytes
    schemas: dict[str, bytes]


class EndpointPaths:
    """OpenAPI paths of endpoints, written once for each revision."""

    def __init__(self) -> None:
        self._written: dict[str, WrittenPaths] = {}

    async def of(self, node: Node, endpoints: Sequence[str]) -> dict[str, WrittenPaths]:
        """What is written of the present revisions of endpoints; those that are gone meanwhile are left out."""
        routes = {name: route for name in endpoints if (route := node.deployment.table.by_endpoint.get(name)) is not None}
        stale = {
            name: route.in_force
            for name, route in routes.items()
            if (known := self._written.get(name)) is None or known.revision != route.in_force.revision
        }
        if stale:
            manifests = {lane.name: lane.manifest for name in stale for lane in routes[name].lanes}
            versions = {str(version): version for revision in stale.values() for version in revision.setup.versions}
            stored = await _stored_manifests(node, [version for name, version in versions.items() if name not in manifests])
            self._written |= await asyncio.to_thread(_write_paths, stale, manifests, stored)
        for gone in self._written.keys() - node.deployment.table.by_endpoint.keys():
            del self._written[gone]
        return {name: self._written[name] for name in routes if name in self._written}


async def _stored_manifests(node: Node, versions: Sequence[VersionName]) -> dict[str, str]:
    """The manifests of versions as JSON, by their names."""
    found: dict[str, str] = {}
    if node.pool.there_is_none:
        return found  # of an endpoint that sleeps
    for start in range(0, len(versions), _READ_AT_ONCE):
        known = await packages.openable_versions(node.pool, versions[start : start + _READ_AT_ONCE])
        texts = await packages.read_manifests(node.pool, sorted({version.digest for version in known.values()}))
        found |= {name: texts[version.digest] for name, version in known.items() if version.digest in texts}
    return found


def _write_paths(
    revisions: Mapping[str, EndpointRevision], manifests: Mapping[str, Manifest], stored: Mapping[str, str]
) -> dict[str, WrittenPaths]:
    """What is written of revisions. manifests, stored : of their versions, read or as JSON."""
    read = lru_cache(maxsize=64)(lambda name: read_manifest(stored[name].encode()))  # one version may serve many endpoints
    written = {}
    for endpoint, revision in revisions.items():
        names = [str(version) for version in revision.setup.versions]
        if any(name not in manifests and name not in stored for name in names):
            continue  # deleted meanwhile
        known = {name: manifests[name] if name in manifests else read(name) for name in names}
        path, schemas = endpoint_paths(endpoint, revision.setup, known)
        written[endpoint] = WrittenPaths(revision.revision, orjson.dumps(path), {name: orjson.dumps(one) for name, one in schemas.items()})
    return written


async def manifests_of(node: Node, setup: EndpointSetup) -> dict[str, Manifest]:
    """The manifests of a setup's versions, whether they are open here or not."""
    versions = [await packages.get_version(node.pool, name) for name in setup.versions]
    return await asyncio.to_thread(lambda: {version.name: read_manifest(version.manifest.encode()) for version in versions})


def own_document(app: FastAPI) -> dict[str, Any]:
    """The API's own paths and schemas, without those of endpoints, made from the routes."""
    document = app.openapi()
    _, answers = models_json_schema([(PredictionAnswer, "serialization")], ref_template=_REFERENCE)
    problem = Problem.model_json_schema(ref_template=_REFERENCE)
    schemas = problem.pop("$defs") | {"Problem": problem}
    # as FastAPI writes its own: what defaults to nothing may be left out
    document["components"]["schemas"] |= answers["$defs"] | jsonable_encoder(schemas, exclude_none=True)
    return document


@cache
def _kept_document() -> bytes:
    return OWN_DOCUMENT.read_bytes()


@router.get("/openapi.json", include_in_schema=False)
async def openapi(request: Request, node: TheNode) -> Response:
    """The whole document. Without a token it has the API's own paths only, because fields and examples may be confidential."""
    document: dict[str, Any] = await asyncio.to_thread(lambda: orjson.loads(_kept_document()))
    document["paths"] = {path: about for path, about in document["paths"].items() if path in request.app.state.paths}
    document["components"].setdefault("securitySchemes", {})["token"] = {"type": "http", "scheme": "bearer"}
    try:
        who = await node.auth.check("GET", request.scope["headers"])
    except NotSignedIn:
        if request.headers.get("authorization"):
            raise
        return await _written(document)
    contracts: EndpointPaths = request.app.state.contracts
    known = [endpoint for endpoint in sorted(node.deployment.table.by_endpoint) if _may_know(who, endpoint)]
    for endpoint, written in (await contracts.of(node, known)).items():
        document["paths"][f"/predict/{endpoint}"] = orjson.Fragment(written.path)
        for name, schema in written.schemas.items():
            document["components"]["schemas"][name] = orjson.Fragment(schema)
    return await _written(document)


def _may_know(who: Principal, endpoint: str) -> bool:
    asks = "predict" in MAY[who.role] and (who.endpoints is None or endpoint in who.endpoints)
    return asks or "view" in MAY[who.role]


async def _written(document: dict[str, Any]) -> Response:
    return Response(await asyncio.to_thread(orjson.dumps, document), media_type="application/json", headers={"cache-control": "no-store"})
