"""Commands ``delete endpoint``, ``delete version`` and ``delete model``."""

from __future__ import annotations

from typing import Annotated

import typer

from lamppost.cli.out import SLATE, print_change
from lamppost.cli.parameters import Address, AsJson, Endpoint
from lamppost.client import Client
from lamppost.core.errors import BadRequest

_GONE = ("◌", SLATE)


def delete_endpoint(
    endpoint: Endpoint,
    anyway: Annotated[bool, typer.Option("--anyway", help="Delete the endpoint although it was called within the last week.")] = False,
    for_good: Annotated[bool, typer.Option("--for-good", help="Without the day in which the endpoint can be given back.")] = False,
    undo: Annotated[bool, typer.Option("--undo", help="Give a deleted endpoint back, as it was.")] = False,
    address: Address = None,
    as_json: AsJson = False,
) -> None:
    """Command ``delete endpoint``."""
    if undo and (anyway or for_good):
        raise BadRequest("--undo goes without --anyway and --for-good")
    with Client(address) as client:
        print_change(client.restore_endpoint(endpoint) if undo else client.delete_endpoint(endpoint, anyway, for_good), as_json, _GONE)


def delete_version(
    version: Annotated[str, typer.Argument(help="The version.", metavar="MODEL@N")], address: Address = None, as_json: AsJson = False
) -> None:
    """Command ``delete version``."""
    with Client(address) as client:
        print_change(client.delete_version(version), as_json, _GONE)


def delete_model(
    model: Annotated[str, typer.Argument(help="The model; all its versions are deleted.")], address: Address = None, as_json: AsJson = False
) -> None:
    """Command ``delete model``."""
    with Client(address) as client:
        print_change(client.delete_model(model), as_json, _GONE)
