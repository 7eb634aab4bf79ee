"""API of desks for their owners: what a desk shows, the links that open it, and how often it is used."""

from __future__ import annotations

from datetime import UTC, datetime, timedelta
from urllib.parse import quote

from fastapi import APIRouter, Request

from lamppost.core.desk.settings import DeskSettings, write_settings
from lamppost.core.desk.settings_check import check_settings
from lamppost.core.endpoint.endpoint_schema import EndpointSchema, endpoint_schema
from lamppost.core.errors import NotFound
from lamppost.core.names import check_name
from lamppost.service.api.access import PROBLEMS, Pointer, RequireView, TheNode
from lamppost.service.api.openapi_document import manifests_of
from lamppost.service.api.schemas.desks import (
    DeskAnswer,
    DeskLinkAnswer,
    DeskLinkRequest,
    DeskSettingsRequest,
    DeskUseAnswer,
    NewDeskLinkAnswer,
)
from lamppost.service.node import Node
from lamppost.store import tokens
from lamppost.store.bulk import desks
from lamppost.store.tokens import Token

router = APIRouter(prefix="/api/desks", tags=["desks"], responses=PROBLEMS)

ROLE = "desk"
_SHOWN_DAYS = 90


async def schema_of(node: Node, endpoint: str) -> EndpointSchema:
    """What an endpoint takes and gives; raise NotFound."""
    setup = node.deployment.table.find_route(endpoint).setup
    return endpoint_schema(setup, await manifests_of(node, setup))


@router.get("")
async def list_desks(node: TheNode, _: RequireView) -> list[DeskAnswer]:
    """All desks."""
    known = await tokens.list_tokens(node.pool)
    return [await _answer(node, desk.endpoint, desk, known) for desk in await desks.list_desks(node.pool)]


@router.get("/{endpoint}")
async def get_desk(endpoint: str, node: TheNode, _: RequireView) -> DeskAnswer:
    """The desk of an endpoint, its links, and how often it was used in the last 90 days."""
    return await _answer(node, endpoint, await desks.get_desk(node.pool, endpoint), await tokens.list_tokens(node.pool))


@router.put("/{endpoint}")
async def set_desk(endpoint: str, body: DeskSettingsRequest, node: TheNode, caller: Pointer) -> DeskAnswer:
    """Set what the desk of an endpoint shows. A desk that was not there is made; nobody can use it before a link is made."""
    settings = body.to_settings()
    check_settings(settings, await schema_of(node, endpoint))
    await desks.save_desk(node.pool, endpoint, settings, caller.changed_by)
    return await get_desk(endpoint, node, caller)


@router.delete("/{endpoint}", status_code=204)
async def close_desk(endpoint: str, node: TheNode, caller: Pointer) -> None:
    """Close a desk: its links end at once. Results stay until their time is over."""
    await desks.close_desk(node.pool, endpoint, caller.changed_by)
    await node.auth.reload()


@router.post("/{endpoint}/links", status_code=201)
async def open_desk(endpoint: str, body: DeskLinkRequest, request: Request, node: TheNode, caller: Pointer) -> NewDeskLinkAnswer:
    """Make a link that opens the desk of an endpoint, and nothing else. A desk that was not there is made with plain settings."""
    schema = await schema_of(node, endpoint)
    if await desks.find_desk(node.pool, endpoint) is None:
        settings = DeskSettings(title=endpoint)
        check_settings(settings, schema)
        await desks.save_desk(node.pool, endpoint, settings, caller.changed_by)
    known = {token.name for token in await tokens.list_tokens(node.pool)}
    name = body.name or next(name for at in range(1, len(known) + 2) if (name := f"{endpoint[:50]}-desk-{at}") not in known)
    check_name(name, "link")
    expires_at = datetime.now(UTC) + timedelta(seconds=body.for_s)
    secret = await tokens.make_token(node.pool, name, ROLE, [endpoint], caller.changed_by, expires_at)
    await node.auth.reload()
    here = node.settings.link_address(str(request.base_url))
    made = next(token for token in await tokens.list_tokens(node.pool) if token.name == name)
    return NewDeskLinkAnswer(**_link(made).model_dump(), link=f"{here}/desk/{quote(endpoint, safe='')}#link={secret}")


@router.delete("/{endpoint}/links/{name}", status_code=204)
async def revoke_link(endpoint: str, name: str, node: TheNode, caller: Pointer) -> None:
    """End a link and its sessions at once."""
    if all(token.name != name for token in _links(endpoint, await tokens.list_tokens(node.pool))):
        raise NotFound(f"the desk of {endpoint} has no link {name!r}; see lamppost desk show {endpoint}")
    await tokens.revoke_token(node.pool, name, caller.changed_by)
    await node.auth.reload()


def _links(endpoint: str, known: list[Token]) -> list[Token]:
    return [token for token in known if token.role == ROLE and endpoint in (token.endpoints or ())]


def _link(token: Token) -> DeskLinkAnswer:
    return DeskLinkAnswer(
        name=token.name,
        made_by=token.made_by,
        made_at=token.made_at,
        expires_at=token.expires_at,
        revoked_at=token.revoked_at,
        last_used_at=token.last_used_at,
    )


async def _answer(node: Node, endpoint: str, desk: desks.StoredDesk, known: list[Token]) -> DeskAnswer:
    return DeskAnswer(
        endpoint=endpoint,
        settings=DeskSettingsRequest.model_validate(write_settings(desk.settings)),
        made_by=desk.made_by,
        changed_at=desk.changed_at,
        links=[_link(token) for token in _links(endpoint, known)],
        uses=[
            DeskUseAnswer(link=use.token, day=use.day, questions=use.questions, files=use.files, rows=use.rows)
            for use in await desks.list_uses(node.pool, endpoint, _SHOWN_DAYS)
        ],
    )
