"""Command ``setup``: shows or changes what an endpoint serves, as TOML."""

from __future__ import annotations

import sys
import tomllib
from dataclasses import dataclass
from pathlib import Path
from typing import Annotated, Any
from urllib.parse import quote

import tomli_w
import typer

from lamppost.cli.out import DIM, paint, print_change, print_json, print_line
from lamppost.cli.parameters import Address, AsJson
from lamppost.client import Client
from lamppost.core.endpoint.setup import read_setup, without_findings, write_setup
from lamppost.core.errors import BadRequest, NotFound


@dataclass(frozen=True, slots=True)
class SetupOptions:
    """What was said on the command line; nothing of it to look only. lane, monitoring : ``NAME=VALUE``."""

    file: Path | None
    as_of: int | None
    lenient: bool | None
    lane: tuple[str, ...] = ()
    monitoring: tuple[str, ...] = ()


def setup(
    endpoint: Annotated[str, typer.Argument(help="The endpoint.")],
    file: Annotated[Path | None, typer.Option(help="Replace the setup with this TOML file; - reads standard input.")] = None,
    as_of: Annotated[int | None, typer.Option(help="Restore the setup of this revision; see lamppost show.")] = None,
    lane: Annotated[
        list[str] | None,
        typer.Option(
            help="A lane rule, such as target_ms=20 or keep_warm=true (may be repeated); see docs/setups.md.", metavar="NAME=VALUE"
        ),
    ] = None,
    monitoring: Annotated[
        list[str] | None,
        typer.Option(
            help="A monitoring setting, such as window_minutes=60 or sample=10 (may be repeated); see docs/monitoring.md.",
            metavar="NAME=VALUE",
        ),
    ] = None,
    lenient: Annotated[
        bool | None, typer.Option("--lenient/--strict", help="Take values of another kind whose meaning leaves no doubt, or refuse them.")
    ] = None,
    address: Address = None,
    as_json: AsJson = False,
) -> None:
    """Command ``setup``."""
    options = SetupOptions(file, as_of, lenient, tuple(lane or ()), tuple(monitoring or ()))
    if options.file is not None and options.as_of is not None:
        raise BadRequest("give either --file or --as-of")
    with Client(address, timeout_s=180) as client:
        page = _page(client, endpoint, options)
        now = _plain(page["setup"]) if page else {}
        if options == SetupOptions(None, None, None):
            print_json(now) if as_json else _show(endpoint, page or {})
            return
        new_setup = _changed_setup(endpoint, options, now, page)
        answer = client.set_up(endpoint, new_setup, page["revision"] if page else 0)
    print_change(answer, as_json)


def _page(client: Client, endpoint: str, options: SetupOptions) -> dict[str, Any] | None:
    try:
        page: dict[str, Any] = client.fetch("GET", f"/api/endpoints/{quote(endpoint, safe='')}")
    except NotFound:
        if options.file is None:
            raise
        return None  # it is made with the file
    return page


def _changed_setup(endpoint: str, options: SetupOptions, now: dict[str, Any], page: dict[str, Any] | None) -> dict[str, Any]:
    new_setup = now
    if options.file is not None:
        new_setup = read_toml(options.file)
    elif options.as_of is not None:
        past = {revision["revision"]: _plain(revision["setup"]) for revision in (page or {}).get("history", [])}
        if options.as_of not in past:
            raise BadRequest(f"{endpoint} has no revision {options.as_of} among its last ones; see lamppost show {endpoint}")
        new_setup = past[options.as_of]
    if options.lenient is not None:
        new_setup = new_setup | {"lenient": options.lenient}
    for part, given in (("lane", options.lane), ("monitoring", options.monitoring)):
        if given:
            rules = new_setup.get(part, {}) | dict(map(_rule, given))
            new_setup = new_setup | {part: {name: value for name, value in rules.items() if value is not None}}
    return new_setup


def _rule(text: str) -> tuple[str, Any]:
    """A rule and its value; ``NAME=`` alone gives it back to the service."""
    name, _, value = text.partition("=")
    try:
        return name.strip(), tomllib.loads(f"x = {value}")["x"] if value else None
    except tomllib.TOMLDecodeError as error:
        raise BadRequest(f"{text} is not NAME=VALUE with a number, true or false") from error


def _plain(setup: Any) -> dict[str, Any]:
    """A setup without what is at its default, and without what the service finds out."""
    return write_setup(without_findings(read_setup(setup)))


def read_toml(file: Path) -> dict[str, Any]:
    """A TOML file, or standard input for ``-``; raise BadRequest."""
    try:
        text = sys.stdin.read() if str(file) == "-" else file.read_text(encoding="utf-8")
        return tomllib.loads(text)
    except OSError as error:
        raise BadRequest(f"{file} cannot be read: {error.strerror}") from error
    except (tomllib.TOMLDecodeError, UnicodeDecodeError) as error:
        raise BadRequest(f"{file} is not TOML: {error}") from error


def _show(endpoint: str, page: dict[str, Any]) -> None:
    print_line(paint(f"# {endpoint}, revision {page['revision']}: serves {page['summary']}", DIM))
    print_line(tomli_w.dumps(_plain(page["setup"])).rstrip())
