"""Draws a report about a sweep as HTML or PDF from facts in JSON, those of `SweepDetailAnswer`:
``python -m lamppost.service.pages.sweep_report_page html < facts``.
"""

from __future__ import annotations

from typing import Any

from lamppost.service.pages.paper import AMBER, BRICK, FAINT, INK, SLATE, Drawn, Paper, draw_from_standard_input, new_figure
from lamppost.service.pages.paper import write_html as write_page

_MOST_SETTINGS = 25
_SHOWN = 3
"""So many times the limit on p99, or the lowest p99 of the frontier, are drawn; what lies higher is in the table."""
_HEAD = ["setting", "requests/s", "p50 ms", "p99 ms", "p99 between", "memory MB", "µs a row", "repeats"]
_WIDTHS = (6, 2, 1, 1, 2, 2, 2, 1)


def _number(value: float) -> str:
    return f"{value:,.0f}" if value >= 100 else f"{value:,.3g}"


def _day(text: str | None) -> str:
    return "–" if text is None else text[:16].replace("T", " ")


def _measured(facts: dict[str, Any]) -> list[dict[str, Any]]:
    """The settings that have figures, those within the limits first, each from the most throughput on."""
    known = [one for one in facts["settings"] if not one["failed"]]
    return sorted(known, key=lambda one: (not one["within"], -one["figures"]["throughput"]["median"]))


def _mark(facts: dict[str, Any], one: dict[str, Any]) -> str:
    picked = facts["picked"]
    names = {picked["nearest"]: "nearest", picked["unlimited"]: "without limits", picked["second"]: "second", picked["pick"]: "pick"}
    return names.get(one["number"], "equal" if one["number"] in picked["equals"] else "")


def table_rows(facts: dict[str, Any]) -> list[list[str]]:
    """The best settings as cells of a table."""
    rows = []
    for one in _measured(facts)[:_MOST_SETTINGS]:
        figures = one["figures"]
        mark = _mark(facts, one)
        rows.append(
            [
                one["sentence"] + (f" – {mark}" if mark else ""),
                *(_number(figures[name]["median"]) for name in ("throughput", "p50", "p99")),
                f"{figures['p99']['low']:.3g} to {figures['p99']['high']:.3g}",
                _number(figures["memory"]["median"] / 1e6),
                _number(figures["cpu"]["median"]),
                str(one["repeats"]),
            ]
        )
    return rows


def phase_rows(facts: dict[str, Any]) -> list[list[str]]:
    """The phases of the pick and of the second, a head first; nothing where there is no pick."""
    chosen = [(name, facts["settings"][facts["picked"][name]]) for name in ("pick", "second") if facts["picked"][name] is not None]
    if not chosen:
        return []
    head = ["phase", *(f"{name}, {part} ms" for name, _ in chosen for part in ("p50", "p99"))]
    phases = dict.fromkeys(phase for _, one in chosen for phase in one["phases_p50_ms"])
    return [
        head,
        *(
            [phase, *(f"{one[part].get(phase, 0):.3g}" for _, one in chosen for part in ("phases_p50_ms", "phases_p99_ms"))]
            for phase in phases
        ),
    ]


def draw_figures(facts: dict[str, Any]) -> Drawn:
    """Throughput against p99: every setting, the frontier, the limit on p99, and the pick."""
    known = _measured(facts)
    if not known:
        return []
    figure = new_figure(3.2)
    axes: Any = figure.subplots()
    for one in known:
        figures = one["figures"]
        place = figures["throughput"]["median"], figures["p99"]["median"]
        colour = AMBER if one["within"] else SLATE
        axes.plot([place[0]] * 2, [figures["p99"]["low"], figures["p99"]["high"]], color=colour, alpha=0.35, linewidth=1)
        axes.plot(*place, marker="o", markersize=4, color=colour)
        if (mark := _mark(facts, one)) and mark != "equal":
            axes.annotate(mark, place, xytext=(5, 4), textcoords="offset points", fontsize=8, color=INK)
    edge = sorted((one["figures"]["throughput"]["median"], one["figures"]["p99"]["median"]) for one in known if one["on_frontier"])
    axes.plot([x for x, _ in edge], [y for _, y in edge], color=SLATE, linewidth=1, linestyle=":")
    limit = 0.0
    for text in facts["picked"]["limits"]:
        name, _, value = text.partition("=")
        if name == "p99":
            limit = float(value.removesuffix("ms"))
            axes.axhline(limit, color=BRICK, linewidth=0.8, linestyle="--")
    axes.set_xlabel("requests/s")
    axes.set_ylabel("p99, ms")
    axes.set_xlim(left=0)
    axes.set_ylim(0, min(1.05 * max(one["figures"]["p99"]["high"] for one in known), _SHOWN * max(limit, edge[0][1])))
    return [("Throughput against p99", figure)]


def _lead(facts: dict[str, Any]) -> str:
    plan = facts["plan"]
    return (
        f"{', '.join(plan['versions'])} at {plan['clients']} clients, rows of {plan['rows']}; {facts['measured']} of "
        f"{facts['combinations']} combinations, {facts['repeats']} measurements in {facts['busy_s']:.0f} s on {facts['cores']} cores"
    )


def _failed(facts: dict[str, Any]) -> list[dict[str, Any]]:
    return [one for one in facts["settings"] if one["failed"]]


def write_html(facts: dict[str, Any]) -> bytes:
    """The report as one self-contained HTML page."""
    rows = {"head": _HEAD, "rows": table_rows(facts), "phases": phase_rows(facts), "failed": _failed(facts)}
    return write_page("sweep_report.html", draw_figures(facts), t=facts, lead=_lead(facts), day=_day, **rows)


def write_pdf(facts: dict[str, Any]) -> bytes:
    """The report as an A4 PDF."""
    paper = Paper(facts["name"])
    paper.write_line(facts["name"], 18, bold=True, gap=1)
    paper.write_line(f"{_lead(facts)}, {_day(facts['ended_at'] or facts['made_at'])} UTC", 9, colour=FAINT, gap=3)
    first, *others = facts["picked"]["sentences"]
    paper.write_line(first, 11.5, gap=2)
    for sentence in others:
        paper.write_line(sentence)
    for title, figure in draw_figures(facts):
        paper.write_figure(title, figure)
    if phases := phase_rows(facts):
        paper.write_line("Where the time goes", 10.5, bold=True, gap=0.5)
        paper.write_table(phases, (2,) * len(phases[0]))
    paper.write_line("Settings", 10.5, bold=True, gap=0.5)
    paper.write_table([_HEAD, *table_rows(facts)], _WIDTHS)
    for one in _failed(facts):
        paper.write_line(f"{one['sentence']}: failed, {one['failed']}", 9, colour=BRICK)
    return bytes(paper.output())


if __name__ == "__main__":
    draw_from_standard_input(write_html, write_pdf)
