"""Commands ``push``, ``fetch``, ``point``, ``endpoints``, ``models``, ``show`` and ``console``."""

from __future__ import annotations

from pathlib import Path
from typing import Annotated, Any

import typer

from lamppost.cli.out import (
    AMBER,
    BRICK,
    DIM,
    SLATE,
    format_ms,
    lamp,
    paint,
    print_change,
    print_done,
    print_json,
    print_line,
    print_table,
    time_ago,
    transfer_progress,
)
from lamppost.cli.outposts.manage import point_outposts
from lamppost.cli.parameters import Address, AsJson, BreakCallers, Override
from lamppost.client import Client
from lamppost.core.errors import BadRequest
from lamppost.core.names import parse_version
from lamppost.core.quantities import format_bytes


def push(
    files: Annotated[list[Path], typer.Argument(help="Lamp files.", metavar="FILE")],
    model: Annotated[str | None, typer.Option(help="Push under another model name; one file only.")] = None,
    address: Address = None,
    as_json: AsJson = False,
) -> None:
    """Command ``push``."""
    if model is not None and len(files) > 1:
        raise BadRequest("--model names one model, and there are several files; push them one by one")
    if missing := next((file for file in files if not file.is_file()), None):
        raise BadRequest(f"there is no file {missing}")
    with Client(address, timeout_s=180) as client:
        if len(files) == 1:
            with transfer_progress(f"sending {files[0].name}", as_json) as progress:
                answers = [client.push(files[0], model, progress)]
        else:
            answers = client.push_all(files)
    if as_json:
        print_json(answers if len(files) > 1 else answers[0])
        return
    for answer in answers:
        if answer["new"]:
            print_line(f"{paint('◌', SLATE)} {answer['version']} is stored, digest {answer['digest'][:12]}")
        else:
            print_line(f"{paint('◌', SLATE)} this package is {answer['version']} already; nothing was stored again")
    if len(answers) == 1:
        version = answers[0]["version"]
        print_line(paint(f"  next: lamppost point {version.partition('@')[0]} {version}", DIM))


def fetch(
    version: Annotated[str, typer.Argument(help="The version.", metavar="MODEL@N")],
    to: Annotated[Path | None, typer.Option(help="Where the file goes [MODEL-N.lamp].", metavar="FILE")] = None,
    address: Address = None,
    as_json: AsJson = False,
) -> None:
    """Command ``fetch``."""
    from lamppost.package.read import read_lamp  # a client without the packages of packing has the other commands of this module

    name = parse_version(version)
    with Client(address, timeout_s=180) as client:
        path = client.download(version, to or Path(f"{name.model}-{name.number}.lamp"))
    lamp = read_lamp(path)
    if as_json:
        print_json({"path": str(path), "digest": lamp.digest, "size_bytes": lamp.size_bytes})
        return
    print_line(f"{path}  {format_bytes(lamp.size_bytes)}, digest {lamp.digest[:12]}")
    print_line(paint(f"  next: lamppost inspect {path}", DIM))


def point(
    endpoint: Annotated[str, typer.Argument(help="The endpoint; a new name makes a new endpoint.")],
    version: Annotated[str, typer.Argument(help="Version, such as outage-risk@2.")],
    at: Annotated[str | None, typer.Option(help="Only at this outpost, or at those with this label.", metavar="OUTPOST|KEY=VALUE")] = None,
    break_callers: BreakCallers = False,
    override: Override = None,
    address: Address = None,
    as_json: AsJson = False,
) -> None:
    """Command ``point``."""
    parse_version(version)
    with Client(address, timeout_s=180) as client:
        if at is not None:
            body = {"at": at, "version": version, "break_callers": break_callers, "override": override}
            point_outposts(client, endpoint, body, as_json)
            return
        answer = client.point(endpoint, version, break_callers, override)
    print_change(answer, as_json)
    if answer["before"] is None and not as_json:
        print_line(paint(f"  next: lamppost ask {endpoint}", DIM))


def endpoints(
    deleted: Annotated[bool, typer.Option("--deleted", help="List those that were deleted and can be given back.")] = False,
    address: Address = None,
    as_json: AsJson = False,
) -> None:
    """Command ``endpoints``."""
    with Client(address) as client:
        listed = client.deleted_endpoints() if deleted else client.endpoints()
    if as_json:
        print_json(listed)
        return
    if deleted:
        _print_deleted(listed)
        return
    if not listed:
        print_line("There is no endpoint yet. Make one with: lamppost point NAME MODEL@1")
        return
    head = ["endpoint", "state", "serves", "since", "calls 1 h", "failed", "p50 ms", "p99 ms"]
    rows = []
    for endpoint in listed:
        hour = endpoint["last_hour"]
        rows.append(
            [
                endpoint["name"],
                lamp(endpoint["state"]),
                endpoint["summary"],
                time_ago(endpoint["since"]),
                f"{hour['calls']:,}",
                f"{hour['failed']:,}",
                format_ms(hour["p50_ms"]),
                format_ms(hour["p99_ms"]),
            ]
        )
    print_table(head, rows, right=frozenset(head[4:]))
    for endpoint in listed:
        for reason in endpoint["reasons"]:
            print_line(f"{endpoint['name']}: {reason}")


def _print_deleted(listed: list[dict[str, Any]]) -> None:
    if not listed:
        print_line("No endpoint was deleted within the last day.")
        return
    rows = [
        [endpoint["name"], endpoint["served"], time_ago(endpoint["deleted_at"]), endpoint["deleted_by"], endpoint["restorable_until"][:16]]
        for endpoint in listed
    ]
    print_table(["endpoint", "served", "deleted", "by", "can be given back until"], rows)
    print_line(paint(f"  give back: lamppost delete endpoint {listed[0]['name']} --undo", DIM))


def models(
    model: Annotated[str | None, typer.Argument(help="Only this model.")] = None,
    search: Annotated[
        str | None, typer.Option(help="Only versions with these words in names, tags, fields, metrics, notes, people.")
    ] = None,
    address: Address = None,
    as_json: AsJson = False,
) -> None:
    """Command ``models``."""
    with Client(address) as client:
        versions = client.fetch("GET", "/api/versions", model=model, search=search)
    if as_json:
        print_json(versions)
        return
    if not versions and search:
        print_line(f"No version has all of these words: {search}. See every one with: lamppost models")
        return
    if not versions:
        print_line("There is no model yet. Store one with: lamppost push FILE.lamp")
        return
    head = ["version", "serves", "proof", "row ms", "size", "pushed", "by", "tags", "digest"]
    colours = {"passed": AMBER, "failed": BRICK, "not yet": SLATE}
    print_table(
        head,
        [
            [
                v["name"],
                ", ".join(v["serves"]) or "–",
                paint(v["proof"], colours[v["proof"]]),
                format_ms(v["measured"]["row_ms"]) if v["measured"] else "–",
                format_bytes(v["size_bytes"]),
                time_ago(v["pushed_at"]),
                v["pushed_by"],
                ", ".join(f"{key}:{value}" for key, value in v["tags"].items()),
                v["digest"][:12],
            ]
            for v in versions
        ],
        right=frozenset({"row ms", "size"}),
    )


def show(
    name: Annotated[str, typer.Argument(help="An endpoint (outage-risk) or a version (outage-risk@2).")],
    address: Address = None,
    as_json: AsJson = False,
) -> None:
    """Command ``show``."""
    with Client(address) as client:
        answer = client.describe_version(name) if "@" in name else client.describe(name)
    if as_json:
        print_json(answer)
    elif "@" in name:
        _show_version(answer)
    else:
        _show_endpoint(answer)


def _show_endpoint(answer: dict[str, Any]) -> None:
    hour = answer["last_hour"]
    since = f"since {time_ago(answer['since'])}, pointed by {answer['changed_by']}"
    print_line(f"{answer['name']}  {lamp(answer['state'])}  serves {paint(answer['summary'], AMBER)} {since}")
    for reason in answer["reasons"]:
        print_line(f"  {reason}")
    if answer["setup"]["lenient"]:
        print_line("  reads leniently: takes values whose meaning leaves no doubt, and tells")
    for lookup in answer["setup"]["lookups"]:
        print_line(f"  looks up {', '.join(lookup['fields'])} by {lookup['key']} in {lookup['table']} of {lookup['source']}")
    print_line(
        f"last hour  {hour['calls']:,} calls, {hour['refused']:,} refused, {hour['failed']:,} failed;"
        f" p50 {format_ms(hour['p50_ms'])} ms, p95 {format_ms(hour['p95_ms'])} ms, p99 {format_ms(hour['p99_ms'])} ms"
    )
    print_line()
    _show_fields(answer)
    print_line()
    print_table(
        ["#", "served", "since", "pointed by"],
        [[str(past["revision"]), past["summary"], time_ago(past["since"]), past["changed_by"]] for past in answer["history"][:10]],
        right=frozenset({"#"}),
    )


def _show_version(answer: dict[str, Any]) -> None:
    provenance = answer["provenance"]
    serves = f"serves {', '.join(answer['serves'])}" if answer["serves"] else "serves nothing"
    name, pushed = paint(answer["name"], AMBER), f"pushed by {answer['pushed_by']} {time_ago(answer['pushed_at'])}"
    print_line(f"{name}  {serves}; {format_bytes(answer['size_bytes'])}, {pushed}")
    print_line(f"digest {answer['digest']}")
    print_line(f"proof  {answer['proof']}{': ' + answer['proof_summary'] if answer['proof_summary'] else ''}")
    if measured := answer["measured"]:
        rows = f"one row {format_ms(measured['row_ms'])} ms, 64 rows {format_ms(measured['batch_ms'])} ms"
        print_line(
            f"speed  {rows}; opens and proves itself in {measured['open_s']:.1f} s, its worker "
            f"holds {format_bytes(measured['memory_bytes'])}"
        )
    for key in answer["signers"]:
        print_line(f"signed  by {key}")
    for step in answer["steps"]:
        print_line(f"step  {step}")
    for line in answer["insight_lines"]:
        print_line(f"{line['word']}  {line['text']}")
    if provenance["metrics"]:
        print_line("metrics  " + ", ".join(f"{key} {value:g}" for key, value in provenance["metrics"].items()))
    if provenance["notes"]:
        print_line(f"notes  {provenance['notes'].strip()}")
    print_line()
    _show_fields(answer)


def _show_fields(answer: dict[str, Any]) -> None:
    print_table(["input", "is", "meaning"], [[f["name"], f["expected"], f["meaning"] or ""] for f in answer["inputs"]])
    if answer["options"]:
        print_line()
        print_table(["option", "is", "meaning"], [[f["name"], f["expected"], f["meaning"] or ""] for f in answer["options"]])
    print_line()
    print_table(["answer", "is", "meaning"], [[f["name"], f["expected"], f["meaning"] or ""] for f in answer["answers"]])


def console(address: Address = None, as_json: AsJson = False) -> None:
    """Command ``console``."""
    with Client(address) as client:
        answer = client.fetch("POST", "/api/session/link")
    print_done(answer["link"], answer, as_json)
