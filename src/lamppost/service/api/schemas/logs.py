"""API schemas of the log and of nodes."""

from __future__ import annotations

from datetime import datetime

from pydantic import Field as Described

from lamppost.core.log_lines import Level
from lamppost.service.api.schemas.base import ApiModel


class LogLineAnswer(ApiModel):
    """One line of the log."""

    at: float = Described(description="Unix time, seconds")
    number: int = Described(description="larger than that of every earlier line of its node")
    node: str
    level: Level
    source: str = Described(description="the part of the service that wrote it")
    message: str
    version: str | None
    worker: int | None = Described(description="process id of the worker that printed it")
    request_id: str | None
    traceback: str | None


class LogLinesAnswer(ApiModel):
    """Lines, oldest first. silent : nodes that did not answer."""

    lines: list[LogLineAnswer]
    silent: list[str]


class NodeEntryAnswer(ApiModel):
    """A node. address : where other nodes reach it. software : its version of Lamp Post."""

    name: str
    address: str
    software: str
    started_at: datetime
    seen_at: datetime
