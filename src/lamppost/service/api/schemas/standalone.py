"""API schemas of nodes without a database."""

from __future__ import annotations

from datetime import datetime
from typing import Any

from pydantic import Field as Described

from lamppost.core.endpoint.states import EndpointState
from lamppost.service.api.schemas.base import ApiModel, FieldAnswer


class ServedEndpointAnswer(ApiModel):
    """An endpoint of a node without a database. reasons : why it is degraded or down."""

    name: str
    state: EndpointState
    reasons: list[str]
    version: str
    summary: str = Described(description="what it serves, in a few words")
    since: datetime
    digests: dict[str, str] = Described(description="SHA-256 of the lamp file of each open version")


class ServedEndpointDetailAnswer(ServedEndpointAnswer):
    """One endpoint with its fields. example : what a request may send."""

    inputs: list[FieldAnswer]
    options: list[FieldAnswer]
    answers: list[FieldAnswer]
    example: dict[str, Any]
    json_schema: dict[str, Any]
