"""Command ``review``: ask, approve, refuse, withdraw, demand."""

from __future__ import annotations

from typing import Annotated, Any
from urllib.parse import quote

import typer

from lamppost.cli.out import AMBER, BRICK, DIM, SLATE, paint, print_done, print_json, print_line, print_table, time_ago
from lamppost.cli.parameters import Address, AsJson, Endpoint
from lamppost.client import Client
from lamppost.core.names import parse_version

ReviewNumber = Annotated[int, typer.Argument(help="The review; see lamppost review list.")]
_COLOURS = {"open": SLATE, "approved": AMBER, "refused": BRICK, "withdrawn": DIM}


def review_list(
    endpoint: Annotated[str | None, typer.Argument(help="Only of this endpoint.")] = None, address: Address = None, as_json: AsJson = False
) -> None:
    """Command ``review list``."""
    with Client(address) as client:
        reviews = client.fetch("GET", "/api/reviews", endpoint=endpoint)
    if as_json:
        print_json(reviews)
        return
    if not reviews:
        print_line("There is no review. An endpoint demands approvals after: lamppost review demand ENDPOINT 1")
        return
    rows = [
        [
            str(review["number"]),
            review["endpoint"],
            review["version"],
            paint(review["state"], _COLOURS[review["state"]]),
            f"{sum(v['approves'] for v in review['verdicts'])} of {review['needed']}",
            f"{review['asked_by']} {time_ago(review['asked_at'])}",
            "; ".join([review["note"], *(f"{v['token']}: {v['reason']}" for v in review["verdicts"])]),
        ]
        for review in reviews
    ]
    print_table(["#", "endpoint", "version", "state", "approvals", "asked by", "what was said"], rows, right=frozenset({"#"}))


def review_ask(
    endpoint: Endpoint,
    version: Annotated[str, typer.Argument(help="The version to review.")],
    note: Annotated[str, typer.Option(help="What changed, and why the version should serve.")],
    address: Address = None,
    as_json: AsJson = False,
) -> None:
    """Command ``review ask``."""
    parse_version(version)
    with Client(address) as client:
        answer = client.fetch("POST", "/api/reviews", {"endpoint": endpoint, "version": version, "note": note})
    _print_review(answer, as_json)


def review_approve(
    number: ReviewNumber, reason: Annotated[str, typer.Option(help="What you checked.")], address: Address = None, as_json: AsJson = False
) -> None:
    """Command ``review approve``."""
    _give_verdict(number, True, reason, address, as_json)


def review_refuse(
    number: ReviewNumber,
    reason: Annotated[str, typer.Option(help="What is wrong with it.")],
    address: Address = None,
    as_json: AsJson = False,
) -> None:
    """Command ``review refuse``."""
    _give_verdict(number, False, reason, address, as_json)


def _give_verdict(number: int, approves: bool, reason: str, address: str | None, as_json: bool) -> None:
    with Client(address) as client:
        review = client.fetch("POST", f"/api/reviews/{number}/verdict", {"approves": approves, "reason": reason})
    _print_review(review, as_json)


def _print_review(review: dict[str, Any], as_json: bool) -> None:
    if as_json:
        print_json(review)
        return
    approvals = sum(verdict["approves"] for verdict in review["verdicts"])
    print_line(
        f"{paint('◌', _COLOURS[review['state']])} review {review['number']}: {review['version']} for {review['endpoint']} is "
        f"{review['state']}, {approvals} of {review['needed']} approvals"
    )
    if review["state"] == "open":
        print_line(paint(f"  next, by somebody else: lamppost review approve {review['number']} --reason '…'", DIM))
    elif review["state"] == "approved":
        print_line(paint(f"  next: lamppost point {review['endpoint']} {review['version']}", DIM))


def review_withdraw(number: ReviewNumber, address: Address = None, as_json: AsJson = False) -> None:
    """Command ``review withdraw``."""
    with Client(address) as client:
        client.fetch("DELETE", f"/api/reviews/{number}")
    print_done(f"review {number} is withdrawn", {"withdrawn": number}, as_json)


def review_demand(
    endpoint: Endpoint,
    approvals: Annotated[int, typer.Argument(help="How many others must approve; 0 for none.", min=0, max=9)],
    address: Address = None,
    as_json: AsJson = False,
) -> None:
    """Command ``review demand``."""
    with Client(address) as client:
        client.fetch("PUT", f"/api/endpoints/{quote(endpoint, safe='')}/approvals", {"approvals": approvals})
    text = f"{endpoint} demands {approvals or 'no'} approval{'' if approvals == 1 else 's'} before a version serves it"
    print_done(text, {"endpoint": endpoint, "approvals": approvals}, as_json)
