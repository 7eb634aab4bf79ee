"""Command ``lanes``: the lanes that are open on the node."""

from __future__ import annotations

from typing import Annotated, Any

import typer

from lamppost.cli.out import AMBER, BRICK, DIM, SLATE, paint, print_json, print_line, print_table
from lamppost.cli.parameters import Address, AsJson
from lamppost.client import Client
from lamppost.core.errors import NotFound
from lamppost.core.quantities import format_bytes


def lanes(
    version: Annotated[str | None, typer.Argument(help="Only this version, with its batches.")] = None,
    address: Address = None,
    as_json: AsJson = False,
) -> None:
    """Command ``lanes``."""
    with Client(address) as client:
        answer = client.fetch("GET", "/api/lanes")
        confinement = client.fetch("GET", "/api/node")["confinement"]
    if version is not None:
        answer["lanes"] = [lane for lane in answer["lanes"] if lane["version"] == version]
        if not answer["lanes"]:
            raise NotFound(f"{version} is not open on this node; it is opened with the next request that needs it")
    if as_json:
        print_json(answer)
        return
    if version is not None:
        _print_lane(answer["lanes"][0])
        return
    asleep = f", {answer['asleep']:,} endpoints asleep" if answer["asleep"] else ""
    held, budget = format_bytes(answer["memory_bytes"]), format_bytes(answer["budget_bytes"])
    print_line(f"{len(answer['lanes'])} versions open in {answer['workers']} workers{asleep}; they hold {held} of {budget}")
    print_line(paint(confinement["summary"], DIM if confinement["files"] else BRICK))
    print_line()
    head = ["version", "state", "copies", "waiting", "max rows", "rows/s", "requests", "memory", "used", "for"]
    print_table(head, [_row(lane) for lane in answer["lanes"]], right=frozenset(head[2:8]))


def _row(lane: dict[str, Any]) -> list[str]:
    from lamppost.cli.out import lamp

    return [
        lane["version"],
        lamp(lane["state"]),
        f"{lane['copies']} of {lane['copies_most']}",
        f"{lane['waiting']:,}",
        f"{lane['max_rows']:,}",
        f"{lane['rows_s']:,.0f}" if lane["rows_s"] else "–",
        f"{lane['requests']:,}",
        ("+" if lane["shared"] else "") + format_bytes(lane["memory_bytes"]),
        "–" if not lane["requests"] else "now" if lane["used_s_ago"] < 2 else f"{lane['used_s_ago']:,.0f} s ago",
        ", ".join(lane["endpoints"]) or paint("no endpoint", DIM),
    ]


def _print_lane(lane: dict[str, Any]) -> None:
    print_line(f"{paint(lane['version'], AMBER)}  {lane['copies']} of {lane['copies_most']} copies, {lane['waiting']:,} waiting")
    where = "shared with others" if lane["shared"] else "its own"
    pids = ", ".join(map(str, lane["pids"]))
    print_line(f"workers {pids or 'none'} ({where}), {format_bytes(lane['memory_bytes'])}{', kept warm' if lane['keep_warm'] else ''}")
    if lane["reason"]:
        print_line(lane["reason"])
    print_line()
    most = max((batch["batches"] for batch in lane["batches"]), default=1)
    print_line(paint("rows in a batch   batches", DIM))
    for batch in lane["batches"]:
        low = batch["rows"] // 2 + 1
        rows = f"{batch['rows']}" if low >= batch["rows"] else f"{low}–{batch['rows']}"
        print_line(f"{rows:>15}  {batch['batches']:8,}  {paint('█' * max(1, round(30 * batch['batches'] / most)), SLATE)}")
