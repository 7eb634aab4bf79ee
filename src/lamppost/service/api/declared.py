"""API of the declared document: read it, compare another one, carry it out."""

from __future__ import annotations

import tomllib
from dataclasses import dataclass, replace
from typing import Any

import tomli_w
from fastapi import APIRouter

from lamppost.core.bulk.schedule import Schedule, read_schedules, write_schedules
from lamppost.core.endpoint.declared import (
    SCHEDULES,
    DeclaredDifference,
    DeclaredEndpoint,
    declared_differences,
    read_declared,
    revisions_fingerprint,
    schedule_differences,
    write_declared,
)
from lamppost.core.errors import BadRequest, Conflict, NotAllowed
from lamppost.core.roles import MAY
from lamppost.service.api.access import PROBLEMS, Caller, Pointer, RequireView, TheNode
from lamppost.service.api.schemas.declared import DeclaredAnswer, DeclaredDifferenceAnswer, DeclaredDifferencesAnswer, DeclaredRequest
from lamppost.service.deployment.changes import ChangeOverrides
from lamppost.service.node import Node
from lamppost.store import endpoints
from lamppost.store.bulk import schedules
from lamppost.store.endpoints import EndpointChange

router = APIRouter(prefix="/api/declared", tags=["declared document"], responses=PROBLEMS)


@router.get("")
async def get_declared(node: TheNode, _: RequireView) -> DeclaredAnswer:
    """What all endpoints serve, as one document."""
    present = await _present(node)
    document = write_declared(present.endpoints, present.schedules)
    return DeclaredAnswer(
        endpoints=document["endpoints"], schedules=present.schedules, toml=tomli_w.dumps(document), fingerprint=present.fingerprint
    )


@router.post("/difference")
async def compare_declared(body: DeclaredRequest, node: TheNode, _: RequireView) -> DeclaredDifferencesAnswer:
    """What carrying out a document would change; nothing is changed."""
    present = await _present(node)
    after, timed = _read_document(body)
    _check_against(body, present.fingerprint)
    differences = declared_differences(present.endpoints, after) + schedule_differences(present.schedules, write_schedules(timed))
    return _differences_answer(present, after, differences)


@router.put("")
async def carry_out_declared(body: DeclaredRequest, node: TheNode, caller: Pointer) -> DeclaredDifferencesAnswer:
    """Make endpoints as a document says, all or none of them. Every version is opened and proven first. Endpoints that do not differ are
    not touched.
    """
    present = await _present(node)
    after, timed = _read_document(body)
    _check_against(body, present.fingerprint)
    differences = declared_differences(present.endpoints, after)
    _check_approvals(differences, after, caller)
    changes = [
        EndpointChange(name, after[name].setup, present.revisions.get(name, (0, 0))[0], approvals=after[name].approvals, action="declared")
        for name in dict.fromkeys(difference.endpoint for difference in differences)
    ]
    if changes:
        await node.changes.make_changes(changes, caller.changed_by, caller.role, ChangeOverrides(body.break_callers, body.override))
    for schedule in timed:  # endpoints first: what a schedule asks may only be there now
        node.bulk_runs.check_questions(schedule.order)
    differences += schedule_differences(present.schedules, write_schedules(timed))
    await schedules.save_schedules(node.pool, timed, caller.changed_by, "declared")
    return _differences_answer(replace(await _present(node), endpoints=present.endpoints), after, differences)


@dataclass(frozen=True, slots=True)
class _Present:
    """What is there. revisions : revision and demanded approvals of each endpoint. schedules : as they are written."""

    endpoints: dict[str, DeclaredEndpoint]
    revisions: dict[str, tuple[int, int]]
    schedules: dict[str, Any]

    @property
    def fingerprint(self) -> str:
        return revisions_fingerprint(self.revisions, self.schedules)


async def _present(node: Node) -> _Present:
    demanded = await endpoints.list_demanded_approvals(node.pool)
    revisions = await endpoints.list_revisions(node.pool)
    now = {revision.endpoint: DeclaredEndpoint(revision.setup, demanded.get(revision.endpoint, 0)) for revision in revisions}
    timed = schedules.schedule_document(await schedules.list_schedules(node.pool))
    return _Present(now, {revision.endpoint: (revision.revision, demanded.get(revision.endpoint, 0)) for revision in revisions}, timed)


def _read_document(document: DeclaredRequest) -> tuple[dict[str, DeclaredEndpoint], list[Schedule]]:
    if (document.endpoints is None) == (document.toml is None):
        raise BadRequest("give the document either as endpoints or as toml")
    if document.toml is None:
        whole: dict[str, Any] = {"endpoints": document.endpoints, SCHEDULES: document.schedules or {}}
        return read_declared(whole), list(read_schedules(whole[SCHEDULES]).values())
    try:
        whole = tomllib.loads(document.toml)
        return read_declared(whole), list(read_schedules(whole.get(SCHEDULES, {})).values())
    except tomllib.TOMLDecodeError as error:
        raise BadRequest(f"the document is not TOML: {error}") from error


def _check_against(body: DeclaredRequest, present: str) -> None:
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
    present: _Present, after: dict[str, DeclaredEndpoint], differences: list[DeclaredDifference]
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
        fingerprint=present.fingerprint,
        left=sorted(present.endpoints.keys() - after.keys()),
    )
