"""API schemas of alerts, mutes, channels and notices."""

from __future__ import annotations

from datetime import datetime
from typing import Any, Literal
from uuid import UUID

from pydantic import Field as Described

from lamppost.service.api.schemas.base import ApiModel


class AlertAnswer(ApiModel):
    """An alert. certainty : in words. next : the command that shows more."""

    number: int
    endpoint: str
    rule: str
    state: Literal["firing", "acknowledged", "resolved"]
    cause: str
    since: datetime
    seen_at: datetime
    resolved_at: datetime | None
    summary: str
    certainty: str
    probable_cause: str | None
    acknowledged_by: str | None
    note: str | None
    next: str


class AcknowledgeRequest(ApiModel):
    """note : what is being done about it."""

    note: str | None = Described(default=None, max_length=1_000)


class EndpointMuteRequest(ApiModel):
    """A mute. minutes : how long no notices are sent; 0 ends the mute."""

    minutes: float = Described(ge=0, le=43_200)
    note: str | None = Described(default=None, max_length=1_000)


class EndpointMuteAnswer(ApiModel):
    """A mute: no notices about the endpoint until that time."""

    endpoint: str
    until: datetime
    muted_by: str
    note: str | None


class ChannelRequest(ApiModel):
    """Where notices go. target : a URL, or an address of mail. endpoints : null for all."""

    kind: Literal["webhook", "mail"]
    target: str = Described(min_length=3, max_length=1_000)
    endpoints: list[str] | None = None
    reports: Literal["none", "daily", "weekly"] = "none"


class ChannelAnswer(ApiModel):
    """A channel. secret : signs webhooks; shown once, when the channel is made."""

    name: str
    kind: Literal["webhook", "mail"]
    target: str
    endpoints: list[str] | None
    reports: Literal["none", "daily", "weekly"]
    made_by: str
    secret: str | None = None


class NoticeAnswer(ApiModel):
    """A notice and its delivery."""

    id: UUID
    channel: str
    made_at: datetime
    tries: int
    done_at: datetime | None
    given_up: bool
    error: str | None
    body: dict[str, Any]
