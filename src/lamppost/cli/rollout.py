"""Command ``rollout``: begins a rollout, shows how it stands, and steers it."""

from __future__ import annotations

import time
from dataclasses import dataclass
from typing import Annotated, Any
from urllib.parse import quote

import typer

from lamppost.cli.changes import read_sticky
from lamppost.cli.out import AMBER, BRICK, DIM, SLATE, paint, print_json, print_line, print_table, time_ago
from lamppost.cli.parameters import Address, AsJson, BreakCallers, Endpoint, Override, Sticky
from lamppost.client import Client
from lamppost.core.errors import BadRequest
from lamppost.core.names import parse_version

_LOOK_S = 1.0
_GLYPHS = {"running": ("◐", AMBER), "paused": ("◐", SLATE), "done": ("●", AMBER), "back": ("○", BRICK), "ended": ("◌", SLATE)}


@dataclass(frozen=True, slots=True)
class RolloutOptions:
    """What was said on the command line."""

    version: str | None
    steps: str | None
    calls: int | None
    minutes: float | None
    guards: tuple[str, ...]
    sticky: str | None
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
    options = RolloutOptions(version, steps, calls, minutes, tuple(guard or ()), sticky, tuple(acts), follow, break_callers, override)
    if len(options.acts) > 1 or (options.acts and options.version):
        raise BadRequest("say one thing: begin a rollout to a version, or --pause, --resume, --finish or --back the one that goes on")
    path = f"/api/endpoints/{quote(endpoint, safe='')}"
    with Client(address, timeout_s=180) as client:
        if options.acts:
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
            answer = _followed(client, path, answer, quiet=as_json)
    if as_json:
        print_json(answer)
    elif not options.follow:
        _show(answer)
    if options.follow and answer["state"] != "done":
        raise typer.Exit(1)


def _plan(client: Client, path: str, options: RolloutOptions) -> dict[str, Any] | None:
    """The endpoint's own plan, or the usual one, with what was said otherwise; None where nothing was."""
    if options.steps is None and options.calls is None and options.minutes is None and not options.guards:
        return None
    own: dict[str, Any] = client.fetch("GET", path)["setup"].get("rollout") or {}
    plan: dict[str, Any] = {"guards": own.get("guards", {}) | dict(map(_guard, options.guards))}
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


def _guard(text: str) -> tuple[str, float | None]:
    name, equals, limit = text.partition("=")
    try:
        if equals:
            return name.strip(), float(limit) if limit else None
    except ValueError:
        pass
    raise BadRequest(f"--guard {text} is not NAME=LIMIT, such as p99_ms=50 or errors=2")


def _followed(client: Client, path: str, answer: dict[str, Any], quiet: bool) -> dict[str, Any]:
    number, last = answer["number"], ""
    while True:
        if not quiet and answer["reason"] != last:
            _line(answer)
            last = answer["reason"]
        if answer["ended_at"] is not None:
            return answer
        time.sleep(_LOOK_S)
        answer = next(found for found in client.fetch("GET", f"{path}/rollouts") if found["number"] == number)


def _line(answer: dict[str, Any]) -> None:
    glyph, colour = _GLYPHS[answer["state"]]
    print_line(f"{paint(glyph, colour)} {answer['reason'] or 'begun'}")


def _show(answer: dict[str, Any]) -> None:
    glyph, colour = _GLYPHS[answer["state"]]
    over = f", over since {time_ago(answer['ended_at'])}" if answer["ended_at"] else ""
    print_line(
        f"{paint(glyph, colour)} {answer['endpoint']}: {paint(answer['old'], SLATE)} → {paint(answer['new'], AMBER)}, {answer['state']},"
        f" begun by {answer['begun_by']} {time_ago(answer['begun_at'])}{over}"
    )
    if answer["reason"]:
        print_line(f"  {answer['reason']}")
    print_line()
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
    if answer["readings"]:
        print_line()
        rows = [
            [
                reading["guard"],
                "–" if reading["value"] is None else f"{reading['value']:.3g}",
                f"{reading['limit']:.3g}",
                paint(f"{min(reading['evidence'], 1):.0%}", BRICK if reading["evidence"] >= 1 else DIM),
                reading["summary"],
            ]
            for reading in answer["readings"]
        ]
        print_table(["guard", "now", "limit", "evidence", answer["new"]], rows, right=frozenset({"now", "limit", "evidence"}))
    if answer["ended_at"] is None:
        print_line(paint(f"  take it back: lamppost rollout {answer['endpoint']} --back", DIM))
