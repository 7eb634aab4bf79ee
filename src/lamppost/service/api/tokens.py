"""API for signing in and out, and of tokens."""

from __future__ import annotations

from datetime import UTC, datetime, timedelta

from fastapi import APIRouter, Request, Response

from lamppost.core.errors import BadRequest, NotSignedIn
from lamppost.core.names import check_name
from lamppost.core.roles import MAY, Role
from lamppost.service.api.access import PROBLEMS, RequireCaller, TheNode, TokenKeeper
from lamppost.service.api.schemas.tokens import (
    NewTokenAnswer,
    RotationAnswer,
    RotationRequest,
    SessionAnswer,
    SignInLinkAnswer,
    SignInRequest,
    TokenAnswer,
    TokenRequest,
)
from lamppost.service.auth import COOKIE, UnknownSecret, session_of
from lamppost.store import tokens

router = APIRouter(prefix="/api", tags=["tokens"], responses=PROBLEMS)


@router.post("/session")
async def sign_in(given: SignInRequest, request: Request, response: Response, node: TheNode) -> SessionAnswer:
    """Sign a browser in with a token or a one-time link; the answer sets an HttpOnly, SameSite=Strict cookie."""
    if (given.token is None) == (given.link is None):
        raise BadRequest("give either a token or a link")
    if given.token is not None:
        try:
            principal = node.auth.principal_of_token(given.token.strip())
        except UnknownSecret:
            await node.auth.note_failure(request.client.host if request.client is not None else None)
            raise
        node.auth.charge(principal)
    else:
        assert given.link is not None
        token = await tokens.use_link(node.pool, given.link)
        if token is None:
            await node.auth.note_failure(request.client.host if request.client is not None else None)
            raise NotSignedIn("this link was used already or has expired; sign in with a token, or start the service again for a new link")
        principal = next(p for p in (await tokens.principals_by_hash(node.pool)).values() if p.token == token)
    secret = await tokens.open_session(node.pool, principal.token)
    response.set_cookie(
        COOKIE,
        secret,
        max_age=int(tokens.SESSION_TIME.total_seconds()),
        httponly=True,
        samesite="strict",
        secure=request.url.scheme == "https",
    )
    return _session_answer(principal.token, principal.role)


@router.post("/session/link", status_code=201)
async def make_link(request: Request, node: TheNode, caller: RequireCaller) -> SignInLinkAnswer:
    """A link that signs one browser in as the caller, once, within 15 minutes."""
    secret = await tokens.make_link(node.pool, caller.token)
    here = node.settings.link_address(str(request.base_url))
    return SignInLinkAnswer(link=f"{here}/#link={secret}")


@router.get("/session")
async def get_session(caller: RequireCaller) -> SessionAnswer:
    """The session of the caller."""
    return _session_answer(caller.token, caller.role)


def _session_answer(token: str, role: Role) -> SessionAnswer:
    return SessionAnswer(token=token, role=role, may=sorted(MAY[role]))


@router.delete("/session", status_code=204)
async def sign_out(request: Request, response: Response, node: TheNode, _: RequireCaller) -> None:
    """End this browser session."""
    if secret := session_of(request.headers.get("cookie", "")):
        await tokens.close_session(node.pool, secret)
        await node.auth.reload()
    response.delete_cookie(COOKIE, httponly=True, samesite="strict")


@router.get("/tokens")
async def list_tokens(node: TheNode, _: TokenKeeper) -> list[TokenAnswer]:
    """All tokens, without their secrets."""
    return [
        TokenAnswer(
            name=t.name,
            role=t.role,
            endpoints=None if t.endpoints is None else list(t.endpoints),
            made_at=t.made_at,
            made_by=t.made_by,
            revoked_at=t.revoked_at,
            expires_at=t.expires_at,
            rate_per_s=t.rate_per_s,
            last_used_at=t.last_used_at,
        )
        for t in await tokens.list_tokens(node.pool)
    ]


@router.post("/tokens", status_code=201)
async def make_token(body: TokenRequest, node: TheNode, caller: TokenKeeper) -> NewTokenAnswer:
    """Make a token. Its secret is shown only in this answer."""
    check_name(body.name, "token")
    if body.role == "desk":
        raise BadRequest("a token of a desk is its link; make one: lamppost desk open ENDPOINT")
    if body.endpoints is not None and body.role != "caller":
        raise BadRequest(f"only a caller's token can be kept to endpoints, not a {body.role}'s")
    if body.expires_at is not None and body.expires_at <= datetime.now(UTC):
        raise BadRequest(f"the token would have expired already, at {body.expires_at.isoformat()}; choose a later time")
    secret = await tokens.make_token(node.pool, body.name, body.role, body.endpoints, caller.changed_by, body.expires_at, body.rate_per_s)
    await node.auth.reload()
    return NewTokenAnswer(**body.model_dump(), secret=secret)


@router.post("/tokens/{name}/rotate")
async def rotate_token(name: str, body: RotationRequest, node: TheNode, caller: TokenKeeper) -> RotationAnswer:
    """Give a token a new secret, shown only in this answer. The former one stays in force for ``keep_former_s`` seconds."""
    secret, until = await tokens.rotate_token(node.pool, name, timedelta(seconds=body.keep_former_s), caller.changed_by)
    await node.auth.reload()
    return RotationAnswer(name=name, secret=secret, former_until=until)


@router.delete("/tokens/{name}", status_code=204)
async def revoke_token(name: str, node: TheNode, caller: TokenKeeper) -> None:
    """End a token at once, with its browser sessions."""
    await tokens.revoke_token(node.pool, name, caller.changed_by)
    await node.auth.reload()
