"""API schemas of deletions."""

from __future__ import annotations

from datetime import datetime

from pydantic import Field as Described

from lamppost.service.api.schemas.base import ApiModel


class EndpointCallerAnswer(ApiModel):
    """A token that called an endpoint within the last week."""

    token: str
    calls: int
    last_at: datetime


class DeletedEndpointAnswer(ApiModel):
    """A deleted endpoint. served : what it served, in words."""

    name: str
    served: str
    deleted_at: datetime
    deleted_by: str
    restorable_until: datetime | None = Described(description="until then it can be given back; null once it is gone for good")


class EndpointDeletionAnswer(ApiModel):
    """A deletion that was made, who had called the endpoint within the last week, and the command that takes the deletion back."""

    endpoint: DeletedEndpointAnswer
    callers: list[EndpointCallerAnswer]
    summary: str
    undo: str | None


class EndpointRestoredAnswer(ApiModel):
    """An endpoint that was given back."""

    endpoint: str
    revision: int
    summary: str
    undo: str


class VersionDeletionAnswer(ApiModel):
    """Versions that were deleted. freed_bytes : of their packages, in the database; shared_bytes : what other packages use, and stays."""

    versions: list[str]
    freed_bytes: int
    shared_bytes: int
    summary: str
