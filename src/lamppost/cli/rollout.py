"""Command ``rollout``: begins a rollout, shows how it stands, and steers it."""

from __future__ import annotations

from dataclasses import dataclass
from typing import Annotated, Any
from urllib.parse import quote

import typer

from lamppost.cli.changes import read_sticky
from lamppost.cli.out import DIM, paint, print_json, print_line, print_table
from lamppost.cli.outposts.rollouts import (
    act_on_outpost_rollout,
    begin_outpost_rollout,
    latest_outpost_rollout,
    list_outpost_rollouts,
    print_outpost_rollout,
)
from lamppost.cli.parameters import Address, AsJson, BreakCallers, Endpoint, Override, Sticky
from lamppost.cli.rollout_text import follow_rollout, print_readings, print_state, read_guard
from lamppost.client import Client
from lamppost.core.errors import BadRequest
from lamppost.core.names import parse_version


@dataclass(frozen=True, slots=True)
class RolloutOptions:
    """What was said on the command line."""

    version: str | None
    steps: str | None
    calls: int | None
    minutes: float | None
    guards: tuple[str, ...]
    sticky: str | None
    at: str | None
    share: float | None
    acts: tuple[str, ...]
    follow: bool
    break_callers: bool
    override: str | None


def rollout(
    endpoint: Endpoint,
    version: Annotated[str | None, typer.Argument(help="The version to roll out; without it, the last rollout is shown.")] = None,
    steps: Annotated[str | None, typer.Option(help="Shares in percent, such as 1,5,25; 100 follows automatically.")] = None,
    calls: Annotated[int | None, typer.Option(help="Calls that the new version answers at each step.", min=1)] = None,
    minutes: Annotated[float | None, typer.Option(help="Minutes that each step lasts at least.", min=0)] = None,
    guard: Annotated[
        list[str] | None, typer.Option(help="A guard and its limit, such as p99_ms=50; NAME= leaves it out.", metavar="NAME=LIMIT")
    ] = None,
    sticky: Sticky = None,
    at: Annotated[
        str | None,
        typer.Option(help="Roll out over the outposts that serve what is set for this one or this label.", metavar="OUTPOST|LABEL"),
    ] = None,
    share: Annotated[
        float | None, typer.Option(help="With --at: percent of calls for the version at an outpost in its turn [20].", min=0.1, max=99.9)
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
    """Command ``rollout``."""
    acts = [name for name, answer in (("pause", pause), ("resume", resume), ("finish", finish), ("back", back)) if answer]
    options = RolloutOptions(
        version, steps, calls, minutes, tuple(guard or ()), sticky, at, share, tuple(acts), follow, break_callers, override
    )
    if len(options.acts) > 1 or (options.acts and options.version):
        raise BadRequest("say one thing: begin a rollout to a version, or --pause, --resume, --finish or --back the one that goes on")
    if share is not None and at is None:
        raise BadRequest("--share is the part of calls at an outpost in its turn; say over which outposts with --at, or give --steps")
    if at is not None and (steps is not None or sticky is not None):
        raise BadRequest("over outposts a rollout has one share, --share, and no --steps or --sticky")
    path = f"/api/endpoints/{quote(endpoint, safe='')}"
    with Client(address, timeout_s=180) as client:
        if at is not None:
            answer = _over_outposts(client, endpoint, at, options)
        elif options.acts:
            answer = client.fetch("POST", f"{path}/rollout/{options.acts[0]}")
        elif options.version:
            parse_version(options.version)
            body = {"version": options.version, "break_callers": options.break_callers, "override": options.override}
            answer = client.fetch(
                "POST", f"{path}/rollout", body | {"plan": _plan(client, path, options), "sticky": read_sticky(options.sticky)}
            )
        else:
            rollouts = client.fetch("GET", f"{path}/rollouts")
            if not rollouts:
                raise BadRequest(f"{endpoint} had no rollout yet; begin one with: lamppost rollout {endpoint} MODEL@N")
            answer = rollouts[0]
        if options.follow:

            def look() -> list[dict[str, Any]]:
                return list_outpost_rollouts(client, endpoint) if at is not None else client.fetch("GET", f"{path}/rollouts")

            answer = follow_rollout(answer, look, quiet=as_json)
    if as_json:
        print_json(answer)
    elif not options.follow:
        _show(answer) if at is None else print_outpost_rollout(answer)
    if options.follow and answer["state"] != "done":
        raise typer.Exit(1)


def _over_outposts(client: Client, endpoint: str, at: str, options: RolloutOptions) -> dict[str, Any]:
    if options.acts:
        return act_on_outpost_rollout(client, endpoint, at, options.acts[0])
    if options.version is None:
        return latest_outpost_rollout(client, endpoint, at)
    plan: dict[str, Any] = {"guards": dict(map(read_guard, options.guards))}
    if options.share is not None or options.calls is not None or options.minutes is not None:
        calls = options.calls if options.calls is not None else 0 if options.minutes else 100
        plan["step"] = {"share": options.share or 20.0, "calls": calls, "minutes": options.minutes or 0.0}
    body = {"at": at, "version": options.version, "plan": plan, "break_callers": options.break_callers, "override": options.override}
    return begin_outpost_rollout(client, endpoint, body)


def _plan(client: Client, path: str, options: RolloutOptions) -> dict[str, Any] | None:
    """The endpoint's own plan, or the usual one, with what was said otherwise; None where nothing was."""
    if options.steps is None and options.calls is None and options.minutes is None and not options.guards:
        return None
    own: dict[str, Any] = client.fetch("GET", path)["setup"].get("rollout") or {}
    plan: dict[str, Any] = {"guards": own.get("guards", {}) | dict(map(read_guard, options.guards))}
    if options.steps is not None or options.calls is not None or options.minutes is not None:
        try:
            shares = [float(part.strip().removesuffix("%")) for part in (options.steps or "1,5,25").split(",")]
        except ValueError as error:
            raise BadRequest(f"--steps {options.steps} is not a list of percents, such as 1,5,25") from error
        calls = options.calls if options.calls is not None else 0 if options.minutes else 100
        plan["steps"] = [{"share": share, "calls": calls, "minutes": options.minutes or 0.0} for share in shares]
    elif own.get("steps"):
        plan["steps"] = own["steps"]
    return plan


def _show(answer: dict[str, Any]) -> None:
    print_state(answer, answer["endpoint"])
    rows = []
    for at, step in enumerate(answer["plan"]["steps"]):
        calls = answer["calls"][at] if at < len(answer["calls"]) else [0, 0]
        marker = "◀" if at == answer["step"] and answer["ended_at"] is None else ""
        lasts = " and ".join(
            part
            for part in (f"{step['calls']:,} calls" if step["calls"] else "", f"{step['minutes']:g} min" if step["minutes"] else "")
            if part
        )
        rows.append([f"{step['share']:g} %", lasts, f"{calls[0]:,}", f"{calls[1]:,}", marker])
    print_table(["step", "lasts", answer["old"], answer["new"], ""], rows, right=frozenset({"step", answer["old"], answer["new"]}))
    print_readings(answer)
    if answer["ended_at"] is None:
        print_line(paint(f"  take it back: lamppost rollout {answer['endpoint']} --back", DIM))
