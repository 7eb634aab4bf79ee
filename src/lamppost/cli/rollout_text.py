"""How rollouts are begun, followed and shown in a terminal, whether over calls or over outposts."""

from __future__ import annotations

import time
from collections.abc import Callable
from typing import Any

from lamppost.cli.out import AMBER, BRICK, DIM, SLATE, paint, print_line, print_table, time_ago
from lamppost.core.errors import BadRequest

_LOOK_S = 1.0
_GLYPHS = {"running": ("◐", AMBER), "paused": ("◐", SLATE), "done": ("●", AMBER), "back": ("○", BRICK), "ended": ("◌", SLATE)}


def read_guard(text: str) -> tuple[str, float | None]:
    """A guard and its limit, None to leave it out, of ``NAME=LIMIT``; raise BadRequest."""
    name, equals, limit = text.partition("=")
    try:
        if equals:
            return name.strip(), float(limit) if limit else None
    except ValueError:
        pass
    raise BadRequest(f"--guard {text} is not NAME=LIMIT, such as p99_ms=50 or errors=2")


def follow_rollout(answer: dict[str, Any], look: Callable[[], list[dict[str, Any]]], quiet: bool) -> dict[str, Any]:
    """Print each decision of a rollout until it is over. look : the rollouts of the endpoint. Returns the last answer."""
    number, last = answer["number"], ""
    while True:
        if not quiet and answer["reason"] != last:
            glyph, colour = _GLYPHS[answer["state"]]
            print_line(f"{paint(glyph, colour)} {answer['reason'] or 'begun'}")
            last = answer["reason"]
        if answer["ended_at"] is not None:
            return answer
        time.sleep(_LOOK_S)
        answer = next(found for found in look() if found["number"] == number)


def print_state(answer: dict[str, Any], place: str) -> None:
    """From which version to which a rollout goes, where, and its last decision."""
    glyph, colour = _GLYPHS[answer["state"]]
    over = f", over since {time_ago(answer['ended_at'])}" if answer["ended_at"] else ""
    print_line(
        f"{paint(glyph, colour)} {place}: {paint(answer['old'], SLATE)} → {paint(answer['new'], AMBER)}, {answer['state']},"
        f" begun by {answer['begun_by']} {time_ago(answer['begun_at'])}{over}"
    )
    if answer["reason"]:
        print_line(f"  {answer['reason']}")
    print_line()


def print_readings(answer: dict[str, Any]) -> None:
    """What the guards of a rollout read, if they have."""
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
