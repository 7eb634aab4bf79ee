"""Commands that talk to a service about models, endpoints and tokens."""

from __future__ import annotations

from pathlib import Path
from typing import Any
from urllib.parse import quote

from lamppost.cli.changes import Insist
from lamppost.cli.out import AMBER, BRICK, DIM, SLATE, ago, lamp, ms, paint, say, say_json, sending, size, table
from lamppost.client import Client
from lamppost.core.names import parse_version


def push(file: Path, model: str | None, address: str | None, as_json: bool) -> None:
    """``lamppost push``."""
    with Client(address, timeout_s=180) as client, sending(file.name, as_json) as progress:
        said = client.push(file, model, progress)
    if as_json:
        say_json(said)
        return
    version = said["version"]
    if said["new"]:
        say(f"{paint('◌', SLATE)} {version} is stored, digest {said['digest'][:12]}")
    else:
        say(f"{paint('◌', SLATE)} this package is {version} already; nothing was stored again")
    say(paint(f"  next: lamppost point {version.partition('@')[0]} {version}", DIM))


def point(endpoint: str, version: str, insist: Insist, address: str | None, as_json: bool) -> None:
    """``lamppost point``."""
    parse_version(version)
    with Client(address, timeout_s=180) as client:
        said = client.point(endpoint, version, insist.break_callers, insist.override)
    if as_json:
        say_json(said)
        return
    say(f"{paint('●', AMBER)} {said['says']}")
    say(paint(f"  undo: {said['undo']}" if said["undo"] else f"  next: lamppost ask {endpoint}", DIM))


def endpoints(address: str | None, as_json: bool) -> None:
    """``lamppost endpoints``."""
    with Client(address) as client:
        found = client.fetch("GET", "/api/endpoints")
    if as_json:
        say_json(found)
        return
    if not found:
        say("There is no endpoint yet. Make one with: lamppost point NAME MODEL@1")
        return
    head = ["endpoint", "state", "serves", "since", "calls 1 h", "failed", "p50 ms", "p99 ms"]
    rows = []
    for one in found:
        hour = one["hour"]
        rows.append(
            [
                one["name"],
                lamp(one["state"]),
                one["says"],
                ago(one["since"]),
                f"{hour['calls']:,}",
                f"{hour['failed']:,}",
                ms(hour["p50_ms"]),
                ms(hour["p99_ms"]),
            ]
        )
    table(head, rows, right=frozenset(head[4:]))
    for one in found:
        if one["why"]:
            say(f"{one['name']}: {one['why']}")


def models(model: str | None, search: str | None, address: str | None, as_json: bool) -> None:
    """``lamppost models``."""
    with Client(address) as client:
        found = client.fetch("GET", "/api/versions", model=model, search=search)
    if as_json:
        say_json(found)
        return
    if not found and search:
        say(f"No version has all of these words: {search}. See every one with: lamppost models")
        return
    if not found:
        say("There is no model yet. Store one with: lamppost push FILE.lamp")
        return
    head = ["version", "serves", "proof", "row ms", "size", "pushed", "by", "tags", "digest"]
    colours = {"passed": AMBER, "failed": BRICK, "not yet": SLATE}
    table(
        head,
        [
            [
                v["name"],
                ", ".join(v["serves"]) or "–",
                paint(v["proof"], colours[v["proof"]]),
                ms(v["measured"]["row_ms"]) if v["measured"] else "–",
                size(v["size_bytes"]),
                ago(v["pushed_at"]),
                v["pushed_by"],
                ", ".join(f"{key}:{value}" for key, value in v["tags"].items()),
                v["digest"][:12],
            ]
            for v in found
        ],
        right=frozenset({"row ms", "size"}),
    )


def show(name: str, address: str | None, as_json: bool) -> None:
    """``lamppost show``."""
    with Client(address) as client:
        if "@" in name:
            version = parse_version(name)
            said = client.fetch("GET", f"/api/models/{version.model}/versions/{version.number}")
        else:
            said = client.fetch("GET", f"/api/endpoints/{quote(name, safe='')}")
    if as_json:
        say_json(said)
    elif "@" in name:
        _show_version(said)
    else:
        _show_endpoint(said)


def _show_endpoint(said: dict[str, Any]) -> None:
    hour = said["hour"]
    since = f"since {ago(said['since'])}, pointed by {said['changed_by']}"
    say(f"{said['name']}  {lamp(said['state'])}  serves {paint(said['says'], AMBER)} {since}")
    if said["why"]:
        say(f"  {said['why']}")
    if said["setup"]["lenient"]:
        say("  reads leniently: takes values whose meaning leaves no doubt, and tells")
    for lookup in said["setup"]["lookups"]:
        say(f"  looks up {', '.join(lookup['fields'])} by {lookup['key']} in {lookup['table']} of {lookup['source']}")
    say(
        f"last hour  {hour['calls']:,} calls, {hour['refused']:,} refused, {hour['failed']:,} failed;"
        f" p50 {ms(hour['p50_ms'])} ms, p95 {ms(hour['p95_ms'])} ms, p99 {ms(hour['p99_ms'])} ms"
    )
    say()
    _show_fields(said)
    say()
    table(
        ["#", "served", "since", "pointed by"],
        [[str(past["revision"]), past["says"], ago(past["since"]), past["changed_by"]] for past in said["history"][:10]],
        right=frozenset({"#"}),
    )


def _show_version(said: dict[str, Any]) -> None:
    story = said["story"]
    serves = f"serves {', '.join(said['serves'])}" if said["serves"] else "serves nothing"
    name, pushed = paint(said["name"], AMBER), f"pushed by {said['pushed_by']} {ago(said['pushed_at'])}"
    say(f"{name}  {serves}; {size(said['size_bytes'])}, {pushed}")
    say(f"digest {said['digest']}")
    say(f"proof  {said['proof']}{': ' + said['proof_says'] if said['proof_says'] else ''}")
    if measured := said["measured"]:
        rows = f"one row {ms(measured['row_ms'])} ms, 64 rows {ms(measured['batch_ms'])} ms"
        say(f"speed  {rows}; opens and proves itself in {measured['open_s']:.1f} s, its worker holds {size(measured['memory_bytes'])}")
    for key in said["signers"]:
        say(f"signed  by {key}")
    for step in said["steps"]:
        say(f"step  {step}")
    if story["metrics"]:
        say("metrics  " + ", ".join(f"{key} {value:g}" for key, value in story["metrics"].items()))
    if story["notes"]:
        say(f"notes  {story['notes'].strip()}")
    say()
    _show_fields(said)


def _show_fields(said: dict[str, Any]) -> None:
    table(["input", "is", "meaning"], [[f["name"], f["wanted"], f["meaning"] or ""] for f in said["inputs"]])
    if said["options"]:
        say()
        table(["option", "is", "meaning"], [[f["name"], f["wanted"], f["meaning"] or ""] for f in said["options"]])
    say()
    table(["answer", "is", "meaning"], [[f["name"], f["wanted"], f["meaning"] or ""] for f in said["answers"]])


def console(address: str | None) -> None:
    """``lamppost console``."""
    with Client(address) as client:
        say(client.fetch("POST", "/api/session/link")["link"])
