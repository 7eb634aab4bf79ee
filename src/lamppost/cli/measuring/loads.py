"""Commands ``load`` and ``loads``: real calls from processes beside the service, and what came of them."""

from __future__ import annotations

from collections.abc import Mapping
from pathlib import Path
from typing import Annotated, Any
from urllib.parse import urlsplit

import orjson
import typer

from lamppost.cli.measuring.row_files import MOST_ROWS, read_row_file
from lamppost.cli.out import AMBER, BRICK, DIM, paint, print_done, print_json, print_line, print_table, time_ago
from lamppost.cli.parameters import Address, AsJson
from lamppost.cli.times import parse_seconds
from lamppost.client import Client
from lamppost.core.errors import BadRequest, LampPostError
from lamppost.core.load.load_plan import LoadPlan, write_plan
from lamppost.core.load.load_result import LoadStep, StepSummary, summarize_step, write_steps
from lamppost.core.monitoring.latency_histogram import quantiles

_HERE = frozenset({"127.0.0.1", "::1", "localhost"})
_RIGHT = frozenset({"clients", "requests/s", "p50 ms", "p90 ms", "p95 ms", "p99 ms", "most ms", "calls", "errors"})


def load(
    endpoint: Annotated[list[str], typer.Argument(help="Endpoints that are asked.", metavar="ENDPOINT")],
    clients: Annotated[str, typer.Option(help="Connections at once, one number for each step.")] = "1,8,64",
    lasts: Annotated[str, typer.Option("--for", help="How long each step is measured: 20s, 5min.", metavar="SPAN")] = "20s",
    rate: Annotated[
        float | None, typer.Option(help="Requests that are due in a second, whatever the service does [each client waits for its answer].")
    ] = None,
    rows: Annotated[
        str | None, typer.Option(help="Where rows are from: records, reference, or a file of NDJSON or CSV [records, if there are some].")
    ] = None,
    order: Annotated[str, typer.Option(help="In which endpoints are asked: sequential or random.")] = "sequential",
    name: Annotated[str | None, typer.Option(help="Name that the result is kept under [the endpoint's, and a number].")] = None,
    elsewhere: Annotated[bool, typer.Option("--elsewhere", help="Allow a service on another machine.")] = False,
    address: Address = None,
    as_json: AsJson = False,
) -> None:
    """Command ``load``."""
    from lamppost.client.load.load_run import run_load

    seconds = parse_seconds(lasts)
    try:
        steps = tuple(int(part) for part in clients.split(","))
    except ValueError as error:
        raise BadRequest(f"--clients {clients} is no list of numbers; write 1,8,64") from error
    with Client(address) as client:
        service = str(client.connection_options["base_url"])
        where = urlsplit(service)
        if where.hostname not in _HERE and not elsewhere:
            raise BadRequest(
                f"{service} is on another machine, and a load there may disturb others; allow it with --elsewhere, or name a "
                "service here: --address"
            )
        bodies, said = _bodies(client, endpoint, rows)
        plan = LoadPlan(tuple(endpoint), steps, seconds, rate, order, said)  # type: ignore[arg-type]
        begun = client.fetch("POST", "/api/loads", {"plan": write_plan(plan), "name": name})
        if not as_json:
            loop = f"{rate:g} requests/s are due" if rate else "each client waits for its answer"
            print_line(f"{begun['name']}: {', '.join(endpoint)}, {loop}; rows of {said}, {plan.whole_s:.0f} s in all")
            _print_head()
        done: list[LoadStep] = []
        try:
            for step in run_load(plan, service, begun["token"], bodies):
                done.append(step)
                if not as_json:
                    _print_step(summarize_step(step))
        except KeyboardInterrupt:
            if not as_json:
                print_line(paint("  broken off; what was measured is kept", DIM))
        finally:
            kept = client.fetch("PUT", f"/api/loads/{begun['name']}/result", {"steps": write_steps(done)})
        if as_json:
            print_json(kept)
            return
        _print_details(done)
        others = [one["name"] for one in client.fetch("GET", "/api/loads", endpoint=endpoint[0], limit=2) if one["name"] != begun["name"]]
    if others:
        print_line(paint(f"  compare it: lamppost loads {begun['name']} --against {others[0]}", DIM))


def _bodies(client: Client, endpoints: list[str], rows: str | None) -> tuple[dict[str, list[str]], str]:
    """JSON bodies of one row each, by endpoint, and where they are from."""
    if rows is not None and rows not in ("records", "reference"):
        bodies = read_row_file(Path(rows))
        return dict.fromkeys(endpoints, bodies), Path(rows).name
    found: dict[str, list[str]] = {}
    said: list[str] = []
    for endpoint in endpoints:
        answer = client.fetch("GET", "/api/loads/rows", endpoint=endpoint, of=rows, limit=MOST_ROWS)
        found[endpoint] = [orjson.dumps(body).decode() for body in answer["bodies"]]
        said.append("recorded calls" if answer["of"] == "records" else "the reference")
    return found, " and ".join(dict.fromkeys(said))


def _print_head() -> None:
    names = ("requests/s", "p50 ms", "p90 ms", "p95 ms", "p99 ms", "most ms", "errors")
    widths = (12, 10, 10, 10, 10, 10, 9)
    print_line(paint(f"{'clients':>9}" + "".join(f"{name:>{width}}" for name, width in zip(names, widths, strict=True)), DIM))


def _number(value: float | None) -> str:
    return "–" if value is None else f"{value:,.2f}" if value < 100 else f"{value:,.0f}"


def _print_step(step: StepSummary) -> None:
    times = "".join(f"{_number(value):>10}" for value in (step.p50_ms, step.p90_ms, step.p95_ms, step.p99_ms, step.most_ms))
    errors = paint(f"{step.errors:>9,}", BRICK) if step.errors else f"{0:>9}"
    print_line(f"{step.clients:>9}{paint(f'{step.per_s:>12,.0f}', AMBER)}{times}{errors}")


def _print_details(steps: list[LoadStep]) -> None:
    """What the figures are made of: phases, versions, endpoints, errors."""
    for step in steps:
        for kind, many in sorted(step.errors.items(), key=lambda one: -one[1]):
            print_line(paint(f"  {step.clients} clients: {many:,} × {kind}", BRICK))
        if step.late:
            print_line(
                paint(f"  {step.clients} clients: {step.late:,} requests began later than they were due, for want of a free client", DIM)
            )
    if not steps or not steps[-1].phases:
        return
    last = steps[-1]
    print_line()
    print_table(
        [f"phase, {last.clients} clients", "p50 ms", "p99 ms"],
        [[phase, *(_number(us and us / 1e3) for us in quantiles(counts, (0.5, 0.99)))] for phase, counts in last.phases.items()],
        right=_RIGHT,
    )
    if len(last.endpoints) > 1 or any(len(versions) > 1 for versions in last.versions.values()):
        print_line()
        print_table(
            ["endpoint", "versions", "calls", "p99 ms"],
            [
                [
                    endpoint,
                    ", ".join(f"{version} {many:,}" for version, many in last.versions.get(endpoint, {}).items()),
                    f"{sum(counts.values()):,}",
                    _number((us := quantiles(counts, (0.99,))[0]) and us / 1e3),
                ]
                for endpoint, counts in list(last.endpoints.items())[:20]
            ],
            right=_RIGHT,
        )


def loads(
    name: Annotated[str | None, typer.Argument(help="Only this load, in full.", metavar="NAME")] = None,
    against: Annotated[str | None, typer.Option(help="An earlier load to compare with.", metavar="NAME")] = None,
    endpoint: Annotated[str | None, typer.Option(help="Only loads of this endpoint.")] = None,
    forget: Annotated[bool, typer.Option("--forget", help="Delete the load.")] = False,
    address: Address = None,
    as_json: AsJson = False,
) -> None:
    """Command ``loads``."""
    if name is None and (against is not None or forget):
        raise BadRequest("name the load")
    with Client(address) as client:
        if name is None:
            _list(client.fetch("GET", "/api/loads", endpoint=endpoint), as_json)
        elif forget:
            client.fetch("DELETE", f"/api/loads/{name}")
            print_done(f"{name} is forgotten", {"load": name}, as_json)
        elif against is not None:
            _compare(name, against, client.fetch("GET", f"/api/loads/{name}/against/{against}"), as_json)
        else:
            _show(client.fetch("GET", f"/api/loads/{name}"), as_json)


def _list(found: list[dict[str, Any]], as_json: bool) -> None:
    if as_json:
        print_json(found)
        return
    if not found:
        print_line("There are no loads. Begin one: lamppost load ENDPOINT")
        return
    print_table(
        ["load", "endpoints", "began", "by", "clients", "requests/s", "p99 ms"],
        [
            [
                one["name"],
                _short(one["plan"]["endpoints"]),
                time_ago(one["made_at"]),
                one["made_by"],
                ",".join(map(str, one["plan"]["clients"])),
                _figures(one, "per_s"),
                _figures(one, "p99_ms"),
            ]
            for one in found
        ],
        right=_RIGHT,
    )


def _short(names: list[str]) -> str:
    return ", ".join(names[:2]) + (f" and {len(names) - 2} more" if len(names) > 2 else "")


def _figures(one: Mapping[str, Any], figure: str) -> str:
    if not one["steps"]:
        return "goes on" if one["ended_at"] is None else "no result"
    return " · ".join(_number(step[figure]) for step in one["steps"])


def _show(one: dict[str, Any], as_json: bool) -> None:
    if as_json:
        print_json(one)
        return
    print_line(f"{one['name']}  {', '.join(one['plan']['endpoints'])}, rows of {one['plan']['rows']}, {one['plan']['seconds']:g} s a step")
    print_line(paint(f"  by {one['made_by']}, {time_ago(one['made_at'])}", DIM))
    if not one["steps"]:
        print_line("It goes on." if one["ended_at"] is None else "It was broken off before its first step was done.")
        return
    _print_head()
    for step in one["steps"]:
        fields = ("clients", "per_s", "p50_ms", "p90_ms", "p95_ms", "p99_ms", "most_ms", "calls", "errors")
        _print_step(StepSummary(**{field: step[field] for field in fields}))
    last = one["steps"][-1]
    print_line()
    print_table(
        [f"phase, {last['clients']} clients", "p50 ms", "p99 ms"],
        [[phase, _number(took), _number(last["phases_p99_ms"].get(phase))] for phase, took in last["phases_p50_ms"].items()],
        right=_RIGHT,
    )


def _compare(name: str, against: str, found: list[dict[str, Any]], as_json: bool) -> None:
    if as_json:
        print_json(found)
        return
    if not found:
        raise LampPostError(f"{name} and {against} have no step with as many clients, so there is nothing to compare")
    print_table(
        ["clients", "figure", against, name, "difference", "95 % interval", ""],
        [
            [
                str(one["clients"]),
                one["figure"],
                _number(one["before"]),
                _number(one["after"]),
                f"{one['after'] - one['before']:+,.2f}",
                "too few seconds" if one["low"] is None else f"{one['low']:+,.2f} to {one['high']:+,.2f}",
                paint("differs", AMBER) if one["differs"] else paint("cannot be told apart", DIM),
            ]
            for one in found
        ],
        right=frozenset({"clients", against, name, "difference"}),
    )
