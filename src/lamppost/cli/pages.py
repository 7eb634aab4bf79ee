"""Commands ``report`` and ``card``: pages that are written to files."""

from __future__ import annotations

from pathlib import Path
from typing import Annotated
from urllib.parse import quote

import typer

from lamppost.cli.out import print_done
from lamppost.cli.parameters import Address, AsJson, Endpoint
from lamppost.client import Client
from lamppost.core.errors import BadRequest
from lamppost.core.names import parse_version
from lamppost.core.quantities import format_bytes


def report(
    endpoint: Endpoint,
    period: Annotated[str, typer.Option(help="day, week or month.")] = "week",
    to: Annotated[Path | None, typer.Option(help="File to write, .html or .pdf [ENDPOINT-PERIOD.html].")] = None,
    address: Address = None,
    as_json: AsJson = False,
) -> None:
    """Command ``report``."""
    file = to or Path(f"{endpoint}-{period}.html")
    form = form_of_page(file)
    with Client(address, timeout_s=120) as client:
        content = client.fetch_bytes(f"/api/endpoints/{quote(endpoint, safe='')}/report", form=form, period=period)
    write_page(file, content, as_json)


def card(
    version: Annotated[str, typer.Argument(help="A version (outage-risk@2).")],
    to: Annotated[Path | None, typer.Option(help="File to write, .html or .pdf [MODEL-NUMBER.html].")] = None,
    address: Address = None,
    as_json: AsJson = False,
) -> None:
    """Command ``card``."""
    name = parse_version(version)
    file = to or Path(f"{name.model}-{name.number}.html")
    form = form_of_page(file)
    with Client(address, timeout_s=120) as client:
        content = client.fetch_bytes(f"/api/models/{quote(name.model, safe='')}/versions/{name.number}/card", form=form)
    write_page(file, content, as_json)


def form_of_page(file: Path) -> str:
    """What the name of a file says is made: ``html`` or ``pdf``; raise BadRequest for any other."""
    form = file.suffix.lstrip(".").lower()
    if form not in ("html", "pdf"):
        raise BadRequest(f"{file} ends in neither .html nor .pdf, which says what is made")
    return form


def write_page(file: Path, content: bytes, as_json: bool) -> None:
    """Write a page, and print where it is; raise BadRequest where that cannot be."""
    try:
        file.write_bytes(content)
    except OSError as error:
        raise BadRequest(f"{file} cannot be written: {error.strerror}") from error
    print_done(f"{file}  {format_bytes(len(content))}", {"path": str(file), "size_bytes": len(content)}, as_json)
