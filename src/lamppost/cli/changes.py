"""Commands ``rollback``, ``split``, ``shadow``, ``compare``, ``retire``, ``about`` and ``trail``."""

from __future__ import annotations

from dataclasses import dataclass
from pathlib import Path
from typing import Annotated, Any
from urllib.parse import quote

import typer

from lamppost.cli.ask import read_file
from lamppost.cli.out import (
    AMBER,
    BRICK,
    DIM,
    SLATE,
    format_ms,
    paint,
    print_change,
    print_json,
    print_line,
    print_table,
    short_json,
    time_ago,
)
from lamppost.cli.parameters import Address, AsJson, BreakCallers, Endpoint, Override, Sticky
from lamppost.client import Client
from lamppost.core.endpoint.setup import read_setup
from lamppost.core.errors import BadRequest
from lamppost.core.names import parse_version


@dataclass(frozen=True, slots=True)
class ChangeOverrides:
    """What somebody insists on; see the service's ``Insisting``."""

    break_callers: bool = False
    override: str | None = None


def rollback(
    endpoint: Endpoint,
    note: Annotated[str | None, typer.Option(help="The reason, for the trail.")] = None,
    address: Address = None,
    as_json: AsJson = False,
) -> None:
    """Command ``rollback``."""
    with Client(address, timeout_s=60) as client:
        answer = client.rollback(endpoint, note)
    print_change(answer, as_json)


def read_sticky(text: str | None) -> dict[str, str] | None:
    """``header:customer`` as the API has it."""
    if text is None:
        return None
    by, _, name = text.partition(":")
    if by not in ("header", "field", "option") or not name:
        raise BadRequest(f"--sticky {text} is not header:NAME, field:NAME or option:NAME")
    return {"by": by, "name": name}


def split(
    endpoint: Endpoint,
    shares: Annotated[list[str], typer.Argument(help="Versions with percent of calls, 100 together.", metavar="MODEL@N=SHARE…")],
    sticky: Sticky = None,
    break_callers: BreakCallers = False,
    override: Override = None,
    address: Address = None,
    as_json: AsJson = False,
) -> None:
    """Command ``split``."""
    of: dict[str, float] = {}
    for text in shares:
        version, _, share = text.partition("=")
        parse_version(version)
        try:
            of[version] = float(share.removesuffix("%"))
        except ValueError as error:
            raise BadRequest(f"{text} is not MODEL@N=SHARE, such as {version}=10") from error
    with Client(address, timeout_s=180) as client:
        answer = client.split(endpoint, of, read_sticky(sticky), break_callers, override)
    print_change(answer, as_json)


def shadow(
    endpoint: Endpoint,
    version: Annotated[str, typer.Argument(help="The version that gets copies of calls.")],
    share: Annotated[float, typer.Option(help="Percent of calls that are copied; 0 removes the shadow.", min=0, max=100)] = 100.0,
    address: Address = None,
    as_json: AsJson = False,
) -> None:
    """Command ``shadow``."""
    with Client(address, timeout_s=180) as client:
        answer = client.shadow(endpoint, version, share)
    print_change(answer, as_json)


def compare(
    before: Annotated[str, typer.Argument(help="The first version.", metavar="BEFORE")],
    after: Annotated[str, typer.Argument(help="The second version.", metavar="AFTER")],
    endpoint: Annotated[str | None, typer.Option(help="On the rows of the last calls to this endpoint.")] = None,
    last: Annotated[int, typer.Option(help="How many calls.", min=1, max=5_000)] = 500,
    file: Annotated[Path | None, typer.Option(help="On the rows of a .json or .csv file.")] = None,
    address: Address = None,
    as_json: AsJson = False,
) -> None:
    """Command ``compare``."""
    parse_version(before)
    parse_version(after)
    if endpoint is not None and file is not None:
        raise BadRequest("give either --endpoint or --file")
    body: dict[str, Any] = {"before": before, "after": after}
    if endpoint is not None:
        body |= {"endpoint": endpoint, "last": last}
    elif file is None:
        body["proof"] = True
    with Client(address, timeout_s=300) as client:
        if file is not None:
            rows = read_file(file, lambda: list(client.describe_version(before)["inputs"]))
            body["rows"] = rows if isinstance(rows, list) else [rows]
        answer = client.fetch("POST", "/api/compare/answers", body)
    if as_json:
        print_json(answer)
        return
    print_line(f"{paint('●', AMBER)} {answer['summary']}")
    if answer["mean"] is not None:
        print_line(f"  {answer['by']}: mean {answer['mean']:.4g}, 95 % below {answer['p95']:.4g}, most {answer['most']:.4g}")
    print_line(f"  {before} took {format_ms(answer['before_ms'])} ms, {after} {format_ms(answer['after_ms'])} ms, in batches of 64")
    if answer["flips"]:
        print_line()
        print_table(
            ["was", "is", "rows"],
            [[flip["before"], flip["after"], f"{flip['rows']:,}"] for flip in answer["flips"]],
            right=frozenset({"rows"}),
        )
    if answer["slices"]:
        print_line()
        rows = [[f"{s['field']} = {s['value']}", f"{s['rows']:,}", f"{s['agree'] / s['rows']:.1%}"] for s in answer["slices"][:6]]
        print_table(["where they agree least", "rows", "agree"], rows, right=frozenset({"rows", "agree"}))
    if answer["worst"]:
        print_line()
        print_line(paint("rows that differ most", DIM))
        for difference in answer["worst"][:5]:
            print_line(f"  {short_json(difference['row'], 30)}")
            print_line(f"    {before}: {short_json(difference['before'], 60)}")
            print_line(f"    {after}: {short_json(difference['after'], 60)}")


def retire(
    version: Annotated[str, typer.Argument(help="The version.")],
    undo: Annotated[bool, typer.Option("--undo", help="Let the version be served again.")] = False,
    replace_with: Annotated[
        str | None, typer.Option(help="Put this version in its place in every endpoint first.", metavar="MODEL@N")
    ] = None,
    break_callers: BreakCallers = False,
    override: Override = None,
    address: Address = None,
    as_json: AsJson = False,
) -> None:
    """Command ``retire``."""
    with Client(address, timeout_s=180) as client:
        answer = client.retire(version, undo, replace_with, break_callers, override)
    if as_json:
        print_json(answer)
        return
    print_line(f"{paint('◌', SLATE)} {answer['summary']}")
    for command in answer["undo"] if not undo else []:
        print_line(paint(f"  undo: {command}", DIM))


def about(
    model: Annotated[str, typer.Argument(help="The model.")],
    owner: Annotated[str | None, typer.Option(help="Owner of the model.")] = None,
    purpose: Annotated[str | None, typer.Option(help="Purpose of the model.")] = None,
    address: Address = None,
    as_json: AsJson = False,
) -> None:
    """Command ``about``."""
    with Client(address) as client:
        if owner is not None or purpose is not None:
            client.fetch("PUT", f"/api/models/{quote(model, safe='')}", {"owner": owner, "purpose": purpose})
        answer = next((model_page for model_page in client.models() if model_page["name"] == model), None)
    if answer is None:
        raise BadRequest(f"there is no model {model!r}; see lamppost models")
    if as_json:
        print_json(answer)
        return
    print_line(f"{model}  answered for by {answer['owner'] or '–'}")
    print_line(f"purpose  {answer['purpose'] or '–'}")


def trail(
    subject: Annotated[str | None, typer.Argument(help="Only of this endpoint, model, version or token.")] = None,
    search: Annotated[str | None, typer.Option(help="Only entries with these words.")] = None,
    by: Annotated[str | None, typer.Option(help="Only by this token.")] = None,
    lines: Annotated[int, typer.Option("--lines", "-n", help="Number of entries.", min=1, max=1_000)] = 30,
    ndjson: Annotated[bool, typer.Option("--ndjson", help="Print all entries, one JSON object a line.")] = False,
    address: Address = None,
    as_json: AsJson = False,
) -> None:
    """Command ``trail``."""
    with Client(address, timeout_s=300) as client:
        if ndjson:
            print_line(client.fetch_bytes("/api/trail.ndjson", subject=subject).decode().rstrip("\n"))
            return
        entries = client.fetch("GET", "/api/trail", subject=subject, search=search, token=by, limit=lines)
    if as_json:
        print_json(entries)
        return
    if not entries:
        print_line("Nothing like that is on the trail.")
        return
    rows = []
    for entry in reversed(entries):
        loud = entry["action"] == "overrode review"
        rows.append(
            [
                entry["at"][:19].replace("T", " "),
                time_ago(entry["at"]),
                entry["token"],
                entry["address"] or "",
                paint(entry["action"], BRICK) if loud else entry["action"],
                entry["subject"],
                entry_text(entry),
            ]
        )
    print_table(["when (UTC)", "", "token", "from", "did", "to", "what"], rows)


def entry_text(entry: dict[str, Any]) -> str:
    """What an entry changed, in a few words."""
    before, after = (_words(entry[side]) for side in ("before", "after"))
    change = f"{before} → {after}" if before and after and before != after else after or before
    return "; ".join(part for part in (change, entry["note"]) if part)


def _words(value: Any) -> str:
    if isinstance(value, dict):
        try:
            return read_setup(value).summary()
        except BadRequest:
            return ", ".join(f"{key} {_short(part)}" for key, part in value.items() if part is not None)
    return "" if value is None else str(value)


def _short(value: Any) -> str:
    return value[:12] if isinstance(value, str) and len(value) == 64 else str(value)
