"""API schemas of signing in, and of tokens."""

from __future__ import annotations

from datetime import datetime

from pydantic import Field as Described

from lamppost.core.engine.rate_limit import MAX_RATE_PER_S, MIN_RATE_PER_S
from lamppost.core.roles import Permission, Role
from lamppost.service.api.schemas.base import ApiModel, InstantWithOffset


class SignInRequest(ApiModel):
    """How a browser signs in: with a token, or with the secret of a one-time link."""

    token: str | None = Described(default=None, max_length=500)
    link: str | None = Described(default=None, max_length=500)


class SignInLinkAnswer(ApiModel):
    """An address that signs a browser in, once; its secret stands after the #, so that it is in no log."""

    link: str


class SessionAnswer(ApiModel):
    """Who is signed in. may : the permissions of the role."""

    token: str
    role: Role
    may: list[Permission]


class TokenRequest(ApiModel):
    """A token to be made. endpoints : for a caller, the only ones it may ask; null for all."""

    name: str
    role: Role
    endpoints: list[str] | None = None
    expires_at: InstantWithOffset | None = Described(default=None, description="when it ends by itself; null for never")
    rate_per_s: float | None = Described(
        default=None, ge=MIN_RATE_PER_S, le=MAX_RATE_PER_S, description="requests a second on each node; null for any number"
    )


class NewTokenAnswer(TokenRequest):
    """A token that was made; the secret is shown this once."""

    secret: str


class RotationRequest(ApiModel):
    """How long the former secret of a token stays in force beside the new one, in seconds."""

    keep_former_s: int = Described(default=3_600, ge=0, le=30 * 86_400)


class RotationAnswer(ApiModel):
    """The new secret of a token, shown this once. former_until : when the former one ends."""

    name: str
    secret: str
    former_until: datetime


class TokenAnswer(TokenRequest):
    """A token as it may be shown."""

    made_at: datetime
    made_by: str | None
    revoked_at: datetime | None
    last_used_at: datetime | None = Described(description="within ten seconds; null until it was used")
