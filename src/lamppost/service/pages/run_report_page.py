"""Draws a report about a bulk run as HTML or PDF from facts in JSON: ``python -m lamppost.service.pages.run_report_page html < facts``.

The HTML is read in mail programs, which show neither SVG nor scripts: its charts are cells of tables.
"""

from __future__ import annotations

from typing import Any

from jinja2 import TemplateError
from jinja2.sandbox import ImmutableSandboxedEnvironment

from lamppost.service.pages.paper import AMBER, FAINT, SLATE, Drawn, Paper, draw_from_standard_input, new_figure
from lamppost.service.pages.paper import write_html as write_page

_MOST_ANSWERS = 12
_MOST_TEXT = 4_000
_LONGEST_CELL = 80


def first_paragraphs(facts: dict[str, Any]) -> list[str]:
    """The owner's text with the values of this run: paragraphs of plain text. A template that fails says so in the report."""
    try:
        text = ImmutableSandboxedEnvironment().from_string(facts["text"]).render(facts["words"])
    except (TemplateError, ArithmeticError, TypeError, ValueError, LookupError, MemoryError, RecursionError) as error:
        text = f"(The text of this report could not be written: {error})"
    return [" ".join(part.split()) for part in text[:_MOST_TEXT].replace("\r\n", "\n").split("\n\n") if part.strip()]


def cell(value: Any) -> str:
    """A value of the listed rows as it is shown."""
    if value is None:
        return "–"
    if isinstance(value, bool):
        return "yes" if value else "no"
    if isinstance(value, float):
        return f"{value:,.4g}"
    text = str(value)
    return text if len(text) <= _LONGEST_CELL else text[: _LONGEST_CELL - 1] + "…"


def _day(text: str | None) -> str:
    return "–" if text is None else text[:16].replace("T", " ")


def _conditions(facts: dict[str, Any]) -> str:
    """What the listed rows are, in words."""
    chosen = facts["chosen"]
    which = f"rows with {' and '.join(facts['where'])}" if facts["where"] else "rows"
    order = ", ".join(f"{key.lstrip('-')}, {'largest' if key.startswith('-') else 'smallest'} first" for key in facts["sort"])
    shown = len(chosen["rows"])
    return f"{shown:,} of {chosen['matching']:,} {which}" + (f", by {order}" if order else "")


def _small(facts: dict[str, Any]) -> list[dict[str, Any]]:
    return [{**answer, "changes": answer["changes"][:_MOST_ANSWERS]} for answer in facts["answers"]]


def write_html(facts: dict[str, Any]) -> bytes:
    """The report as one HTML page."""
    values = {"t": facts, "paragraphs": first_paragraphs(facts), "answers": _small(facts), "cell": cell, "day": _day}
    colours = {"amber": AMBER, "slate": SLATE}
    return write_page("run_report.html", [], **values, **colours, conditions=_conditions(facts) if facts["chosen"] else "")


def draw_figures(facts: dict[str, Any]) -> Drawn:
    """A figure for each column of labels: how many of each, this run over the one before."""
    figures: Drawn = []
    for answer in _small(facts):
        changes = answer["changes"][::-1]
        figure = new_figure(0.5 + 0.28 * len(changes))
        axes: Any = figure.subplots()
        names = [change["answer"] for change in changes]
        axes.barh(names, [100 * change["share"] for change in changes], color=AMBER, height=0.5, align="edge")
        if facts["before"]:
            axes.barh(names, [100 * (change["share_before"] or 0) for change in changes], color=SLATE, height=-0.25, align="edge")
        for at, change in enumerate(changes):
            axes.annotate(f"{change['rows']:,}", (100 * change["share"], at + 0.25), xytext=(4, -3), textcoords="offset points")
        axes.set_xlabel("% of the rows that were answered" + (f" (below: {facts['before']})" if facts["before"] else ""))
        axes.set_xlim(0, max(1.0, *(100 * max(one["share"], one["share_before"] or 0) for one in changes)) * 1.12)
        figures.append((f"Answers: {answer['column']}", figure))
    return figures


def write_pdf(facts: dict[str, Any]) -> bytes:
    """The report as an A4 PDF."""
    paper = Paper(f"{facts['endpoint']}, {facts['run']}")
    paper.write_line(facts["endpoint"], 18, bold=True, gap=1)
    paper.write_line(
        f"{facts['run']}, {_day(facts['ended_at'])} UTC, {facts['source']}, by {', '.join(facts['versions'])}", 9, colour=FAINT
    )
    for paragraph in first_paragraphs(facts):
        paper.write_line(paragraph, 11.5, gap=2)
    paper.write_table([["rows", "answered", "rejected"], [f"{facts[name]:,}" for name in ("rows", "answered", "rejects")]], (1, 1, 1))
    for answer, (title, figure) in zip(_small(facts), draw_figures(facts), strict=True):
        paper.write_figure(title, figure)
        paper.write_line(answer["sentence"])
    for spread in facts["spreads"]:
        quantiles = spread["quantiles"]
        paper.write_line(f"Answers: {spread['name']}", 10.5, bold=True, gap=0.5)
        paper.write_table([[f"{part} %" for part in quantiles], [cell(value) for value in quantiles.values()]], (1,) * len(quantiles))
    paper.write_line("Like training?", 10.5, bold=True, gap=0.5)
    paper.write_line(" ".join(facts["drift"]))
    if facts["chosen"] and facts["chosen"]["rows"]:
        paper.write_line(f"The rows that matter most: {_conditions(facts)}", 10.5, bold=True, gap=0.5)
        columns = facts["chosen"]["columns"][:8]
        rows = [[cell(value)[:28] for value in row[:8]] for row in facts["chosen"]["rows"]]
        paper.write_table([columns, *rows], (1,) * len(columns))
    if facts["first_rejects"]:
        paper.write_line(f"Rows that were rejected: {facts['rejects']:,}", 10.5, bold=True, gap=0.5)
        rows = [[f"{one['row'] + 1:,}", one.get("field", ""), one["fault"]] for one in facts["first_rejects"]]
        paper.write_table([["row", "field", "what is wrong"], *rows], (1, 2, 6))
    paper.write_line(f"The file: {facts['output']}. The run: {facts['link']}", 9, colour=FAINT)
    return bytes(paper.output())


if __name__ == "__main__":
    draw_from_standard_input(write_html, write_pdf)
