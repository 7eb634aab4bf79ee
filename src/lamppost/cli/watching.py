"""Commands ``drift``, ``traffic`` and ``watch``."""

from __future__ import annotations

import sys
import time
from datetime import datetime
from itertools import pairwise
from typing import Annotated, Any
from urllib.parse import quote

import typer

from lamppost.cli.out import AMBER, BRICK, DIM, LAMPS, SLATE, format_ms, lamp, paint, print_json, print_line, print_table
from lamppost.cli.parameters import Address, AsJson, Endpoint, Since, Until
from lamppost.client import Client
from lamppost.core.names import escape_controls

DRIFT_COLOURS = {"steady": SLATE, "shifting": AMBER, "drifted": BRICK, "too few": DIM}
_BARS = " ▁▂▃▄▅▆▇█"
_LOOK_S = 2.0


def paint_verdict(state: str | None) -> str:
    """A verdict in its colour."""
    return "–" if state is None else paint(state, DRIFT_COLOURS[state])


def drift(
    endpoint: Endpoint,
    field: Annotated[str | None, typer.Option(help="One watched feature, with its bins in training and now.")] = None,
    version: Annotated[str | None, typer.Option(help="Of this version [the one that is served].")] = None,
    at: Annotated[str | None, typer.Option(help="The window in which this time lies [the newest].", metavar="TIME")] = None,
    against: Annotated[str | None, typer.Option(help="Compare with the window of this time [training].", metavar="TIME")] = None,
    address: Address = None,
    as_json: AsJson = False,
) -> None:
    """Command ``drift``."""
    path = f"/api/endpoints/{quote(endpoint, safe='')}/drift"
    with Client(address, timeout_s=60) as client:
        if field is not None:
            answer = client.fetch("GET", f"{path}/{quote(field, safe='')}", version=version, at=at)
            print_json(answer) if as_json else _figure(answer)
            return
        answer = client.fetch("GET", path, version=version, at=at, against=against)
    if as_json:
        print_json(answer)
        return
    print_line(f"{paint_verdict(answer['state'])}  {answer['summary']}")
    window = answer["window"]
    if window is None:
        return
    span = f"{_when(window['at'])} to {_when(window['until'])}{'' if window['over'] else ', so far'}"
    held = "training" if answer["against"] == "training" else f"the window of {_when(answer['against'])}"
    print_line(paint(f"{answer['version']}, {span}, against {held}; {window['odd']:,} odd rows", DIM))
    if answer["explanation"] is not None:
        print_line(f"probably: {answer['explanation']['summary']}")
        print_line(paint(f"since {_when(answer['explanation']['since'])}", DIM))
    print_line()
    print_table(
        ["figure", "verdict", "how", "p"],
        [[feature["name"], paint_verdict(feature["state"]), feature["summary"], _chance(feature)] for feature in answer["figures"]]
        + [
            [
                f"{pair['one']} × {pair['other']}",
                paint_verdict(pair["state"]),
                f"correlate by {pair['after']:+.2f}, before {pair['before']:+.2f}",
                _p(pair["p"]),
            ]
            for pair in answer["pairs"]
        ],
        right=frozenset({"p"}),
    )
    if len(answer["windows"]) > 1:
        print_line()
        print_line(paint(f"windows, oldest first ({_when(answer['windows'][0]['at'])} to {_when(answer['windows'][-1]['until'])}):", DIM))
        print_line(
            "".join(
                paint("■", DRIFT_COLOURS[window["state"]]) if sys.stdout.isatty() else window["state"][0]
                for window in answer["windows"][-120:]
            )
        )
    worst = next((feature for feature in answer["figures"] if feature["state"] != "steady"), None)
    if worst is not None:
        print_line(paint(f"next: lamppost drift {endpoint} --field {worst['name']!r}", DIM))


def _chance(figure: dict[str, Any]) -> str:
    return _p(figure["findings"][0]["p"]) if figure["findings"] else "–"


def _p(p: float) -> str:
    return "< 1e-12" if p < 1e-12 else f"{p:.2g}"


def _when(text: str) -> str:
    return datetime.fromisoformat(text).strftime("%Y-%m-%d %H:%M")


def _figure(answer: dict[str, Any]) -> None:
    """Reference and window over each other."""
    names = answer["choices"] or _ranges(answer["edges"], answer["range"])
    most = max([*answer["reference"], *answer["window"], 1e-9])
    rows = []
    for name, before, now in zip(names, answer["reference"], answer["window"], strict=True):
        drawn = [paint("█" * round(20 * part / most), colour) for part, colour in ((before, SLATE), (now, AMBER))]
        rows.append([name, f"{before:.1%}", f"{now:.1%}", *drawn])
    print_table(["values", "training", "now", "training", "now"], rows, right=frozenset())
    missing = answer["window_missing"]
    print_line(paint(f"missing: {answer['reference_missing']:.1%} in training, {'–' if missing is None else f'{missing:.1%}'} now", DIM))


def _ranges(edges: list[float], ends: list[float] | None) -> list[str]:
    if not edges:
        return [f"{ends[0]:.4g}" if ends else "all"]
    inner = [f"{low:.4g} to {high:.4g}" for low, high in pairwise(edges)]
    return [f"up to {edges[0]:.4g}", *inner, f"above {edges[-1]:.4g}"]


def traffic(endpoint: Endpoint, since: Since = None, until: Until = None, address: Address = None, as_json: AsJson = False) -> None:
    """Command ``traffic``."""
    with Client(address, timeout_s=60) as client:
        answer = client.fetch("GET", f"/api/endpoints/{quote(endpoint, safe='')}/traffic", since=since, until=until)
    if as_json:
        print_json(answer)
        return
    print_line(answer["summary"])
    print_line(paint(f"{_when(answer['since'])} to {_when(answer['until'])} UTC, steps of {answer['step_s']} s", DIM))
    if not answer["moments"]:
        return
    for title, values, colour in (
        ("calls/s", [step["rate"] for step in _every(answer)], AMBER),
        ("p99 ms", [step["p99"] or 0.0 for step in _every(answer)], SLATE),
        ("failed", [float(step["failed"]) for step in _every(answer)], BRICK),
    ):
        print_line(f"{title:8} {paint(bar_line(values), colour)}  at most {max(values):,.3g}")
    print_line()
    rows = [
        [phase["phase"], f"{phase['calls']:,}", *(format_ms(phase["ms"][name]) for name in ("p50", "p90", "p95", "p99"))]
        for phase in answer["phases"]
    ]
    batch = answer["batch_rows"]
    if batch["p50"] is not None:
        rows.append(["rows in a batch", "", *(f"{batch[name]:,.0f}" for name in ("p50", "p90", "p95", "p99"))])
    head = ["phase (ms)", "calls", "p50", "p90", "p95", "p99"]
    print_table(head, rows, right=frozenset(head[1:]))
    if answer["budgets"]:
        print_line()
        head = ["promise", "objective", "calls", "bad", "budget spent", "burns"]
        rows = [
            [
                budget["name"],
                f"{budget['objective']:g} %",
                f"{budget['calls']:,}",
                f"{budget['bad']:,}",
                f"{budget['spent']:.0%}",
                f"{budget['burn']:.1f} ×",
            ]
            for budget in answer["budgets"]
        ]
        print_table(head, rows, right=frozenset(head[1:]))
    for change in answer["changes"]:
        print_line(paint(f"{_when(change['at'])}  {change['summary']}, by {change['by']}", DIM))


def _every(answer: dict[str, Any], most: int = 72) -> list[dict[str, Any]]:
    """Steps without calls filled in, and no more than fit on a line."""
    start, step = datetime.fromisoformat(answer["since"]).timestamp(), answer["step_s"]
    count = int((datetime.fromisoformat(answer["until"]).timestamp() - start) / step) + 1
    known = {int((datetime.fromisoformat(moment["at"]).timestamp() - start) // step): moment for moment in answer["moments"]}
    nothing = {"rate": 0.0, "p99": None, "failed": 0}
    group = -(-count // most)
    steps = []
    for at in range(0, count, group):
        there = [known.get(place, nothing) for place in range(at, at + group)]
        rate, failed = sum(step["rate"] for step in there) / group, sum(step["failed"] for step in there)
        steps.append({"rate": rate, "failed": failed, "p99": max((step["p99"] or 0.0 for step in there), default=0.0)})
    return steps


def bar_line(values: list[float]) -> str:
    """A line of bars, from 0 to the largest."""
    most = max([*values, 1e-12])
    return "".join(_BARS[min(8, -(-int(value * 800 / most) // 100))] for value in values)


def watch(
    endpoint: Annotated[str | None, typer.Argument(help="Only this endpoint, with its last hour.")] = None,
    once: Annotated[bool, typer.Option("--once", help="Print it once.")] = False,
    address: Address = None,
    as_json: AsJson = False,
) -> None:
    """Command ``watch``."""
    with Client(address, timeout_s=30) as client:
        if as_json or once or not sys.stdout.isatty():
            pages = [page for page in client.endpoints() if endpoint in (None, page["name"])]
            if as_json:
                print_json(pages)
                return
            _print_endpoints(pages)
            return
        _live(client, endpoint)


def _table_cells(page: dict[str, Any]) -> list[str]:
    hour, summary = page["last_hour"], page["monitoring"]
    quality = summary["quality"]
    good = "–" if quality is None else f"{100 * quality['right'] / quality['of']:.0f} % of {quality['of']:,}"
    alerts = "–" if not summary["alerts"] else f"{summary['alerts']}: {summary['alert_summary']}"
    fast = [format_ms(hour[name]) for name in ("p50_ms", "p99_ms")]
    return [page["name"], page["summary"], f"{hour['calls']:,}", f"{hour['failed']:,}", *fast, good, alerts]


_HEAD = ("endpoint", "serves", "calls 1 h", "failed", "p50 ms", "p99 ms", "right")


def _print_endpoints(pages: list[dict[str, Any]]) -> None:
    if not pages:
        print_line("There is no endpoint yet. Make one with: lamppost point NAME MODEL@1")
        return
    head = ["state", *_HEAD, "like training", "alerts"]
    rows = []
    for page in pages:
        cells = _table_cells(page)
        rows.append([lamp(page["state"]), *cells[:-1], paint_verdict(page["monitoring"]["drift"]), cells[-1]])
    print_table(head, rows, right=frozenset(_HEAD[2:]))


def _live(client: Client, endpoint: str | None) -> None:
    """Drawn anew every other second, until Ctrl-C."""
    from rich.console import Console, Group
    from rich.live import Live
    from rich.table import Table
    from rich.text import Text

    names = {SLATE: "color(110)", AMBER: "color(214)", BRICK: "color(167)", DIM: "dim"}

    def drawn() -> Any:
        pages = [page for page in client.endpoints() if endpoint in (None, page["name"])]
        grid = Table(box=None, pad_edge=False, header_style="dim", expand=True)
        for name in ("", *_HEAD, "like training", "alerts"):
            grid.add_column(name, justify="right" if name in _HEAD[2:] else "left", no_wrap=True, overflow="ellipsis")
        for page in pages:
            glyph, colour = LAMPS[page["state"]]
            cells = _table_cells(page)
            state = page["monitoring"]["drift"]
            summary = Text(state or "–", style=names[DRIFT_COLOURS[state]] if state else "dim")
            alert = Text(cells[-1], style=names[BRICK] if page["monitoring"]["alerts"] else "dim")
            shown = [Text(escape_controls(cell)) for cell in cells[:-1]]
            grid.add_row(Text(f"{glyph} {page['state']}", style=names[colour]), *shown, summary, alert)
        parts: list[Any] = [Text(f"Lamp Post  {time.strftime('%H:%M:%S')}  every {_LOOK_S:g} s, Ctrl-C ends", style="dim"), grid]
        parts += _lines(client, endpoint, names) if endpoint is not None else []
        return Group(*parts)

    console = Console()
    with Live(drawn(), console=console, screen=True, auto_refresh=False) as live:
        try:
            while True:
                time.sleep(_LOOK_S)
                live.update(drawn(), refresh=True)
        except KeyboardInterrupt:
            return


def _lines(client: Client, endpoint: str, names: dict[str, str]) -> list[Any]:
    """The last hour of one endpoint, and its lanes."""
    from rich.text import Text

    answer = client.fetch("GET", f"/api/endpoints/{quote(endpoint, safe='')}/traffic")
    lines: list[Any] = [Text(), Text(escape_controls(answer["summary"]))]
    if answer["moments"]:
        for title, key, colour in (("calls/s", "rate", AMBER), ("p99 ms", "p99", SLATE), ("failed", "failed", BRICK)):
            values = [float(step[key] or 0.0) for step in _every(answer)]
            lines.append(Text.assemble(f"{title:8} ", (bar_line(values), names[colour]), f"  at most {max(values):,.3g}"))
    for lane in client.fetch("GET", "/api/lanes")["lanes"]:
        if endpoint in lane["endpoints"]:
            held = f"{lane['copies']} of {lane['copies_most']} copies, {lane['waiting']} waiting, {lane['rows_s']:,.0f} rows/s"
            lines.append(Text(f"{lane['version']}: {held}, {lane['memory_bytes'] / 1e6:,.0f} MB", style="dim"))
    return lines
