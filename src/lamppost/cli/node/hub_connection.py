"""How commands that start a node without a database reach its hub."""

from __future__ import annotations

import logging
import os
from pathlib import Path
from typing import Annotated
from urllib.parse import urlsplit

import typer

from lamppost.cli.node.options import read_secret
from lamppost.core.errors import SetupError
from lamppost.core.names import check_name
from lamppost.service.outpost.hub_link import HubLink

OUTPOST_TOKEN = "LAMPPOST_OUTPOST_TOKEN"  # noqa: S105, the name of a variable

HubCa = Annotated[
    Path | None, typer.Option(help="Certificates (PEM) to trust the hub by, instead of those of this machine.", metavar="FILE")
]


def link_to_hub(hub: str, name: str, token_file: Path | None, token_option: str, ca: Path | None) -> HubLink:
    """The connection of an outpost to its hub, by a token from a file or a variable; raise SetupError or BadRequest for what is none."""
    check_name(name, "outpost")
    parts = urlsplit(hub)
    if parts.scheme not in ("http", "https") or not parts.hostname:
        raise SetupError(f"{hub} is no address of a hub; write https:// and a name")
    secret = read_secret(token_file, token_option) if token_file is not None else os.environ.get(OUTPOST_TOKEN, "")
    if not secret:
        raise SetupError(
            f"the token of the outpost is missing; put it into a file and name that with {token_option}, or set {OUTPOST_TOKEN}"
        )
    logging.getLogger("httpx").setLevel(logging.WARNING)
    return HubLink(hub, name, secret, ca)
