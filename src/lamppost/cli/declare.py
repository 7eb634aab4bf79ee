"""Command ``declare``: writes the declared document, shows what another document would change, and carries it out."""

from __future__ import annotations

from pathlib import Path
from typing import Annotated, Any

import typer

from lamppost.cli.changes import ChangeOverrides
from lamppost.cli.out import AMBER, DIM, paint, print_json, print_line
from lamppost.cli.parameters import Address, AsJson, BreakCallers, Override
from lamppost.cli.setup import read_toml
from lamppost.client import Client
from lamppost.core.endpoint.declared import read_declared
from lamppost.core.errors import BadRequest


def declare(
    file: Annotated[Path | None, typer.Argument(help="A document to compare; - reads standard input [none].", metavar="FILE")] = None,
    carry_out: Annotated[bool, typer.Option("--carry-out", help="Make endpoints as the document says, all of it or nothing.")] = False,
    against: Annotated[str | None, typer.Option(help="Only if endpoints still are as of this fingerprint.", metavar="FINGERPRINT")] = None,
    to: Annotated[Path | None, typer.Option(help="File to write the present document to [standard output].")] = None,
    break_callers: BreakCallers = False,
    override: Override = None,
    address: Address = None,
    as_json: AsJson = False,
) -> None:
    """Command ``declare``."""
    if file is None:
        if carry_out or against:
            raise BadRequest("say which document: lamppost declare FILE --carry-out")
        _write_present(to, address, as_json)
        return
    if to is not None:
        raise BadRequest("--to writes the present document; leave FILE out, or leave --to out")
    document = read_toml(file)
    read_declared(document)  # what contradicts itself is said before anything is sent
    body = {"endpoints": document["endpoints"], "schedules": document.get("schedules"), "against": against}
    if carry_out:
        _carry_out(body, ChangeOverrides(break_callers, override), address, as_json)
    else:
        _show_difference(file, body, address, as_json)


def _write_present(to: Path | None, address: str | None, as_json: bool) -> None:
    with Client(address) as client:
        present = client.fetch("GET", "/api/declared")
    if as_json:
        print_json(present)
        return
    text = f"# as of {present['fingerprint']}; see what a change would do with: lamppost declare FILE\n\n{present['toml']}"
    if to is None:
        print_line(text.rstrip())
        return
    try:
        to.write_text(text, encoding="utf-8")
    except OSError as error:
        raise BadRequest(f"{to} cannot be written: {error.strerror}") from error
    print_line(f"{to}: {len(present['endpoints'])} endpoints, as of {present['fingerprint']}")


def _show_difference(file: Path, body: dict[str, Any], address: str | None, as_json: bool) -> None:
    with Client(address) as client:
        difference = client.fetch("POST", "/api/declared/difference", body)
    if as_json:
        print_json(difference)
        return
    _print_differences(difference)
    if difference["differences"]:
        print_line(paint(f"  next: lamppost declare {file} --carry-out --against {difference['fingerprint']}", DIM))


def _carry_out(body: dict[str, Any], overrides: ChangeOverrides, address: str | None, as_json: bool) -> None:
    """Without ``against`` the differences are looked up first, and exactly those are carried out, or nothing."""
    with Client(address, timeout_s=300) as client:
        if body["against"] is None:
            body = body | {"against": client.fetch("POST", "/api/declared/difference", body)["fingerprint"]}
        body |= {"break_callers": overrides.break_callers, "override": overrides.override}
        carried_out = client.fetch("PUT", "/api/declared", body)
    if as_json:
        print_json(carried_out)
        return
    _print_differences(carried_out)
    if carried_out["differences"]:
        count = len({difference["endpoint"] for difference in carried_out["differences"]})
        print_line(f"{paint('●', AMBER)} changed {count} endpoint{'s' if count != 1 else ''}; now as of {carried_out['fingerprint']}")


def _print_differences(comparison: dict[str, Any]) -> None:
    if not comparison["differences"]:
        print_line(f"Every endpoint serves this already, as of {comparison['fingerprint']}.")
    for difference in comparison["differences"]:
        print_line(f"{paint('~' if difference['key'] else '+', AMBER)} {difference['summary']}")
    if comparison["left"]:
        print_line(paint(f"  not in the document, and left as they are: {', '.join(comparison['left'])}", DIM))
