"""Draws a report as HTML or PDF from facts in JSON: ``python -m lamppost.service.monitoring.report_page html < facts``."""

from __future__ import annotations

import io
import re
import sys
from datetime import datetime
from pathlib import Path
from typing import Any

import jinja2
import matplotlib as mpl
import orjson
from fpdf import FPDF
from matplotlib import dates
from matplotlib.figure import Figure

INK, PAPER, AMBER, SLATE, BRICK, FAINT = "#1f2733", "#fbfaf6", "#d08a1d", "#5b7693", "#a63d2f", "#8a93a0"
_DATES: Any = dates
_PAGE = Path(__file__).with_name("report.html")
_STATES = {"steady": SLATE, "shifting": AMBER, "drifted": BRICK, "too few": "#d8d8d2"}
mpl.rcParams.update(
    {"font.size": 8, "axes.edgecolor": FAINT, "axes.labelcolor": INK, "text.color": INK, "xtick.color": INK, "ytick.color": INK}
)
mpl.rcParams.update({"axes.spines.top": False, "axes.spines.right": False, "svg.fonttype": "path", "svg.hashsalt": "lamppost"})


def draw_figures(facts: dict[str, Any]) -> list[tuple[str, Figure]]:
    """The figures of a report, each with its title."""
    figures = []
    points = facts["over_time"]
    if points:
        at = [datetime.fromisoformat(point["at"]) for point in points]
        calls = _figure()
        axes: Any = calls.subplots()
        axes.fill_between(at, [point["calls"] for point in points], color=AMBER, alpha=0.5, linewidth=0, step="post")
        axes.plot(at, [point["failed"] for point in points], color=BRICK, linewidth=1, drawstyle="steps-post")
        _time(axes, facts, "calls a step (failed in red)")
        figures.append(("Calls", calls))
        fast = _figure()
        axes = fast.subplots()
        for name, colour in (("p99", AMBER), ("p50", SLATE)):
            axes.plot(at, [point[name] for point in points], color=colour, linewidth=1.2)
            last = next((point[name] for point in reversed(points) if point[name] is not None), None)
            if last is not None:
                axes.annotate(name, (at[-1], last), color=colour, xytext=(4, 0), textcoords="offset points")
        _time(axes, facts, "milliseconds")
        figures.append(("How fast", fast))
    if facts["windows"]:
        drift = _figure(1.1)
        axes = drift.subplots()
        for window in facts["windows"]:
            start, end = datetime.fromisoformat(window["at"]), datetime.fromisoformat(window["until"])
            axes.axvspan(_number(start), _number(end), color=_STATES.get(window["state"], SLATE), linewidth=0)
        axes.set_yticks([])
        _time(axes, facts, "", bottom=False)
        figures.append(("Like training? Each window: blue steady, amber shifting, red drifted", drift))
    known = next((version for version in facts["quality"]["versions"] if not version["shadow"] and version["over_time"]), None)
    if known is not None:
        good = _figure()
        axes = good.subplots()
        there = [step for step in known["over_time"] if step["figure"] is not None and step["figure"]["low"] is not None]
        at = [datetime.fromisoformat(step["at"]) for step in there]
        values = [step["figure"]["value"] for step in there]
        axes.fill_between(
            at, [step["figure"]["low"] for step in there], [step["figure"]["high"] for step in there], color=AMBER, alpha=0.25
        )
        axes.plot(at, values, color=AMBER, linewidth=1.2, marker="o", markersize=2.5)
        _time(axes, facts, "part right" if known["kind"] == "labels" else "mean absolute error")
        if known["kind"] == "labels":
            axes.set_ylim(0, 1)
        figures.append((f"How good, by the truth told later ({known['version']}, with 95 % intervals)", good))
    return figures


def _number(at: datetime) -> float:
    return float(_DATES.date2num(at))


def _figure(height: float = 1.9) -> Figure:
    return Figure(figsize=(7.2, height), layout="constrained")


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
    drawn = []
    for title, figure in draw_figures(facts):
        image = io.StringIO()
        figure.savefig(image, format="svg", transparent=True, metadata={"Date": None})
        svg = re.sub(r"<metadata>.*?</metadata>", "", image.getvalue(), flags=re.DOTALL)
        drawn.append((title, svg[svg.index("<svg") :]))
    page = jinja2.Environment(autoescape=True).from_string(_PAGE.read_text(encoding="utf-8"))
    page_text = page.render(t=facts, figures=drawn, numbers=_numbers(facts), fields=_fields(facts), day=_day, ink=INK, paper=PAPER)
    return page_text.encode()


def _latin(text: str) -> str:
    """Text reduced to Latin-1, which the standard fonts of PDF can show."""
    return text.replace("–", "-").encode("latin-1", "replace").decode("latin-1")


class _Paper(FPDF):
    """A page with a number."""

    def footer(self) -> None:
        """At the foot of each page."""
        self.set_y(-12)
        self.set_font("helvetica", size=8)
        self.set_text_color(FAINT)
        self.cell(0, 6, f"page {self.page_no()}", align="R")


def write_pdf(facts: dict[str, Any]) -> bytes:
    """The report as an A4 PDF."""
    paper = _Paper()
    paper.set_title(f"{facts['endpoint']}, {_day(facts['since'])} to {_day(facts['until'])}")
    paper.set_margin(16)
    paper.set_auto_page_break(True, 16)
    paper.add_page()

    def text(line: str, size: float = 10, bold: bool = False, colour: str = INK, gap: float = 1.5) -> None:
        paper.set_font("helvetica", "B" if bold else "", size)
        paper.set_text_color(colour)
        paper.multi_cell(0, size * 0.5, _latin(line), align="L", new_x="LMARGIN", new_y="NEXT")
        paper.ln(gap)

    def table(rows: list[list[str]], widths: tuple[int, ...]) -> None:
        paper.set_font("helvetica", size=8.5)
        paper.set_text_color(INK)
        with paper.table(col_widths=widths, line_height=5, borders_layout="HORIZONTAL_LINES") as drawn_table:
            for row in rows:
                drawn_table.row([_latin(cell) for cell in row])
        paper.ln(3)

    text(facts["endpoint"], 18, bold=True, gap=1)
    text(f"{_day(facts['since'])} to {_day(facts['until'])} UTC, serves {facts['serves']}", 9, colour=FAINT, gap=3)
    text(facts["summary"], 11.5, gap=3)
    table([["calls", "refused", "failed", "p50 ms", "p95 ms", "p99 ms"], _numbers(facts)], (1, 1, 1, 1, 1, 1))
    for title, figure in draw_figures(facts):
        image = io.BytesIO()
        figure.savefig(image, format="png", dpi=170)
        height = figure.get_figheight() / figure.get_figwidth() * paper.epw
        if paper.will_page_break(height + 8):
            paper.add_page()
        text(title, 10.5, bold=True, gap=0.5)
        paper.image(image, w=paper.epw)
        paper.ln(2)
    if facts["drift"]:
        text("Drift", 10.5, bold=True, gap=0.5)
        cause = facts["drift"]["probable_cause"]
        text(facts["drift"]["summary"] + (f" Probably: {cause}." if cause else ""))
        if fields := _fields(facts):
            table([["field", "verdict", "how"], *[[field["name"], field["state"], field["summary"]] for field in fields]], (3, 2, 5))
    text("Quality", 10.5, bold=True, gap=0.5)
    text(facts["quality"]["summary"])
    text("Alerts", 10.5, bold=True, gap=0.5)
    if facts["alerts"]:
        rows = [
            [_day(alert["since"]), _day(alert["resolved_at"]) if alert["resolved_at"] else alert["state"], alert["summary"]]
            for alert in facts["alerts"]
        ]
        table([["since", "until", "what"], *rows], (2, 2, 6))
    else:
        text("None.")
    return bytes(paper.output())


def main() -> int:
    """Read facts from standard input and write the report to standard output."""
    facts = orjson.loads(sys.stdin.buffer.read())
    sys.stdout.buffer.write(write_pdf(facts) if sys.argv[1:] == ["pdf"] else write_html(facts))
    return 0


if __name__ == "__main__":
    raise SystemExit(main())
