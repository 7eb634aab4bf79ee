"""API schemas of the declared document."""

from __future__ import annotations

from typing import Any

from pydantic import Field as Described

from lamppost.service.api.schemas.base import ApiModel


class DeclaredRequest(ApiModel):
    """Endpoints, and schedules of bulk runs, as values or as TOML.

    against : refused unless this is still the fingerprint of what is served; null for any.
    """

    endpoints: dict[str, Any] | None = None
    schedules: dict[str, Any] | None = None
    toml: str | None = Described(default=None, max_length=1_000_000)
    against: str | None = None
    break_callers: bool = False
    override: str | None = None


class DeclaredAnswer(ApiModel):
    """What endpoints serve, and which bulk runs are scheduled, as a document with its fingerprint."""

    endpoints: dict[str, Any]
    schedules: dict[str, Any]
    toml: str
    fingerprint: str


class DeclaredDifferenceAnswer(ApiModel):
    """One key that would change; the key is empty for an endpoint that is new. endpoint : its name, or ``schedule NAME``."""

    endpoint: str
    key: str
    before: Any
    after: Any
    summary: str


class DeclaredDifferencesAnswer(ApiModel):
    """What carrying out a document would change. left : endpoints that it does not name, and that stay as they are."""

    differences: list[DeclaredDifferenceAnswer]
    fingerprint: str
    left: list[str]
