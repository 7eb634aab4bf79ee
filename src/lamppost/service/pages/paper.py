"""What all drawn pages share: colours, figures, templates of HTML, and the paper of PDF."""

from __future__ import annotations

import io
import re
import sys
from collections.abc import Callable
from pathlib import Path
from typing import Any

import jinja2
import matplotlib as mpl
import orjson
from fpdf import FPDF
from matplotlib.figure import Figure

INK, PAPER, AMBER, SLATE, BRICK, FAINT = "#1f2733", "#fbfaf6", "#d08a1d", "#5b7693", "#a63d2f", "#8a93a0"
mpl.rcParams.update(
    {"font.size": 8, "axes.edgecolor": FAINT, "axes.labelcolor": INK, "text.color": INK, "xtick.color": INK, "ytick.color": INK}
)
mpl.rcParams.update({"axes.spines.top": False, "axes.spines.right": False, "svg.fonttype": "path", "svg.hashsalt": "lamppost"})
Drawn = list[tuple[str, Figure]]
"""Figures, each with its title."""


def new_figure(height: float = 1.9) -> Figure:
    """A figure as wide as a page. height : in inches."""
    return Figure(figsize=(7.2, height), layout="constrained")


def write_html(template: str, figures: Drawn, **values: Any) -> bytes:
    """One self-contained HTML page of a template that lies beside this module."""
    drawn = []
    for title, figure in figures:
        image = io.StringIO()
        figure.savefig(image, format="svg", transparent=True, metadata={"Date": None})
        svg = re.sub(r"<metadata>.*?</metadata>", "", image.getvalue(), flags=re.DOTALL)
        drawn.append((title, svg[svg.index("<svg") :]))
    page = jinja2.Environment(autoescape=True).from_string(Path(__file__).with_name(template).read_text(encoding="utf-8"))
    return page.render(figures=drawn, ink=INK, paper=PAPER, **values).encode()


def draw_from_standard_input(as_html: Callable[[Any], bytes], as_pdf: Callable[[Any], bytes]) -> None:
    """Read facts in JSON, and write the page to standard output: a PDF if the first argument says so, else HTML."""
    facts = orjson.loads(sys.stdin.buffer.read())
    sys.stdout.buffer.write((as_pdf if sys.argv[1:] == ["pdf"] else as_html)(facts))


def to_latin(text: str) -> str:
    """Text reduced to Latin-1, which the standard fonts of PDF can show."""
    return text.replace("–", "-").replace("−", "-").encode("latin-1", "replace").decode("latin-1")


class Paper(FPDF):
    """A4 pages with numbers."""

    def __init__(self, title: str) -> None:
        super().__init__()
        self.set_title(title)
        self.set_margin(16)
        self.set_auto_page_break(True, 16)
        self.add_page()

    def footer(self) -> None:
        """At the foot of each page."""
        self.set_y(-12)
        self.set_font("helvetica", size=8)
        self.set_text_color(FAINT)
        self.cell(0, 6, f"page {self.page_no()}", align="R")

    def write_line(self, line: str, size: float = 10, bold: bool = False, colour: str = INK, gap: float = 1.5) -> None:
        """A paragraph. gap : below it, in millimetres."""
        self.set_font("helvetica", "B" if bold else "", size)
        self.set_text_color(colour)
        self.multi_cell(0, size * 0.5, to_latin(line), align="L", new_x="LMARGIN", new_y="NEXT")
        self.ln(gap)

    def write_table(self, rows: list[list[str]], widths: tuple[int, ...]) -> None:
        """A table, the first row its head. widths : in proportion."""
        self.set_font("helvetica", size=8.5)
        self.set_text_color(INK)
        with self.table(col_widths=widths, line_height=5, borders_layout="HORIZONTAL_LINES") as drawn_table:
            for row in rows:
                drawn_table.row([to_latin(cell) for cell in row])
        self.ln(3)

    def write_figure(self, title: str, figure: Figure) -> None:
        """A figure under its title, both on one page."""
        image = io.BytesIO()
        figure.savefig(image, format="png", dpi=170)
        height = figure.get_figheight() / figure.get_figwidth() * self.epw
        if self.will_page_break(height + 8):
            self.add_page()
        self.write_line(title, 10.5, bold=True, gap=0.5)
        self.image(image, w=self.epw)
        self.ln(2)
