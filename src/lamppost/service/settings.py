"""All settings of a node, as one value."""

from __future__ import annotations

from dataclasses import dataclass, field
from pathlib import Path
from typing import Any

from lamppost.core.limits import MAX_BODY_BYTES, MAX_PACKAGE_BYTES
from lamppost.runtime.confinement.probe import ConfinementReport
from lamppost.runtime.confinement.worker_home import WorkerRules
from lamppost.runtime.lane_options import LaneSettings
from lamppost.service.forwarding import Network
from lamppost.service.service_addresses import ServiceAddresses


@dataclass(frozen=True, slots=True)
class Settings:
    """data : the node's folder. database : URL. name : of this node among all.

    max_body_bytes, max_package_bytes : bounds on a request and on a lamp file.
    memory_bytes : what all workers together may hold, None for half of the machine's memory.
    spool_bytes : what records may take on disk while they wait for the database.
    log_bytes, log_days : what log lines may take on disk, and how long they are kept.
    signers : public keys of which one must have signed a package that can run code; empty where that is not demanded.
    grpc : host and port for gRPC beside HTTP, None for none.
    environments : whether packages with other pins get the libraries that they were packed with.
    sources : databases that fields may be looked up in and bulk runs may read, URL by name. targets : databases that bulk runs may write.
    folders : folders and stores whose files bulk runs may read and write, path or URL by name.
    remotes : other services whose endpoints may take part in answers, by name. tls : certificate chain and key that this node answers over
    TLS with, None for plain connections.
    clusters : Dask clusters that bulk runs may be spread over, address of the scheduler by name.
    address : where this node listens. public_urls : addresses that people and programs use, the first in links and mails.
    trusted_proxies : networks of proxies whose headers about the sender are believed. cors_origins : origins of pages that may ask with a
    token.
    smtp : host and port of a mail server, None for none. mail_from : whom its mails are from.
    records : whether calls are recorded at all. otlp : URL that spans are sent to (OTLP over HTTP), None for none.
    options : what the service was started with, as a file of settings would have it, without URLs of databases.
    ready_needs_all : whether this node is ready only while every endpoint answers.
    fronts : front processes that read requests; 1 for none beside the node itself.
    packages : folder of lamp files and what is unpacked of them, None for one in ``data``.
    workers : what worker processes are confined to. confinement : what of that was measured to be in force.
    """

    data: Path
    database: str
    name: str = "node"
    lane: LaneSettings = field(default_factory=LaneSettings)
    max_body_bytes: int = MAX_BODY_BYTES
    max_package_bytes: int = MAX_PACKAGE_BYTES
    memory_bytes: int | None = None
    spool_bytes: int = 10**9
    log_bytes: int = 10**8
    log_days: int = 14
    signers: frozenset[str] = frozenset()
    grpc: str | None = None
    environments: bool = False
    sources: dict[str, str] = field(default_factory=dict)
    targets: dict[str, str] = field(default_factory=dict)
    folders: dict[str, str] = field(default_factory=dict)
    clusters: dict[str, str] = field(default_factory=dict)
    remotes: dict[str, ServiceAddresses] = field(default_factory=dict)
    tls: tuple[Path, Path] | None = None
    address: str = "http://127.0.0.1:8420"
    public_urls: tuple[str, ...] = ()
    trusted_proxies: tuple[Network, ...] = ()
    cors_origins: tuple[str, ...] = ()
    smtp: str | None = None
    mail_from: str = "lamppost@localhost"
    records: bool = True
    otlp: str | None = None
    ready_needs_all: bool = False
    options: dict[str, Any] = field(default_factory=dict)
    fronts: int = 1
    packages: Path | None = None
    workers: WorkerRules = field(default_factory=WorkerRules)
    confinement: ConfinementReport = field(default_factory=ConfinementReport)

    @property
    def packages_folder(self) -> Path:
        """The folder of lamp files."""
        return self.packages or self.data / "packages"

    @property
    def public_address(self) -> str:
        """The address for links."""
        return self.public_urls[0] if self.public_urls else self.address

    def link_address(self, asked: str) -> str:
        """The address of a link for a caller: the public one; where there is none, the one that the caller asked."""
        return self.public_address if self.public_urls else asked.rstrip("/")
