"""Commands ``alerts``, ``mute``, ``channel`` and ``report``."""

from __future__ import annotations

import re
from pathlib import Path
from urllib.parse import quote

from lamppost.cli.out import AMBER, BRICK, DIM, SLATE, format_bytes, paint, print_json, print_line, print_table, time_ago
from lamppost.client import Client
from lamppost.core.errors import BadRequest

_GLYPHS = {"firing": ("▲", BRICK), "acknowledged": ("△", AMBER), "resolved": ("●", SLATE)}
_UNITS = {"m": 1.0, "h": 60.0, "d": 1_440.0}


def alerts(endpoint: str | None, everything: bool, take: int | None, note: str | None, address: str | None, as_json: bool) -> None:
    """``lamppost alerts``."""
    with Client(address) as client:
        if take is not None:
            answer = client.fetch("POST", f"/api/alerts/{take}/acknowledge", {"note": note})
            print_json(answer) if as_json else print_line(f"alert {take} is acknowledged: {answer['endpoint']}: {answer['says']}")
            return
        found = client.fetch("GET", "/api/alerts", endpoint=endpoint, state=None if everything else "open")
    if as_json:
        print_json(found)
        return
    if not found:
        print_line("Nothing is wrong." if not everything else "There was no alert yet.")
        return
    for one in found:
        glyph, colour = _GLYPHS[one["state"]]
        over = f", over {time_ago(one['resolved_at'])}" if one["resolved_at"] else ""
        by = f" by {one['acknowledged_by']}" if one["acknowledged_by"] else ""
        state = paint(f"{glyph} {one['state']}", colour)
        when = f"since {time_ago(one['since'])}{over}"
        print_line(f"{state}{by}  {one['endpoint']}, {one['rule']}, {when}  (alert {one['number']})")
        print_line(f"  {one['says']}")
        print_line(paint(f"  sure: {one['sure']}", DIM))
        if one["why"]:
            print_line(f"  probably: {one['why']}")
        if one["note"]:
            print_line(f"  note: {one['note']}")
        print_line(paint(f"  next: {one['next']}", DIM))


def mute(endpoint: str, span: str, note: str | None, address: str | None, as_json: bool) -> None:
    """``lamppost mute``."""
    found = re.fullmatch(r"(\d+(?:\.\d+)?)([mhd])", span)
    minutes = 0.0 if span == "off" else float(found[1]) * _UNITS[found[2]] if found else -1.0
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
    name: str, webhook: str | None, mail: str | None, endpoints: list[str] | None, reports: str, address: str | None, as_json: bool
) -> None:
    """``lamppost channel add``."""
    if (webhook is None) == (mail is None):
        raise BadRequest("say where it goes: --webhook URL or --mail ADDRESS")
    body = {"kind": "webhook" if webhook else "mail", "target": webhook or mail, "endpoints": endpoints or None, "reports": reports}
    with Client(address) as client:
        answer = client.fetch("POST", f"/api/channels/{quote(name, safe='')}", body)
    if as_json:
        print_json(answer)
        return
    print_line(f"{paint('●', AMBER)} {name} hears of {', '.join(answer['endpoints'] or ['all endpoints'])} at {answer['target']}")
    if answer["secret"]:
        print_line(f"  what it gets is signed with (shown this once): {answer['secret']}")


def channel_list(address: str | None, as_json: bool) -> None:
    """``lamppost channel list``."""
    with Client(address) as client:
        found, notices = client.fetch("GET", "/api/channels"), client.fetch("GET", "/api/notices", limit=100)
    if as_json:
        print_json({"channels": found, "notices": notices})
        return
    if not found:
        print_line("Nobody hears of alerts yet. Add a channel with: lamppost channel add NAME --webhook URL")
        return
    rows = []
    for one in found:
        sent = [notice for notice in notices if notice["channel"] == one["name"]]
        fared = f"{sum(notice['done_at'] is not None for notice in sent)} sent"
        waiting = [notice for notice in sent if notice["done_at"] is None]
        if waiting:
            fared += f", {len(waiting)} not: {waiting[0]['error'] or 'on its way'}"
        rows.append([one["name"], one["kind"], one["target"], ", ".join(one["endpoints"] or ["all"]), one["reports"], fared])
    print_table(["channel", "kind", "to", "endpoints", "reports", "lately"], rows)


def channel_remove(name: str, address: str | None) -> None:
    """``lamppost channel remove``."""
    with Client(address) as client:
        client.fetch("DELETE", f"/api/channels/{quote(name, safe='')}")
    print_line(f"{name} is removed")


def report(endpoint: str, period: str, to: Path | None, address: str | None) -> None:
    """``lamppost report``."""
    file = to or Path(f"{endpoint}-{period}.html")
    form = file.suffix.lstrip(".").lower()
    if form not in ("html", "pdf"):
        raise BadRequest(f"{file} ends in neither .html nor .pdf, which says what is made")
    with Client(address, timeout_s=120) as client:
        content = client.fetch_bytes(f"/api/endpoints/{quote(endpoint, safe='')}/report", form=form, period=period)
    try:
        file.write_bytes(content)
    except OSError as error:
        raise BadRequest(f"{file} cannot be written: {error.strerror}") from error
    print_line(f"{file}  {format_bytes(len(content))}")
