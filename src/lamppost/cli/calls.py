"""Commands ``tail`` and ``call``: recorded calls."""

from __future__ import annotations

import json
import shutil
import time
from dataclasses import dataclass
from typing import Annotated, Any

import typer

from lamppost.cli.ask import short
from lamppost.cli.out import AMBER, BRICK, DIM, SLATE, format_ms, paint, print_json, print_line, print_table, time_ago
from lamppost.cli.parameters import Address, AsJson
from lamppost.client import Client
from lamppost.client.questions import version_path
from lamppost.core.errors import BadRequest
from lamppost.core.payload.recorded_bodies import request_as_sent

_POLL_S = 1.0


@dataclass(frozen=True, slots=True)
class CallFilter:
    """Which calls; None for all."""

    endpoint: str | None
    status: int | None = None
    slower: float | None = None
    version: str | None = None
    token: str | None = None
    odd: float | None = None
    contains: str | None = None

    def params(self) -> dict[str, Any]:
        """As the API has them."""
        filters = {"endpoint": self.endpoint, "status": self.status, "slower_ms": self.slower, "version": self.version}
        return filters | {"token": self.token, "odd": self.odd, "contains": self.contains}


def tail(
    endpoint: Annotated[str | None, typer.Argument(help="Only this endpoint.")] = None,
    lines: Annotated[int, typer.Option("--lines", "-n", help="Calls to show first.", min=1, max=1000)] = 20,
    follow: Annotated[bool, typer.Option("--follow", "-f", help="Print further calls as they come.")] = False,
    status: Annotated[int | None, typer.Option(help="Only this status and above, such as 400.", min=100, max=599)] = None,
    slower: Annotated[float | None, typer.Option(help="Only calls that took at least so many milliseconds.", min=0)] = None,
    version: Annotated[str | None, typer.Option(help="Only calls that this version answered.")] = None,
    token: Annotated[str | None, typer.Option(help="Only calls by this token.")] = None,
    odd: Annotated[
        float | None, typer.Option(help="Only calls with an outlier score of at least this; 3 is one row of a thousand.", min=0, max=12)
    ] = None,
    contains: Annotated[str | None, typer.Option(help="Only calls with this text in their input or answer.")] = None,
    address: Address = None,
    as_json: AsJson = False,
) -> None:
    """Command ``tail``."""
    call_filter = CallFilter(endpoint, status, slower, version, token, odd, contains)
    with Client(address) as client:
        calls = client.fetch("GET", "/api/calls", limit=lines, **call_filter.params())
        if not calls and not follow and not as_json:
            odd = call_filter != CallFilter(endpoint)
            print_line(
                "There are no such calls." if odd else f"There are no calls yet. Make one with: lamppost ask {endpoint or 'ENDPOINT'}"
            )
            return
        if not as_json:
            _print_hours(client, endpoint)
        _print_calls(calls, as_json, head=True)
        last = calls[0]["request_id"] if calls else None
        while follow:
            time.sleep(_POLL_S)
            calls = client.fetch("GET", "/api/calls", limit=1000, after=last, **call_filter.params())
            last = calls[0]["request_id"] if calls else last
            _print_calls(calls, as_json, head=False)


def _print_hours(client: Client, endpoint: str | None) -> None:
    """The last hour of the endpoint, or of each."""
    for endpoint_page in client.endpoints():
        if endpoint in (None, endpoint_page["name"]):
            hour = endpoint_page["last_hour"]
            times = ", ".join(f"{name} {format_ms(hour[f'{name}_ms'])}" for name in ("p50", "p95", "p99"))
            counts = f"{hour['calls']:,} calls, {hour['refused']:,} refused, {hour['failed']:,} failed"
            print_line(paint(f"{endpoint_page['name']}, last hour: {counts}; {times} ms", SLATE))


_WIDTHS = (12, 20, 18, 6, 5, 9, 9, 9)


def _print_calls(calls: list[dict[str, Any]], as_json: bool, head: bool) -> None:
    """Oldest first, so that the newest is next to the prompt; JSON is one object a line."""
    if head and not as_json:
        print_line(paint(_line(("time", "endpoint", "version", "status", "rows", "total ms", "queue ms", "worker ms"), "summary"), DIM))
    for call in reversed(calls):
        if as_json:
            print_json(call, indent=None)
            continue
        phases = call["phases_us"]
        when = time.strftime("%H:%M:%S", time.localtime(_stamp(call["at"]))) + call["at"][19:23]
        cells = (
            when,
            call["endpoint"],
            call["version"] or "–",
            str(call["status"]),
            str(call["rows"]),
            format_ms(call["total_us"] / 1e3),
            format_ms(phases["queue"] / 1e3 if "queue" in phases else None),
            format_ms(phases["worker"] / 1e3 if "worker" in phases else None),
        )
        text = _line(cells, _call_summary(call))
        print_line(text if call["status"] < 400 else paint(text, BRICK))


def _line(cells: tuple[str, ...], summary: str) -> str:
    """One call on one line, cut to the terminal's width."""
    parts = [cell.ljust(width) if at < 3 else cell.rjust(width) for at, (cell, width) in enumerate(zip(cells, _WIDTHS, strict=True))]
    width = shutil.get_terminal_size((200, 24)).columns
    text = "  ".join([*parts, summary]).rstrip()
    return text if len(text) <= width else text[: width - 1] + "…"


def _stamp(text: str) -> float:
    from datetime import datetime

    return datetime.fromisoformat(text).timestamp()


def _call_summary(call: dict[str, Any]) -> str:
    """The answer in a few words: the label with its score, the number, or what was wrong."""
    answer = call["answer"]
    if not isinstance(answer, dict):
        return ""
    if call["status"] >= 400:
        return str(answer.get("detail", ""))
    odd = f"  odd: {call['odd_reason']}" if call.get("odd_reason") else ""
    return _answer(answer) + odd


def _answer(answer: dict[str, Any]) -> str:
    first = answer.get("answer") or (answer.get("answers") or [{}])[0]
    label = first.get("label")
    if label is None:
        return ", ".join(f"{name} {short(value)}" for name, value in first.items())[:60]
    score = (first.get("scores") or {}).get(label)
    more = f" and {len(answer['answers']) - 1} more" if len(answer.get("answers", ())) > 1 else ""
    return f"{label}{'' if score is None else f' {score:.0%}'}{more}"


def call(
    request_id: Annotated[str, typer.Argument(help="The call's id, from its answer, from tail or from a page.")],
    version: Annotated[str | None, typer.Option("--replay", help="Ask this version the same rows, and show what differs.")] = None,
    address: Address = None,
    as_json: AsJson = False,
) -> None:
    """Command ``call``."""
    with Client(address, timeout_s=120) as client:
        answer = client.fetch("GET", f"/api/calls/{request_id}")
        again = None if version is None else _replayed(client, answer, version)
    if as_json:
        print_json(answer if again is None else answer | {"replayed": again})
        return
    glyph = paint("●", AMBER) if answer["status"] < 400 else paint("✗", BRICK)
    by = f"by {paint(answer['version'] or 'nothing', AMBER)}"
    print_line(
        f"{glyph} {answer['endpoint']}, status {answer['status']}, {by} for {answer['token'] or 'nobody'}, "
        f"{time_ago(answer['at'])} ({answer['at']})"
    )
    phases = ", ".join(f"{name} {format_ms(us / 1e3)}" for name, us in answer["phases_us"].items())
    print_line(f"  {format_ms(answer['total_us'] / 1e3)} ms: {phases}; {answer['rows']} rows, in a batch of {answer['batch_rows'] or '–'}")
    if answer["odd"] is not None:
        reason = f": {answer['odd_reason']}" if answer["odd_reason"] else ", like training's own rows"
        print_line(f"  oddness {answer['odd']:.1f}{reason}")
    if answer["brought_by"]:
        print_line(f"  it was answered elsewhere: {answer['brought_by']}")
    for title, value in (("in", answer["input"]), ("out", answer["answer"])):
        print_line(f"{title:4} {json.dumps(value, ensure_ascii=False)}" if value is not None else f"{title:4} not kept")
    for shadow in answer["shadows"]:
        print_line(f"shadow {paint(shadow['version'], SLATE)}  {json.dumps(shadow['answer'], ensure_ascii=False)}")
    if again is not None:
        _compared(answer, again)
    else:
        print_line(paint(f"  what was said meanwhile: lamppost logs --request {answer['request_id']} --since {answer['at'][:10]}", DIM))


def _replayed(client: Client, answer: dict[str, Any], version: str) -> dict[str, Any]:
    if not isinstance(answer["input"], dict):
        raise BadRequest("what went in was not kept as JSON, so it cannot be asked again")
    replayed: dict[str, Any] = client.fetch("POST", version_path(version, "/ask"), request_as_sent(answer["input"]))
    return replayed


def _compared(document: dict[str, Any], again: dict[str, Any]) -> None:
    answer = document["answer"] if isinstance(document["answer"], dict) else {}
    before = answer.get("answers") or ([answer["answer"]] if "answer" in answer else [])
    rows = []
    for at, now in enumerate(again["answers"]):
        then = before[at] if at < len(before) else {}
        same = then == now
        old_text, new_text = (json.dumps(row, ensure_ascii=False) for row in (then, now))
        rows.append([str(at), paint("same", DIM) if same else paint("other", BRICK), old_text, new_text])
    print_line()
    print_table(["row", "", str(document["version"]), again["version"]], rows[:20], right=frozenset({"row"}))
