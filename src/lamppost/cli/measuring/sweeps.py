"""Commands ``sweep …``: measure settings of lanes, and pick the best one within limits."""

from __future__ import annotations

import shutil
import sys
import time
from collections.abc import Iterable
from pathlib import Path
from typing import Annotated, Any
from urllib.parse import quote

import orjson
import typer

from lamppost.cli.measuring.row_files import read_row_file
from lamppost.cli.out import AMBER, BRICK, DIM, LAMPS, paint, print_change, print_done, print_json, print_line, print_table, time_ago
from lamppost.cli.pages import form_of_page, write_page
from lamppost.cli.parameters import Address, AsJson
from lamppost.cli.times import parse_seconds
from lamppost.client import Client
from lamppost.core.errors import BadRequest, Conflict
from lamppost.core.names import parse_version

Name = Annotated[str, typer.Argument(help="The sweep.", metavar="NAME")]
Limits = Annotated[
    list[str] | None, typer.Option("--limit", help="Most that a figure may be: p99=50ms, memory=300MB (may be repeated).", metavar="LIMIT")
]
Most = Annotated[str | None, typer.Option(help="What the pick has the most of: throughput.", metavar="FIGURE")]
Least = Annotated[str | None, typer.Option(help="What the pick has the least of: p50, p99, memory or cpu.", metavar="FIGURE")]

_RIGHT = frozenset({"requests/s", "p50 ms", "p99 ms", "memory MB", "µs a row", "rows", "linger ms", "copies", "threads", "repeats"})
_UNDER_WAY = ("waiting", "running", "stopping")
_PAUSE_S = 0.5
_ROWS = 15


def sweep_start(
    versions: Annotated[list[str], typer.Argument(help="Versions that are measured.", metavar="VERSION")],
    clients: Annotated[int, typer.Option(help="Clients that ask at once.")] = 64,
    limit: Limits = None,
    most: Most = None,
    least: Least = None,
    max_rows: Annotated[str | None, typer.Option(help="Rows of a batch [16,64,256,1024].", metavar="NUMBERS")] = None,
    linger_ms: Annotated[
        str | None, typer.Option(help="Milliseconds that a lone request waits for others [0,1].", metavar="NUMBERS")
    ] = None,
    copies: Annotated[str | None, typer.Option(help="Copies of the lane [1, and one for each core].", metavar="NUMBERS")] = None,
    threads: Annotated[str | None, typer.Option(help="Threads of a worker [1, and one for each core].", metavar="NUMBERS")] = None,
    form: Annotated[list[str] | None, typer.Option(help="compiled or original [both, where there are both].", metavar="FORM")] = None,
    request_rows: Annotated[int, typer.Option(help="Rows of each request.")] = 1,
    each: Annotated[str, typer.Option(help="How long a setting is measured each time: 2s.", metavar="SPAN")] = "2s",
    lasts: Annotated[str, typer.Option("--for", help="Longest time for all of it: 15min.", metavar="SPAN")] = "15min",
    rows: Annotated[
        Path | None, typer.Option(help="A file of rows, NDJSON or CSV [recorded calls, or the reference].", metavar="FILE")
    ] = None,
    name: Annotated[str | None, typer.Option(help="Name that it is kept under [the model's, and a number].")] = None,
    use: Annotated[str | None, typer.Option(help="Put the pick into the lane rules of this endpoint.", metavar="ENDPOINT")] = None,
    wait: Annotated[bool, typer.Option("--wait/--no-wait", help="Wait for the end.")] = True,
    address: Address = None,
    as_json: AsJson = False,
) -> None:
    """Command ``sweep start``."""
    plan: dict[str, Any] = {
        "versions": versions,
        "clients": clients,
        "request_rows": request_rows,
        "limits": limit or [],
        "goal": _goal(most, least) or "throughput",
        "max_rows": _numbers("--max-rows", max_rows),
        "linger_ms": _numbers("--linger-ms", linger_ms),
        "copies": _numbers("--copies", copies),
        "threads": _numbers("--threads", threads),
        "forms": form or [],
        "seconds": parse_seconds(each),
        "whole_s": parse_seconds(lasts),
    }
    body: dict[str, Any] = {"plan": plan, "name": name}
    if rows is not None:
        plan["rows"] = rows.name
        body["rows"] = [orjson.loads(text) for text in read_row_file(rows)]
    with Client(address, timeout_s=60) as client:
        begun = client.fetch("POST", "/api/sweeps", body)
        _follow_or_leave(client, begun, wait, as_json)
        if use is not None and wait:
            _use(client, begun["name"], use, {}, as_json, carry_out=True)


def sweep_list(
    version: Annotated[str | None, typer.Option(help="Only sweeps that measure this version.")] = None,
    address: Address = None,
    as_json: AsJson = False,
) -> None:
    """Command ``sweep list``."""
    with Client(address) as client:
        found = client.fetch("GET", "/api/sweeps", version=version)
    if as_json:
        print_json(found)
        return
    if not found:
        print_line("There are no sweeps. Begin one: lamppost sweep start VERSION --limit p99=50ms")
        return
    print_table(
        ["sweep", "state", "versions", "clients", "limits", "settings", "began", "by"],
        [
            [
                one["name"],
                one["state"],
                ", ".join(one["plan"]["versions"]),
                str(one["plan"]["clients"]),
                ", ".join(one["plan"]["limits"]) or "–",
                f"{one['measured']} of {one['combinations'] or '?'}",
                time_ago(one["made_at"]),
                one["made_by"],
            ]
            for one in found
        ],
        right=frozenset({"clients"}),
    )


def sweep_show(
    name: Name,
    all_settings: Annotated[bool, typer.Option("--all", help="All settings, and not only the best ones.")] = False,
    address: Address = None,
    as_json: AsJson = False,
) -> None:
    """Command ``sweep show``."""
    with Client(address) as client:
        found = client.fetch("GET", f"/api/sweeps/{name}")
    if as_json:
        print_json(found)
        return
    plan = found["plan"]
    print_line(f"{name}  {', '.join(plan['versions'])} at {plan['clients']} clients, rows of {plan['rows']}")
    print_line(paint(f"  {_progress_text(found)}; by {found['made_by']}, {time_ago(found['made_at'])}", DIM))
    if found["reason"]:
        print_line(paint(f"  {found['reason']}", DIM if found["state"] != "failed" else BRICK))
    _print_pick(found["picked"])
    _print_settings(found, None if all_settings else _ROWS)
    _print_phases(found)


def sweep_pick(
    name: Name,
    limit: Limits = None,
    most: Most = None,
    least: Least = None,
    use: Annotated[str | None, typer.Option(help="Put the pick into the lane rules of this endpoint.", metavar="ENDPOINT")] = None,
    check: Annotated[bool, typer.Option("--check", help="With --use: only show what would change.")] = False,
    address: Address = None,
    as_json: AsJson = False,
) -> None:
    """Command ``sweep pick``."""
    wanted: dict[str, Any] = {"limit": limit or None, "goal": _goal(most, least)}
    with Client(address, timeout_s=180) as client:
        if use is not None:
            _use(client, name, use, wanted, as_json, carry_out=not check)
            return
        picked = client.fetch("GET", f"/api/sweeps/{name}/pick", **wanted)
    if as_json:
        print_json(picked)
    else:
        _print_pick(picked)
    if picked["pick"] is None:
        raise typer.Exit(1)


def sweep_stop(name: Name, address: Address = None, as_json: AsJson = False) -> None:
    """Command ``sweep stop``."""
    with Client(address) as client:
        facts = client.fetch("POST", f"/api/sweeps/{name}/stop")
    print_done(f"{name} stops; what was measured is kept. Go on with: lamppost sweep resume {name}", facts, as_json)


def sweep_resume(
    name: Name,
    lasts: Annotated[str, typer.Option("--for", help="How much longer, at most: 15min.", metavar="SPAN")] = "15min",
    limit: Limits = None,
    wait: Annotated[bool, typer.Option("--wait/--no-wait", help="Wait for the end.")] = True,
    address: Address = None,
    as_json: AsJson = False,
) -> None:
    """Command ``sweep resume``."""
    with Client(address, timeout_s=60) as client:
        facts = client.fetch("POST", f"/api/sweeps/{name}/resume", {"more_s": parse_seconds(lasts), "limits": limit or None})
        _follow_or_leave(client, facts, wait, as_json)


def sweep_report(
    name: Name,
    to: Annotated[Path | None, typer.Option(help="File to write, .html or .pdf [NAME.html].", metavar="FILE")] = None,
    limit: Limits = None,
    most: Most = None,
    least: Least = None,
    address: Address = None,
    as_json: AsJson = False,
) -> None:
    """Command ``sweep report``."""
    file = to or Path(f"{name}.html")
    form = form_of_page(file)
    with Client(address, timeout_s=120) as client:
        write_page(file, client.fetch_bytes(f"/api/sweeps/{name}/report", form=form, limit=limit or None, goal=_goal(most, least)), as_json)


def sweep_forget(name: Name, address: Address = None, as_json: AsJson = False) -> None:
    """Command ``sweep forget``."""
    with Client(address) as client:
        client.fetch("DELETE", f"/api/sweeps/{name}")
    print_done(f"{name} is forgotten", {"sweep": name}, as_json)


# -- arguments ----------------------------------------------------------------------------------------------------------


def _goal(most: str | None, least: str | None) -> str | None:
    if most is not None and least is not None:
        raise BadRequest("give either --most or --least")
    if most not in (None, "throughput"):
        raise BadRequest(f"--most {most}: a pick has the most throughput, or the least of p50, p99, memory or cpu: --least {most}")
    if least == "throughput":
        raise BadRequest("--least throughput: write --most throughput")
    return most or least


def _numbers(option: str, text: str | None) -> list[float]:
    try:
        return [] if text is None else [float(part) if "." in part else int(part) for part in text.split(",")]
    except ValueError as error:
        raise BadRequest(f"{option} {text} is no list of numbers; write 16,64,256") from error


# -- following ----------------------------------------------------------------------------------------------------------


def _follow_or_leave(client: Client, begun: dict[str, Any], wait: bool, as_json: bool) -> None:
    name = begun["name"]
    if not wait:
        print_done(f"{name} is being measured; see it: lamppost sweep show {name}", begun, as_json)
        return
    if not as_json:
        if begun["waits_for"]:
            print_line(f"{name} waits: {begun['waits_for']} is measured first, and two at once would disturb each other")
        else:
            plan = begun["plan"]
            print_line(f"{name}: {', '.join(plan['versions'])} at {plan['clients']} clients, up to {plan['whole_s']:g} s")
    try:
        found = _follow(client, name, as_json)
    except KeyboardInterrupt:
        client.fetch("POST", f"/api/sweeps/{name}/stop")
        found = client.fetch("GET", f"/api/sweeps/{name}")
        if not as_json:
            print_line(paint(f"\n  stopped; what was measured is kept. Go on with: lamppost sweep resume {name}", DIM))
    if as_json:
        print_json(found)
        return
    _print_pick(found["picked"])
    _print_settings(found, _ROWS)
    _print_phases(found)
    print_line(paint(f"  pick again with other limits: lamppost sweep pick {name} --limit p99=20ms", DIM))
    if found["state"] == "failed":
        raise Conflict(f"the sweep {name} failed: {found['reason']}")


def _follow(client: Client, name: str, quiet: bool) -> dict[str, Any]:
    """Wait for the end, saying what was found so far."""
    rounds = 0
    live = sys.stderr.isatty() and not quiet
    while True:
        found: dict[str, Any] = client.fetch("GET", f"/api/sweeps/{name}")
        if live:
            sys.stderr.write(f"\r\x1b[K{_so_far(found)[: shutil.get_terminal_size().columns - 1]}")
            sys.stderr.flush()
        elif not quiet and found["rounds"] > rounds:
            rounds = found["rounds"]
            print_line(paint(_so_far(found), DIM))
        if found["state"] not in _UNDER_WAY:
            if live:
                sys.stderr.write("\r\x1b[K")
            return found
        time.sleep(_PAUSE_S if live else 4 * _PAUSE_S)


def _so_far(found: dict[str, Any]) -> str:
    if found["state"] == "waiting":
        return f"waits for {found['waits_for']}" if found["waits_for"] else "waits"
    picked = found["picked"]
    best = next((found["settings"][number] for number in (picked["pick"], picked["nearest"]) if number is not None), None)
    so_far = ""
    if best is not None:
        kind = "best so far" if picked["pick"] is not None else "nearest so far"
        so_far = f"; {kind}: {best['sentence']}, {_value(best, 'throughput')} requests/s, p99 {_value(best, 'p99')} ms"
    return f"round {found['rounds']}, {_progress_text(found)}{so_far}"


def _progress_text(found: dict[str, Any]) -> str:
    return (
        f"{found['state']}: {found['measured']} of {found['combinations'] or '?'} settings, {found['repeats']} measurements, "
        f"{found['busy_s']:.0f} s"
    )


# -- printing -----------------------------------------------------------------------------------------------------------


def _print_pick(picked: dict[str, Any]) -> None:
    first, *others = picked["sentences"]
    mark = paint(*LAMPS["serving"]) if picked["pick"] is not None else paint(*LAMPS["down"])
    print_line(f"{mark} {first}")
    for sentence in others:
        print_line(f"  {sentence}")


def _value(one: dict[str, Any], figure: str, scale: float = 1.0) -> str:
    value = one["figures"][figure]["median"] / scale
    return f"{value:,.0f}" if value >= 100 else f"{value:,.3g}"


def _shown(found: dict[str, Any], most: int | None) -> list[dict[str, Any]]:
    measured = [one for one in found["settings"] if not one["failed"]]
    ranked = sorted(measured, key=lambda one: (not one["within"], -one["figures"]["throughput"]["median"]))
    return ranked if most is None else ranked[:most]


def _print_settings(found: dict[str, Any], most: int | None) -> None:
    marks = {found["picked"]["pick"]: "pick", found["picked"]["second"]: "second", found["picked"]["nearest"]: "nearest"}
    marks |= dict.fromkeys(found["picked"]["equals"], "equal")
    many = len(found["plan"]["versions"]) > 1
    rows = [
        [
            *([one["version"]] if many else []),
            one["form"],
            f"{one['max_rows']:,}",
            f"{one['linger_ms']:g}",
            str(one["copies"]),
            str(one["threads"]),
            _value(one, "throughput"),
            _value(one, "p50"),
            _value(one, "p99"),
            f"{one['figures']['p99']['low']:.3g} to {one['figures']['p99']['high']:.3g}",
            _value(one, "memory", 1e6),
            _value(one, "cpu"),
            str(one["repeats"]),
            paint(marks[one["number"]], AMBER) if one["number"] in marks else "" if one["within"] else paint("outside", DIM),
        ]
        for one in _shown(found, most)
    ]
    if rows:
        print_line()
        head = [
            "form",
            "rows",
            "linger ms",
            "copies",
            "threads",
            "requests/s",
            "p50 ms",
            "p99 ms",
            "of",
            "memory MB",
            "µs a row",
            "repeats",
            "",
        ]
        print_table((["version"] if many else []) + head, rows, right=_RIGHT)
    measured = sum(not one["failed"] for one in found["settings"])
    if most is not None and measured > most:
        print_line(paint(f"  {measured - most} more: lamppost sweep show {found['name']} --all", DIM))
    for one in found["settings"]:
        if one["failed"]:
            print_line(f"{paint('failed', BRICK)}  {one['sentence']}: {one['failed']}")


def _print_phases(found: dict[str, Any]) -> None:
    picked = found["picked"]
    chosen = [(name, picked[name]) for name in ("pick", "second") if picked[name] is not None]
    if not chosen:
        return
    settings = [found["settings"][number] for _, number in chosen]
    phases: Iterable[str] = dict.fromkeys(phase for one in settings for phase in one["phases_p50_ms"])
    print_line()
    print_table(
        ["phase, p50 and p99 ms", *(name for name, _ in chosen)],
        [
            [phase, *(f"{one['phases_p50_ms'].get(phase, 0):.3g}  {one['phases_p99_ms'].get(phase, 0):.3g}" for one in settings)]
            for phase in phases
        ],
    )


# -- using a pick -------------------------------------------------------------------------------------------------------


def _use(client: Client, name: str, endpoint: str, wanted: dict[str, Any], as_json: bool, carry_out: bool) -> None:
    """Put the pick into the lane rules of an endpoint, the difference shown first."""
    found = client.fetch("GET", f"/api/sweeps/{name}", **wanted)
    picked = found["picked"]
    if picked["pick"] is None:
        raise Conflict(f"{picked['sentences'][0]}; nothing of {endpoint} is changed")
    page = client.fetch("GET", f"/api/endpoints/{quote(endpoint, safe='')}")
    version = found["settings"][picked["pick"]]["version"]
    if version not in page["versions"]:
        raise Conflict(
            f"the pick is a setting of {version}, and {endpoint} serves {', '.join(page['versions'])}; "
            f"point it first: lamppost point {endpoint} {parse_version(version)}"
        )
    before = page["setup"].get("lane") or {}
    lane = {**before, **{key: value for key, value in picked["rules"].items() if value not in (None, False)}}
    changes = [f"lane.{key}: {before.get(key)} → {value}" for key, value in lane.items() if before.get(key) != value]
    if not as_json:
        print_line(f"{endpoint}: {picked['sentences'][0]}")
        for change in changes or ["nothing changes; its lanes are run so already"]:
            print_line(f"  {change}")
    if not changes or not carry_out:
        if as_json:
            print_json({"endpoint": endpoint, "changes": changes})
        return
    print_change(client.set_up(endpoint, {**page["setup"], "lane": lane}, page["revision"]), as_json)
