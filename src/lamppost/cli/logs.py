"""Command ``logs``."""

from __future__ import annotations

import sys
import time
from datetime import UTC, datetime
from typing import Annotated, Any

import typer

from lamppost.cli.out import AMBER, BRICK, DIM, SLATE, paint, print_json, print_line
from lamppost.cli.parameters import Address, AsJson
from lamppost.cli.times import parse_since
from lamppost.client import Client

_POLL_S = 1.0
_LATE_S = 5.0
"""Lines of another node may come so much later than those that were shown."""
_COLOURS = {"warning": AMBER, "error": BRICK, "critical": BRICK}


def logs(
    about: Annotated[
        str | None, typer.Argument(help="Only lines about this endpoint, version, node, worker (process id) or source.")
    ] = None,
    since: Annotated[str, typer.Option(help="How far back: 15min, 1h, 2d, or a time.")] = "1h",
    level: Annotated[str, typer.Option(help="The least level: debug, info, warning or error.")] = "info",
    contains: Annotated[str | None, typer.Option(help="Only lines with this text.")] = None,
    request: Annotated[str | None, typer.Option(help="Only lines of this call.", metavar="ID")] = None,
    lines: Annotated[int, typer.Option("--lines", "-n", help="Most lines to show first.", min=1, max=5000)] = 200,
    follow: Annotated[bool, typer.Option("--follow", "-f", help="Print further lines as they come.")] = False,
    address: Address = None,
    as_json: AsJson = False,
) -> None:
    """Command ``logs``."""
    began = parse_since(since, datetime.now(UTC))
    filters = {"level": level, "about": about, "contains": contains, "request_id": request}
    shown: set[tuple[str, int]] = set()
    with Client(address) as client:
        answer = client.fetch("GET", "/api/logs", since=began.isoformat(), limit=lines, **filters)
        if not answer["lines"] and not follow and not as_json:
            print_line(f"There are no such lines since {began:%Y-%m-%d %H:%M} UTC.")
        silent: list[str] = []
        while True:
            if answer["silent"] != silent:
                silent = answer["silent"]
                if silent:
                    print(paint(f"no answer from {', '.join(silent)}: lines of theirs are missing", BRICK), file=sys.stderr)
            new = [line for line in answer["lines"] if (line["node"], line["number"]) not in shown]
            _print_lines(new, as_json)
            if not follow:
                return
            latest = max([line["at"] for line in answer["lines"]], default=time.time()) - _LATE_S
            shown = {(line["node"], line["number"]) for line in answer["lines"] if line["at"] >= latest}
            time.sleep(_POLL_S)
            after = datetime.fromtimestamp(latest, UTC)
            answer = client.fetch("GET", "/api/logs", since=max(began, after).isoformat(), limit=5_000, **filters)


def _print_lines(lines: list[dict[str, Any]], as_json: bool) -> None:
    nodes = len({line["node"] for line in lines}) > 1
    for line in lines:
        if as_json:
            print_json(line, indent=None)
            continue
        at = datetime.fromtimestamp(line["at"]).astimezone()
        when = paint(f"{at:%H:%M:%S}.{at.microsecond // 1000:03d}", DIM)
        source = paint(f"{line['source']:<11}", SLATE)
        message = line["message"]
        if line["version"] and not message.startswith(line["version"]):
            message = f"{line['version']}: {message}"
        level = line["level"]
        text = message if level == "info" else paint(f"{level}: {message}", _COLOURS.get(level, DIM))
        print_line(f"{when} {paint(line['node'], DIM) + ' ' if nodes else ''}{source} {text}")
        for row in (line["traceback"] or "").splitlines():
            print_line(paint(f"    {row}", DIM))
