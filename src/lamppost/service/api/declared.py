"""API of the declared document: read it, compare another one, carry it out."""

from __future__ import annotations

import tomllib

import tomli_w
from fastapi import APIRouter

from lamppost.core.endpoint.declared import (
    DeclaredDifference,
    DeclaredEndpoint,
    declared_differences,
    read_declared,
    revisions_fingerprint,
    write_declared,
)
from lamppost.core.errors import BadRequest, Conflict, NotAllowed
from lamppost.core.roles import MAY
from lamppost.service.api.access import PROBLEMS, Caller, Pointer, RequireView, TheNode
from lamppost.service.api.schemas.declared import DeclaredAnswer, DeclaredDifferenceAnswer, DeclaredDifferencesAnswer, DeclaredRequest
from lamppost.service.deployment.changes import ChangeOverrides
from lamppost.service.node import Node
from lamppost.store import endpoints
from lamppost.store.endpoints import EndpointChange

router = APIRouter(prefix="/api/declared", tags=["declared document"], responses=PROBLEMS)


@router.get("")
async def get_declared(node: TheNode, _: RequireView) -> DeclaredAnswer:
    """What all endpoints serve, as one document."""
    now, revisions = await _present(node)
    document = write_declared(now)
    return DeclaredAnswer(**document, toml=tomli_w.dumps(document), fingerprint=revisions_fingerprint(revisions))


@router.post("/difference")
async def compare_declared(body: DeclaredRequest, node: TheNode, _: RequireView) -> DeclaredDifferencesAnswer:
    """What carrying out a document would change; nothing is changed."""
    now, revisions = await _present(node)
    after = _read_document(body)
    _check_against(body, revisions)
    return _differences_answer(now, after, declared_differences(now, after), revisions)


@router.put("")
async def carry_out_declared(body: DeclaredRequest, node: TheNode, caller: Pointer) -> DeclaredDifferencesAnswer:
    """Make endpoints as a document says, all or none of them. Every version is opened and proven first. Endpoints that do not differ are
    not touched.
    """
    now, revisions = await _present(node)
    after = _read_document(body)
    _check_against(body, revisions)
    differences = declared_differences(now, after)
    _check_approvals(differences, after, caller)
    changes = [
        EndpointChange(name, after[name].setup, revisions.get(name, (0, 0))[0], approvals=after[name].approvals, action="declared")
        for name in dict.fromkeys(difference.endpoint for difference in differences)
    ]
    if changes:
        await node.changes.make_changes(changes, caller.changed_by, caller.role, ChangeOverrides(body.break_callers, body.override))
    _, revisions = await _present(node)
    return _differences_answer(now, after, differences, revisions)


async def _present(node: Node) -> tuple[dict[str, DeclaredEndpoint], dict[str, tuple[int, int]]]:
    demanded = await endpoints.list_demanded_approvals(node.pool)
    revisions = await endpoints.list_revisions(node.pool)
    now = {revision.endpoint: DeclaredEndpoint(revision.setup, demanded.get(revision.endpoint, 0)) for revision in revisions}
    return now, {revision.endpoint: (revision.revision, demanded.get(revision.endpoint, 0)) for revision in revisions}


def _read_document(document: DeclaredRequest) -> dict[str, DeclaredEndpoint]:
    if (document.endpoints is None) == (document.toml is None):
        raise BadRequest("give the document either as endpoints or as toml")
    if document.toml is None:
        return read_declared({"endpoints": document.endpoints})
    try:
        return read_declared(tomllib.loads(document.toml))
    except tomllib.TOMLDecodeError as error:
        raise BadRequest(f"the document is not TOML: {error}") from error


def _check_against(body: DeclaredRequest, revisions: dict[str, tuple[int, int]]) -> None:
    present = revisions_fingerprint(revisions)
    if body.against is not None and body.against != present:
        raise Conflict(
            f"the differences were shown against {body.against}, and the endpoints are at {present} now; look again: lamppost declare FILE",
            now=present,
        )


def _check_approvals(differences: list[DeclaredDifference], after: dict[str, DeclaredEndpoint], caller: Caller) -> None:
    """Raise NotAllowed if anybody but an admin changes how many approvals an endpoint demands."""
    for difference in differences:
        touched = difference.key == "approvals" or (not difference.key and after[difference.endpoint].approvals)
        if touched and "tokens" not in MAY[caller.role]:
            raise NotAllowed(f"{difference.summary()}: only an admin may change how many approvals an endpoint demands")


def _differences_answer(
    now: dict[str, DeclaredEndpoint],
    after: dict[str, DeclaredEndpoint],
    differences: list[DeclaredDifference],
    revisions: dict[str, tuple[int, int]],
) -> DeclaredDifferencesAnswer:
    return DeclaredDifferencesAnswer(
        differences=[
            DeclaredDifferenceAnswer(
                endpoint=difference.endpoint,
                key=difference.key,
                before=difference.before,
                after=difference.after,
                summary=difference.summary(),
            )
            for difference in differences
        ],
        fingerprint=revisions_fingerprint(revisions),
        left=sorted(now.keys() - after.keys()),
    )
