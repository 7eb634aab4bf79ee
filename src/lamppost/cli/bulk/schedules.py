"""Commands ``schedule …``: bulk runs that are started by themselves."""

from __future__ import annotations

import sys
from datetime import datetime
from typing import Annotated, Any
from zoneinfo import ZoneInfo

import typer

from lamppost.cli.bulk.runs import order_of_words
from lamppost.cli.out import AMBER, BRICK, DIM, SLATE, paint, print_done, print_json, print_line, print_table, time_ago
from lamppost.cli.parameters import Address, AsJson
from lamppost.client import Client
from lamppost.core.errors import BadRequest

Name = Annotated[str, typer.Argument(help="The schedule.", metavar="NAME")]


def schedule_add(
    name: Annotated[str, typer.Argument(help="Name of the schedule.", metavar="NAME")],
    words: Annotated[list[str], typer.Argument(help="What is run, after --: bulk start ENDPOINT --from … --to …", metavar="-- COMMAND")],
    every: Annotated[str, typer.Option(help="Cron expression: minute, hour, day of the month, month, day of the week.")],
    zone: Annotated[str, typer.Option(help="Zone that the times are meant in, such as Europe/Lisbon.")] = "UTC",
    missed: Annotated[str, typer.Option(help="Times at which no node was there: once (one run catches up) or skip.")] = "once",
    yes: Annotated[bool, typer.Option("--yes", help="Do not ask, on a terminal, whether the times are right.")] = False,
    address: Address = None,
    as_json: AsJson = False,
) -> None:
    """Command ``schedule add``."""
    if words[:2] != ["bulk", "start"]:
        raise BadRequest(
            f"a schedule runs bulk start, and not {' '.join(words[:2])}: schedule add NAME --every '0 5 * * *' -- bulk start …"
        )
    order = order_of_words(words[2:])
    with Client(address) as client:
        times = client.fetch("POST", "/api/schedules/next", {"every": every, "zone": zone})["times"]
        if not as_json:
            for at in times:
                print_line(f"  {_local(at, zone)}")
        if not as_json and not yes and sys.stdin.isatty() and not typer.confirm("Are these the times that are meant?", default=True):
            print_line("nothing was kept")
            return
        body = {"every": every, "zone": zone, "missed": missed, "run": order}
        schedule = client.fetch("PUT", f"/api/schedules/{name}", body)
    if as_json:
        print_json(schedule)
        return
    print_line(f"{paint('●', AMBER)} {name} starts a run {_when(schedule)}")
    print_line(paint(f"  try it with: lamppost schedule run {name}; undo: lamppost schedule remove {name}", DIM))


def schedule_list(address: Address = None, as_json: AsJson = False) -> None:
    """Command ``schedule list``."""
    with Client(address) as client:
        schedules = client.fetch("GET", "/api/schedules")
    if as_json:
        print_json(schedules)
        return
    if not schedules:
        print_line("There are no schedules. Make one: lamppost schedule add NAME --every '0 5 * * *' -- bulk start …")
        return
    print_table(
        ["schedule", "every", "zone", "next", "last", "from"],
        [
            [
                one["name"],
                one["every"],
                one["zone"],
                "paused" if one["paused"] else _local(one["next_times"][0], one["zone"]) if one["next_times"] else "never",
                _last(one["latest"]),
                one["run"]["source"],
            ]
            for one in schedules
        ],
    )


def schedule_show(
    name: Name,
    limit: Annotated[int, typer.Option(help="How many of the last times.", min=1, max=500)] = 10,
    address: Address = None,
    as_json: AsJson = False,
) -> None:
    """Command ``schedule show``."""
    with Client(address) as client:
        times = client.fetch("GET", f"/api/schedules/{name}/times", limit=limit)
        schedule = next(one for one in client.fetch("GET", "/api/schedules") if one["name"] == name)
    if as_json:
        print_json({**schedule, "times": times})
        return
    run = schedule["run"]
    print_line(f"{name}  {schedule['every']} in {schedule['zone']}" + (paint("  paused", BRICK) if schedule["paused"] else ""))
    print_line(paint(f"  {', '.join(one['of'] for one in run['questions'])}: {run['source']} → {run['target'] or 'the service'}", DIM))
    for at in schedule["next_times"]:
        print_line(f"  next {_local(at, schedule['zone'])}")
    if times:
        print_table(
            ["due", "what was done", "run", "why"],
            [[_local(time["due_at"], schedule["zone"]), _last(time), time["run"] or "", time["note"] or ""] for time in times],
        )


def schedule_pause(name: Name, address: Address = None, as_json: AsJson = False) -> None:
    """Command ``schedule pause``."""
    with Client(address) as client:
        schedule = client.fetch("POST", f"/api/schedules/{name}/pause")
    print_done(f"{name} is paused\n  undo: lamppost schedule resume {name}", schedule, as_json)


def schedule_resume(name: Name, address: Address = None, as_json: AsJson = False) -> None:
    """Command ``schedule resume``."""
    with Client(address) as client:
        schedule = client.fetch("POST", f"/api/schedules/{name}/resume")
    print_done(f"{name} starts a run {_when(schedule)}", schedule, as_json)


def schedule_run(name: Name, address: Address = None, as_json: AsJson = False) -> None:
    """Command ``schedule run``."""
    with Client(address) as client:
        started = client.fetch("POST", f"/api/schedules/{name}/run")
    print_done(f"{started['run']} is started; follow it with: lamppost bulk follow {started['run']}", started, as_json)


def schedule_remove(name: Name, address: Address = None, as_json: AsJson = False) -> None:
    """Command ``schedule remove``."""
    with Client(address) as client:
        client.fetch("DELETE", f"/api/schedules/{name}")
    print_done(f"{name} is removed; its runs stay", {"schedule": name}, as_json)


def _local(at: str, zone: str) -> str:
    local = datetime.fromisoformat(at).astimezone(ZoneInfo(zone))
    return f"{local:%a %Y-%m-%d %H:%M} {local.tzname()}"


def _when(schedule: dict[str, Any]) -> str:
    if schedule["paused"]:
        return "never, while it is paused"
    return f"next on {_local(schedule['next_times'][0], schedule['zone'])}" if schedule["next_times"] else "never again"


def _last(time: dict[str, Any] | None) -> str:
    if time is None:
        return "–"
    if time["state"] in ("refused", "skipped"):
        return paint(time["state"], BRICK if time["state"] == "refused" else SLATE)
    state = time["run_state"] or ("forgotten" if time["state"] == "started" else "starting")
    return f"{paint(state, BRICK if state == 'failed' else AMBER if state == 'running' else SLATE)} {time_ago(time['due_at'])}"
