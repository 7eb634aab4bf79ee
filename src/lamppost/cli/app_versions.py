"""Declares the commands about versions in service: rollback, shares, shadows, rollouts, reviews, the trail, the declared document."""

from __future__ import annotations

from pathlib import Path
from typing import Annotated

import typer

from lamppost.cli.app import Address, AsJson, BreakCallers, Override, app

reviews = typer.Typer(no_args_is_help=True, help="Ask for reviews of versions, approve or refuse them.", rich_markup_mode=None)
app.add_typer(reviews, name="review")

Endpoint = Annotated[str, typer.Argument(help="The endpoint.")]


@app.command()
def rollback(
    endpoint: Endpoint,
    note: Annotated[str | None, typer.Option(help="The reason, for the trail.")] = None,
    address: Address = None,
    as_json: AsJson = False,
) -> None:
    """Go back to what the endpoint served before, at once; twice in a row goes back twice."""
    from lamppost.cli.changes import rollback

    rollback(endpoint, note, address, as_json)


@app.command()
def split(
    endpoint: Endpoint,
    shares: Annotated[list[str], typer.Argument(help="Versions with percent of calls, 100 together.", metavar="MODEL@N=SHARE…")],
    sticky: Annotated[
        str | None, typer.Option(help="Keep callers with their version by header:NAME, field:NAME or option:NAME.", metavar="BY:NAME")
    ] = None,
    break_callers: BreakCallers = False,
    override: Override = None,
    address: Address = None,
    as_json: AsJson = False,
) -> None:
    """Give several versions shares of the calls."""
    from lamppost.cli.changes import ChangeOverrides, split

    split(endpoint, shares, sticky, ChangeOverrides(break_callers, override), address, as_json)


@app.command()
def shadow(
    endpoint: Endpoint,
    version: Annotated[str, typer.Argument(help="The version that gets copies of calls.")],
    share: Annotated[float, typer.Option(help="Percent of calls that are copied; 0 removes the shadow.", min=0, max=100)] = 100.0,
    address: Address = None,
    as_json: AsJson = False,
) -> None:
    """Copy calls to a version whose answers are recorded and compared, and never given to callers."""
    from lamppost.cli.changes import shadow

    shadow(endpoint, version, share, address, as_json)


@app.command()
def rollout(
    endpoint: Endpoint,
    version: Annotated[str | None, typer.Argument(help="The version to roll out; without it, the last rollout is shown.")] = None,
    steps: Annotated[str | None, typer.Option(help="Shares in percent, such as 1,5,25; 100 follows automatically.")] = None,
    calls: Annotated[int | None, typer.Option(help="Calls that the new version answers at each step.", min=1)] = None,
    minutes: Annotated[float | None, typer.Option(help="Minutes that each step lasts at least.", min=0)] = None,
    guard: Annotated[
        list[str] | None, typer.Option(help="A guard and its limit, such as p99_ms=50; NAME= leaves it out.", metavar="NAME=LIMIT")
    ] = None,
    sticky: Annotated[
        str | None, typer.Option(help="Keep callers with their version by header:NAME, field:NAME or option:NAME.", metavar="BY:NAME")
    ] = None,
    follow: Annotated[
        bool, typer.Option("--follow", "-f", help="Follow the rollout until it is over; exit code 1 if it went back.")
    ] = False,
    pause: Annotated[bool, typer.Option("--pause", help="Stay at the current step.")] = False,
    resume: Annotated[bool, typer.Option("--resume", help="Go on after a pause.")] = False,
    finish: Annotated[bool, typer.Option("--finish", help="Send all calls to the new version now.")] = False,
    back: Annotated[bool, typer.Option("--back", help="Send all calls back to the old version now.")] = False,
    break_callers: BreakCallers = False,
    override: Override = None,
    address: Address = None,
    as_json: AsJson = False,
) -> None:
    """Move an endpoint to a version step by step, and back if a guard says so. Shows, pauses, resumes or ends a rollout too."""
    from lamppost.cli.rollout import RolloutOptions, rollout

    acts = [name for name, answer in (("pause", pause), ("resume", resume), ("finish", finish), ("back", back)) if answer]
    wanted = RolloutOptions(version, steps, calls, minutes, tuple(guard or ()), sticky, tuple(acts), follow, break_callers, override)
    rollout(endpoint, wanted, address, as_json)


@app.command()
def compare(
    before: Annotated[str, typer.Argument(help="The first version.", metavar="BEFORE")],
    after: Annotated[str, typer.Argument(help="The second version.", metavar="AFTER")],
    endpoint: Annotated[str | None, typer.Option(help="On the rows of the last calls to this endpoint.")] = None,
    last: Annotated[int, typer.Option(help="How many calls.", min=1, max=5_000)] = 500,
    file: Annotated[Path | None, typer.Option(help="On the rows of a .json or .csv file.")] = None,
    address: Address = None,
    as_json: AsJson = False,
) -> None:
    """Show how far the answers of two versions agree: on the proof, on the last calls, or on a file."""
    from lamppost.cli.changes import compare

    compare(before, after, endpoint, last, file, address, as_json)


@app.command()
def retire(
    version: Annotated[str, typer.Argument(help="The version.")],
    undo: Annotated[bool, typer.Option("--undo", help="Let the version be served again.")] = False,
    address: Address = None,
) -> None:
    """Keep a version from being served; the version stays stored."""
    from lamppost.cli.changes import retire

    retire(version, undo, address)


@app.command()
def about(
    model: Annotated[str, typer.Argument(help="The model.")],
    owner: Annotated[str | None, typer.Option(help="Owner of the model.")] = None,
    purpose: Annotated[str | None, typer.Option(help="Purpose of the model.")] = None,
    address: Address = None,
    as_json: AsJson = False,
) -> None:
    """Show or set the owner and the purpose of a model."""
    from lamppost.cli.changes import about

    about(model, owner, purpose, address, as_json)


@app.command()
def trail(
    subject: Annotated[str | None, typer.Argument(help="Only of this endpoint, model, version or token.")] = None,
    search: Annotated[str | None, typer.Option(help="Only entries with these words.")] = None,
    by: Annotated[str | None, typer.Option(help="Only by this token.")] = None,
    lines: Annotated[int, typer.Option("--lines", "-n", help="Number of entries.", min=1, max=1_000)] = 30,
    ndjson: Annotated[bool, typer.Option("--ndjson", help="Print all entries, one JSON object a line.")] = False,
    address: Address = None,
    as_json: AsJson = False,
) -> None:
    """Show who changed what, and when."""
    from lamppost.cli.changes import trail

    trail(subject, search, by, lines, ndjson, address, as_json)


@app.command()
def declare(
    file: Annotated[Path | None, typer.Argument(help="A document to compare; - reads standard input [none].", metavar="FILE")] = None,
    carry_out: Annotated[bool, typer.Option("--carry-out", help="Make endpoints as the document says, all of it or nothing.")] = False,
    against: Annotated[str | None, typer.Option(help="Only if endpoints still are as of this fingerprint.", metavar="FINGERPRINT")] = None,
    to: Annotated[Path | None, typer.Option(help="File to write the present document to [standard output].")] = None,
    break_callers: BreakCallers = False,
    override: Override = None,
    address: Address = None,
    as_json: AsJson = False,
) -> None:
    """Write what all endpoints serve as one TOML document; with FILE, show or carry out the difference."""
    from lamppost.cli.changes import ChangeOverrides
    from lamppost.cli.declare import DeclareOptions, declare

    declare(file, DeclareOptions(to, carry_out, against, ChangeOverrides(break_callers, override)), address, as_json)


@reviews.command("list")
def review_list(
    endpoint: Annotated[str | None, typer.Argument(help="Only of this endpoint.")] = None, address: Address = None, as_json: AsJson = False
) -> None:
    """List reviews."""
    from lamppost.cli.reviews import review_list

    review_list(endpoint, address, as_json)


@reviews.command("ask")
def review_ask(
    endpoint: Endpoint,
    version: Annotated[str, typer.Argument(help="The version to review.")],
    note: Annotated[str, typer.Option(help="What changed, and why the version should serve.")],
    address: Address = None,
    as_json: AsJson = False,
) -> None:
    """Ask others to approve a version for an endpoint."""
    from lamppost.cli.reviews import review_ask

    review_ask(endpoint, version, note, address, as_json)


@reviews.command("approve")
def review_approve(
    number: Annotated[int, typer.Argument(help="The review; see lamppost review list.")],
    reason: Annotated[str, typer.Option(help="What you checked.")],
    address: Address = None,
    as_json: AsJson = False,
) -> None:
    """Approve a version."""
    from lamppost.cli.reviews import review_say

    review_say(number, True, reason, address, as_json)


@reviews.command("refuse")
def review_refuse(
    number: Annotated[int, typer.Argument(help="The review; see lamppost review list.")],
    reason: Annotated[str, typer.Option(help="What is wrong with it.")],
    address: Address = None,
    as_json: AsJson = False,
) -> None:
    """Refuse a version."""
    from lamppost.cli.reviews import review_say

    review_say(number, False, reason, address, as_json)


@reviews.command("withdraw")
def review_withdraw(number: Annotated[int, typer.Argument(help="The review.")], address: Address = None) -> None:
    """Withdraw a review."""
    from lamppost.cli.reviews import review_withdraw

    review_withdraw(number, address)


@reviews.command("demand")
def review_demand(
    endpoint: Endpoint,
    approvals: Annotated[int, typer.Argument(help="How many others must approve; 0 for none.", min=0, max=9)],
    address: Address = None,
) -> None:
    """Demand approvals before a version serves an endpoint."""
    from lamppost.cli.reviews import review_demand

    review_demand(endpoint, approvals, address)
