"""Command ``records``: records on their way to the database, and those that were set aside."""

from __future__ import annotations

from typing import Annotated

import typer

from lamppost.cli.out import AMBER, BRICK, DIM, paint, print_json, print_line, print_table
from lamppost.cli.parameters import Address, AsJson
from lamppost.client import Client
from lamppost.core.quantities import format_bytes


def records(
    retry: Annotated[bool, typer.Option("--retry", help="Bring what was set aside to the database once more.")] = False,
    address: Address = None,
    as_json: AsJson = False,
) -> None:
    """Command ``records``."""
    with Client(address) as client:
        retried = client.fetch("POST", "/api/records/set-aside/retry") if retry else None
        node, frames = client.fetch("GET", "/api/node"), client.fetch("GET", "/api/records/set-aside")
    if as_json:
        print_json({"retried": retried and retried["calls"], "set_aside": frames, **node})
        return
    if retried is not None:
        print_line(f"{paint('●', AMBER)} {retried['calls']:,} calls are on their way to the database again")
    spool = f"the spool takes {format_bytes(node['spool_bytes'])} of {format_bytes(node['spool_most_bytes'])}"
    print_line(f"{node['records_waiting']:,} records wait for the database; {spool}; {node['records_dropped']:,} were lost")
    if not frames:
        print_line("none were set aside")
        return
    print_line(paint(f"{node['records_set_aside']:,} were set aside, because they could not be stored:", BRICK))
    print_table(
        ["since", "calls", "why"], [[frame["at"], f"{frame['calls']:,}", frame["error"]] for frame in frames], right=frozenset({"calls"})
    )
    print_line(paint("  when the cause is mended: lamppost records --retry", DIM))
