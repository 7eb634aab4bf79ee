"""API for deleting endpoints, versions and models, and for giving endpoints back."""

from __future__ import annotations

from dataclasses import asdict
from typing import Annotated

from fastapi import APIRouter, Query

from lamppost.core.quantities import few_names, format_bytes
from lamppost.service.api.access import PROBLEMS, Pointer, RequireView, TheNode
from lamppost.service.api.schemas.deletion import (
    DeletedEndpointAnswer,
    EndpointCallerAnswer,
    EndpointDeletionAnswer,
    EndpointRestoredAnswer,
    VersionDeletionAnswer,
)
from lamppost.store.deletion import endpoint_deletion
from lamppost.store.deletion.endpoint_deletion import EndpointCaller
from lamppost.store.deletion.version_deletion import DeletedVersions

router = APIRouter(prefix="/api", tags=["deletion"], responses=PROBLEMS)


@router.get("/deleted-endpoints")
async def list_deleted_endpoints(node: TheNode, _: RequireView) -> list[DeletedEndpointAnswer]:
    """The endpoints that can be given back, the last one that was deleted first."""
    return [DeletedEndpointAnswer(**asdict(deleted)) for deleted in await endpoint_deletion.list_deleted_endpoints(node.pool)]


@router.get("/endpoints/{endpoint}/callers")
async def list_callers(endpoint: str, node: TheNode, _: RequireView) -> list[EndpointCallerAnswer]:
    """The tokens that called an endpoint within the last week, the one with most calls first."""
    node.deployment.table.find_route(endpoint)
    return _callers(await node.deletions.recent_callers(endpoint))


@router.delete("/endpoints/{endpoint}")
async def delete_endpoint(
    endpoint: str,
    node: TheNode,
    caller: Pointer,
    break_callers: Annotated[bool, Query(description="delete it although it was called within the last week")] = False,
    for_good: Annotated[bool, Query(description="without the day in which it can be given back")] = False,
) -> EndpointDeletionAnswer:
    """Delete an endpoint: calls get status 404 from then on. It can be given back for a day; its records and statistics stay."""
    made = await node.deletions.delete_endpoint(endpoint, caller.changed_by, caller.role, break_callers, for_good)
    until = made.endpoint.restorable_until
    return EndpointDeletionAnswer(
        endpoint=DeletedEndpointAnswer(**asdict(made.endpoint)),
        callers=_callers(made.callers),
        summary=f"{endpoint} is deleted{'' if until else ' for good'}; it served {made.endpoint.served}. Its records stay."
        + (f" It can be given back until {until:%Y-%m-%d %H:%M} UTC." if until else ""),
        undo=f"lamppost delete endpoint {endpoint} --undo" if until else None,
    )


@router.post("/endpoints/{endpoint}/restore")
async def restore_endpoint(endpoint: str, node: TheNode, caller: Pointer) -> EndpointRestoredAnswer:
    """Give back an endpoint that was deleted within the last day: what it served, its history and its settings are as they were."""
    revision = await node.deletions.restore_endpoint(endpoint, caller.changed_by)
    return EndpointRestoredAnswer(
        endpoint=endpoint,
        revision=revision.revision,
        summary=f"{endpoint} is back, and serves {revision.setup.summary()}.",
        undo=f"lamppost delete endpoint {endpoint}",
    )


@router.delete("/models/{model}/versions/{number}")
async def delete_version(model: str, number: int, node: TheNode, caller: Pointer) -> VersionDeletionAnswer:
    """Delete a version that nothing refers to. Its number is never used again; its records and statistics stay."""
    return _version_deletion(await node.deletions.delete_versions(model, number, caller.changed_by))


@router.delete("/models/{model}")
async def delete_model(model: str, node: TheNode, caller: Pointer) -> VersionDeletionAnswer:
    """Delete all versions of a model, if nothing refers to any of them."""
    return _version_deletion(await node.deletions.delete_versions(model, None, caller.changed_by))


def _callers(callers: list[EndpointCaller]) -> list[EndpointCallerAnswer]:
    return [EndpointCallerAnswer(**asdict(caller)) for caller in callers]


def _version_deletion(deleted: DeletedVersions) -> VersionDeletionAnswer:
    names = [str(name) for name in deleted.names]
    shared = f"; {format_bytes(deleted.shared_bytes)} stay, which other packages use" if deleted.shared_bytes else ""
    return VersionDeletionAnswer(
        versions=names,
        freed_bytes=deleted.freed_bytes,
        shared_bytes=deleted.shared_bytes,
        summary=f"{few_names(names)} {'is' if len(names) == 1 else 'are'} deleted. {format_bytes(deleted.freed_bytes)} are free again"
        f" in the database{shared}. Records stay.",
    )
