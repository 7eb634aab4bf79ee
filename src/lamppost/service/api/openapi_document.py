"""Writes ``/openapi.json``: the API's own paths, and a path for each endpoint that the caller may know."""

from __future__ import annotations

import asyncio
from copy import deepcopy
from functools import cache
from typing import Any

import orjson
from fastapi import APIRouter, FastAPI, Request, Response
from pydantic.json_schema import models_json_schema

from lamppost.core.artifact.manifest import Manifest, read_manifest
from lamppost.core.endpoint.openapi_paths import endpoint_paths
from lamppost.core.endpoint.setup import EndpointSetup
from lamppost.core.errors import NotSignedIn
from lamppost.core.roles import MAY, Principal
from lamppost.service.api.access import TheNode
from lamppost.service.api.schemas.predictions import PredictionAnswer
from lamppost.service.node import Node
from lamppost.store import packages

router = APIRouter()

Contract = tuple[dict[str, Any], dict[str, Any]]


class EndpointPaths:
    """OpenAPI paths of endpoints, made once for each revision."""

    def __init__(self) -> None:
        self._paths_by_endpoint: dict[str, tuple[int, Contract]] = {}

    async def of(self, node: Node, endpoint: str) -> Contract:
        """Path item and schemas of an endpoint's present revision."""
        revision = node.deployment.table.find_route(endpoint).in_force
        kept = self._paths_by_endpoint.get(endpoint)
        if kept is None or kept[0] != revision.revision:
            manifests = await manifests_of(node, revision.setup)
            paths = await asyncio.to_thread(endpoint_paths, endpoint, revision.setup, manifests)
            kept = self._paths_by_endpoint[endpoint] = (revision.revision, paths)
        return kept[1]


async def manifests_of(node: Node, setup: EndpointSetup) -> dict[str, Manifest]:
    """The manifests of a setup's versions, whether they are open here or not."""
    versions = [await packages.get_version(node.pool, name) for name in setup.versions]
    return await asyncio.to_thread(lambda: {version.name: read_manifest(version.manifest.encode()) for version in versions})


def api_document(app: FastAPI) -> dict[str, Any]:
    """The API's own paths and schemas, without those of endpoints."""
    document = deepcopy(app.openapi())
    document["components"]["schemas"] |= _prediction_schemas()
    return document


@cache
def _prediction_schemas() -> dict[str, Any]:
    _, schemas = models_json_schema([(PredictionAnswer, "serialization")], ref_template="#/components/schemas/{model}")
    return dict(schemas["$defs"])


@router.get("/openapi.json", include_in_schema=False)
async def openapi(request: Request, node: TheNode) -> Response:
    """The whole document. Without a token it has the API's own paths only, because fields and examples may be confidential."""
    app: FastAPI = request.app
    document = await asyncio.to_thread(api_document, app)
    document["components"].setdefault("securitySchemes", {})["token"] = {"type": "http", "scheme": "bearer"}
    try:
        who = await node.auth.check("GET", request.scope["headers"])
    except NotSignedIn:
        if request.headers.get("authorization"):
            raise
        return await _written(document)
    contracts: EndpointPaths = request.app.state.contracts
    for endpoint in sorted(node.deployment.table.by_endpoint):
        if _may_know(who, endpoint):
            path, schemas = await contracts.of(node, endpoint)
            document["paths"][f"/predict/{endpoint}"] = path
            document["components"]["schemas"] |= schemas
    return await _written(document)


def _may_know(who: Principal, endpoint: str) -> bool:
    asks = "predict" in MAY[who.role] and (who.endpoints is None or endpoint in who.endpoints)
    return asks or "view" in MAY[who.role]


async def _written(document: dict[str, Any]) -> Response:
    return Response(await asyncio.to_thread(orjson.dumps, document), media_type="application/json", headers={"cache-control": "no-store"})
