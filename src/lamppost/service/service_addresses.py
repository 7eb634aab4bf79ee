"""The other services that the operator of a node named, and how they are reached."""

from __future__ import annotations

import re
from dataclasses import dataclass
from pathlib import Path
from urllib.parse import parse_qsl

from lamppost.core.errors import SetupError

_NAME = re.compile(r"[A-Za-z0-9](?:[A-Za-z0-9.:_-]{0,61}[A-Za-z0-9])?")
_TARGET = re.compile(r"(?:[A-Za-z0-9][A-Za-z0-9.-]*|\[[0-9a-fA-F:]+\]):\d{1,5}")


@dataclass(frozen=True, slots=True)
class ServiceAddresses:
    """Where a service answers over gRPC. targets : ``host:port`` of each of its nodes. tls : whether connections are encrypted.

    token_file : with the token that the service gave. ca_file : certificates (PEM) that its own is checked by, None for the system's.
    """

    targets: tuple[str, ...]
    tls: bool = False
    token_file: Path | None = None
    ca_file: Path | None = None


def read_service(text: str) -> tuple[str, ServiceAddresses]:
    """Name and addresses of a service as the command line gives them; raise SetupError for what is none.

    >>> read_service("models=grpcs://a.internal:8430,b.internal:8430")[0]
    'models'
    >>> read_service("grpc://models.internal:8430")
    ('models.internal:8430', ServiceAddresses(targets=('models.internal:8430',), tls=False, token_file=None, ca_file=None))
    """
    name, equals, url = text.partition("=")
    if not equals or "://" in name:
        name, url = "", text
    scheme, _, rest = url.partition("://")
    hosts, _, query = rest.partition("?")
    targets = tuple(hosts.rstrip("/").split(","))
    files = dict(parse_qsl(query))
    good = scheme in ("grpc", "grpcs") and all(map(_TARGET.fullmatch, targets)) and files.keys() <= {"token", "ca"}
    if not good or not _NAME.fullmatch(name or targets[0]):
        raise SetupError(
            f"--remote {text[:200]} names no service; write NAME=grpc://HOST:PORT, grpcs:// for TLS, several hosts with commas, and"
            " ?token=FILE&ca=FILE behind them"
        )
    if "ca" in files and scheme == "grpc":
        raise SetupError(f"--remote {name or targets[0]} names certificates, and grpc:// does not use them; write grpcs://")
    token, ca = (Path(files[key]) if key in files else None for key in ("token", "ca"))
    for path in (token, ca):
        if path is not None and not path.is_file():
            raise SetupError(f"--remote {name or targets[0]}: there is no file {path}")
    return name or targets[0], ServiceAddresses(targets, scheme == "grpcs", token, ca)
