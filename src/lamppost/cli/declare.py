"""``state``, ``plan`` and ``apply``: endpoints as one TOML document."""

from __future__ import annotations

from pathlib import Path
from typing import Any

from lamppost.cli.changes import ChangeOverrides
from lamppost.cli.out import AMBER, DIM, paint, print_json, print_line
from lamppost.cli.setup import read_toml
from lamppost.client import Client
from lamppost.core.endpoint.declared import read_declared
from lamppost.core.errors import BadRequest


def state(to: Path | None, address: str | None, as_json: bool) -> None:
    """``lamppost state``."""
    with Client(address) as client:
        said = client.fetch("GET", "/api/state")
    if as_json:
        print_json(said)
        return
    text = f"# the state {said['fingerprint']}; see what a change would do with: lamppost plan FILE\n\n"
    text += said["toml"]
    if to is None:
        print_line(text.rstrip())
        return
    try:
        to.write_text(text, encoding="utf-8")
    except OSError as error:
        raise BadRequest(f"{to} cannot be written: {error.strerror}") from error
    print_line(f"{to}: {len(said['endpoints'])} endpoints, state {said['fingerprint']}")


def plan(file: Path, address: str | None, as_json: bool) -> None:
    """``lamppost plan``."""
    document = _document(file)
    with Client(address) as client:
        said = client.fetch("POST", "/api/state/plan", document)
    if as_json:
        print_json(said)
        return
    _show(said)
    if said["differences"]:
        print_line(paint(f"  next: lamppost apply {file} --against {said['fingerprint']}", DIM))


def apply(file: Path, against: str | None, insist: ChangeOverrides, address: str | None, as_json: bool) -> None:
    """``lamppost apply``; without ``against`` it plans first, and applies that plan or nothing."""
    document = _document(file)
    with Client(address, timeout_s=300) as client:
        if against is None:
            against = client.fetch("POST", "/api/state/plan", document)["fingerprint"]
        wanted = document | {"against": against, "break_callers": insist.break_callers, "override": insist.override}
        said = client.fetch("POST", "/api/state/apply", wanted)
    if as_json:
        print_json(said)
        return
    _show(said)
    if said["differences"]:
        count = len({one["endpoint"] for one in said["differences"]})
        print_line(f"{paint('●', AMBER)} applied to {count} endpoint{'s' if count != 1 else ''}; the state is {said['fingerprint']}")


def _document(file: Path) -> dict[str, Any]:
    document = read_toml(file)
    read_declared(document)  # what contradicts itself is said before anything is sent
    return {"endpoints": document["endpoints"]}


def _show(said: dict[str, Any]) -> None:
    if not said["differences"]:
        print_line(f"Everything is so already; the state is {said['fingerprint']}.")
    for one in said["differences"]:
        print_line(f"{paint('~' if one['key'] else '+', AMBER)} {one['says']}")
    if said["left"]:
        print_line(paint(f"  not in the document, and left as they are: {', '.join(said['left'])}", DIM))
