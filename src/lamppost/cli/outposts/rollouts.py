"""Rollouts over outposts, for the command ``rollout --at``."""

from __future__ import annotations

from typing import Any
from urllib.parse import quote

from lamppost.cli.out import AMBER, DIM, paint, print_line, print_table, time_ago
from lamppost.cli.rollout_text import print_readings, print_state
from lamppost.client import Client
from lamppost.core.errors import Conflict, NotFound
from lamppost.core.names import parse_version


def _path(endpoint: str) -> str:
    return f"/api/endpoints/{quote(endpoint, safe='')}/outposts/rollout"


def begin_outpost_rollout(client: Client, endpoint: str, body: dict[str, Any]) -> dict[str, Any]:
    """Begin a rollout, and say where it is."""
    parse_version(body["version"])
    answer: dict[str, Any] = client.fetch("POST", _path(endpoint), body)
    return answer


def list_outpost_rollouts(client: Client, endpoint: str) -> list[dict[str, Any]]:
    """The last rollouts of an endpoint over outposts, the newest first."""
    return list(client.fetch("GET", "/api/outpost-rollouts", endpoint=endpoint))


def latest_outpost_rollout(client: Client, endpoint: str, at: str) -> dict[str, Any]:
    """The last rollout over the outposts of a target; raise NotFound where there was none."""
    latest = next((one for one in list_outpost_rollouts(client, endpoint) if one["target"] == at), None)
    if latest is None:
        raise NotFound(f"{endpoint} had no rollout at {at} yet; begin one with: lamppost rollout {endpoint} MODEL@N --at {at}")
    return latest


def act_on_outpost_rollout(client: Client, endpoint: str, at: str, act: str) -> dict[str, Any]:
    """Pause, resume, finish or take back the rollout over the outposts of a target; raise Conflict where it goes over others."""
    going = latest_outpost_rollout(client, endpoint, at)
    if going["ended_at"] is not None:
        raise Conflict(f"the rollout of {going['new']} at {at} is over ({going['reason']})")
    answer: dict[str, Any] = client.fetch("POST", f"{_path(endpoint)}/{act}")
    return answer


def print_outpost_rollout(answer: dict[str, Any]) -> None:
    """Print how a rollout over outposts stands."""
    print_state(answer, f"{answer['endpoint']} at {answer['target']}")
    rows = [
        [
            turn["outpost"],
            paint(turn["state"], AMBER) if turn["state"] == "has its turn" and answer["ended_at"] is None else turn["state"],
            time_ago(turn["since"]) if turn["since"] else "",
            f"{turn['calls'][0]:,}",
            f"{turn['calls'][1]:,}",
        ]
        for turn in answer["turns"]
    ]
    right = frozenset({answer["old"], answer["new"]})
    print_table(["outpost", "turn", "both since", answer["old"], answer["new"]], rows, right=right)
    print_readings(answer)
    if answer["ended_at"] is None:
        print_line(paint(f"  take it back: lamppost rollout {answer['endpoint']} --at {answer['target']} --back", DIM))
