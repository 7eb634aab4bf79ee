"""Draws the card of a model version as HTML or PDF from facts in JSON: ``python -m lamppost.service.pages.card_page html < facts``."""

from __future__ import annotations

from typing import Any

from matplotlib.figure import Figure

from lamppost.service.pages.paper import AMBER, FAINT, SLATE, Drawn, Paper, draw_from_standard_input, new_figure
from lamppost.service.pages.paper import write_html as write_page

_BARS = 10
_CURVES = 3
_INPUTS = 30


def draw_figures(facts: dict[str, Any]) -> Drawn:
    """What the model looks at, and how its answer depends on the first fields."""
    insight = facts["insight"]
    if insight is None:
        return []
    figures: Drawn = []
    if insight["importance"]:
        figures.append(("What it looks at: so much of what it does better than chance is lost without a field, %", _importance(insight)))
    if insight["curves"]:
        figures.append(
            (f"How the {insight['curve_of']} depends on the first fields: mean, and the middle half of the rows", _curves(insight))
        )
    return figures


def _importance(insight: dict[str, Any]) -> Figure:
    shown = insight["importance"][:_BARS][::-1]
    figure = new_figure(0.5 + 0.2 * len(shown))
    axes: Any = figure.subplots()
    values = [100 * one["worse"]["value"] for one in shown]
    ends = [[100 * abs((one["worse"][end] or 0.0) - one["worse"]["value"]) for one in shown] for end in ("low", "high")]
    axes.barh([one["field"] for one in shown], values, xerr=ends, color=AMBER, ecolor=FAINT, error_kw={"linewidth": 0.8}, height=0.7)
    axes.set_xlim(left=min(0.0, *values))
    return figure


def _curves(insight: dict[str, Any]) -> Figure:
    shown = insight["curves"][:_CURVES]
    figure = new_figure(1.9)
    panels: Any = figure.subplots(1, len(shown), sharey=True, squeeze=False)[0]
    for axes, curve in zip(panels, shown, strict=True):
        if all(isinstance(value, (int, float)) and not isinstance(value, bool) for value in curve["values"]):
            axes.fill_between(curve["values"], curve["low"], curve["high"], color=SLATE, alpha=0.25, linewidth=0)
            axes.plot(curve["values"], curve["mean"], color=SLATE, linewidth=1.4)
        else:
            names = [str(value) for value in curve["values"]]
            off = [[abs(mean - end) for mean, end in zip(curve["mean"], curve[side], strict=True)] for side in ("low", "high")]
            axes.errorbar(names, curve["mean"], yerr=off, fmt="o", color=SLATE, ecolor=SLATE, elinewidth=1, markersize=4)
            axes.tick_params(axis="x", rotation=30 if len(names) > 3 else 0)
        axes.set_xlabel(curve["field"])
    return figure


def card_facts(version: dict[str, Any]) -> list[tuple[str, str]]:
    """Pairs of a word and what is to be said of it."""
    provenance, measured = version["provenance"], version["measured"]
    facts = [(line["word"], line["text"]) for line in version["insight_lines"]]
    trained = [f"{provenance['trained_rows']:,} rows" if provenance["trained_rows"] is not None else ""]
    trained += [f"Python {provenance['python']}" if provenance["python"] else ""]
    trained += [f"{name} {number}" for name, number in list(provenance["libraries"].items())[:4]]
    facts.append(("trained on", ", ".join(part for part in trained if part) or "nothing is said of it"))
    if provenance["commit"]:
        facts.append(("made at", f"commit {provenance['commit'][:12]}{' with changes' if provenance['changed'] else ''}"))
    if provenance["metrics"]:
        facts.append(("metrics", ", ".join(f"{name} {value:g}" for name, value in provenance["metrics"].items())))
    facts.append(("proof", f"{version['proof']}{': ' + version['proof_summary'] if version['proof_summary'] else ''}"))
    if measured is not None:
        facts.append(
            ("speed", f"one row in {measured['row_ms']:.2g} ms, 64 rows in {measured['batch_ms']:.2g} ms, where it was opened first")
        )
    facts.append(("serves", ", ".join(version["serves"]) or "nothing at present"))
    return facts


def _about(version: dict[str, Any]) -> str:
    owner = f"{version['owner']} answers for it · " if version["owner"] else ""
    return f"{owner}pushed by {version['pushed_by']} on {version['pushed_at'][:10]}"


def write_html(facts: dict[str, Any]) -> bytes:
    """The card as one self-contained HTML page."""
    return write_page("card.html", draw_figures(facts), t=facts, facts=card_facts(facts), about=_about(facts))


def write_pdf(facts: dict[str, Any]) -> bytes:
    """The card as an A4 PDF."""
    paper = Paper(facts["name"])
    paper.write_line(facts["name"], 18, bold=True, gap=1)
    paper.write_line(_about(facts), 9, colour=FAINT, gap=2)
    for text in (facts["purpose"], facts["provenance"]["notes"]):
        if text:
            paper.write_line(text, 10, gap=1.5)
    paper.write_table([["", ""], *([word, text] for word, text in card_facts(facts))], (2, 9))
    for title, figure in draw_figures(facts):
        paper.write_figure(title, figure)
    rows = [[field["name"], field["expected"], field["meaning"] or ""] for field in facts["inputs"][:_INPUTS]]
    paper.write_table([["input", "is", "meaning"], *rows], (3, 5, 4))
    rows = [[field["name"], field["expected"], field["meaning"] or ""] for field in facts["answers"]]
    paper.write_table([["answer", "is", "meaning"], *rows], (3, 5, 4))
    return bytes(paper.output())


if __name__ == "__main__":
    draw_from_standard_input(write_html, write_pdf)
