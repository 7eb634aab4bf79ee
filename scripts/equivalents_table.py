"""Writes the table in docs/python.md: command, Python call and HTTP request that do the same."""

from __future__ import annotations

from pathlib import Path

from lamppost.cli.command_table import COMMANDS
from lamppost.cli.equivalents import EQUIVALENTS

PAGE = Path(__file__).resolve().parents[1] / "docs" / "python.md"
MARK = "<!-- the table below is written by scripts/equivalents_table.py -->"


def table() -> str:
    """The table, one line for each command."""
    lines = ["| command | Python | HTTP | what it does |", "|---|---|---|---|"]
    for name, entry in COMMANDS.items():
        same = EQUIVALENTS[name]
        python = f"`{same.python}`" if same.python else ""
        lines.append(f"| `lamppost {name}` | {python} | {f'`{same.http}`' if same.http else ''} | {entry.summary} |")
    return "\n".join(lines) + "\n"


def page_with_table(page: str) -> str:
    """The page with the table as it is now."""
    return page.partition(MARK)[0] + MARK + "\n\n" + table()


if __name__ == "__main__":
    PAGE.write_text(page_with_table(PAGE.read_text(encoding="utf-8")), encoding="utf-8")
