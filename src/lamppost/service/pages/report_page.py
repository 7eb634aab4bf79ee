"""Draws a report as HTML or PDF from facts in JSON: ``python -m lamppost.service.pages.report_page html < facts``."""

from __future__ import annotations

from datetime import datetime
from typing import Any

from matplotlib import dates

from lamppost.service.pages.paper import AMBER, BRICK, FAINT, SLATE, Drawn, Paper, draw_from_standard_input, new_figure
from lamppost.service.pages.paper import write_html as write_page

_DATES: Any = dates
_STATES = {"steady": SLATE, "shifting": AMBER, "drifted": BRICK, "too few": "#d8d8d2"}


def draw_figures(facts: dict[str, Any]) -> Drawn:
    """The figures of a report, each with its title."""
    figures: Drawn = []
    points = facts["over_time"]
    if points:
        at = [datetime.fromisoformat(point["at"]) for point in points]
        calls = new_figure()
        axes: Any = calls.subplots()
        axes.fill_between(at, [point["calls"] for point in points], color=AMBER, alpha=0.5, linewidth=0, step="post")
        axes.plot(at, [point["failed"] for point in points], color=BRICK, linewidth=1, drawstyle="steps-post")
        _time(axes, facts, "calls a step (failed in red)")
        figures.append(("Calls", calls))
        fast = new_figure()
        axes = fast.subplots()
        for name, colour in (("p99", AMBER), ("p50", SLATE)):
            axes.plot(at, [point[name] for point in points], color=colour, linewidth=1.2)
            last = next((point[name] for point in reversed(points) if point[name] is not None), None)
            if last is not None:
                axes.annotate(name, (at[-1], last), color=colour, xytext=(4, 0), textcoords="offset points")
        _time(axes, facts, "milliseconds")
        figures.append(("How fast", fast))
    if facts["windows"]:
        drift = new_figure(1.1)
        axes = drift.subplots()
        for window in facts["windows"]:
            start, end = datetime.fromisoformat(window["at"]), datetime.fromisoformat(window["until"])
            axes.axvspan(_number(start), _number(end), color=_STATES.get(window["state"], SLATE), linewidth=0)
        axes.set_yticks([])
        _time(axes, facts, "", bottom=False)
        figures.append(("Like training? Each window: blue steady, amber shifting, red drifted", drift))
    known = next((version for version in facts["quality"]["versions"] if not version["shadow"] and version["over_time"]), None)
    if known is not None:
        good = new_figure()
        axes = good.subplots()
        there = [step for step in known["over_time"] if step["figure"] is not None and step["figure"]["low"] is not None]
        at = [datetime.fromisoformat(step["at"]) for step in there]
        values = [step["figure"]["value"] for step in there]
        axes.fill_between(
            at, [step["figure"]["low"] for step in there], [step["figure"]["high"] for step in there], color=AMBER, alpha=0.25
        )
        axes.plot(at, values, color=AMBER, linewidth=1.2, marker="o", markersize=2.5)
        label = "part right" if known["kind"] == "labels" else "mean absolute error"
        _time(axes, {**facts, **{key: facts["quality"][key] for key in ("since", "until")}}, label)
        if known["kind"] == "labels":
            axes.set_ylim(0, 1)
        figures.append((f"How good, by the truth told later ({known['version']}, with 95 % intervals)", good))
    return figures


def _number(at: datetime) -> float:
    return float(_DATES.date2num(at))


def _time(axes: Any, facts: dict[str, Any], label: str, bottom: bool = True) -> None:
    """Draw the common time axis of a figure, with marks for changes of what is served."""
    since, until = (_number(datetime.fromisoformat(facts[key])) for key in ("since", "until"))
    axes.set_xlim(since, until)
    if bottom:
        axes.set_ylim(bottom=0)
    axes.set_ylabel(label)
    for change in facts["changes"]:
        axes.axvline(_number(datetime.fromisoformat(change["at"])), color=FAINT, linewidth=0.7, linestyle=":")
    axes.xaxis.set_major_formatter(_DATES.ConciseDateFormatter(axes.xaxis.get_major_locator()))


def _day(text: str) -> str:
    return text[:16].replace("T", " ")


def _numbers(facts: dict[str, Any]) -> list[str]:
    speed = [facts["latency"][name] for name in ("p50", "p95", "p99")]
    return [f"{facts[name]:,}" for name in ("calls", "refused", "failed")] + ["–" if value is None else f"{value:,.1f}" for value in speed]


def _fields(facts: dict[str, Any]) -> list[dict[str, Any]]:
    return [field for field in (facts["drift"] or {}).get("fields", []) if field["state"] != "steady"][:12]


def write_html(facts: dict[str, Any]) -> bytes:
    """The report as one self-contained HTML page."""
    return write_page("report.html", draw_figures(facts), t=facts, numbers=_numbers(facts), fields=_fields(facts), day=_day)


def write_pdf(facts: dict[str, Any]) -> bytes:
    """The report as an A4 PDF."""
    paper = Paper(f"{facts['endpoint']}, {_day(facts['since'])} to {_day(facts['until'])}")
    paper.write_line(facts["endpoint"], 18, bold=True, gap=1)
    paper.write_line(f"{_day(facts['since'])} to {_day(facts['until'])} UTC, serves {facts['serves']}", 9, colour=FAINT, gap=3)
    paper.write_line(facts["summary"], 11.5, gap=3)
    paper.write_table([["calls", "refused", "failed", "p50 ms", "p95 ms", "p99 ms"], _numbers(facts)], (1, 1, 1, 1, 1, 1))
    for title, figure in draw_figures(facts):
        paper.write_figure(title, figure)
    if facts["drift"]:
        paper.write_line("Drift", 10.5, bold=True, gap=0.5)
        cause = facts["drift"]["probable_cause"]
        paper.write_line(facts["drift"]["summary"] + (f" Probably: {cause}." if cause else ""))
        if fields := _fields(facts):
            rows = [[field["name"], field["state"], field["summary"]] for field in fields]
            paper.write_table([["field", "verdict", "how"], *rows], (3, 2, 5))
    paper.write_line("Quality", 10.5, bold=True, gap=0.5)
    paper.write_line(facts["quality"]["summary"])
    paper.write_line("Alerts", 10.5, bold=True, gap=0.5)
    if facts["alerts"]:
        rows = [
            [_day(alert["since"]), _day(alert["resolved_at"]) if alert["resolved_at"] else alert["state"], alert["summary"]]
            for alert in facts["alerts"]
        ]
        paper.write_table([["since", "until", "what"], *rows], (2, 2, 6))
    else:
        paper.write_line("None.")
    return bytes(paper.output())


if __name__ == "__main__":
    draw_from_standard_input(write_html, write_pdf)
