"""Commands ``outpost new``, ``list``, ``show``, ``drift``, ``label``, ``clear`` and ``bar``."""

from __future__ import annotations

from typing import Annotated, Any

import typer

from lamppost.cli.out import AMBER, DIM, lamp, paint, print_json, print_line, print_table, time_ago
from lamppost.cli.parameters import Address, AsJson, Endpoint
from lamppost.cli.watching import DRIFT_COLOURS
from lamppost.client import Client
from lamppost.core.quantities import format_bytes

Name = Annotated[str, typer.Argument(help="The outpost.")]
Label = Annotated[list[str] | None, typer.Option(help="A label, such as region=coast (may be repeated).", metavar="KEY=VALUE")]
At = Annotated[str, typer.Option(help="Name of an outpost, or a label such as region=coast.", metavar="OUTPOST|LABEL")]


def _print_change(text: str) -> None:
    print_line(f"{paint('●', AMBER)} {text}")


def outpost_new(
    name: Annotated[str, typer.Argument(help="A name for it, such as harbour-substation.")],
    label: Label = None,
    may_report: Annotated[
        list[str] | None,
        typer.Option(
            help="An endpoint of which it may bring records though it serves files of its own, with serve --to (may be repeated).",
            metavar="ENDPOINT",
        ),
    ] = None,
    bytes_per_day: Annotated[int | None, typer.Option(help="Most bytes of inputs and answers that it sends in a day [any].", min=0)] = None,
    address: Address = None,
    as_json: AsJson = False,
) -> None:
    """Command ``outpost new``."""
    with Client(address) as client:
        body = {"name": name, "labels": label or [], "payload_bytes_per_day": bytes_per_day, "may_report": may_report or []}
        answer = client.fetch("POST", "/api/outposts", body)
    if as_json:
        print_json(answer)
        return
    print_line(f"{name} is added. The secret of its token is shown this once; put it into a file there:")
    print_line(answer["secret"])
    print_line(paint(f"  next, on that machine: {answer['command']}", DIM))


def outpost_list(address: Address = None, as_json: AsJson = False) -> None:
    """Command ``outpost list``."""
    with Client(address) as client:
        outposts = client.fetch("GET", "/api/outposts")
    if as_json:
        print_json(outposts)
        return
    if not outposts:
        print_line("There is no outpost. Add one with: lamppost outpost new NAME")
        return
    head = ["outpost", "state", "labels", "serves", "heard of", "records waiting", "clock", "disk free", "software"]
    print_table(head, [_row(one) for one in outposts], right=frozenset({"records waiting", "clock", "disk free"}))
    for one in outposts:
        for reason in one["reasons"]:
            print_line(f"{one['name']}: {reason}")


def _row(outpost: dict[str, Any]) -> list[str]:
    return [
        outpost["name"],
        lamp(outpost["state"]),
        " ".join(outpost["labels"]),
        ", ".join(_served(one, outpost["own_files"]) for one in outpost["endpoints"]) or "nothing",
        time_ago(outpost["heard_at"]) if outpost["heard_at"] else "never",
        "" if outpost["records_waiting"] is None else f"{outpost['records_waiting']:,}",
        "" if outpost["clock_ahead_s"] is None else f"{outpost['clock_ahead_s']:+.1f} s",
        "" if outpost["disk_free_bytes"] is None else format_bytes(outpost["disk_free_bytes"]),
        outpost["software"] or "",
    ]


def _served(one: dict[str, Any], own_files: bool) -> str:
    """What an outpost serves for an endpoint, and what it should."""
    if one["served"] == one["wanted"]:
        return str(one["served"]) if one["rollout_percent"] is None else f"{one['served']}, {one['rollout_percent']:g} % new"
    if own_files:
        return f"{one['served']} of its own for {one['endpoint']}"
    return f"{one['served'] or 'nothing'} instead of {one['wanted'] or 'nothing'} for {one['endpoint']}"


def outpost_show(name: Name, address: Address = None, as_json: AsJson = False) -> None:
    """Command ``outpost show``."""
    with Client(address) as client:
        one = client.fetch("GET", f"/api/outposts/{name}")
    if as_json:
        print_json(one)
        return
    print_line(f"{lamp(one['state'])} {one['name']}  {' '.join(one['labels'])}".rstrip())
    for reason in one["reasons"]:
        print_line(f"  {reason}")
    if one["endpoints"]:
        head = ["endpoint", "wanted", "set for", "served", "state", "refused because"]
        print_table(
            head,
            [[str(served[key] or "") for key in ("endpoint", "wanted", "at", "served", "state", "refused")] for served in one["endpoints"]],
        )
        for served in one["endpoints"]:
            if served["rollout_percent"] is not None:
                share = f"a rollout gives its new version {served['rollout_percent']:g} % of the calls here"
                print_line(f"  {served['endpoint']}: {share}; see lamppost rollout {served['endpoint']} --at {served['at']}")
    waiting = "" if one["records_waiting"] is None else f", {one['records_waiting']:,} records to come"
    print_line(f"  heard of {time_ago(one['heard_at']) if one['heard_at'] else 'never'}{waiting}")
    if one["payload_bytes_per_day"] is not None:
        budget, without = format_bytes(one["payload_bytes_per_day"]), one["payloads_left_out"] or 0
        print_line(f"  inputs and answers: {budget} a day; {without:,} calls went without theirs today")
    if one["address"]:
        print_line(f"  {one['address']}, software {one['software']}, {format_bytes(one['disk_free_bytes'] or 0)} of disk free")


def outpost_drift(
    name: Name,
    hours: Annotated[float, typer.Option(help="Hours to look back on.", min=0.1, max=24 * 366)] = 24.0,
    address: Address = None,
    as_json: AsJson = False,
) -> None:
    """Command ``outpost drift``."""
    with Client(address) as client:
        found = client.fetch("GET", f"/api/outposts/{name}/drift", hours=hours)
    if as_json:
        print_json(found)
        return
    if not found:
        print_line(f"{name} is to serve nothing; say what with: lamppost point ENDPOINT MODEL@N --at {name}")
    for one in found:
        colour = DRIFT_COLOURS.get(one["state"], DIM)
        counted = f"{one['rows']:,} rows in {hours:g} h, {one['odd']:,} odd"
        print_line(f"{paint('●', colour)} {one['endpoint']}  {one['version']}: {counted}")
        print_line(f"  {one['summary']}")
        for figure in one["figures"]:
            if figure["state"] not in ("steady", "too few"):
                print_line(f"  {figure['name']}: {figure['summary']}")


def outpost_label(name: Name, label: Label = None, address: Address = None, as_json: AsJson = False) -> None:
    """Command ``outpost label``."""
    with Client(address) as client:
        one = client.fetch("PUT", f"/api/outposts/{name}/labels", {"labels": label or []})
    if as_json:
        print_json(one)
        return
    _print_change(f"{name} has the labels {' '.join(one['labels'])}" if one["labels"] else f"{name} has no labels")


def outpost_clear(endpoint: Endpoint, at: At, address: Address = None, as_json: AsJson = False) -> None:
    """Command ``outpost clear``."""
    with Client(address) as client:
        point_outposts(client, endpoint, {"at": at, "version": None}, as_json)


def point_outposts(client: Client, endpoint: str, body: dict[str, Any], as_json: bool) -> None:
    """Have outposts serve a version, or nothing any more, and say what that means. body : as the API takes it."""
    answer = client.fetch("PUT", f"/api/endpoints/{endpoint}/outposts", body)
    if as_json:
        print_json(answer)
        return
    version, at = body["version"], body["at"]
    meant = ", ".join(answer["outposts"]) or "no outpost yet"
    what = f"{endpoint} serves {version} at {at}" if version else f"nothing is set for {endpoint} at {at} any more"
    _print_change(f"{what}: {meant}")
    print_line(paint(f"  each fetches and proves it first: lamppost outpost list; undo: {answer['undo']}", DIM))


def outpost_bar(name: Name, address: Address = None, as_json: AsJson = False) -> None:
    """Command ``outpost bar``."""
    with Client(address) as client:
        one = client.fetch("POST", f"/api/outposts/{name}/bar")
    if as_json:
        print_json(one)
        return
    _print_change(f"{name} is barred: its token is refused, and it gets nothing more")
    print_line(paint("  what it has on its disk goes on answering there until its process ends", DIM))
