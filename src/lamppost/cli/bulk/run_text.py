"""How bulk runs are shown on a terminal."""

from __future__ import annotations

import sys
from collections.abc import Callable, Iterator
from contextlib import contextmanager
from pathlib import Path
from typing import Any

from lamppost.cli.out import AMBER, BRICK, DIM, SLATE, paint, print_json, print_line, print_table, time_ago
from lamppost.core.bulk.order import rejects_path
from lamppost.core.quantities import format_bytes

_MARKS = {
    "waiting": ("◌", SLATE),
    "running": ("●", AMBER),
    "publishing": ("●", AMBER),
    "stopping": ("◐", AMBER),
    "stopped": ("○", SLATE),
    "failed": ("⊖", BRICK),
    "finished": ("✓", SLATE),
}
_BAR = 24
_SHOWN_ANSWERS = 12


def run_mark(run: dict[str, Any]) -> str:
    """A run's state, with its sign."""
    glyph, colour = _MARKS[run["state"]]
    return f"{paint(glyph, colour)} {run['state']}"


def rows_of_run(run: dict[str, Any]) -> str:
    """How many rows were read, and of how many."""
    whole = run["row_total"]
    return f"{run['rows']:,}" + (f" of {whole:,}" if whole is not None and run["state"] != "finished" else "")


def where_output_is(run: dict[str, Any]) -> str:
    """Where an output is that no file or table was named for."""
    return f"the service (lamppost bulk fetch {run['name']})" if run["state"] == "finished" else "the service"


@contextmanager
def run_progress(name: str, quiet: bool) -> Iterator[Callable[[dict[str, Any]], None] | None]:
    """A bar on a terminal; quiet elsewhere."""
    if quiet or not sys.stderr.isatty():
        yield None
        return
    from rich.console import Console
    from rich.progress import BarColumn, Progress, TextColumn

    columns = (TextColumn(name), BarColumn(complete_style="color(214)"), TextColumn("{task.description}"))
    with Progress(*columns, console=Console(stderr=True), transient=True) as bars:
        task = bars.add_task("waiting", total=None)

        def show_progress(facts: dict[str, Any]) -> None:
            rate = "" if facts["rows_per_second"] is None else f", {facts['rows_per_second']:,.0f} rows/s"
            left = "" if facts["seconds_left"] is None else f", {_seconds(facts['seconds_left'])} left"
            rejects = f", {facts['rejects']:,} rejects" if facts["rejects"] else ""
            text = f"{facts['state']}: {rows_of_run(facts)} rows{rate}{left}{rejects}"
            bars.update(task, total=facts["row_total"], completed=facts["rows"], description=text)

        yield show_progress


def _seconds(seconds: float) -> str:
    return f"{seconds:.0f} s" if seconds < 90 else f"{seconds / 60:.0f} min" if seconds < 5_400 else f"{seconds / 3600:.1f} h"


def show_end(run: dict[str, Any], local: Path | None, as_json: bool) -> None:
    """Print how a run ended. local : the file of this machine that its output was written to."""
    if as_json:
        print_json(run)
        return
    rate = "" if run["rows_per_second"] is None else f", {run['rows_per_second']:,.0f} rows/s"
    print_line(f"{run_mark(run)} {run['name']}  {run['rows']:,} rows by {', '.join(run['versions'])} in {run['busy_s']:.1f} s{rate}")
    result = run["result"] or {}
    where = str(local) if local is not None else run["target"] or where_output_is(run)
    size = f"  {format_bytes(result['size_bytes'])}" if result.get("size_bytes") else ""
    print_line(f"  {where}{size}")
    if run["rejects"]:
        beside = str(rejects_beside(local)) if local is not None else result.get("rejects") or ""
        print_line(paint(f"  {run['rejects']:,} rows were rejected, see {beside}", BRICK))


def rejects_beside(file: Path) -> Path:
    """The file of the rows that were left out, beside the output."""
    return file.with_name(rejects_path(file.name))


def show_run(facts: dict[str, Any]) -> None:
    """Print what is known of a run: its answers, its rejects, and how its rows differ."""
    print_line(
        f"{run_mark(facts)} {facts['name']}  {rows_of_run(facts)} rows, {facts['rejects']:,} rejects, by {', '.join(facts['versions'])}"
    )
    if facts["reason"]:
        print_line(f"  {facts['reason']}")
    print_line(paint(f"  {facts['source']} → {facts['target'] or where_output_is(facts)}", DIM))
    print_line(paint(f"  by {facts['made_by']}, {time_ago(facts['made_at'])}, {facts['busy_s']:.1f} s on {facts['node']}", DIM))
    before = facts["answers_before"] or {}
    for column, counts in facts["answers"].items():
        print_line()
        total, earlier = sum(counts.values()), before.get(column, {})
        head = [column, "rows", "%", ""] + ([facts["before"]] if earlier else [])
        print_table(
            head,
            [
                [
                    label,
                    f"{count:,}",
                    f"{100 * count / total:.1f}",
                    paint("█" * round(_BAR * count / total), AMBER),
                    *([f"{100 * earlier.get(label, 0) / sum(earlier.values()):.1f} %"] if earlier else []),
                ]
                for label, count in [*counts.items()][:_SHOWN_ANSWERS]
            ],
            right=frozenset({"rows", "%", facts["before"] or ""}),
        )
    if facts["spreads"]:
        print_line()
        parts = [*facts["spreads"][0]["quantiles"]]
        print_table(
            ["answer", *(f"{part} %" for part in parts)],
            [[spread["name"], *(f"{spread['quantiles'][part]:,.4g}" for part in parts)] for spread in facts["spreads"][:_SHOWN_ANSWERS]],
            right=frozenset(f"{part} %" for part in parts),
        )
    for drift in facts["drift"]:
        print_line()
        print_line(f"against {drift['against']}: {drift['summary']}")
    if facts["first_rejects"]:
        print_line()
        print_table(
            ["row", "line", "field", "fault"],
            [
                [str(reject["row"]), str(reject.get("line", "")), reject.get("field", ""), reject["fault"]]
                for reject in facts["first_rejects"][:10]
            ],
            right=frozenset({"row", "line"}),
        )
