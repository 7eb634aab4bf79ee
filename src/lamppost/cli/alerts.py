"""Commands ``alerts``, ``mute`` and ``channel``."""

from __future__ import annotations

import re
from typing import Annotated
from urllib.parse import quote

import typer

from lamppost.cli.out import AMBER, BRICK, DIM, SLATE, paint, print_done, print_json, print_line, print_table, time_ago
from lamppost.cli.parameters import Address, AsJson, Endpoint
from lamppost.client import Client
from lamppost.core.errors import BadRequest

_GLYPHS = {"firing": ("▲", BRICK), "acknowledged": ("△", AMBER), "resolved": ("●", SLATE)}
_UNITS = {"m": 1.0, "h": 60.0, "d": 1_440.0}


def alerts(
    endpoint: Annotated[str | None, typer.Argument(help="Only this endpoint.")] = None,
    everything: Annotated[bool, typer.Option("--all", help="Resolved alerts too.")] = False,
    take: Annotated[int | None, typer.Option(help="Acknowledge the alert with this number.", metavar="NUMBER", min=1)] = None,
    note: Annotated[str | None, typer.Option(help="What is being done about it.")] = None,
    address: Address = None,
    as_json: AsJson = False,
) -> None:
    """Command ``alerts``."""
    with Client(address) as client:
        if take is not None:
            answer = client.fetch("POST", f"/api/alerts/{take}/acknowledge", {"note": note})
            print_json(answer) if as_json else print_line(f"alert {take} is acknowledged: {answer['endpoint']}: {answer['summary']}")
            return
        found_alerts = client.fetch("GET", "/api/alerts", endpoint=endpoint, state=None if everything else "open")
    if as_json:
        print_json(found_alerts)
        return
    if not found_alerts:
        print_line("Nothing is wrong." if not everything else "There was no alert yet.")
        return
    for alert in found_alerts:
        glyph, colour = _GLYPHS[alert["state"]]
        over = f", over {time_ago(alert['resolved_at'])}" if alert["resolved_at"] else ""
        by = f" by {alert['acknowledged_by']}" if alert["acknowledged_by"] else ""
        state = paint(f"{glyph} {alert['state']}", colour)
        when = f"since {time_ago(alert['since'])}{over}"
        print_line(f"{state}{by}  {alert['endpoint']}, {alert['rule']}, {when}  (alert {alert['number']})")
        print_line(f"  {alert['summary']}")
        print_line(paint(f"  certainty: {alert['certainty']}", DIM))
        if alert["probable_cause"]:
            print_line(f"  probably: {alert['probable_cause']}")
        if alert["note"]:
            print_line(f"  note: {alert['note']}")
        print_line(paint(f"  next: {alert['next']}", DIM))


def mute(
    endpoint: Endpoint,
    span: Annotated[str, typer.Argument(help="How long, such as 30m, 4h or 2d; off ends the mute.")],
    note: Annotated[str | None, typer.Option(help="The reason.")] = None,
    address: Address = None,
    as_json: AsJson = False,
) -> None:
    """Command ``mute``."""
    span_match = re.fullmatch(r"(\d+(?:\.\d+)?)([mhd])", span)
    minutes = 0.0 if span == "off" else float(span_match[1]) * _UNITS[span_match[2]] if span_match else -1.0
    if minutes < 0:
        raise BadRequest(f"{span!r} is no span of time; write 30m, 4h, 2d, or off")
    with Client(address) as client:
        answer = client.fetch("PUT", f"/api/endpoints/{quote(endpoint, safe='')}/mute", {"minutes": minutes, "note": note})
    if as_json:
        print_json(answer)
        return
    print_line(f"nothing goes out about {endpoint} until {answer['until'][:16]} UTC" if minutes else f"{endpoint} is heard again")
    if minutes:
        print_line(paint(f"  undo: lamppost mute {endpoint} off", DIM))


def channel_add(
    name: Annotated[str, typer.Argument(help="A name for it, such as night-shift.")],
    webhook: Annotated[str | None, typer.Option(help="URL that gets CloudEvents.", metavar="URL")] = None,
    mail: Annotated[str | None, typer.Option(help="Address that gets mail.", metavar="ADDRESS")] = None,
    endpoint: Annotated[list[str] | None, typer.Option(help="Only about this endpoint (may be repeated).")] = None,
    reports: Annotated[str, typer.Option(help="Reports by mail: none, daily or weekly.")] = "none",
    address: Address = None,
    as_json: AsJson = False,
) -> None:
    """Command ``channel add``."""
    if (webhook is None) == (mail is None):
        raise BadRequest("say where it goes: --webhook URL or --mail ADDRESS")
    body = {"kind": "webhook" if webhook else "mail", "target": webhook or mail, "endpoints": endpoint or None, "reports": reports}
    with Client(address) as client:
        answer = client.fetch("POST", f"/api/channels/{quote(name, safe='')}", body)
    if as_json:
        print_json(answer)
        return
    print_line(f"{paint('●', AMBER)} {name} hears of {', '.join(answer['endpoints'] or ['all endpoints'])} at {answer['target']}")
    if answer["secret"]:
        print_line(f"  what it gets is signed with (shown this once): {answer['secret']}")


def channel_list(address: Address = None, as_json: AsJson = False) -> None:
    """Command ``channel list``."""
    with Client(address) as client:
        channels, notices = client.fetch("GET", "/api/channels"), client.fetch("GET", "/api/notices", limit=100)
    if as_json:
        print_json({"channels": channels, "notices": notices})
        return
    if not channels:
        print_line("Nobody hears of alerts yet. Add a channel with: lamppost channel add NAME --webhook URL")
        return
    rows = []
    for channel in channels:
        sent = [notice for notice in notices if notice["channel"] == channel["name"]]
        fared = f"{sum(notice['done_at'] is not None for notice in sent)} sent"
        waiting = [notice for notice in sent if notice["done_at"] is None]
        if waiting:
            fared += f", {len(waiting)} not: {waiting[0]['error'] or 'on its way'}"
        rows.append(
            [channel["name"], channel["kind"], channel["target"], ", ".join(channel["endpoints"] or ["all"]), channel["reports"], fared]
        )
    print_table(["channel", "kind", "to", "endpoints", "reports", "lately"], rows)


def channel_remove(name: Annotated[str, typer.Argument(help="The channel.")], address: Address = None, as_json: AsJson = False) -> None:
    """Command ``channel remove``."""
    with Client(address) as client:
        client.fetch("DELETE", f"/api/channels/{quote(name, safe='')}")
    print_done(f"{name} is removed", {"removed": name}, as_json)
