"""Lanes, revisions and predictors for tests of the service's parts: values with the behaviour that the parts rely on."""

from __future__ import annotations

import asyncio
from datetime import UTC, datetime
from types import SimpleNamespace
from typing import Any

from lamppost.core.endpoint.setup import EndpointSetup
from lamppost.core.endpoint.states import LaneState
from lamppost.core.errors import LampPostError
from lamppost.core.names import VersionName
from lamppost.core.schema.fields import Field, Schema
from lamppost.core.schema.redaction import RedactionPolicy
from lamppost.runtime.lane import Lane
from lamppost.runtime.worker_supply import ForkServers
from lamppost.store.endpoints import EndpointRevision


class LastingForkServers(ForkServers):
    """Of all tests of a module; they end with its process."""

    def close(self) -> None:
        """Not with a pool."""


FORK_SERVERS = LastingForkServers()
COLUMNS = Schema((Field("x", "number"),))
ANSWERS = Schema((Field("y", "number"),))


class FakeLane(Lane):
    """A lane that is open at once. fails : what submitting to it raises."""

    def __init__(self, name: str) -> None:
        self.name = name
        self.state: LaneState = "serving"
        self.reason = None
        self.columns, self.answers = COLUMNS, ANSWERS
        self.manifest: Any = SimpleNamespace(name=name, inputs=COLUMNS, answers=ANSWERS, options=None)
        self.plan: Any = SimpleNamespace(schema=COLUMNS)
        self.redaction = RedactionPolicy(COLUMNS, None, ANSWERS)
        self.closed = False
        self.busy = False
        self.queued = 0
        self.seats = []
        self.fails: LampPostError | None = None
        self.submitted: list[tuple[list[dict[str, Any]], Any]] = []

    @property
    def idle(self) -> bool:
        return not self.busy

    @property
    def waiting(self) -> int:
        return self.queued

    def submit(self, rows: Any, size_bytes: int, terms: Any, done: Any, request_id: str = "") -> None:
        del size_bytes, terms, request_id
        if self.fails is not None:
            raise self.fails
        self.submitted.append((list(rows), done))

    def apply_settings(self, settings: Any) -> None:
        self.settings = settings

    async def close(self, drain_s: float = 30.0) -> None:
        del drain_s
        self.closed = True


class LaneFactory:
    """Opens fake lanes. opened : each in its order. gates : versions whose opening waits for an event; broken : those that cannot open."""

    def __init__(self) -> None:
        self.opened: list[FakeLane] = []
        self.asked: list[tuple[str, bool, bool]] = []
        self.gates: dict[str, asyncio.Event] = {}
        self.broken: dict[str, LampPostError] = {}

    async def open(self, version: VersionName, measure: bool, dedicated: bool) -> Lane:
        self.asked.append((str(version), measure, dedicated))
        if gate := self.gates.get(str(version)):
            await gate.wait()
        if error := self.broken.get(str(version)):
            raise error
        self.opened.append(lane := FakeLane(str(version)))
        return lane


def revision(endpoint: str, number: int, version: str, **more: Any) -> EndpointRevision:
    """A revision of an endpoint that serves one version."""
    return EndpointRevision(endpoint, number, EndpointSetup(version=version, **more), datetime(2026, 5, 1, tzinfo=UTC), "ada")
