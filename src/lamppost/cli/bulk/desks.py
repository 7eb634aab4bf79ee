"""Commands ``desk …``: pages for people who only ask."""

from __future__ import annotations

import tomllib
from datetime import UTC, datetime
from pathlib import Path
from typing import Annotated, Any

import tomli_w
import typer

from lamppost.cli.out import DIM, paint, print_done, print_json, print_line, print_table, time_ago
from lamppost.cli.parameters import Address, AsJson, Endpoint
from lamppost.cli.times import parse_time
from lamppost.client import Client
from lamppost.core.errors import BadRequest, NotFound

_SHOWN_DAYS = 14


def desk_open(
    endpoint: Endpoint,
    lasts: Annotated[str, typer.Option("--for", help="How long the link is in force: 30d, 12h.", metavar="SPAN")] = "30d",
    name: Annotated[str | None, typer.Option(help="Name of the link, by which it is listed and revoked [the next free one].")] = None,
    settings: Annotated[
        Path | None, typer.Option("--from", help="What the desk shows: a TOML file, see desk show.", metavar="FILE")
    ] = None,
    address: Address = None,
    as_json: AsJson = False,
) -> None:
    """Command ``desk open``."""
    now = datetime.now(UTC)
    lasts_s = (parse_time(lasts, now) - now).total_seconds()
    if lasts_s <= 0:
        raise BadRequest(f"{lasts!r} is no time to come; write 30d or 12h")
    with Client(address) as client:
        if settings is not None:
            client.fetch("PUT", f"/api/desks/{endpoint}", _read_settings(settings))
        made = client.fetch("POST", f"/api/desks/{endpoint}/links", {"name": name, "for_s": round(lasts_s)})
    if as_json:
        print_json(made)
        return
    print_line(
        f"The link {made['name']} opens the desk of {endpoint} until {made['expires_at'][:10]}, and nothing else. It is shown this once:"
    )
    print_line(made["link"])
    print_line(paint(f"  end it with: lamppost desk revoke {endpoint} {made['name']}", DIM))


def desk_set(
    endpoint: Endpoint,
    settings: Annotated[Path, typer.Argument(help="A TOML file, as desk show --toml writes it.", metavar="FILE")],
    address: Address = None,
    as_json: AsJson = False,
) -> None:
    """Command ``desk set``."""
    with Client(address) as client:
        desk = client.fetch("PUT", f"/api/desks/{endpoint}", _read_settings(settings))
    print_done(f"the desk of {endpoint} shows {desk['settings']['title']!r}", desk, as_json)


def _read_settings(file: Path) -> dict[str, Any]:
    try:
        return tomllib.loads(file.read_text(encoding="utf-8"))
    except tomllib.TOMLDecodeError as error:
        raise BadRequest(f"{file} is no TOML: {error}") from error
    except (OSError, UnicodeDecodeError) as error:
        raise BadRequest(f"{file} cannot be read: {error}") from error


def desk_show(
    endpoint: Endpoint,
    toml: Annotated[bool, typer.Option("--toml", help="Only what the desk shows, as TOML to be changed and set again.")] = False,
    address: Address = None,
    as_json: AsJson = False,
) -> None:
    """Command ``desk show``."""
    with Client(address) as client:
        try:
            desk = client.fetch("GET", f"/api/desks/{endpoint}")
        except NotFound:
            if not toml:
                raise
            desk = {"settings": _first_settings(client.fetch("GET", f"/api/endpoints/{endpoint}"))}
    if as_json:
        print_json(desk)
        return
    if toml:
        print_line(tomli_w.dumps(_without_none(desk["settings"]), multiline_strings=True).rstrip())
        return
    settings = desk["settings"]
    print_line(f"{settings['title']}  {paint(f'the desk of {endpoint}', DIM)}")
    if settings["introduction"]:
        print_line(f"  {settings['introduction']}")
    hidden = [name for name, words in settings["fields"].items() if not words["shown"]]
    print_line(paint(f"  set by {desk['made_by']}, {time_ago(desk['changed_at'])}; results stay {settings['keep_days']} days", DIM))
    if hidden:
        print_line(paint(f"  not asked for: {', '.join(hidden)}", DIM))
    print_line()
    if not desk["links"]:
        print_line(f"Nobody can use it: it has no link. Make one: lamppost desk open {endpoint}")
    else:
        print_table(
            ["link", "made", "by", "last used", "state"],
            [
                [
                    link["name"],
                    time_ago(link["made_at"]),
                    link["made_by"] or "",
                    time_ago(link["last_used_at"]) if link["last_used_at"] else "never",
                    _state(link),
                ]
                for link in desk["links"]
            ],
        )
    if desk["uses"]:
        print_line()
        print_table(
            ["day", "link", "questions", "files", "rows"],
            [
                [use["day"], use["link"], *(f"{use[what]:,}" for what in ("questions", "files", "rows"))]
                for use in desk["uses"][:_SHOWN_DAYS]
            ],
            right=frozenset({"questions", "files", "rows"}),
        )


def _first_settings(endpoint: dict[str, Any]) -> dict[str, Any]:
    """Settings to begin with: every field and every answer, under its own name."""
    answer = next((one for one in endpoint["answers"] if one["kind"] in ("choice", "yes/no", "number", "integer", "text")), None)
    labels = [] if answer is None else ["yes", "no"] if answer["kind"] == "yes/no" else answer["choices"]
    return {
        "title": endpoint["name"],
        "introduction": "",
        "use": "",
        "keep_days": 30,
        "fields": {one["name"]: {"label": one["name"], "hint": one["meaning"] or "", "shown": True} for one in endpoint["inputs"]},
        "answers": {label: {"text": label, "state": "look"} for label in labels},
    }


def _without_none(document: Any) -> Any:
    if isinstance(document, dict):
        return {name: _without_none(value) for name, value in document.items() if value is not None and value != {} and value != []}
    return [_without_none(value) for value in document] if isinstance(document, list) else document


def _state(link: dict[str, Any]) -> str:
    if link["revoked_at"]:
        return f"revoked {time_ago(link['revoked_at'])}"
    if link["expires_at"] and datetime.fromisoformat(link["expires_at"]) <= datetime.now(UTC):
        return f"expired {time_ago(link['expires_at'])}"
    return f"in force until {link['expires_at'][:10]}" if link["expires_at"] else "in force"


def desk_list(address: Address = None, as_json: AsJson = False) -> None:
    """Command ``desk list``."""
    with Client(address) as client:
        desks = client.fetch("GET", "/api/desks")
    if as_json:
        print_json(desks)
        return
    if not desks:
        print_line("There are no desks. Open one: lamppost desk open ENDPOINT")
        return
    print_table(
        ["desk", "title", "links in force", "questions", "files"],
        [
            [
                desk["endpoint"],
                desk["settings"]["title"],
                str(sum(_state(link).startswith("in force") for link in desk["links"])),
                *(f"{sum(use[what] for use in desk['uses']):,}" for what in ("questions", "files")),
            ]
            for desk in desks
        ],
        right=frozenset({"links in force", "questions", "files"}),
    )


def desk_revoke(
    endpoint: Endpoint,
    link: Annotated[str, typer.Argument(help="The link, by its name.", metavar="LINK")],
    address: Address = None,
    as_json: AsJson = False,
) -> None:
    """Command ``desk revoke``."""
    with Client(address) as client:
        client.fetch("DELETE", f"/api/desks/{endpoint}/links/{link}")
    print_done(f"the link {link} is revoked", {"link": link}, as_json)


def desk_close(endpoint: Endpoint, address: Address = None, as_json: AsJson = False) -> None:
    """Command ``desk close``."""
    with Client(address) as client:
        client.fetch("DELETE", f"/api/desks/{endpoint}")
    print_done(f"the desk of {endpoint} is closed, and its links are revoked", {"endpoint": endpoint}, as_json)
