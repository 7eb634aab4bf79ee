"""What the process of bulk runs needs to know of its node, and the orders and replies that go between the two, as JSON."""

from __future__ import annotations

from collections.abc import Mapping
from dataclasses import dataclass, field
from pathlib import Path
from typing import Any

import orjson
from pydantic import TypeAdapter

from lamppost.core.bulk.order import BulkOrder, read_order, write_order
from lamppost.core.endpoint.setup import EndpointSetup, read_setup, write_setup
from lamppost.runtime.confinement.worker_home import WorkerRules
from lamppost.runtime.lane_options import LaneSettings
from lamppost.service.bulk.places import NamedPlaces
from lamppost.service.service_addresses import ServiceAddresses
from lamppost.service.settings import Settings

MODULE = "lamppost.service.bulk.run_process"


@dataclass(frozen=True, slots=True)
class NodeFacts:
    """What a node was started with, as far as bulk runs need it. formats : of artifacts that may be opened."""

    data: Path
    database: str
    name: str
    formats: tuple[str, ...]
    signers: tuple[str, ...]
    environments: bool
    memory_bytes: int | None
    confined: bool
    workers_folder: Path | None
    groups: tuple[str, ...] = ()
    folders: dict[str, str] = field(default_factory=dict)
    sources: dict[str, str] = field(default_factory=dict)
    targets: dict[str, str] = field(default_factory=dict)
    clusters: dict[str, str] = field(default_factory=dict)
    remotes: dict[str, ServiceAddresses] = field(default_factory=dict)

    @property
    def places(self) -> NamedPlaces:
        """Where runs read and write."""
        return NamedPlaces(self.data, self.folders, self.sources, self.targets, self.clusters)

    def settings(self, lane: LaneSettings) -> Settings:
        """The settings of lanes beside the service. lane : how they are run."""
        return Settings(
            self.data,
            self.database,
            name=self.name,
            lane=lane,
            memory_bytes=self.memory_bytes,
            signers=frozenset(self.signers),
            environments=self.environments,
            workers=WorkerRules(self.workers_folder, self.data, self.confined, self.groups),
        )


def node_facts(settings: Settings) -> NodeFacts:
    """The facts of a node."""
    return NodeFacts(
        data=settings.data,
        database=settings.database,
        name=settings.name,
        formats=tuple(sorted(settings.lane.formats)),
        signers=tuple(sorted(settings.signers)),
        environments=settings.environments,
        memory_bytes=settings.memory_bytes,
        confined=settings.workers.confined,
        workers_folder=settings.workers.folder,
        groups=settings.workers.groups,
        folders=settings.folders,
        sources=settings.sources,
        targets=settings.targets,
        clusters=settings.clusters,
        remotes=settings.remotes,
    )


def write_facts(facts: NodeFacts) -> bytes:
    """The message that a process gets first; it holds passwords of databases."""
    return TypeAdapter(NodeFacts).dump_json(facts)


def read_facts(message: bytes) -> NodeFacts:
    """The same on the other side."""
    return TypeAdapter(NodeFacts).validate_json(message)


def check_message(order: BulkOrder, setups: tuple[EndpointSetup, ...], rows: int, tried: int) -> bytes:
    """Asks whether an order can be carried out. rows : how many of the source's first rows are wanted back. tried : how many are read."""
    asked = [write_setup(setup) for setup in setups]
    return orjson.dumps({"check": write_order(order), "setups": asked, "rows": rows, "tried": tried})


def look_message(order: BulkOrder, rows: int) -> bytes:
    """Asks for the columns and first rows of an order's files."""
    return orjson.dumps({"look": write_order(order), "rows": rows})


def run_message(name: str) -> bytes:
    """Has a run carried out, from where it is."""
    return orjson.dumps({"run": name})


def read_check(message: Mapping[str, Any]) -> tuple[BulkOrder, tuple[EndpointSetup, ...], int, int]:
    """The order, setups, rows and tried rows of a `check_message`."""
    return read_order(message["check"]), tuple(map(read_setup, message["setups"])), int(message["rows"]), int(message["tried"])
