"""Command ``review``: ask, approve, refuse, withdraw, demand."""

from __future__ import annotations

from typing import Any
from urllib.parse import quote

from lamppost.cli.out import AMBER, BRICK, DIM, SLATE, paint, print_json, print_line, print_table, time_ago
from lamppost.client import Client
from lamppost.core.names import parse_version

_COLOURS = {"open": SLATE, "approved": AMBER, "refused": BRICK, "withdrawn": DIM}


def review_list(endpoint: str | None, address: str | None, as_json: bool) -> None:
    """``lamppost review list``."""
    with Client(address) as client:
        found = client.fetch("GET", "/api/reviews", endpoint=endpoint)
    if as_json:
        print_json(found)
        return
    if not found:
        print_line("There is no review. An endpoint demands approvals after: lamppost review demand ENDPOINT 1")
        return
    rows = [
        [
            str(one["number"]),
            one["endpoint"],
            one["version"],
            paint(one["state"], _COLOURS[one["state"]]),
            f"{sum(v['approves'] for v in one['verdicts'])} of {one['needed']}",
            f"{one['asked_by']} {time_ago(one['asked_at'])}",
            "; ".join([one["note"], *(f"{v['token']}: {v['reason']}" for v in one["verdicts"])]),
        ]
        for one in found
    ]
    print_table(["#", "endpoint", "version", "state", "approvals", "asked by", "what was said"], rows, right=frozenset({"#"}))


def review_ask(endpoint: str, version: str, note: str, address: str | None, as_json: bool) -> None:
    """``lamppost review ask``."""
    parse_version(version)
    with Client(address) as client:
        answer = client.fetch("POST", "/api/reviews", {"endpoint": endpoint, "version": version, "note": note})
    _told(answer, as_json)


def review_say(number: int, approves: bool, reason: str, address: str | None, as_json: bool) -> None:
    """``lamppost review approve`` and ``refuse``."""
    with Client(address) as client:
        answer = client.fetch("POST", f"/api/reviews/{number}/verdict", {"approves": approves, "reason": reason})
    _told(answer, as_json)


def _told(answer: dict[str, Any], as_json: bool) -> None:
    if as_json:
        print_json(answer)
        return
    approvals = sum(verdict["approves"] for verdict in answer["verdicts"])
    print_line(
        f"{paint('◌', _COLOURS[answer['state']])} review {answer['number']}: {answer['version']} for {answer['endpoint']} is "
        f"{answer['state']}, {approvals} of {answer['needed']} approvals"
    )
    if answer["state"] == "open":
        print_line(paint(f"  next, by somebody else: lamppost review approve {answer['number']} --reason '…'", DIM))
    elif answer["state"] == "approved":
        print_line(paint(f"  next: lamppost point {answer['endpoint']} {answer['version']}", DIM))


def review_withdraw(number: int, address: str | None) -> None:
    """``lamppost review withdraw``."""
    with Client(address) as client:
        client.fetch("DELETE", f"/api/reviews/{number}")
    print_line(f"review {number} is withdrawn")


def review_demand(endpoint: str, approvals: int, address: str | None) -> None:
    """``lamppost review demand``."""
    with Client(address) as client:
        client.fetch("PUT", f"/api/endpoints/{quote(endpoint, safe='')}/approvals", {"approvals": approvals})
    print_line(f"{endpoint} demands {approvals or 'no'} approval{'' if approvals == 1 else 's'} before a version serves it")
