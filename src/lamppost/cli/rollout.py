"""Command ``rollout``: begins a rollout, shows how it stands, and steers it."""

from __future__ import annotations

import time
from dataclasses import dataclass
from typing import Any
from urllib.parse import quote

import typer

from lamppost.cli.changes import read_sticky
from lamppost.cli.out import AMBER, BRICK, DIM, SLATE, paint, print_json, print_line, print_table, time_ago
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


def rollout(endpoint: str, wanted: RolloutOptions, address: str | None, as_json: bool) -> None:
    """``lamppost rollout``."""
    if len(wanted.acts) > 1 or (wanted.acts and wanted.version):
        raise BadRequest("say one thing: begin a rollout to a version, or --pause, --resume, --finish or --back the one that goes on")
    path = f"/api/endpoints/{quote(endpoint, safe='')}"
    with Client(address, timeout_s=180) as client:
        if wanted.acts:
            answer = client.fetch("POST", f"{path}/rollout/{wanted.acts[0]}")
        elif wanted.version:
            parse_version(wanted.version)
            body = {"version": wanted.version, "break_callers": wanted.break_callers, "override": wanted.override}
            answer = client.fetch(
                "POST", f"{path}/rollout", body | {"plan": _plan(client, path, wanted), "sticky": read_sticky(wanted.sticky)}
            )
        else:
            found = client.fetch("GET", f"{path}/rollouts")
            if not found:
                raise BadRequest(f"{endpoint} had no rollout yet; begin one with: lamppost rollout {endpoint} MODEL@N")
            answer = found[0]
        if wanted.follow:
            answer = _followed(client, path, answer, quiet=as_json)
    if as_json:
        print_json(answer)
    elif not wanted.follow:
        _show(answer)
    if wanted.follow and answer["state"] != "done":
        raise typer.Exit(1)


def _plan(client: Client, path: str, wanted: RolloutOptions) -> dict[str, Any] | None:
    """The endpoint's own plan, or the usual one, with what was said otherwise; None where nothing was."""
    if wanted.steps is None and wanted.calls is None and wanted.minutes is None and not wanted.guards:
        return None
    own: dict[str, Any] = client.fetch("GET", path)["setup"].get("rollout") or {}
    plan: dict[str, Any] = {"guards": own.get("guards", {}) | dict(map(_guard, wanted.guards))}
    if wanted.steps is not None or wanted.calls is not None or wanted.minutes is not None:
        try:
            shares = [float(part.strip().removesuffix("%")) for part in (wanted.steps or "1,5,25").split(",")]
        except ValueError as error:
            raise BadRequest(f"--steps {wanted.steps} is not a list of percents, such as 1,5,25") from error
        calls = wanted.calls if wanted.calls is not None else 0 if wanted.minutes else 100
        plan["steps"] = [{"share": share, "calls": calls, "minutes": wanted.minutes or 0.0} for share in shares]
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
        if not quiet and answer["why"] != last:
            _line(answer)
            last = answer["why"]
        if answer["ended_at"] is not None:
            return answer
        time.sleep(_LOOK_S)
        answer = next(one for one in client.fetch("GET", f"{path}/rollouts") if one["number"] == number)


def _line(answer: dict[str, Any]) -> None:
    glyph, colour = _GLYPHS[answer["state"]]
    print_line(f"{paint(glyph, colour)} {answer['why'] or 'begun'}")


def _show(answer: dict[str, Any]) -> None:
    glyph, colour = _GLYPHS[answer["state"]]
    over = f", over since {time_ago(answer['ended_at'])}" if answer["ended_at"] else ""
    print_line(
        f"{paint(glyph, colour)} {answer['endpoint']}: {paint(answer['old'], SLATE)} → {paint(answer['new'], AMBER)}, {answer['state']},"
        f" begun by {answer['begun_by']} {time_ago(answer['begun_at'])}{over}"
    )
    if answer["why"]:
        print_line(f"  {answer['why']}")
    print_line()
    rows = []
    for at, step in enumerate(answer["plan"]["steps"]):
        calls = answer["calls"][at] if at < len(answer["calls"]) else [0, 0]
        here = "◀" if at == answer["step"] and answer["ended_at"] is None else ""
        lasts = " and ".join(
            part
            for part in (f"{step['calls']:,} calls" if step["calls"] else "", f"{step['minutes']:g} min" if step["minutes"] else "")
            if part
        )
        rows.append([f"{step['share']:g} %", lasts, f"{calls[0]:,}", f"{calls[1]:,}", here])
    print_table(["step", "lasts", answer["old"], answer["new"], ""], rows, right=frozenset({"step", answer["old"], answer["new"]}))
    if answer["readings"]:
        print_line()
        rows = [
            [
                reading["guard"],
                "–" if reading["value"] is None else f"{reading['value']:.3g}",
                f"{reading['limit']:.3g}",
                paint(f"{min(reading['evidence'], 1):.0%}", BRICK if reading["evidence"] >= 1 else DIM),
                reading["says"],
            ]
            for reading in answer["readings"]
        ]
        print_table(["guard", "now", "limit", "evidence", answer["new"]], rows, right=frozenset({"now", "limit", "evidence"}))
    if answer["ended_at"] is None:
        print_line(paint(f"  take it back: lamppost rollout {answer['endpoint']} --back", DIM))
