"""Prints what commands tell: aligned columns, lamps, colour on a terminal only, JSON."""

from __future__ import annotations

import json
import re
import shutil
import sys
from collections.abc import Callable, Iterator, Sequence
from contextlib import contextmanager
from datetime import UTC, datetime
from typing import Any

from lamppost.core.errors import LampPostError
from lamppost.core.names import escape_controls

AMBER, SLATE, BRICK, DIM, BOLD, PLAIN = "38;5;214", "38;5;110", "38;5;167", "2", "1", "0"
_PAINT = frozenset(f"\033[{colour}m" for colour in (AMBER, SLATE, BRICK, DIM, BOLD, PLAIN))
_PAINTED = re.compile(r"(\033\[[0-9;]*m)")
_C1 = re.compile("[\x7f-\x9f]")
"""Control characters that JSON leaves as they are, and that some terminals obey."""
LAMPS = {
    "serving": ("●", AMBER),
    "degraded": ("◐", AMBER),
    "asleep": ("○", SLATE),
    "opening": ("◌", SLATE),
    "down": ("⊖", BRICK),
    "silent": ("◐", AMBER),
    "restarting": ("◐", AMBER),
    "closed": ("⊖", BRICK),
}
"""The picture of each state of an endpoint or a lane."""


def paint(text: str, colour: str, stream: Any = None) -> str:
    """The text in colour, where a person looks at it."""
    stream = stream or sys.stdout
    return f"\033[{colour}m{text}\033[0m" if stream.isatty() else text


def lamp(state: str) -> str:
    """Picture and word of the state of an endpoint or a lane."""
    glyph, colour = LAMPS[state]
    return f"{paint(glyph, colour)} {state}"


def print_line(text: str = "", stream: Any = None) -> None:
    """One line for people. Control characters in it are shown, but for the colours of `paint`: names and notes come from others."""
    print("".join(part if part in _PAINT else escape_controls(part) for part in _PAINTED.split(text)), file=stream, flush=True)


def print_json(value: Any, indent: int | None = 2) -> None:
    """A value for programs; on one line without an indent."""
    print(_C1.sub(lambda found: f"\\u{ord(found[0]):04x}", json.dumps(value, indent=indent, ensure_ascii=False, default=str)), flush=True)


def print_change(answer: dict[str, Any], as_json: bool, mark: tuple[str, str] = LAMPS["serving"]) -> None:
    """What a change did, and the command that takes it back if there is one. mark : picture and colour before the summary."""
    if as_json:
        print_json(answer)
        return
    print_line(f"{paint(*mark)} {answer['summary']}")
    if answer.get("undo"):
        print_line(paint(f"  undo: {answer['undo']}", DIM))


def short_json(value: Any, longest: int = 80) -> str:
    """JSON on one line for people: long texts, such as pictures in base64, and long lists are cut."""

    def cut(part: Any) -> Any:
        if isinstance(part, dict):
            return {key: cut(item) for key, item in part.items()}
        if isinstance(part, list):
            return [cut(item) for item in part[:8]] + (["…"] if len(part) > 8 else [])
        return f"{part[:longest]}…" if isinstance(part, str) and len(part) > longest else part

    return json.dumps(cut(value), ensure_ascii=False)


def print_table(head: Sequence[str], rows: Sequence[Sequence[str]], right: frozenset[str] = frozenset()) -> None:
    """Aligned columns; those named in ``right`` hold figures. On a terminal a last column that does not fit is cut."""
    rows = [[cell.replace("\n", "\\n").replace("\t", "\\t") for cell in row] for row in rows]
    widths = [max([len(name), *(_width(row[i]) for row in rows)]) for i, name in enumerate(head)]

    if sys.stdout.isatty() and len(head) > 1:
        room = max(20, shutil.get_terminal_size().columns - sum(widths[:-1]) - 2 * (len(widths) - 1))
        rows = [[*row[:-1], _cut(row[-1], room)] for row in rows]
        widths[-1] = min(widths[-1], room)

    def line(cells: Sequence[str]) -> str:
        parts = []
        for cell, width, name in zip(cells, widths, head, strict=True):
            gap = " " * (width - _width(cell))
            parts.append(gap + cell if name in right else cell + gap)
        return "  ".join(parts).rstrip()

    print_line(paint(line(head), DIM))
    for row in rows:
        print_line(line(row))


def _cut(text: str, room: int) -> str:
    return text if _width(text) <= room or "\033" in text else f"{text[: room - 1]}…"


def _width(text: str) -> int:
    """Characters on screen: colour codes do not count."""
    shown, hidden = 0, False
    for character in text:
        if character == "\033":
            hidden = True
        elif hidden:
            hidden = character != "m"
        else:
            shown += 1
    return shown


@contextmanager
def transfer_progress(name: str, quiet: bool) -> Iterator[Callable[[int, int | None], None] | None]:
    """A bar for what is on its way, on a terminal only; gives what to tell bytes there and bytes in all, None where that is not known."""
    if quiet or not sys.stderr.isatty():
        yield None
        return
    from rich.console import Console
    from rich.progress import BarColumn, DownloadColumn, Progress, TextColumn, TransferSpeedColumn

    columns = (TextColumn("{task.description}"), BarColumn(complete_style="color(214)"), DownloadColumn(), TransferSpeedColumn())
    with Progress(*columns, console=Console(stderr=True), transient=True) as bars:
        task = bars.add_task(name, total=None)
        yield lambda there, whole: bars.update(task, completed=there, total=whole)


def time_ago(when: str) -> str:
    """A time as people say it: ``3 min ago``."""
    seconds = (datetime.now(UTC) - datetime.fromisoformat(when)).total_seconds()
    for size, unit in ((86_400, "d"), (3_600, "h"), (60, "min")):
        if seconds >= size:
            return f"{int(seconds // size)} {unit} ago"
    return "just now" if seconds < 10 else f"{int(seconds)} s ago"


def format_ms(value: float | None) -> str:
    """Milliseconds with three figures, or a dash."""
    if value is None:
        return "–"
    return f"{value:.0f}" if value >= 100 else f"{value:.1f}" if value >= 10 else f"{value:.2f}"


def show_error(error: LampPostError) -> None:
    """An error for people: what, then each fault or difference on a line of its own, then a valid example."""
    print_line(f"{paint('✗', BRICK, sys.stderr)} {error.detail}", sys.stderr)
    faults = error.extra.get("faults") or []
    if len(faults) > 1:
        for fault in faults[1:10]:
            place = ", ".join(part for part in (f"row {fault['row']}" if "row" in fault else "", fault.get("field", "")) if part)
            hint = f" ({fault['hint']})" if fault.get("hint") else ""
            print_line(f"  {place}: given {fault.get('given', '?')}, expected {fault['expected']}{hint}", sys.stderr)
    for difference in (error.extra.get("differences") or [])[1:6]:
        print_line(f"  {difference}", sys.stderr)
    if "example" in error.extra:
        print_line(f"  a valid example: {short_json(error.extra['example'])}", sys.stderr)
